"""Simulating: many walks over a stream of changes, every strategy on the same ones."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from vrelko.core.drift.stream import Stream
from vrelko.core.drift.walks import (
    COUNTERS,
    DELETE,
    DRIFT_STRATEGIES,
    INSERT,
    MOVE,
    SPACE,
    Counts,
    Course,
    DriftStrategy,
)

if TYPE_CHECKING:
    import numpy as np

    from vrelko.core.drift.timeline import Changes

WALKS = 300
"""Walks that are simulated."""


@dataclass(frozen=True, slots=True)
class Simulated:
    """What walks of one strategy suffered on the mean, with standard errors, by counter.

    `clean`: the share of walks without a repeat or a miss. `by_page`: the mean repeats and misses
    of each page, a repeat where a row comes again, a miss where the walk goes beyond the row.
    """

    strategy: DriftStrategy
    walks: int
    means: dict[str, float]
    errors: dict[str, float]
    clean: float
    by_page: tuple[tuple[float, float], ...] = ()


def simulate(
    stream: Stream,
    size: int,
    pages: int,
    dwell_s: float,
    walks: int = WALKS,
    seed: int = 1,
    overlap: int = 0,
    strategies: Sequence[DriftStrategy] = DRIFT_STRATEGIES,
) -> tuple[Simulated, ...]:
    """Return what each strategy suffers over `walks` walks of `pages` pages of `dwell_s` seconds.

    Repeats exactly for a seed and a version of NumPy.
    """
    import numpy as np

    rng = np.random.default_rng(seed)
    rows = max(round(stream.rows), 0)
    # The first page is asked for at once.
    times = tuple(page * dwell_s for page in range(max(pages, 1)))
    # Changes are drawn as arrays for each walk; as objects, a million of them would not fit.
    course = Course(rows, size, times, (), overlap)
    drawn = ((course, draw_changes(stream, rows, times[-1], rng)) for _ in range(walks))
    return _play_all(drawn, len(times), strategies)


def simulate_recorded(
    courses: Sequence[Course], strategies: Sequence[DriftStrategy] = DRIFT_STRATEGIES
) -> tuple[Simulated, ...]:
    """Return what each strategy suffers over walks whose changes are given."""
    return _play_all(((course, None) for course in courses), len(courses[0].times), strategies)


def _play_all(
    drawn: Iterable[tuple[Course, Changes | None]], pages: int, strategies: Sequence[DriftStrategy]
) -> tuple[Simulated, ...]:
    from vrelko.core.drift.fast import play_by_page
    from vrelko.core.drift.timeline import Timeline

    found: dict[DriftStrategy, list[Counts]] = {strategy: [] for strategy in strategies}
    parts = {strategy: [[0, 0] for _ in range(pages)] for strategy in strategies}
    for course, changes in drawn:
        # One timeline for all strategies: the same changes, so differences are the strategies' own.
        timeline = Timeline(course, changes)
        for strategy in strategies:
            counts, by_page = play_by_page(timeline, strategy)
            found[strategy].append(counts)
            for part, (repeats, misses) in zip(parts[strategy], by_page, strict=False):
                part[0] += repeats
                part[1] += misses
    return tuple(_summary(strategy, many, parts[strategy]) for strategy, many in found.items())


def draw_changes(stream: Stream, rows: int, span_s: float, rng: np.random.Generator) -> Changes:
    """Return the changes of `span_s` seconds as arrays, drawn from a stream.

    Inserts and moves land where the stream's rows do; deletes and moves hit each of the first rows
    alike, dead ones for nothing, so that a row's hazard stays what it is.
    """
    import numpy as np

    from vrelko.core.drift.timeline import Changes

    # Independent events at a steady rate: numbers are Poisson, and times uniform given the number.
    came = int(rng.poisson(stream.inserts * span_s))
    went = int(rng.poisson(stream.deletes * span_s)) if rows else 0
    moved = int(rng.poisson(stream.moves * span_s)) if rows else 0
    kinds = np.repeat([INSERT, DELETE, MOVE], [came, went, moved])
    times = rng.random(len(kinds)) * span_s
    order = np.argsort(times)
    kinds, times = kinds[order], times[order]
    # A row that is gone may be drawn again; the timeline passes over that.
    numbers = rng.integers(0, max(rows, 1), len(kinds))
    # New rows are numbered behind those that were there.
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

    # Each new row ahead of all that came before it.
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
    # Two rows at one key would tie; drawing again is rare, as the space between rows is wide.
    while len(np.unique(keys)) < count:
        keys = ranks * SPACE + rng.integers(1, SPACE, count)
    return np.asarray(keys)


def _summary(
    strategy: DriftStrategy, many: Sequence[Counts], parts: Sequence[Sequence[int]]
) -> Simulated:
    means, errors = {}, {}
    for name in COUNTERS:
        values = [getattr(one, name) for one in many]
        mean = sum(values) / len(values)
        # Of the walks that were drawn, as a sample of all that could be.
        spread = sum((value - mean) ** 2 for value in values) / max(len(values) - 1, 1)
        means[name], errors[name] = mean, math.sqrt(spread / len(values))
    clean = sum(one.clean for one in many) / len(many)
    by_page = tuple((repeats / len(many), misses / len(many)) for repeats, misses in parts)
    return Simulated(
        strategy=strategy, walks=len(many), means=means, errors=errors, clean=clean, by_page=by_page
    )
