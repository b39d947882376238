"""A plan on one screen: what to do, why, what it costs, what to watch, what to run next."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from vrelko.cli.tables import console, make_table
from vrelko.core.number_format import render_many, render_ms, render_rare
from vrelko.planning.conclusion import conclude, has_changes, reasons_of

if TYPE_CHECKING:
    from rich.console import Console

    from vrelko.planning.plan import Plan

_MOST_REASONS = 3
_MOST_FINDINGS = 5
_KINDS = {"unsound": "red", "slow": "yellow", "fragile": "cyan"}
_RANKS = ("unsound", "slow", "fragile")


def show_summary(plan: Plan, source: str = "PAGES", again: str = "") -> None:
    """Print a plan on one screen of 80 by 30.

    `source` and `again` stand in the commands to run next: where the listing is, and what was said
    of it there.
    """
    out = console()
    out.print()
    head, saved = conclude(plan)
    out.print(Text.assemble((head, "bold"), f": {saved}"))
    # One screen: who wants all asks for --details.
    for line in list(reasons_of(plan))[:_MOST_REASONS]:
        out.print(Text("  • " + line))
    out.print()
    _show_strategies(out, plan)
    _show_indexes(out, plan)
    _show_findings(out, plan)
    out.print()
    names = f"{source} {again or plan.listing}"
    out.print(f"[dim]Next: vrelko measure {names} · vrelko plan {names} --details[/]")


def _total(plan: Plan) -> str:
    """Return when the total is counted and what that takes, empty where it never is."""
    counted, time = plan.judgement.count, plan.judgement.count_time
    if counted is None or time is None or plan.verdict.strategy == "whole":
        return ""
    how = "once per walk and at each jump" if plan.outline.counted_once else "for each page"
    rows = render_many(round(max(counted.read, counted.counted)), "row")
    return f" The {plan.outline.total} total is counted {how}: {rows}, {render_ms(time.ms)} ms."


def _show_strategies(out: Console, plan: Plan) -> None:
    judged, changes = plan.judgement, has_changes(plan)
    suffered = (">repeats", ">misses") if changes else ()
    table = make_table("strategy", ">page 1", ">usual", ">last page", *suffered, "meets the needs")
    best, fitting = plan.verdict.strategy, plan.verdict.fitting
    # The advice first, then what would do as well, then the rest.
    ranked = sorted(
        plan.candidates,
        key=lambda one: (one.strategy != best, one.strategy not in fitting, one.mean_ms),
    )
    for one in ranked:
        repeats, misses = render_rare(one.drift.repeats), render_rare(one.drift.misses)
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
        f"{render_many(judged.rows, 'row')} in {render_many(judged.pages, 'page')} of {judged.size}"
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


def _show_indexes(out: Console, plan: Plan) -> None:
    if plan.indexes:
        out.print()
    for advice in plan.indexes:
        saves = f"{render_ms(advice.before_ms)} → {render_ms(advice.after_ms)} ms per page"
        out.print(Text.assemble((advice.sql + ";", "bold"), f"  -- {saves}"), soft_wrap=True)


def _show_findings(out: Console, plan: Plan) -> None:
    # An index that is printed as such need not be repeated as a fix.
    shown = {advice.sql for advice in plan.indexes}
    found = [one for one in plan.findings if one.fix not in shown]
    # What makes pages wrong before what makes them slow; within a kind as they were found.
    found.sort(key=lambda one: _RANKS.index(one.kind))
    if found:
        out.print()
    for one in found[:_MOST_FINDINGS]:
        line = Text.assemble((f"{one.kind}: ", _KINDS[one.kind]), f"{one.about}: {one.evidence}")
        # The code stays readable: it is what `vrelko about` takes.
        line.truncate(max(out.width - len(one.code) - 4, 40), overflow="ellipsis")
        line.append(f" [{one.code}]", style="dim")
        out.print(line, no_wrap=True, overflow="ellipsis")
    if len(found) > _MOST_FINDINGS:
        out.print(f"[dim]{len(found) - _MOST_FINDINGS} more findings with --details.[/]")
