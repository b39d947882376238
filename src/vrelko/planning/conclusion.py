"""What a plan concludes, in the words that a command and a report begin with."""

from __future__ import annotations

from collections.abc import Iterator

from vrelko.core.number_format import render_ms
from vrelko.core.verdict import Candidate
from vrelko.planning.plan import Plan

_APART = 3.0  # times as long: variants that differ by more are named


def conclude(plan: Plan) -> tuple[str, str]:
    """Return what to do with a listing, and what that saves or costs."""
    judged, strategy = plan.judgement, plan.verdict.strategy
    best = best_candidate(plan)
    todo = [f"serve it by {strategy}"]
    count = len(plan.indexes)
    outlook = judged.outlook
    # In the order in which somebody would do it.
    if count:
        todo.append(f"create {count} index{'es' if count > 1 else ''}")
    if outlook is not None and "total counted once per walk" in outlook.done:
        todo.append("count its total once per walk")
    if outlook is not None and "jumps by counted anchors" in outlook.done:
        todo.append("jump by counted anchors")
    head = f"{plan.listing}: {', '.join(todo)}"
    if outlook is None:
        now = f"{render_ms(best.mean_ms)} ms per page, {render_ms(best.burden.p95_ms)} at p95."
        return head, now
    then = f" (then by {outlook.strategy})" if outlook.strategy != strategy else ""
    return head, f"{render_ms(best.mean_ms)} → {render_ms(outlook.mean_ms)} ms per page{then}."


def reasons_of(plan: Plan) -> Iterator[str]:
    """Yield why, the most important first."""
    judged = plan.judgement
    costs = {one.order: one.mean_ms[plan.verdict.strategy] for one in judged.variants}
    if len(costs) > 1 and max(costs.values()) > _APART * max(min(costs.values()), 1e-3):
        # The two ends say more than a list: readers of one order pay for it.
        slow, fast = max(costs, key=lambda one: costs[one]), min(costs, key=lambda one: costs[one])
        yield (
            f"Order {slow} takes {render_ms(costs[slow])} ms per page, "
            f"{fast} {render_ms(costs[fast])}."
        )
    steady = not has_changes(plan)
    if steady:
        yield "No changes are described, so the table is taken as static."
    for reason in sorted(plan.verdict.reasons, key=lambda one: "repeats" not in one):
        if steady and "repeats" in reason:
            continue
        yield reason[:1].upper() + reason[1:] + "."


def has_changes(plan: Plan) -> bool:
    """Tell whether rows come, go or move as the listing's writers are described."""
    stream = plan.stream
    return bool(stream.inserts or stream.deletes or stream.moves)


def best_candidate(plan: Plan) -> Candidate:
    """Return the candidate of the strategy to take."""
    return next(one for one in plan.candidates if one.strategy == plan.verdict.strategy)
