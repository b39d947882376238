"""The planner: what each strategy costs and risks, which one to take, and why."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

from vrelko.core.cost.rates import Clock, Rates, shipped_rates
from vrelko.core.cost.work import Work
from vrelko.core.drift.expectation import expect_drift
from vrelko.core.drift.stream import Stream
from vrelko.core.facts import Facts, TableFacts
from vrelko.core.finding_rules import find_faults
from vrelko.core.findings import Finding
from vrelko.core.index_advice import Advice, advise_indexes, merge_advice
from vrelko.core.judgement import Crossover, Given, Judgement, Outlook, VariantCost, VariantUse
from vrelko.core.jump_findings import find_jumps
from vrelko.core.outline import Outline
from vrelko.core.reader_load import (
    Point,
    VariantModel,
    count_work,
    mean_of,
    points_of,
    weigh,
    work_at,
)
from vrelko.core.sizing import sweep_sizes
from vrelko.core.strategies import RECORDS, STRATEGIES, Strategy
from vrelko.core.verdict import WHOLE_ROWS, Candidate, Rung, decide


def judge(
    outline: Outline,
    facts: Facts,
    given: Given,
    uses: Sequence[VariantUse] = (),
    rates: Rates | None = None,
) -> Judgement:
    """Return the judgement on one listing. Raises FactsError where facts lack its table.

    `uses`: the variants in use, the first one the usual; none: the outline's first order alone.
    `rates`: those calibrated on the server; None: the shipped ones.
    """
    table, server = facts.table(outline.table), facts.server
    # A listing nobody described the use of is asked for by its first order.
    uses = uses or (VariantUse(outline, outline.orders[0], 1.0),)
    clock = Clock(_widened(rates or shipped_rates(server.engine), table, uses), server)
    variants = [
        VariantModel(use.outline, use.order, use.share, use.model(table, server)) for use in uses
    ]
    first = variants[0]
    model, size, pages = first.model, outline.sizes.default, first.pages
    points, candidates = _weigh_all(variants, given, clock)
    verdict = decide(candidates, outline, model.matching, given.needs)
    advice = _advise(outline, variants, table, given, clock)
    # Findings speak of what is served: the verdict's strategy, unless the listing names another.
    served_by = outline.strategy or verdict.strategy
    findings = _find_all(outline, variants, given, advice, served_by, clock)
    # What the finding advises belongs to what following the advice would give.
    anchors = any(finding.code == "slow-jumps" for finding in findings)
    counted = count_work(outline, model)
    return Judgement(
        rows=model.matching,
        pages=pages,
        size=size,
        path=model.path,
        candidates=tuple(
            replace(c, against=verdict.refused.get(c.strategy, ())) for c in candidates
        ),
        crossovers=tuple(_crossover(first, factor, clock.ms) for factor in (2.0, 10.0)),
        findings=_without_repeats(findings),
        advice=advice,
        verdict=verdict,
        sizes=sweep_sizes(verdict.strategy, model, given.readers, clock, size, given.needs.p95_ms),
        variants=tuple(
            _variant_cost(variant, {name: mean_of(points[name][i]) for name in STRATEGIES})
            for i, variant in enumerate(variants)
        ),
        rates=clock.rates,
        switch=model.routes.switch,
        paths_explained=model.routes.explained,
        whole_up_to=_whole_up_to(first, given, clock),
        count=counted,
        count_time=None
        if counted is None
        else clock.time(counted, path=model.routes.count.signature),
        checks=tuple(model.checks.values()),
        outlook=_outlook(uses, table, facts, given, clock.rates, advice, anchors=anchors),
    )


def _find_all(
    outline: Outline,
    variants: Sequence[VariantModel],
    given: Given,
    advice: tuple[Advice, ...],
    served_by: str,
    clock: Clock,
) -> list[Finding]:
    """Return all findings on a listing that is served by a strategy."""
    readers, writers, server = given.readers, given.writers, clock.server
    return [
        *find_faults(variants, outline.orders, readers, writers, advice, served_by, server),
        *find_jumps(variants[0], readers, writers, given.needs, clock),
    ]


def _weigh_all(
    variants: Sequence[VariantModel], given: Given, clock: Clock
) -> tuple[dict[Strategy, list[list[Point]]], tuple[Candidate, ...]]:
    """Return what each strategy's pages cost at each depth of each variant, and their weights."""
    stream = Stream.of(variants[0].model.matching, given.writers)
    points = {
        name: [points_of(name, variant, given.readers, clock) for variant in variants]
        for name in STRATEGIES
    }
    candidates = tuple(
        _candidate(name, variants, points[name], stream, given, clock) for name in STRATEGIES
    )
    return points, candidates


