"""The planner: what each strategy costs and risks, which one to take, and why."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from vrelko.core.access import AccessPath, choose_path
from vrelko.core.advising import WHOLE_ROWS, Advice, advise_indexes, find_faults
from vrelko.core.arithmetic import page_count
from vrelko.core.cost import CostModel, Work, make_model
from vrelko.core.drift import DriftExpectation, Stream, expect_drift
from vrelko.core.facts import Facts
from vrelko.core.findings import Finding
from vrelko.core.numbers import render_bytes
from vrelko.core.outline import STRATEGIES, Outline, Strategy
from vrelko.core.workload import Needs, Readers, Writers


@dataclass(frozen=True, slots=True)
class Rung:
    """One depth of a candidate's ladder: a page number and the work of that page."""

    page: int
    offset: int
    work: Work


@dataclass(frozen=True, slots=True)
class Candidate:
    """One strategy: its work by page, what its readers pay and suffer, and whether it fits.

    `mean_ms` and `p95_ms` weigh pages by the readers' depths (rough times, see docs/cost.md).
    `against` holds why it is not taken, empty for the verdict's own.
    """

    strategy: Strategy
    ladder: tuple[Rung, ...]
    mean_ms: float
    p95_ms: float
    memory_bytes: float
    drift: DriftExpectation
    against: tuple[str, ...]
    sql: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Verdict:
    """The strategy to take, its reasons, and for every other one why not."""

    strategy: Strategy
    reasons: tuple[str, ...]
    refused: dict[str, tuple[str, ...]]
    meets_needs: bool


@dataclass(frozen=True, slots=True)
class Crossover:
    """The row offset at which offset takes `factor` times the steps of keyset; None: never."""

    factor: float
    offset: float | None
    page: int | None


@dataclass(frozen=True, slots=True)
class Given:
    """What a plan is made for."""

    readers: Readers = field(default_factory=Readers)
    writers: Writers = field(default_factory=Writers)
    needs: Needs = field(default_factory=Needs)


@dataclass(frozen=True, slots=True)
class Judgement:
    """Everything the planner has to say about one listing, without SQL."""

    rows: float
    pages: int
    size: int
    path: AccessPath
    candidates: tuple[Candidate, ...]
    crossovers: tuple[Crossover, ...]
    findings: tuple[Finding, ...]
    advice: tuple[Advice, ...]
    verdict: Verdict
    count: Work | None = None


def judge(outline: Outline, facts: Facts, given: Given) -> Judgement:
    """Return the judgement on one listing. Raises FactsError where facts lack its table."""
    table = facts.table(outline.table)
    order = outline.orders[0]
    block_bytes = facts.server.block_bytes
    path = choose_path(outline, order, table)
    model = make_model(outline, order, path, table, block_bytes)
    size = outline.sizes.default
    pages = max(page_count(round(model.matching), size), 1)
    stream = Stream.of(model.matching, given.writers)
    candidates = tuple(
        _candidate(strategy, outline, model, stream, given, pages) for strategy in STRATEGIES
    )
    advice = tuple(advise_indexes(outline, table, block_bytes))
    verdict = _verdict(candidates, outline, model, given.needs)
    crossovers = tuple(_crossover(model, factor, size) for factor in (2.0, 10.0))
    served_by = outline.strategy or verdict.strategy
    findings = tuple(find_faults(outline, model, advice, served_by))
    candidates = tuple(replace(c, against=verdict.refused.get(c.strategy, ())) for c in candidates)
    return Judgement(
        model.matching, pages, size, path, candidates, crossovers, findings, advice, verdict,
        count_work(outline, model),
    )  # fmt: skip


def ladder_pages(pages: int) -> list[int]:
    """Return the page numbers a ladder shows: 1, 10, 100, 1,000 and the last."""
    return sorted({page for page in (1, 10, 100, 1_000) if page < pages} | {pages})


def _candidate(
    strategy: Strategy,
    outline: Outline,
    model: CostModel,
    stream: Stream,
    given: Given,
    pages: int,
) -> Candidate:
    size = outline.sizes.default
    depth = given.readers.depth
    ladder = tuple(
        Rung(page, (page - 1) * size, _work(strategy, model, size, page, pages))
        for page in ladder_pages(pages)
    )
    walk = min(depth.mean, pages)
    usual = _offset_of_share(0.95, walk) if walk > 1 else 1.0

    def page_ms(page: float) -> float:
        return _work(strategy, model, size, page, pages).ms

    jump_ms = model.offset((pages - 1) / 2 * size, size).ms
    far_ms = model.offset((pages - 1) * 0.95 * size, size).ms
    if strategy == "whole":
        jump_ms = far_ms = page_ms(1)
    mean = (1 - depth.jumps) * page_ms(walk) + depth.jumps * jump_ms
    p95 = max(page_ms(min(usual, pages)), far_ms if depth.jumps > 0.05 else 0.0)
    counted = count_work(outline, model)
    counting = counted.ms if counted else 0.0
    walk_pages = round(depth.mean)
    drift = expect_drift(strategy, stream, size, walk_pages, given.readers.dwell_s)
    memory = ladder[0].work.bytes * given.readers.users
    return Candidate(strategy, ladder, mean + counting, p95 + counting, memory, drift, ())


