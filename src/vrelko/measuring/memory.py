"""What pages and whole loads take in the application's memory, and when they are there."""

from __future__ import annotations

import tracemalloc
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from threading import Barrier
from time import perf_counter
from typing import Any

from sqlalchemy import Engine

from vrelko.core.spot import Spot
from vrelko.planning.plan import Plan
from vrelko.serving.pages.request import as_known, lend
from vrelko.serving.pages.rows import PageReader
from vrelko.serving.variants.runner import Runner


@dataclass(frozen=True, slots=True)
class Footprint:
    """Memory of one strategy with `readers` at once: the peak of Python's own allocations.

    What drivers keep outside of Python's allocator is not in it. `first_row_ms` until a reader has
    its first row, which is when it has all of them, as pages and whole loads come in one piece;
    under several readers the slowest one's.
    """

    strategy: str
    readers: int
    rows: int
    peak_bytes: int
    first_row_ms: float


MOST_HELD = 250_000
"""Rows that readers hold in all while memory is measured; beyond them fewer are let in at once."""


def measure_memory(
    engine: Engine, plan: Plan, readers: int, whole: bool, notes: list[str]
) -> Iterator[Footprint]:
    """Yield what a page by key takes, and a whole load, for one reader and for several at once.

    An SQLite database in memory has one connection, so one reader.
    """
    # Threads would wait for its only connection, and measure the waiting.
    if engine.dialect.name == "sqlite" and engine.url.database in (None, "", ":memory:"):
        readers = 1
    yield from (_footprint(engine, plan, "keyset", count) for count in sorted({1, readers}))
    if not whole:
        return
    # So that measuring memory does not itself use it up.
    fit = max(min(readers, int(MOST_HELD / max(plan.judgement.rows, 1.0))), 1)
    if fit < readers:
        people = "one reader" if fit == 1 else f"{fit} readers at once"
        notes.append(f"whole: memory of {people} was measured, not of {readers}")
    yield from (_footprint(engine, plan, "whole", count) for count in sorted({1, fit}))


def _footprint(engine: Engine, plan: Plan, strategy: str, readers: int) -> Footprint:
    held, together = Barrier(readers), Barrier(readers)

    def read(_: int) -> tuple[int, float]:
        with engine.connect() as connection:
            # All have their connection by then: opening one is not what is measured.
            held.wait()
            began = perf_counter()
            rows = as_known(plan.served.settings, lambda: _rows(connection, plan, strategy))
            took = (perf_counter() - began) * 1e3
            together.wait()  # every reader still has its rows
            return len(rows), took

    read_alone = readers == 1
    # Started after imports and connections: only the rows are to be weighed.
    tracemalloc.start()
    try:
        if read_alone:
            found = [read(0)]
        else:
            with ThreadPoolExecutor(readers) as pool:
                found = list(pool.map(read, range(readers)))
        _, peak = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    return Footprint(strategy, readers, found[0][0], peak, max(took for _, took in found))


def _rows(connection: Any, plan: Plan, strategy: str) -> Any:
    listing = plan.served
    variant = listing.lent_variant(connection, None, plan.params)
    with lend(connection, listing.settings) as lender:  # rows of entities come from a Session
        values = listing.run_values(plan.params)
        runner = Runner(lender, values, listing.settings.variants, variant)
        if strategy == "whole":
            return runner.fetch(variant.whole(), None, {})[0]
        return PageReader(runner, variant, plan.judgement.size).read(Spot.start(), None).rows
