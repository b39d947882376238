"""drift: expected repeats and misses of a plan's walks, and the same replayed on the database."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import Engine

from vrelko.core.drift.expecting import DriftExpectation
from vrelko.core.drift.simulating import WALKS, Simulated, simulate
from vrelko.core.drift.telling import tell
from vrelko.measuring.replay import Replayed, Walks, overlap_of, replay, stream_of
from vrelko.serving.planning import Plan

SCHEMA = "vrelko.drift/2"


@dataclass(frozen=True, slots=True)
class Drift:
    """Expected (closed forms), simulated and replayed (counted) drift of one listing's walks.

    `overlap` rows are asked for again in the simulated way of that name: the least with which a
    walk misses any row with a chance of at most one in a hundred. `sentences` say it in words.
    """

    listing: str
    pages: int
    dwell_s: float
    expected: tuple[DriftExpectation, ...]
    simulated: tuple[Simulated, ...]
    replayed: tuple[Replayed, ...]
    overlap: int
    sentences: tuple[str, ...]

    def as_dict(self) -> dict[str, Any]:
        """Return the result as plain data (schema `vrelko.drift/2`)."""
        return {"schema": SCHEMA, **asdict(self)}

    def to_json(self) -> str:
        """Return the result as JSON text."""
        return json.dumps(self.as_dict(), indent=2)


def drift(
    plan: Plan,
    engine: Engine | None = None,
    walks: int = 20,
    seed: int = 1,
    progress: Callable[[int], None] | None = None,
    copy: Engine | None = None,
    simulations: int = WALKS,
) -> Drift:
    """Return what walks over a planned listing suffer while its writers write.

    Without `engine` closed forms and `simulations` simulated walks alone; with one, `walks` walks
    are replayed too: on a temporary copy of that SQLite file, or on a table that is made for the
    time in the database of `copy`. Raises DatabaseError when rows cannot be copied.
    """
    expected = tuple(candidate.drift for candidate in plan.candidates)
    pages, dwell, size = expected[0].pages, plan.given.readers.dwell_s, plan.judgement.size
    asked = Walks(walks, seed)
    replayed = replay(engine, plan, asked, progress, copy) if engine is not None else ()
    stream, overlap = stream_of(plan), overlap_of(plan)
    simulated = simulate(stream, size, pages, dwell, simulations, seed, overlap)
    told = tuple(tell(plan.listing, pages, dwell, simulated, plan.given.readers))
    return Drift(plan.listing, pages, dwell, expected, simulated, replayed, overlap, told)