def _work(strategy: Strategy, model: CostModel, size: int, page: float, pages: int) -> Work:
    if strategy == "whole":
        return model.whole()
    if strategy == "offset":
        return model.offset((page - 1) * size, size)
    left = max(model.matching - (page - 1) * size, 0.0)
    return model.keyset(min(size + 1, left), first=page <= 1)


def count_work(outline: Outline, model: CostModel) -> Work | None:
    """Return the work of telling a listing's total, None where it is not told."""
    if outline.total == "none":
        return None
    if outline.total == "about":
        return None
    return model.count(outline.cap if outline.total == "capped" else None)


def _offset_of_share(share: float, mean: float) -> float:
    """Return the page that `share` of the page visits of geometric walks do not go beyond."""
    stay = 1 - 1 / mean
    return max(math.log1p(-share) / math.log(stay), 1.0)


def _crossover(model: CostModel, factor: float, size: int) -> Crossover:
    offset = model.crossover(factor, size)
    return Crossover(factor, offset, None if offset is None else int(offset // size) + 1)


def _verdict(
    candidates: tuple[Candidate, ...], outline: Outline, model: CostModel, needs: Needs
) -> Verdict:
    against: dict[str, tuple[str, ...]] = {
        c.strategy: tuple(_against(c, outline, model, needs)) for c in candidates
    }
    fitting = [c for c in candidates if not against[c.strategy]]
    usual = "whole" if outline.kind == "choices" else "keyset"
    pool = fitting or [c for c in candidates if c.strategy == usual]
    best = min(pool, key=lambda c: (c.mean_ms, STRATEGIES.index(c.strategy)))
    near = [c for c in pool if c.mean_ms <= best.mean_ms * 1.05]
    if any(c.strategy == "keyset" for c in near):
        best = next(c for c in near if c.strategy == "keyset")
    for c in pool:
        if c is not best:
            against[c.strategy] = (_dearer(c, best),)
    reasons = tuple(_for(best, candidates, needs))
    if not fitting:
        reasons = (*(f"no strategy meets every need: {why}" for why in against[usual]), *reasons)
    refused = {name: why for name, why in against.items() if name != best.strategy}
    return Verdict(best.strategy, reasons, refused, bool(fitting))


def _dearer(candidate: Candidate, best: Candidate) -> str:
    times = candidate.mean_ms / best.mean_ms
    if times < 1.05:
        return "costs as much a page at the readers' depths, and more further down"
    return (
        f"costs {times:.1f}× as much a page at the readers' depths "
        f"({candidate.mean_ms:.2f} ms against {best.mean_ms:.2f} ms, rough)"
    )


def _against(
    candidate: Candidate, outline: Outline, model: CostModel, needs: Needs
) -> Iterator[str]:
    if outline.kind == "choices" and candidate.strategy != "whole":
        yield "choices are all shown at once"
    drift = candidate.drift
    for name, seen, most in (
        ("repeats", drift.repeats, needs.repeats),
        ("misses", drift.misses, needs.misses),
    ):
        if most is not None and seen > most:
            yield f"{seen:.2g} {name} a walk of {drift.pages} pages, at most {most:g} wanted"
    if needs.p95_ms is not None and candidate.p95_ms > needs.p95_ms:
        yield f"{candidate.p95_ms:.3g} ms at p95 (rough), at most {needs.p95_ms:g} wanted"
    if needs.memory_mb is not None and candidate.memory_bytes > needs.memory_mb * 1e6:
        yield f"{candidate.memory_bytes / 1e6:.1f} MB for all users, {needs.memory_mb:g} wanted"
    if candidate.strategy == "whole" and model.matching > WHOLE_ROWS:
        sent = candidate.ladder[0].work.bytes / 1e6
        yield f"sends all {model.matching:,.0f} rows ({sent:.1f} MB) to every reader"


def _for(best: Candidate, candidates: tuple[Candidate, ...], needs: Needs) -> Iterator[str]:
    first, last = best.ladder[0], best.ladder[-1]
    if best.strategy == "whole":
        yield (
            f"sends {first.work.rows:,.0f} rows ({render_bytes(first.work.bytes)}) in one statement"
        )
        return
    yield (
        f"walks {first.work.entries:,.0f} entries for page 1 and {last.work.entries:,.0f} for "
        f"page {last.page:,}, the last"
    )
    offset = next(c for c in candidates if c.strategy == "offset")
    if best.strategy == "keyset":
        deep = offset.ladder[-1]
        if deep.work.steps > 1.5 * last.work.steps:
            yield f"offset walks {deep.work.entries:,.0f} entries for page {deep.page:,}"
        yield (
            f"0 repeats and 0 misses a walk; offset expects {offset.drift.repeats:.2g} and "
            f"{offset.drift.misses:.2g}"
        )
        if needs.jump:
            yield "jumps to a page number still go by offset, once; the reader goes on by key"