def _advise(
    outline: Outline,
    variants: Sequence[VariantModel],
    table: TableFacts,
    given: Given,
    clock: Clock,
) -> tuple[Advice, ...]:
    """Return the indexes that the orders lack, weighed against the variants as they are."""
    jumps = given.readers.depth.jumps > 0
    # Of a select that nobody can read nobody knows which index would help.
    lacking = () if outline.opaque else outline.orders
    # Turned round: of an order in use with several filters the usual one stays.
    today = {str(variant.order): variant.model for variant in variants[::-1]}
    found = advise_indexes(outline, lacking, table, clock.server, clock, jumps, today)
    return tuple(merge_advice(found))


def _outlook(
    uses: Sequence[VariantUse],
    table: TableFacts,
    facts: Facts,
    given: Given,
    rates: Rates,
    advice: Sequence[Advice],
    *,
    anchors: bool,
) -> Outlook | None:
    """Return what a plan with all that is advised would be: indexes, a total, counted anchors."""
    first = uses[0].outline
    # A total that is counted anew each time is the one piece of advice that needs no index.
    counts = first.total == "exact" and not first.counted_once
    # Indexes of other tables do not change how this one is read.
    mine = [item for item in advice if item.table == table.name]
    if first.opaque or not (mine or counts or anchors):
        return None
    # As if they were there already, so that the ordinary choice of paths may take them.
    made = tuple(replace(item.index, partial=False) for item in mine)
    richer = replace(table, indexes=(*table.indexes, *made))
    then = tuple(
        replace(use, outline=_followed(use.outline, anchors), routes=None, checks=())
        for use in uses
    )
    clock = Clock(_widened(rates, table, uses), facts.server)
    variants = [
        VariantModel(one.outline, one.order, one.share, one.model(richer, facts.server))
        for one in then
    ]
    _, candidates = _weigh_all(variants, given, clock)
    verdict = decide(candidates, then[0].outline, variants[0].model.matching, given.needs)
    best = next(one for one in candidates if one.strategy == verdict.strategy)
    works = [best.ladder[0].work, best.ladder[-1].work]
    done = tuple(f"index {item.index.name}" for item in mine)
    done += ("total counted once per walk",) if counts else ()
    done += ("jumps by counted anchors",) if anchors else ()
    return Outlook(
        done, best.strategy, best.mean_ms, best.burden.p95_ms, *(work.read for work in works)
    )


def _followed(outline: Outline, anchors: bool) -> Outline:
    jumps = "anchors" if anchors else outline.jumps
    return replace(outline, counted_once=True, jumps=jumps)


_ROUGH = 0.4  # more log spread where facts are guessed or stale


def _widened(rates: Rates, table: TableFacts, uses: Sequence[VariantUse]) -> Rates:
    """Return the rates with more spread where the table's numbers are rough.

    So they are without statistics of any column, where rows were guessed from blocks, and where
    half of the rows changed since statistics were taken; but for pages of which all that were
    counted read what was predicted.
    """
    # Pages that read what was predicted show that the numbers are good enough, stale or not.
    checks = [check for use in uses for check in use.checks]
    if checks and all(check.believed for check in checks):
        return rates
    # Without ANALYZE a server guesses as much as facts do.
    unknown = all(column.distinct is None for column in table.columns)
    stale = (table.changed_rows or 0.0) > 0.5 * max(table.rows, 1.0)
    if not (unknown or stale or table.rows_from.startswith("guessed")):
        return rates
    return replace(rates, spread=math.hypot(rates.spread, _ROUGH))


