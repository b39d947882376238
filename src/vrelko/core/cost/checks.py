"""Checks: pages that a server has run and counted, beside the work that was predicted for them.

A prediction rests on how a server's plan was read. Where a counted page lies beyond what chance
allows, that reading is wrong: the strategy is costed from the counts instead, by straight lines
between the depths at which it was counted.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.work import Work
from vrelko.core.engine_traits import TRAITS

TOLERANCE = 1.4
"""Counted over predicted, or the other way round, up to which a prediction is believed."""

_NINE_IN_TEN = 1.645
_FEW = 2  # counts, of which none is told from others
_NEAR = 4.0  # counted over predicted, up to which a prediction tells more than few counts do
_SAME = 0.03  # of a prediction, by which those of one group of rows differ at most
_KEPT = ("statements", "rows", "bytes", "values")
_OF_ROWS = ("entries", "scanned", "sorted_rows", "visits", "checked")


@dataclass(frozen=True, slots=True)
class Count:
    """One page that was run: `predicted` and `counted` in the engine's unit, milliseconds taken.

    `passing` is the share of rows that pass conditions outside the index; `scatter` what else
    chance allows, as a log standard deviation. `cut`: it ran into its time limit, so that `counted`
    and `ms` are lower bounds. `counted` None: it was only timed. `path` is the signature of its
    access path.
    """

    offset: float
    size: int
    predicted: float
    counted: float | None
    ms: float
    rows: float = 0.0
    passing: float = 1.0
    cut: bool = False
    path: str = ""
    scatter: float = 0.0

    @property
    def ratio(self) -> float:
        """The count over its prediction, 1 where it was not counted."""
        if self.counted is None:
            return 1.0
        return max(self.counted, 0.5) / max(self.predicted, 0.5)

    @property
    def off(self) -> float:
        """How far the count lies from the prediction, as a factor; 1 where it was not counted."""
        return max(self.ratio, 1 / self.ratio)

    def agrees(self, engine: str) -> bool:
        """Whether the count lies within what the prediction and chance allow.

        Rows walked until a page is full scatter where few pass a condition (negative binomial:
        relative variance (1 - s) / rows).
        """
        if self.cut or self.counted is None:
            return not self.cut
        if abs(self.counted - self.predicted) <= TRAITS[engine].prices.slack:
            return True
        # Rows walked until a page is full are negative binomial: few rows scatter most.
        walked = math.sqrt(max(1 - self.passing, 0.0) / max(self.rows, 1.0))
        scatter = math.hypot(walked, self.scatter)
        most = TOLERANCE * math.exp(_NINE_IN_TEN * scatter)
        return bool(1 / most <= self.counted / max(self.predicted, 1e-9) <= most)


@dataclass(frozen=True, slots=True)
class Check:
    """The pages of one strategy that were counted. `node` is what the server said, not understood.

    First pages, which are read alike by key and by deferred join, are a strategy of their own here:
    "first"; so are totals: "count" and "capped count", and pages from the end: "far-end".
    `believed`: all agree with their predictions, and nothing was said that is not understood.
    """

    strategy: str
    counts: tuple[Count, ...]
    believed: bool
    node: str = ""

    def by_path(self, path: str, engine: str, at: float) -> Check | None:
        """Return the check of pages by one access path, None where none of them was counted.

        It is believed where all of them agree, or the two that were counted nearest to a page at
        `at`, ahead and behind. Where something was said that is not understood, paths tell nothing
        apart.
        """
        # Another path's count says nothing of this one.
        mine = tuple(one for one in self.counts if one.path == path)
        if self.node:
            return self
        counted = [one for one in mine if one.counted is not None]
        if not counted:
            return None
        # Counts on either side speak for what lies between, whatever was seen far away.
        ahead = [one for one in counted if one.offset <= at]
        behind = [one for one in counted if one.offset >= at]
        near = [*ahead[-1:], *behind[:1]] if ahead and behind else []
        believed = all(one.agrees(engine) for one in near or mine)
        return Check(self.strategy, mine, believed)

    def surrounds(self, at: float, predicted: float, engine: str) -> bool:
        """Tell whether pages ahead of a row and behind it were counted that read what it does.

        They read the same group of rows, then, wherever statistics place it.
        """
        alike = [
            one.offset
            for one in self.counts
            if one.agrees(engine)
            and one.counted is not None
            and abs(one.predicted - predicted) <= _SAME * predicted
        ]
        return bool(alike) and min(alike) <= at <= max(alike)

    @property
    def size(self) -> int:
        """The page size that most of the pages had."""
        # Pages of another size were run to tell fixed work from work a row.
        sizes = [one.size for one in self.counts]
        return max(sizes, key=sizes.count) if sizes else 0

    def shallowest(self, offset: float) -> float | None:
        """Return the only depth at which usual pages were counted, None where there are several."""
        depths = sorted({one.offset for one in self.counts if one.size == self.size})
        return depths[0] if len(depths) == 1 and offset != depths[0] else None

    @property
    def off(self) -> float:
        """How far the worst count lies from its prediction, as a factor."""
        return max((one.off for one in self.counts), default=1.0)

    def correct(
        self,
        work: Work,
        offset: float,
        factor: float,
        engine: str,
        rows: float = math.inf,
        *,
        in_steps: bool = False,
    ) -> Work:
        """Return the work as the counts tell it at an offset.

        By straight lines between the depths that were counted, or, where that tells of each count
        more truly from the others, by how far the counts at these depths lie from their
        predictions. `factor`: how much more a page of another size asks than one of `size`. What is
        told in other units than those counted is scaled alike, up to `rows`. `in_steps`: pages read
        whole groups of rows, so that a line through two depths tells no slope: beyond the depths
        that were counted work grows as predicted.
        """
        usual = [one for one in self.counts if one.size == self.size]
        counted = [one for one in usual if one.counted is not None]
        if not counted:
            return work
        points = [(one.offset, float(one.counted or 0.0)) for one in counted]
        ratios = [(one.offset, one.ratio) for one in counted]
        scatter, apart = _scatter(points), _scatter(ratios)
        # In the unit that was counted, so that both can be divided.
        predicted = max(counted_as(engine, work), 1e-9)
        # So near that the prediction's shape is right, and its height alone is mended.
        near = max(one.off for one in counted) <= _NEAR
        told = sorted(one.ratio for one in counted)
        apart_by = told[-1] / max(told[0], 1e-9)
        if self.strategy == "keyset" and len(points) <= _FEW and apart_by > _NEAR:
            # By key depth tells little: two pages that differ so much stand for those between.
            units = predicted * math.sqrt(told[0] * told[-1])
            ms = _line([(float(one.counted or 0.0), one.ms) for one in counted], units)
            factor, scatter = 1.0, math.log(apart_by) / 2
        elif near if len(points) <= _FEW else apart < scatter:  # it tells more than its neighbours
            units = predicted * _line(ratios, offset)
            ms = _line([(float(one.counted or 0.0), one.ms) for one in counted], units)
            factor, scatter = 1.0, apart
        elif in_steps and offset > counted[-1].offset and counted[-1].off <= _NEAR:
            units = predicted * counted[-1].ratio
            ms = _line([(float(one.counted or 0.0), one.ms) for one in counted], units)
            factor = 1.0
        else:
            units = max(_line(points, offset), min(predicted, points[0][1]))
            ms = _line([(one.offset, one.ms) for one in usual], offset)
        times = units * factor / predicted
        # Predicted at almost nothing, its parts tell nothing of where the work goes.
        scaled = work.times(times) if times < 1e6 else replace(work, entries=units, steps=units)
        # What is sent to the reader is known whatever the server had to read for it.
        kept = {name: getattr(work, name) for name in _KEPT}
        if TRAITS[engine].unit != "handler rows":
            # Work beyond the rows there are is in the handling, not in more rows.
            kept |= {name: min(getattr(scaled, name), rows) for name in _OF_ROWS}
        return replace(scaled, **kept, timed_us=ms * 1000 * max(factor, 1.0), timed_scatter=scatter)


def make_check(strategy: str, counts: Sequence[Count], node: str, engine: str) -> Check:
    """Return the check of a strategy from its counted pages."""
    counts = tuple(sorted(counts, key=lambda one: one.offset))
    believed = not node and all(one.agrees(engine) for one in counts)
    return Check(strategy, counts, believed, node)


def _scatter(points: Sequence[tuple[float, float]]) -> float:
    """Return how far the straight lines miss points that they are not drawn through.

    The root mean square of logarithms, each point being left out in turn; pages between the depths
    that were counted miss by about as much.
    """
    points = _merged(points)
    misses = []
    # The outer points cannot be left out: no line would reach them.
    for i in range(1, len(points) - 1):
        drawn = _line([*points[:i], *points[i + 1 :]], points[i][0])
        misses.append(math.log(max(drawn, 1e-3) / max(points[i][1], 1e-3)) ** 2)
    return math.sqrt(sum(misses) / len(misses)) if misses else 0.0


def _line(points: Sequence[tuple[float, float]], at: float) -> float:
    """Return the value at a place on straight lines between points, never falling beyond them.

    Ahead of them the first line goes on where it rises, down to half of the first value.
    """
    points = _merged(points)
    if len(points) == 1:
        return points[0][1]
    if at <= points[0][0]:
        (x0, y0), (x1, y1) = points[:2]
        return max(y0 - max((y1 - y0) / (x1 - x0), 0.0) * (x0 - at), y0 / 2)
    for (x0, y0), (x1, y1) in pairwise(points):
        if at <= x1:
            return y0 + (y1 - y0) * (at - x0) / (x1 - x0)
    (x0, y0), (x1, y1) = points[-2:]
    return y1 + max((y1 - y0) / (x1 - x0), 0.0) * (at - x1)


def _merged(points: Sequence[tuple[float, float]]) -> list[tuple[float, float]]:
    """Return points with one value for each place: the mean."""
    places: dict[float, list[float]] = {}
    for x, y in points:
        places.setdefault(x, []).append(y)
    return [(x, sum(ys) / len(ys)) for x, ys in sorted(places.items())]
