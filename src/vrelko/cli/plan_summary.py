"""A plan on one screen: what to do, why, what it costs, what to watch, what to run next."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from rich.text import Text

from vrelko.cli.tables import console, make_table
from vrelko.core.number_format import render_count, render_mean, render_ms

if TYPE_CHECKING:
    from rich.console import Console

    from vrelko.core.verdict import Candidate
    from vrelko.planning.plan import Plan

_MOST_REASONS = 3
_MOST_FINDINGS = 5
_SELDOM = 0.01  # per walk
_APART = 3.0  # times as long: variants that differ by more are named
_KINDS = {"unsound": "red", "slow": "yellow", "fragile": "cyan"}
_RANKS = ("unsound", "slow", "fragile")


def show_summary(plan: Plan, source: str = "PAGES", again: str = "") -> None:
    """Print a plan on one screen of 80 by 30.

    `source` and `again` stand in the commands to run next: where the listing is, and what was said
    of it there.
    """
    out = console()
    out.print()
    out.print(_verdict(plan))
    for line in list(_reasons(plan))[:_MOST_REASONS]:
        out.print(Text("  • " + line))
    out.print()
    _show_strategies(out, plan)
    _show_indexes(out, plan)
    _show_findings(out, plan)
    out.print()
    names = f"{source} {again or plan.listing}"
    out.print(f"[dim]Next: vrelko measure {names} · vrelko plan {names} --details[/]")


def _verdict(plan: Plan) -> Text:
    """Return the one line that says what to do, and what it saves."""
    judged, strategy = plan.judgement, plan.verdict.strategy
    best = _best(plan)
    todo = [f"serve it by {strategy}"]
    count = len(plan.indexes)
    outlook = judged.outlook
    if count:
        todo.append(f"create {count} index{'es' if count > 1 else ''}")
    if outlook is not None and "total counted once per walk" in outlook.done:
        todo.append("count its total once per walk")
    head = f"{plan.listing}: {', '.join(todo)}"
    now = f"{render_ms(best.mean_ms)} ms per page"
    if outlook is not None:
        saved = f"{render_ms(best.mean_ms)} → {render_ms(outlook.mean_ms)} ms per page"
        then = f" (then by {outlook.strategy})" if outlook.strategy != strategy else ""
        return Text.assemble((head, "bold"), f": {saved}{then}.")
    return Text.assemble((head, "bold"), f": {now}, {render_ms(best.burden.p95_ms)} at p95.")


def _reasons(plan: Plan) -> Iterator[str]:
    """Yield why, the most important first."""
    judged = plan.judgement
    costs = {one.order: one.mean_ms[plan.verdict.strategy] for one in judged.variants}
    if len(costs) > 1 and max(costs.values()) > _APART * max(min(costs.values()), 1e-3):
        slow, fast = max(costs, key=lambda one: costs[one]), min(costs, key=lambda one: costs[one])
        yield (
            f"Order {slow} takes {render_ms(costs[slow])} ms per page, "
            f"{fast} {render_ms(costs[fast])}."
        )
    steady = not _changes(plan)
    if steady:
        yield "No changes are described, so the table is taken as static."
    for reason in sorted(plan.verdict.reasons, key=lambda one: "repeats" not in one):
        if steady and "repeats" in reason:
            continue
        yield reason[:1].upper() + reason[1:] + "."


def _total(plan: Plan) -> str:
    """Return when the total is counted and what that takes, empty where it never is."""
    counted, time = plan.judgement.count, plan.judgement.count_time
    if counted is None or time is None or plan.verdict.strategy == "whole":
        return ""
    how = "once per walk and at each jump" if plan.outline.counted_once else "for each page"
    rows = render_count(max(counted.read, counted.counted))
    return (
        f" The {plan.outline.total} total is counted {how}: {rows} rows, {render_ms(time.ms)} ms."
    )


def _changes(plan: Plan) -> bool:
    stream = plan.stream
    return bool(stream.inserts or stream.deletes or stream.moves)


def _best(plan: Plan) -> Candidate:
    return next(one for one in plan.candidates if one.strategy == plan.verdict.strategy)


def _show_strategies(out: Console, plan: Plan) -> None:
    judged, changes = plan.judgement, _changes(plan)
    suffered = (">repeats", ">misses") if changes else ()
    table = make_table("strategy", ">page 1", ">usual", ">last page", *suffered, "meets the needs")
    best, fitting = plan.verdict.strategy, plan.verdict.fitting
    ranked = sorted(
        plan.candidates,
        key=lambda one: (one.strategy != best, one.strategy not in fitting, one.mean_ms),
    )
    for one in ranked:
        repeats, misses = _rare(one.drift.repeats), _rare(one.drift.misses)
        table.add_row(
            one.strategy,
            render_ms(one.ladder[0].time.ms),
            render_ms(one.mean_ms),
            render_ms(one.ladder[-1].time.ms),
            *((repeats, misses) if changes else ()),
            "yes" if one.strategy in plan.verdict.fitting else "no",
            style="bold" if one.strategy == plan.verdict.strategy else None,
        )
    out.print(table)
    given = ", ".join(f"{name} = {value}" for name, value in plan.params.items())
    said = (
        f"{render_count(judged.rows)} rows in {judged.pages:,} pages of {judged.size}"
        + (f", {given}" if given else "")
        + ". Times in ms."
    )
    said += _total(plan)
    if changes:
        said += " Repeats are rows seen twice per walk, misses rows never seen."
    if not judged.rates.calibrated:
        said += " They come from shipped rates, not calibrated on a server."
    if plan.left_out:
        said += f" {len(plan.left_out)} pages were too slow to run within the budget."
    out.print(Text(said, style="dim"))


def _rare(mean: float) -> str:
    """Return a mean per walk, no more exactly than anyone wants to know it."""
    return f"<{_SELDOM:g}" if 0 < mean < _SELDOM else render_mean(mean)


def _show_indexes(out: Console, plan: Plan) -> None:
    if plan.indexes:
        out.print()
    for advice in plan.indexes:
        saves = f"{render_ms(advice.before_ms)} → {render_ms(advice.after_ms)} ms per page"
        out.print(Text.assemble((advice.sql + ";", "bold"), f"  -- {saves}"), soft_wrap=True)


def _show_findings(out: Console, plan: Plan) -> None:
    shown = {advice.sql for advice in plan.indexes}
    found = [one for one in plan.findings if one.fix not in shown]
    found.sort(key=lambda one: _RANKS.index(one.kind))
    if found:
        out.print()
    for one in found[:_MOST_FINDINGS]:
        line = Text.assemble((f"{one.kind}: ", _KINDS[one.kind]), f"{one.about}: {one.evidence}")
        line.truncate(max(out.width - len(one.code) - 4, 40), overflow="ellipsis")
        line.append(f" [{one.code}]", style="dim")
        out.print(line, no_wrap=True, overflow="ellipsis")
    if len(found) > _MOST_FINDINGS:
        out.print(f"[dim]{len(found) - _MOST_FINDINGS} more findings with --details.[/]")
