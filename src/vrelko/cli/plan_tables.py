"""Plans as tables and sentences for a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console, Group
from rich.padding import Padding
from rich.text import Text

from vrelko.cli.tables import console, make_table
from vrelko.core.cost.counted import counted_as
from vrelko.core.drift.expectation import expect_drift
from vrelko.core.engine_traits import TRAITS
from vrelko.core.number_format import (
    render_bytes,
    render_count,
    render_many,
    render_mean,
    render_ms,
)

if TYPE_CHECKING:
    from vrelko.core.cost.rates import Time
    from vrelko.planning.plan import Plan

_READINGS = {
    "predicted": "as facts predict",
    "asked": "as EXPLAIN says; no page was run to check it",
    "agreed": "as the server says, and counted pages agree",
    "counted": "in part counted: some pages read more or less than this server's plan tells",
}
_MOST_LEFT_OUT = 3
# times: below it the second would do as well, and no reader could tell
_AHEAD = 1.05
_KINDS = {"unsound": "red", "slow": "yellow", "fragile": "cyan"}


def show_plan(plan: Plan) -> None:
    """Print a plan: work and time by page, variants, page sizes, findings, verdict, statements."""
    out = console()
    _headline(out, plan)
    _show_ladders(out, plan)
    _show_depths(out, plan)
    _show_variants(out, plan)
    _show_readers(out, plan)
    _show_findings(out, plan)
    _show_indexes(out, plan)
    _show_verdict(out, plan)
    _show_strategies(out, plan)
    _show_statements(out, plan)


def _show_strategies(out: Console, plan: Plan) -> None:
    """What keeps pages steady while rows change, where anything changes them."""
    stream = plan.stream
    # Of a table that stands still every strategy keeps pages steady.
    if not (stream.inserts or stream.deletes or stream.moves) or plan.outline.kind == "choices":
        return
    pages, dwell = plan.candidates[0].drift.pages, plan.given.readers.dwell_s
    table = make_table(
        "while rows change", ">repeats", ">misses", ">ms per page", ">ms to begin", "stores"
    )
    for cost in plan.strategy_costs:
        if cost.strategy == "overlap" and not plan.overlap:  # nothing need be asked for again
            continue
        # By formula, which is at once there; `vrelko drift` simulates.
        form = expect_drift(cost.strategy, stream, plan.judgement.size, pages, dwell, plan.overlap)
        mark = "" if form.holds else " ?"
        table.add_row(
            f"overlap of {plan.overlap:,}" if cost.strategy == "overlap" else cost.strategy,
            render_mean(form.repeats) + mark,
            render_mean(form.misses) + mark,
            render_ms(cost.page_ms),
            render_ms(cost.begin_ms) if cost.begin_ms else "",
            cost.keeps,
        )
    out.print(table)


def _headline(out: Console, plan: Plan) -> None:
    judged = plan.judgement
    given = ", ".join(f"{name} = {value}" for name, value in plan.params.items())
    out.print(
        f"\n[bold]{plan.listing}[/] · {plan.outline.kind} by {plan.outline.orders[0]}"
        f" · {render_many(judged.rows, 'row')} in {render_many(judged.pages, 'page')}"
        f" of {judged.size}" + (f" · {given}" if given else "")
    )
    out.print(f"reads {judged.path.text}, {_READINGS[judged.reading]}")
    if plan.left_out:
        # A tight budget leaves out dozens; a few say as much.
        shown = "; ".join(plan.left_out[:_MOST_LEFT_OUT])
        more = len(plan.left_out) - _MOST_LEFT_OUT
        shown += f"; and {more} more" if more > 0 else ""
        out.print(f"[yellow]not run[/], to keep within the budget of database time: {shown}")


def _show_ladders(out: Console, plan: Plan) -> None:
    engine = plan.facts.server.engine
    table = make_table(
        "strategy",
        ">page",
        ">entries",
        ">sorted",
        ">bytes",
        f">{TRAITS[engine].unit}",
        ">ms",
        ">90 % interval",
        ">cold ms",
    )
    for candidate in plan.candidates:
        # All rows at once are the same at every page.
        rungs = candidate.ladder[:1] if candidate.strategy == "whole" else candidate.ladder
        for i, rung in enumerate(rungs):
            w = rung.work
            page = "all" if candidate.strategy == "whole" else f"{rung.page:,}"
            table.add_row(
                candidate.strategy if i == 0 else "",
                page,
                render_count(w.read),
                render_count(w.sorted_rows),
                render_bytes(w.bytes),
                render_count(counted_as(engine, w)),
                render_ms(rung.time.ms),
                _bounds(rung.time),
                render_ms(rung.cold_ms),
                end_section=i == len(rungs) - 1,
            )
    out.print(table)
    rates = plan.judgement.rates
    how = (
        "Times were calibrated on this server"
        if rates.calibrated
        else ("Times come from shipped rates, not calibrated on a server")
    )
    spent = f", in {plan.spent_ms:,.0f} ms of database time" if plan.spent_ms else ""
    out.print(f"[dim]Each page fetches one extra row to know whether more follow. {how}{spent}.[/]")


def _bounds(time: Time) -> str:
    return f"{render_ms(time.low)}–{render_ms(time.high)}"


def _show_depths(out: Console, plan: Plan) -> None:
    judged = plan.judgement
    for crossover in judged.crossovers:
        if crossover.offset is not None:
            out.print(
                f"From page {crossover.page:,} (row {crossover.offset:,.0f}) on, offset takes more "
                f"than {crossover.factor:g}× as long as keyset."
            )
    if judged.switch is not None:
        out.print(f"By offset the server takes another path from row {judged.switch:,.0f} on.")
    if judged.whole_up_to:
        out.print(
            f"Below about {judged.whole_up_to:,} rows, loading everything at once is no slower "
            "than paging."
        )
    if judged.count is not None and judged.count_time is not None:
        time = judged.count_time
        # SQLite counts by one instruction, which reads nothing row by row.
        walked = max(judged.count.read, judged.count.counted)
        once = plan.outline.counted_once
        whose = "The first page of a walk, and each jump," if once else "Each request"
        out.print(
            f"{whose} counts {render_many(round(walked), 'row')} for the {plan.outline.total} "
            f"total: {render_ms(time.ms)} ms (90 % interval {_bounds(time)})."
        )


def _show_variants(out: Console, plan: Plan) -> None:
    variants = plan.judgement.variants
    # One variant is the plan itself.
    if len(variants) < 2:
        return
    names = [candidate.strategy for candidate in plan.candidates]
    table = make_table("variant", ">share", ">rows", *(f">{name} ms" for name in names))
    for variant in variants:
        # Many variants in a narrow terminal: their orders alone tell them apart.
        title = ", ".join((variant.order, *variant.params[: 2 * (len(variants) < 9)]))
        table.add_row(
            title,
            f"{variant.share:.0%}",
            render_count(variant.rows),
            *(render_ms(variant.mean_ms[name]) for name in names),
        )
    out.print(table)


def _show_readers(out: Console, plan: Plan) -> None:
    judged = plan.judgement
    best = next(c for c in plan.candidates if c.strategy == plan.verdict.strategy)
    readers, burden = plan.given.readers, best.burden
    out.print(
        f"{plan.verdict.strategy} for {render_many(readers.users, 'reader')}, "
        f"{readers.pages_per_minute:g} pages per minute: {render_ms(burden.mean.ms)} ms per page, "
        f"{render_ms(burden.p95_ms)} ms at p95; keeps {100 * burden.busy:.2g} % of one connection "
        f"busy, holds {render_bytes(burden.memory_bytes)} in the application"
    )
    sizes = judged.sizes
    best_size = next(one for one in sizes.sizes if one.size == sizes.default)
    # The listing's own size may be none of those that were tried.
    near = min(sizes.sizes, key=lambda one: abs(one.size - judged.size))
    # Sizes are compared by the rows a reader sees in all: more a page means fewer waits.
    seen = readers.depth.mean * judged.size
    out.print(
        f"A visit of {seen:,.0f} rows waits {near.wait_ms / 1000:.2g} s in all with {near.size} "
        f"rows per page, {best_size.wait_ms / 1000:.2g} s with {best_size.size:,}. Allow at most "
        f"{sizes.most:,} rows per page."
    )


def _show_findings(out: Console, plan: Plan) -> None:
    # No heading over nothing.
    if not plan.findings:
        return
    out.print("[bold]findings[/]")
    for finding in plan.findings:
        colour = _KINDS[finding.kind]
        head = Text.assemble((f"{finding.code}", colour), f" ({finding.kind}) {finding.about}: ")
        out.print(Padding(Group(head + Text(finding.evidence), Text("→ " + finding.fix)), (0, 2)))


def _show_indexes(out: Console, plan: Plan) -> None:
    if not plan.indexes:
        return
    out.print("[bold]indexes[/]")
    for advice in plan.indexes:
        serves = "; ".join(advice.serves)
        told = (
            f"serves {serves}: a page {render_ms(advice.before_ms)} → "
            f"{render_ms(advice.after_ms)} ms; takes {render_bytes(advice.bytes)}, adds about "
            f"{render_mean(advice.insert_us)} µs to an insert (by {advice.judged})"
        )
        out.print(Padding(Group(Text(advice.sql), Text(told, style="dim")), (0, 2)))


def _show_verdict(out: Console, plan: Plan) -> None:
    verdict = plan.verdict
    second = ""
    if verdict.behind and verdict.behind >= _AHEAD:
        second = f", then {verdict.runner_up} at {verdict.behind:.2f}× the time"
    elif verdict.behind:
        second = f"; {verdict.runner_up} would take about as long"
    out.print(f"[bold]verdict: [green]{verdict.strategy}[/][/]{second}")
    for reason in (*verdict.reasons, *verdict.give_up):
        out.print(Padding("• " + reason, (0, 2)))
    for strategy, reasons in verdict.refused.items():
        out.print(Padding(f"not {strategy}: " + "; ".join(reasons), (0, 2)))
    outlook = plan.judgement.outlook
    if outlook is not None:
        best = next(c for c in plan.candidates if c.strategy == verdict.strategy)
        out.print(
            f"[bold]if you do as advised[/] ({'; '.join(outlook.done)}): {outlook.strategy}, "
            f"{render_ms(outlook.mean_ms)} ms per page and {render_ms(outlook.p95_ms)} at p95, "
            f"today {render_ms(best.mean_ms)} and {render_ms(best.burden.p95_ms)}; page 1 reads "
            f"{render_count(outlook.first)} entries, the last page {render_count(outlook.last)}"
        )


def _show_statements(out: Console, plan: Plan) -> None:
    out.print("[bold]statements[/]")
    for candidate in plan.candidates:
        # Each but the first is sent only where those before it left the page short.
        several = ", one after the other until the page is full" if len(candidate.sql) > 1 else ""
        out.print(Padding(candidate.strategy + several, (0, 2)))
        for statement in candidate.sql:
            out.print(Padding(Text(statement, style="dim"), (0, 4, 1, 4)))
