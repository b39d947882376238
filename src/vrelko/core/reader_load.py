"""Weighing: what a strategy costs over everything its readers do, in all variants in use."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from vrelko.core.arithmetic import page_count
from vrelko.core.cost.model import CostModel
from vrelko.core.cost.rates import Clock, Time
from vrelko.core.cost.work import Work
from vrelko.core.order import Order
from vrelko.core.outline import Outline
from vrelko.core.strategies import Strategy
from vrelko.core.workload import Readers

_POINTS = 25
"""Depths that stand for all: the middles of so many equal shares of requests."""


@dataclass(frozen=True, slots=True)
class VariantModel:
    """One variant in use, with the share of requests that go to it."""

    outline: Outline
    order: Order
    share: float
    model: CostModel

    @property
    def pages(self) -> int:
        """Pages of the default size."""
        return max(page_count(round(self.model.matching), self.outline.sizes.default), 1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Burden:
    """What a strategy costs its readers: milliseconds of the database, bytes and blocks.

    `mean` and `p95_ms` of a page; `visit_ms` of one reader's walk, `day_ms` of all readers' day;
    `busy` connections on the mean while readers ask at their rate (Little 1961: rate times time);
    `memory_bytes` that one page takes in the application, for all users at once; `statements` a
    page. `worst_ms` is the page of the deepest place that readers reach; `jumps_by` is what jumps
    to a page number are served by, and `jump_ms` what the dearest of them takes, wherever it goes.
    """

    mean: Time
    p95_ms: float
    visit_ms: float
    day_ms: float
    busy: float
    memory_bytes: float
    statements: float
    worst_ms: float = 0.0
    jumps_by: str | None = None
    jump_ms: float = 0.0


@dataclass(frozen=True, slots=True)
class Point:
    """One depth of one variant: its weight among requests, the page's work and milliseconds.

    `ms` includes telling the total; `passing` is the share of rows that pass the conditions which
    the index does not hold.
    """

    weight: float
    ms: float
    work: Work
    passing: float


def points_of(
    strategy: Strategy, variant: VariantModel, readers: Readers, clock: Clock
) -> list[Point]:
    """Return the depths of one variant and what a strategy's pages cost there; weights add to 1."""
    counted = count_work(variant.outline, variant.model)
    # A page with its total waits for both.
    counting = 0.0 if counted is None else clock.ms(counted)
    # How wide the bounds are depends on how rare the rows are that pass on the way.
    path = variant.model.path
    passing = path.passing if path.residual else 1.0
    found = []
    by_key = strategy == "keyset" and readers.depth.jumps > 0
    # A page number names no key, so a listing served by key must find one first.
    jumping = jump_strategy(variant, clock) if by_key else strategy
    for (page, jumps), weight in _depths(variant, readers, strategy).items():
        work = work_at(jumping if jumps else strategy, variant, page)
        # A cursor carries the total on; a page number in an address does not.
        carried = variant.outline.counted_once and not jumps and page >= _BEHIND_FIRST
        carried |= jumps and jumping == ANCHORS  # which tell the total on the way
        found.append(Point(weight, clock.ms(work) + (0.0 if carried else counting), work, passing))
    return found


def jump_strategy(variant: VariantModel, clock: Clock) -> str:
    """Return how a jump to any page number is served, where pages go on by key.

    By counted anchors where the listing says so, else in the cheapest strategy without.
    """
    # What the listing says is taken at its word: its anchors may be built yet.
    if variant.outline.jumps == "anchors" and variant.outline.may_have_anchors:
        return ANCHORS

    def cost(name: str) -> float:
        return sum(jump_costs(name, variant, clock))

    # The simplest statement wins unless another is clearly cheaper.
    plain = cost("offset")
    best = min(_JUMPING, key=cost)
    return best if cost(best) * _JUMP_GAIN < plain else "offset"


def jump_costs(strategy: str, variant: VariantModel, clock: Clock) -> list[float]:
    """Return the milliseconds of jumps to page numbers spread over the listing, and to the last."""
    places = [1 + (i + 0.5) / _JUMPS * (variant.pages - 1) for i in range(_JUMPS)]
    # The last page is asked for more often than chance would have it: grids have a button for it.
    pages = (*places, float(variant.pages))
    return [clock.ms(work_at(strategy, variant, page)) for page in pages]


