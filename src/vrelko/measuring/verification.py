"""Verification: whether a server's plans were read right, by counting the pages they speak of.

The pages that calibration times are counted too, by the engine's own counters, and compared with
the work predicted for these very pages. A strategy whose pages do not agree is costed from the
counts. Everything runs under a budget of database time and a time limit a statement; what is
predicted to take longer is not run, and what was slow is not run again.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace

from sqlalchemy import Engine

from vrelko.core.cost.calibration import Timing, fit_rates
from vrelko.core.cost.checks import Check, Count, make_check
from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.rates import Clock, shipped_rates
from vrelko.engines.registry import database_errors
from vrelko.measuring.budget import BUDGET_MS, Spending
from vrelko.measuring.engines import run_limited, time_again
from vrelko.measuring.profiles import profile_use
from vrelko.measuring.trials import Bench
from vrelko.measuring.verified_pages import Case, Session, choose_cases, depth_in_time, make_cases
from vrelko.planning.plan import Plan

_QUICK_MS = 60.0  # a page that took longer is not run again for its time
_SLOW_MS = 200.0  # one that took longer is not run again for its count, unless it was misjudged
# so many times its prediction: a page that takes it was misread
_FAR_OFF = 4.0
_DEPTHS_MORE = (0.251, 0.011, 0.853, 0.457)  # of the rows, where what was predicted is not believed
_KEPT_BACK = 0.2  # of the budget, for running quick pages again
_ROUNDS = 5
_TURNING = ("offset", "keyset", "deferred-join", "far-end")


def verify(
    engine: Engine,
    plans: Sequence[Plan],
    budget_ms: float = BUDGET_MS,
    thorough: bool = False,
    spending: Spending | None = None,
) -> list[Plan]:
    """Return plans with their readings checked, and rates fitted to pages that were read right.

    Reads only. `budget_ms` of database time are spent in all, and no more than a quarter of it by
    one statement. Raises DatabaseError when the database refuses.
    """
    spending = spending or Spending(budget_ms)
    with database_errors("check"), spending.watch(engine), engine.connect() as connection:
        session = Session(connection, spending)
        plans = [
            replace(
                plan, uses=tuple(profile_use(connection, plan, use, spending) for use in plan.uses)
            )
            for plan in plans
        ]
        cases = list(choose_cases(session, plans, thorough))
        for case in cases:
            _run(session, case, plans)
        plans = _follow_taken(session, plans, cases)
        _predict_again(plans, cases)
        more = _more(session, plans, cases)
        plans = _follow_taken(session, plans, more)
        cases += more
        _time(session, cases)
    _predict_again(plans, cases)
    clock = Clock(shipped_rates(plans[0].facts.server.engine), plans[0].facts.server)
    name = plans[0].facts.server.engine
    timings = [
        Timing(case.trial.estimate, case.ms, case.trial.path)
        for case in cases
        if case.count is not None
        and not case.trial.unknown
        and case.count.agrees(name)
        and case.count.counted is not None
    ]
    # Only pages that read what was predicted say what a unit of work costs.
    rates = fit_rates(clock, timings)
    found = []
    for i, plan in enumerate(plans):
        uses = []
        for j, use in enumerate(plan.uses):
            mine = [case for case in cases if (case.plan, case.use) == (i, j) and case.count]
            # A count cut off by its limit is no total.
            totals = [c.rows for c in mine if c.name == "count" and c.count and not c.count.cut]
            told = totals[0] if totals else use.rows
            uses.append(replace(use, checks=tuple(_checks(mine, name)), rows=told))
        found.append(plan.verified(tuple(uses), rates, spending.spent_ms, tuple(session.left_out)))
    return found


def _follow_taken(session: Session, plans: Sequence[Plan], cases: Sequence[Case]) -> list[Plan]:
    """Return the plans with the access paths that pages took which read other than predicted.

    The server is asked about the very statements that were run: where two paths cost about the
    same it turns from one to the other at other rows than those that the plan found.
    """
    # Plans are values: each path that is learnt makes the next one, and cases keep their numbers.
    found = list(plans)
    engine = plans[0].facts.server.engine
    for case in cases:
        if case.count is None or case.count.agrees(engine) or case.name not in _TURNING:
            continue
        plan = found[case.plan]
        use = plan.uses[case.use]
        case.taken = Bench(session.connection, plan, use).taken(case.trial)
        if case.taken is None or use.routes is None or case.taken.signature == case.trial.path:
            continue
        # From here on the path that was taken stands for the pages around.
        routes = use.routes.told(case.name, case.reach, case.taken)
        uses = list(plan.uses)
        uses[case.use] = replace(use, routes=routes)
        found[case.plan] = replace(plan, uses=tuple(uses))
    return found


def _predict_again(plans: Sequence[Plan], cases: Sequence[Case]) -> None:
    """Predict pages by the rows that were counted, where the total was, and by paths as taken."""
    # A total that was cut off tells only that there are as many.
    told = {
        (case.plan, case.use): case.rows
        for case in cases
        if case.name == "count" and case.count and not case.count.cut
    }
    moved = {(case.plan, case.use) for case in cases if case.taken is not None}
    for case in cases:
        of = case.plan, case.use
        if case.count is None or case.name in ("count", "capped count"):
            continue
        # Nothing that the prediction rests on has changed.
        if of not in told and of not in moved:
            continue
        # A guess of more rows than there are sent it past the end, where no page is to be compared.
        if case.trial.offset > 0 and case.trial.offset >= told.get(of, math.inf):
            case.count = None
            continue
        plan = plans[case.plan]
        use = plan.uses[case.use]
        use = replace(use, rows=told.get(of, use.rows), checks=())
        model = use.model(plan.facts.table(use.outline.table), plan.facts.server)
        # A first page by groups is read as a keyset page is, whatever the listing's strategy.
        name = "keyset" if case.trial.grouped else case.name
        work = model.strategy(name, case.trial.offset, case.size)
        path = model.path_of(name, case.trial.offset, case.size)
        signature = path.signature if of in moved else case.trial.path
        case.trial = replace(case.trial, estimate=work, path=signature)
        predicted = counted_as(plan.facts.server.engine, work)
        case.count = replace(
            case.count,
            predicted=predicted,
            rows=work.rows,
            path=signature,
            scatter=work.timed_scatter,
        )


def _more(session: Session, plans: Sequence[Plan], cases: Sequence[Case]) -> list[Case]:
    """Run more pages of strategies that are not believed, at depths between, while time is left."""
    name = plans[0].facts.server.engine
    # By strategy, not by page: what was misread at one depth is misread around it.
    doubted: dict[tuple[int, int, str], int] = {}
    for case in cases:
        if (
            case.count
            and case.name in ("offset", "keyset", "deferred-join")
            and case.size
            and (case.trial.unknown or not case.count.agrees(name))
        ):
            doubted.setdefault((case.plan, case.use, case.name), case.size)
    found: list[Case] = []
    for share in _DEPTHS_MORE:
        for (i, j, strategy), size in doubted.items():
            # The rest of the budget is for times: counts without any would leave the rates as
            # shipped.
            if session.spending.left_ms < session.spending.budget_ms * _KEPT_BACK:
                return found
            bench = Bench(session.connection, plans[i], plans[i].uses[j])
            clock = Clock(shipped_rates(name), plans[i].facts.server)
            offset = depth_in_time(bench, clock, strategy, int(bench.model.matching * share), size)
            # The first page was run already.
            if offset:
                usual = plans[i].uses[j].outline.sizes.default
                for case in make_cases(session, bench, strategy, offset, usual, (i, j)):
                    _run(session, case, plans)
                    found.append(case)
    return found


def _run(session: Session, case: Case, plans: Sequence[Plan]) -> None:
    facts = plans[case.plan].facts
    clock = Clock(shipped_rates(facts.server.engine), facts.server)
    most_ms = session.spending.one_ms
    # Said rather than skipped in silence: what was not run is estimated alone.
    if most_ms <= 0:
        session.left_out.append(f"{case.name} behind row {case.trial.offset:,}: budget spent")
        return
    predicted = counted_as(clock.rates.engine, case.trial.estimate)
    # By the rates as shipped: those of this database are only fitted afterwards.
    expected_ms = clock.ms(case.trial.estimate)
    # Nothing is run that is predicted to outlast its limit: it would tell a bound, and cost
    # the limit.
    if expected_ms > most_ms and not case.trial.unknown:
        session.left_out.append(f"{case.name} behind row {case.trial.offset:,}: budget spent")
        return
    run = run_limited(
        session.connection, case.trial, most_ms, session.spending, _SLOW_MS, _FAR_OFF * expected_ms
    )
    if (
        run.cut and run.ms < _FAR_OFF * expected_ms and not case.trial.unknown
    ):  # too little was left to tell anything
        session.left_out.append(f"{case.name} behind row {case.trial.offset:,}: budget spent")
        return
    case.ms, case.rows = run.ms, run.rows
    counted = run.counted
    # A statement cut off had read so much at least, and would have read more.
    if run.cut and counted is not None:  # both are lower bounds then
        counted = max(counted, predicted)
    trial = case.trial
    if trial.offset > 0 and not run.rows and not run.cut:  # beyond the end: there are fewer rows
        return
    case.count = Count(
        offset=trial.offset,
        size=case.size,
        predicted=predicted,
        counted=counted,
        ms=run.ms,
        rows=trial.estimate.rows,
        passing=trial.passing,
        cut=run.cut,
        path=trial.path,
        scatter=trial.estimate.timed_scatter,
    )


def _time(session: Session, cases: Sequence[Case]) -> None:
    """Run what was quick again, in interleaved rounds, and keep each page's fastest time."""
    # Rounds over all pages, not a page five times: a slow moment of the machine then hits all
    # alike.
    for _ in range(_ROUNDS):
        for case in cases:
            # What was slow once is not asked of a production server again.
            if case.count is None or case.count.cut or case.ms > _QUICK_MS:
                continue
            if session.spending.left_ms <= 0:
                break
            case.ms = min(case.ms, time_again(session.connection, case.trial, session.spending))
    for case in cases:
        if case.count is not None:
            case.count = replace(case.count, ms=case.ms)


def _checks(cases: Sequence[Case], engine: str) -> Iterator[Check]:
    """Yield the check of each strategy that was run."""
    by_name: dict[str, list[Count]] = {}
    nodes: dict[str, str] = {}
    for case in cases:
        if case.count is None:
            continue
        names = [case.name]
        if case.name == "offset" and case.trial.offset == 0:  # that of every strategy
            names = ["first"] if case.trial.grouped else ["offset", "first"]
        elif case.name in ("keyset", "deferred-join") and case.trial.offset == 0:
            names = ["first"]
        for name in names:
            by_name.setdefault(name, []).append(case.count)
            nodes[name] = nodes.get(name) or case.trial.unknown
    # One check a strategy, whatever number of its pages was counted: it is believed or not as a
    # whole.
    for name, counts in by_name.items():
        yield make_check(name, counts, nodes.get(name, ""), engine)