def ladder_pages(pages: int) -> list[int]:
    """Return the page numbers a ladder shows: 1, 10, 100, 1,000 and the last."""
    return sorted({page for page in (1, 10, 100, 1_000) if page < pages} | {pages})


def _candidate(
    strategy: Strategy,
    variants: Sequence[VariantModel],
    points: Sequence[Sequence[Point]],
    stream: Stream,
    given: Given,
    clock: Clock,
) -> Candidate:
    first = variants[0]
    size = first.outline.sizes.default
    # The ladder shows the usual variant; what all variants cost together stands in the burden.
    ladder = tuple(_rung(strategy, first, page, clock) for page in ladder_pages(first.pages))
    # Drift is what a walk suffers, and a mean walk has so many pages.
    walk_pages = round(given.readers.depth.mean)
    drift = expect_drift(
        RECORDS[strategy].drifts_as, stream, size, walk_pages, given.readers.dwell_s
    )
    burden = weigh(strategy, variants, points, given.readers, clock)
    return Candidate(strategy, ladder, burden, replace(drift, strategy=strategy))


def _rung(strategy: Strategy, variant: VariantModel, page: int, clock: Clock) -> Rung:
    size = variant.outline.sizes.default
    work = work_at(strategy, variant, page)
    path = variant.model.path
    # By signature: how far paths of one kind were off tells this one's bounds.
    time = clock.time(work, path.passing if path.residual else 1.0, path.signature)
    return Rung(page, (page - 1) * size, work, time, clock.when_cold().ms(work))


def _crossover(variant: VariantModel, factor: float, price: Callable[[Work], float]) -> Crossover:
    size = variant.outline.sizes.default
    offset = variant.model.crossover(factor, size, price)
    return Crossover(factor, offset, None if offset is None else int(offset // size) + 1)


def _variant_cost(variant: VariantModel, means: dict[Strategy, float]) -> VariantCost:
    params = tuple(f"{name} = {value}" for name, value in variant.outline.params.items())
    return VariantCost(
        order=str(variant.order),
        params=params,
        share=variant.share,
        rows=variant.model.matching,
        path=variant.model.path.text,
        mean_ms=means,
    )


def _whole_up_to(variant: VariantModel, given: Given, clock: Clock) -> int | None:
    """Return the rows up to which one statement for all costs a visit no more than its pages."""
    model, size = variant.model, variant.outline.sizes.default
    if model.matching <= 0:
        return None
    # Each page is a journey to the application and back; all rows at once are one.
    per_visit = given.readers.depth.mean * (
        clock.ms(model.keyset(size + 1)) + given.readers.round_trip_ms
    )
    low, high = 1.0, float(WHOLE_ROWS * 10)
    table = model.table

    def visit(rows: float) -> float:
        # The same rows in a smaller table: blocks shrink with them, so does what is cached.
        # Rows of other listings leave as well, so the table shrinks with the listing.
        part_of = rows / max(model.matching, 1.0)
        blocks = max(table.blocks * part_of, 1.0)
        small = replace(table, rows=table.rows * part_of, blocks=blocks)
        part = replace(model, table=small, inputs=replace(model.inputs, table=small)).whole()
        return clock.ms(part) + given.readers.round_trip_ms + part.bytes / 1_250.0

    if visit(low) > per_visit:
        return 0
    # Halving on a logarithmic scale: between a hundred rows and a million the ratio counts.
    while high - low > 1 and high / low > 1.01:
        middle = (low * high) ** 0.5
        low, high = (middle, high) if visit(middle) <= per_visit else (low, middle)
    return int(low)


def _without_repeats(findings: Sequence[Finding]) -> tuple[Finding, ...]:
    # Variants that share an order share its faults.
    return tuple({(f.code, f.about): f for f in findings}.values())
