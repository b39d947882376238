"""Simulating: many walks over a stream of changes, each way of fetching pages on the same ones."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from vrelko.core.drift.expecting import Stream
from vrelko.core.drift.walks import (
    COUNTERS,
    DELETE,
    INSERT,
    MOVE,
    SPACE,
    WAYS,
    Counts,
    Course,
    Way,
)

if TYPE_CHECKING:
    import numpy as np

    from vrelko.core.drift.stage import Changes

WALKS = 500
"""Walks that are simulated."""


@dataclass(frozen=True, slots=True)
class Simulated:
    """What walks of one way suffered on the mean, with standard errors, by counter.

    `clean`: the share of walks without a repeat or a miss.
    """

    way: Way
    walks: int
    means: dict[str, float]
    errors: dict[str, float]
    clean: float


def simulate(
    stream: Stream,
    size: int,
    pages: int,
    dwell_s: float,
    walks: int = WALKS,
    seed: int = 1,
    overlap: int = 0,
    ways: Sequence[Way] = WAYS,
) -> tuple[Simulated, ...]:
    """Return what each way suffers over `walks` walks of `pages` pages, `dwell_s` seconds each.

    Repeats exactly for a seed and a version of NumPy.
    """
    import numpy as np

    from vrelko.core.drift.fast import play
    from vrelko.core.drift.stage import Stage

    rng = np.random.default_rng(seed)
    rows = max(round(stream.rows), 0)
    times = tuple(page * dwell_s for page in range(max(pages, 1)))
    course = Course(rows, size, times, (), overlap)
    found: dict[Way, list[Counts]] = {way: [] for way in ways}
    for _ in range(walks):
        stage = Stage(course, draw_changes(stream, rows, times[-1], rng))
        for way in ways:
            found[way].append(play(stage, way))
    return tuple(_summary(way, many) for way, many in found.items())


def draw_changes(stream: Stream, rows: int, span_s: float, rng: np.random.Generator) -> Changes:
    """Return the changes of `span_s` seconds as arrays, drawn from a stream.

    Inserts and moves land where the stream's rows do; deletes and moves hit each of the first rows
    alike, dead ones for nothing, so that a row's hazard stays what it is.
    """
    import numpy as np

    from vrelko.core.drift.stage import Changes

    came = int(rng.poisson(stream.inserts * span_s))
    went = int(rng.poisson(stream.deletes * span_s)) if rows else 0
    moved = int(rng.poisson(stream.moves * span_s)) if rows else 0
    kinds = np.repeat([INSERT, DELETE, MOVE], [came, went, moved])
    times = rng.random(len(kinds)) * span_s
    order = np.argsort(times)
    kinds, times = kinds[order], times[order]
    numbers = rng.integers(0, max(rows, 1), len(kinds))
    fresh = kinds == INSERT
    numbers[fresh] = rows + np.arange(came)
    keys = np.zeros(len(kinds), dtype=np.int64)
    lands = kinds != DELETE
    keys[lands] = _landing_keys(stream, rows, int(lands.sum()), rng)
    return Changes(times, kinds, numbers, keys)


def _landing_keys(
    stream: Stream, rows: int, count: int, rng: np.random.Generator
) -> np.ndarray[Any, Any]:
    """Return distinct keys, in the order of time, where rows land."""
    import numpy as np

    if stream.lands.kind == "head":
        return SPACE - 1 - np.arange(count)
    if stream.lands.kind == "tail":
        return (rows + 1) * SPACE + 1 + np.arange(count)
    if stream.lands.kind == "uniform":
        ranks = rng.integers(0, rows + 1, count)
    else:
        ranks = np.array([min(stream.rank_of(share), rows) for share in rng.random(count)])
        ranks = ranks.astype(np.int64)
    keys = ranks * SPACE + rng.integers(1, SPACE, count)
    while len(np.unique(keys)) < count:
        keys = ranks * SPACE + rng.integers(1, SPACE, count)
    return np.asarray(keys)


def _summary(way: Way, many: Sequence[Counts]) -> Simulated:
    means, errors = {}, {}
    for name in COUNTERS:
        values = [getattr(one, name) for one in many]
        mean = sum(values) / len(values)
        spread = sum((value - mean) ** 2 for value in values) / max(len(values) - 1, 1)
        means[name], errors[name] = mean, math.sqrt(spread / len(values))
    return Simulated(way, len(many), means, errors, sum(one.clean for one in many) / len(many))
