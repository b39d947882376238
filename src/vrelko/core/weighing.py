"""Weighing: what a strategy costs over everything its readers do, in all variants in use."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vrelko.core.arithmetic import page_count
from vrelko.core.cost.model import CostModel
from vrelko.core.cost.rates import Clock, Time
from vrelko.core.cost.work import NO_WORK, Work
from vrelko.core.order import Order
from vrelko.core.outline import Outline, Strategy
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


@dataclass(frozen=True, slots=True)
class Burden:
    """What a strategy costs its readers: milliseconds of the database, bytes and blocks.

    `mean` and `p95_ms` of a page; `visit_ms` of one reader's walk, `day_ms` of all readers' day;
    `busy` connections on the mean while readers ask at their rate (Little 1961: rate times time);
    `memory_bytes` that one page takes in the application, for all users at once; `statements` a
    page.
    """

    mean: Time
    p95_ms: float
    visit_ms: float
    day_ms: float
    busy: float
    memory_bytes: float
    statements: float


def weigh(
    strategy: Strategy, variants: Sequence[VariantModel], readers: Readers, clock: Clock
) -> Burden:
    """Return the burden of a strategy over variants and depths; counting included."""
    points: list[tuple[float, float, Work, float]] = []  # weight, ms, work, passing
    for variant in variants:
        if variant.share <= 0:
            continue
        counted = count_work(variant.outline, variant.model) or NO_WORK
        counting = clock.ms(counted) if counted is not NO_WORK else 0.0
        passing = variant.model.path.passing if variant.model.path.residual else 1.0
        for weight, page, jumps in _depths(variant, readers, strategy):
            by = "offset" if jumps and strategy == "keyset" else strategy
            work = work_at(by, variant, page)
            ms = clock.ms(work) + counting
            points.append((variant.share * weight, ms, work, passing))
    total = sum(point[0] for point in points) or 1.0
    mean = sum(weight * ms for weight, ms, _, _ in points) / total
    typical = max(points, key=lambda point: point[0] * point[1])
    model = variants[0].model
    around = clock.time(typical[2], typical[3], model.path.signature)
    factor = around.high / around.ms if around.ms > 0 else 1.0
    a_walk = 1.0 if strategy == "whole" else readers.depth.mean
    a_second = readers.a_minute / 60 / (readers.depth.mean if strategy == "whole" else 1.0)
    biggest = max(point[2].bytes + _ROW_OBJECT * point[2].rows for point in points)
    return Burden(
        Time(mean, mean / factor, mean * factor),
        _quantile([(w, ms) for w, ms, _, _ in points], 0.95),
        mean * a_walk,
        mean * a_second * 86_400,
        a_second * mean / 1000,
        biggest * readers.users,
        sum(weight * work.statements for weight, _, work, _ in points) / total,
    )


_ROW_OBJECT = 120.0  # bytes of a row in Python beside its values, measured


def work_at(strategy: Strategy, variant: VariantModel, page: float) -> Work:
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
) -> list[tuple[float, float, bool]]:
    """Return shares of requests, the pages they ask for, and whether these are jumps.

    A jump by number goes by offset where pages go by key.
    """
    if strategy == "whole":
        return [(1.0, 1.0, False)]
    depth, pages = readers.depth, variant.pages
    shares = [(i + 0.5) / _POINTS for i in range(_POINTS)]
    onward, across = (1 - depth.jumps) / _POINTS, depth.jumps / _POINTS
    walked = [(onward, depth.page_at(share, pages), False) for share in shares]
    jumped = [(across, 1 + share * (pages - 1), True) for share in shares]
    return walked + (jumped if depth.jumps else [])


def _quantile(points: Sequence[tuple[float, float]], share: float) -> float:
    total = sum(weight for weight, _ in points)
    reached = 0.0
    for weight, value in sorted(points, key=lambda point: point[1]):
        reached += weight
        if reached >= share * total:
            return value
    return points[-1][1] if points else 0.0
