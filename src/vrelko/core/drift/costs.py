"""What keeping pages steady costs by each strategy: a page, a walk's beginning, what it stores."""

from __future__ import annotations

import math
from dataclasses import dataclass

from vrelko.core.cost.model import CostModel
from vrelko.core.cost.rates import Clock
from vrelko.core.drift.walks import DRIFT_STRATEGIES, DriftStrategy
from vrelko.core.workload import Readers

_ID_BYTES = 12.0  # of a stored id, as text in a list
_KEY_BYTES = 40.0  # of a stored key, as text in a list


@dataclass(frozen=True, slots=True)
class StrategyCost:
    """Milliseconds of the database for a page on the mean, and once for each walk (`begin_ms`).

    `stored_bytes` are kept for each walk; `keeps` says what is kept, and where.
    """

    strategy: DriftStrategy
    page_ms: float
    begin_ms: float
    stored_bytes: float
    keeps: str


def cost_strategies(
    model: CostModel, readers: Readers, clock: Clock, size: int, overlap: int
) -> tuple[StrategyCost, ...]:
    """Return the cost of each strategy for walks of the readers' depth, pages of `size` rows."""
    # Nobody walks further than the listing goes.
    pages = max(round(min(readers.depth.mean, math.ceil(max(model.matching, 1) / size))), 1)
    by_offset = _mean([clock.ms(model.offset(p * size, size)) for p in range(pages)])
    by_key = _mean(
        [clock.ms(model.keyset(size + 1, first=p == 0, at=p * size)) for p in range(pages)]
    )
    # The first page has nothing ahead of it to ask for again.
    again = _mean(
        [
            clock.ms(model.offset(max(p * size - overlap, 0), size + overlap * (p > 0)))
            for p in range(pages)
        ]
    )
    # A page of a list is read by its ids, whatever the order; making the list reads all rows once.
    listed = clock.ms(model.frozen_ids(size))
    freezing = clock.ms(model.freeze())
    rows = model.matching
    found = {
        "offset": (by_offset, 0.0, 0.0, "nothing"),
        "ceiling": (by_offset, 0.0, 0.0, "the first row's key, in the cursor"),
        "keyset": (by_key, 0.0, 0.0, "the last row's key, in the cursor"),
        "frozen-ids": (
            listed,
            freezing,
            rows * _ID_BYTES,
            "each row's id, in a table that must be writable",
        ),
        "frozen-view": (
            by_key,
            0.0,
            0.0,
            "a transaction, held open; the server keeps old rows",
        ),
        "overlap": (again, 0.0, 0.0, "digests of rows seen, in the cursor"),
    }
    return tuple(StrategyCost(strategy, *found[strategy]) for strategy in DRIFT_STRATEGIES)


def _mean(values: list[float]) -> float:
    return sum(values) / len(values)
