"""Page sizes: what each costs a visit, and which to take as default and as most."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from vrelko.core.cost.model import CostModel
from vrelko.core.cost.rates import Clock
from vrelko.core.strategies import Strategy
from vrelko.core.workload import Readers

SIZES = (10, 15, 20, 25, 30, 40, 50, 75, 100, 150, 200, 300, 500, 1_000)
"""Page sizes that are looked at."""

MOST_BYTES = 1_000_000
MOST_MS = 50.0
"""Bounds of the largest page size advised, where no need sets a time."""

_A_QUARTER_MORE = 1.25
_BYTES_A_MS = 1_250.0  # 10 Mbit/s


@dataclass(frozen=True, slots=True)
class SizeCost:
    """One page size: a page's milliseconds and bytes, requests a visit, rows sent but not seen.

    `wait_ms` is what a reader waits in one visit: round trips, database and transfer at 10 Mbit/s.
    """

    size: int
    ms: float
    bytes: float
    requests: float
    wasted_bytes: float
    wait_ms: float


@dataclass(frozen=True, slots=True)
class SizeAdvice:
    """Every size looked at, with the default and the most that are advised."""

    sizes: tuple[SizeCost, ...]
    default: int
    most: int


def sweep_sizes(
    strategy: Strategy,
    model: CostModel,
    readers: Readers,
    clock: Clock,
    size_now: int,
    most_ms: float | None,
) -> SizeAdvice:
    """Return the costs of page sizes for readers who see as many rows a visit as they do now.

    The most advised is the largest size that keeps to `most_ms` and a megabyte; where even the
    smallest takes longer, the largest that takes a quarter more than it. The default is the
    smallest up to that whose wait is within a tenth of the least.
    """
    # Readers look at rows, not pages: with larger pages they ask for fewer.
    seen = readers.depth.mean * size_now
    found = []
    for size in SIZES:
        # Priced at the depth that a mean walk is at when half of it is done.
        work = model.strategy(strategy, (readers.depth.mean - 1) / 2 * size, size)
        ms, row = clock.ms(work), model.inputs.row_bytes
        requests = max(math.ceil(min(seen, model.matching) / size), 1)
        # Rows of the last page that a reader leaves unread; at the end there are none.
        unseen = max(requests * size - seen, 0.0) if requests * size < model.matching else 0.0
        per_request = readers.round_trip_ms + ms + size * row / _BYTES_A_MS
        found.append(
            SizeCost(
                size=size,
                ms=ms,
                bytes=size * row,
                requests=requests,
                wasted_bytes=unseen * row,
                wait_ms=requests * per_request,
            )
        )
    most = _most(found, most_ms or MOST_MS)
    return SizeAdvice(tuple(found), _default([one for one in found if one.size <= most]), most)


def _default(found: Sequence[SizeCost]) -> int:
    least = min(one.wait_ms for one in found)
    # Of sizes that wait about as long the smallest: it sends least that nobody looks at.
    return next(one.size for one in found if one.wait_ms <= least * 1.1)


def _most(found: Sequence[SizeCost], most_ms: float) -> int:
    # Where even ten rows are too slow, size is not what makes them so.
    most_ms = max(most_ms, found[0].ms * _A_QUARTER_MORE)
    fitting = [one.size for one in found if one.ms <= most_ms and one.bytes <= MOST_BYTES]
    return max(fitting, default=found[0].size)