ANCHORS = "counted anchors"
_BEHIND_FIRST = 1.5  # pages, from where a walk carries its total along
_JUMPS = 5
_JUMP_GAIN = 1.1  # a simpler statement is taken below that
_JUMPING: tuple[Strategy, ...] = ("offset", "deferred-join", "two-ended")


def mean_of(points: Sequence[Point]) -> float:
    """Return the mean milliseconds of a page."""
    total = sum(point.weight for point in points) or 1.0
    return sum(point.weight * point.ms for point in points) / total


def weigh(
    strategy: Strategy,
    variants: Sequence[VariantModel],
    points: Sequence[Sequence[Point]],
    readers: Readers,
    clock: Clock,
) -> Burden:
    """Return the burden of a strategy over variants, with the points of each."""
    every = [
        replace(point, weight=point.weight * variant.share)
        for variant, several in zip(variants, points, strict=True)
        for point in several
        if variant.share > 0
        # Shares that are all zero weigh nothing: then the usual variant stands for all.
    ] or list(points[0])
    mean = mean_of(every)
    # The mean's bounds are those of the page that the mean consists of most.
    typical = max(every, key=lambda point: point.weight * point.ms)
    around = clock.time(typical.work, typical.passing, variants[0].model.path.signature)
    factor = around.high / around.ms if around.ms > 0 else 1.0
    # A reader who has all rows asks once, however many pages they look at.
    pages_per_walk = 1.0 if strategy == "whole" else readers.depth.mean
    asked = readers.depth.mean / pages_per_walk  # pages looked at with one request
    per_second = readers.pages_per_minute / 60 / asked
    total = sum(point.weight for point in every) or 1.0
    jumping = jump_strategy(variants[0], clock) if strategy == "keyset" else strategy
    return Burden(
        mean=Time(mean, mean / factor, mean * factor),
        p95_ms=_quantile([(point.weight, point.ms) for point in every], 0.95),
        visit_ms=mean * pages_per_walk,
        day_ms=mean * per_second * 86_400,
        busy=per_second * mean / 1000,
        # At worst all users hold the largest page at once.
        memory_bytes=max(p.work.bytes + _ROW_OBJECT * p.work.rows for p in every) * readers.users,
        statements=sum(p.weight * p.work.statements for p in every) / total,
        worst_ms=max(p.ms for p in every if p.weight > 0),
        jumps_by=jumping if strategy == "keyset" and readers.depth.jumps > 0 else None,
        jump_ms=max(jump_costs(jumping, variants[0], clock)),
    )


_ROW_OBJECT = 120.0  # bytes of a row in Python beside its values, measured


def work_at(strategy: str, variant: VariantModel, page: float) -> Work:
    """Return the work of a page by its number, from 1; fractions are between pages."""
    size = variant.outline.sizes.default
    return variant.model.strategy(strategy, (page - 1) * size, size)


def count_work(outline: Outline, model: CostModel) -> Work | None:
    """Return the work of telling a listing's total, None where it costs no count."""
    if outline.total in ("none", "about"):
        return None
    return model.count(outline.cap if outline.total == "capped" else None)


def _depths(
    variant: VariantModel, readers: Readers, strategy: Strategy
) -> dict[tuple[float, bool], float]:
    """Return the share of requests for each page, and whether it is jumped to by its number.

    Readers go on by walks, and jump. A jump goes by offset where pages go by key.
    """
    if strategy == "whole":
        # However far readers look, they have all rows after one request.
        return {(1.0, False): 1.0}
    depth, pages = readers.depth, variant.pages
    found: dict[tuple[float, bool], float] = {}
    for i in range(_POINTS):
        share = (i + 0.5) / _POINTS
        # The same depth may stand for several shares: their weights add up.
        # A walk's depth has a distribution of its own; a jump may land on any page alike.
        walked, jumped = depth.page_at(share, pages), 1 + share * (pages - 1)
        found[walked, False] = found.get((walked, False), 0.0) + (1 - depth.jumps) / _POINTS
        if depth.jumps:
            found[jumped, True] = found.get((jumped, True), 0.0) + depth.jumps / _POINTS
    return found


def _quantile(points: Sequence[tuple[float, float]], share: float) -> float:
    total = sum(weight for weight, _ in points)
    reached = 0.0
    for weight, value in sorted(points, key=lambda point: point[1]):
        reached += weight
        if reached >= share * total:
            return value
    return points[-1][1] if points else 0.0
