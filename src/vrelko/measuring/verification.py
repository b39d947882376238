"""Verification: whether a server's plans were read right, by counting the pages they speak of.

The pages that calibration times are counted too, by the engine's own counters, and compared with
the work predicted for these very pages. A strategy whose pages do not agree is costed from the
counts. Everything runs under a budget of database time and a time limit a statement; what is
predicted to take longer is not run, and what was slow is not run again.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import zip_longest

from sqlalchemy import Connection, Engine

from vrelko.core.access_path import AccessPath
from vrelko.core.cost.calibration import Timing, fit_rates
from vrelko.core.cost.checks import Check, Count, make_check
from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.rates import Clock, shipped_rates
from vrelko.engines.registry import database_errors
from vrelko.errors import PageError, VrelkoError
from vrelko.measuring.budget import BUDGET_MS, Spending
from vrelko.measuring.profiles import profile_use
from vrelko.measuring.trials import Bench, Trial, run_limited, time_again
from vrelko.planning.plan import Plan

DEPTH_SHARE, MOST_DEPTH = 0.0517, 20_000
"""The offset of one deep page that is run: a twentieth of the rows, at most so many."""

_MOST_MS = 250.0  # a page predicted to take longer is asked less deep
_QUICK_MS = 60.0  # a page that took longer is not run again for its time
_SLOW_MS = 200.0  # one that took longer is not run again for its count, unless it was misjudged
_FAR_OFF = 4.0
_DEPTHS_MORE = (0.251, 0.011, 0.853, 0.457)  # of the rows, where what was predicted is not believed
_KEPT_BACK = 0.2  # of the budget, for running quick pages again
_EARLY = 0.05  # of the budget, that a total may take to be counted before all else
_ROUNDS = 5
_TURNING = ("offset", "keyset", "deferred-join", "far-end")
_MOST_WHOLE = 5_000.0


@dataclass
class _Case:
    """One page to run, of one plan's variant."""

    plan: int
    use: int
    name: str
    trial: Trial
    size: int
    ms: float = 0.0
    rows: float = 0.0
    count: Count | None = None
    taken: AccessPath | None = None

    @property
    def reach(self) -> float:
        """What its access path is told by: offset and size, behind a key the rows ahead."""
        return self.trial.offset + (0 if self.name == "keyset" else self.size)


@dataclass
class _Session:
    connection: Connection
    spending: Spending
    left_out: list[str] = field(default_factory=list)


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
        session = _Session(connection, spending)
        plans = [
            replace(
                plan, uses=tuple(profile_use(connection, plan, use, spending) for use in plan.uses)
            )
            for plan in plans
        ]
        cases = list(_cases(session, plans, thorough))
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
    rates = fit_rates(clock, timings)
    found = []
    for i, plan in enumerate(plans):
        uses = []
        for j, use in enumerate(plan.uses):
            mine = [case for case in cases if (case.plan, case.use) == (i, j) and case.count]
            totals = [c.rows for c in mine if c.name == "count" and c.count and not c.count.cut]
            told = totals[0] if totals else use.rows
            uses.append(replace(use, checks=tuple(_checks(mine, name)), rows=told))
        found.append(plan.verified(tuple(uses), rates, spending.spent_ms, tuple(session.left_out)))
    return found


def _cases(session: _Session, plans: Sequence[Plan], thorough: bool) -> Iterator[_Case]:
    """Yield the pages to run, those of each plan's usual variant before those of others."""
    engine = plans[0].facts.server.engine
    benches: dict[tuple[int, int], Bench] = {}
    for i, plan in enumerate(plans):
        clock = Clock(shipped_rates(engine), plan.facts.server)
        for j, use in enumerate(plan.uses):
            try:
                bench = Bench(session.connection, plan, use)
                plan.served.check_params(use.outline.params)
            except PageError:  # a parameter without a value
                continue
            benches[i, j] = bench
            if j == 0:
                yield from _usual(session, bench, clock, (i, j), thorough)
    for (i, j), bench in benches.items():
        clock = Clock(shipped_rates(engine), plans[i].facts.server)
        if j:
            yield from _others(session, bench, clock, (i, j))


def _usual(
    session: _Session, bench: Bench, clock: Clock, of: tuple[int, int], thorough: bool
) -> Iterator[_Case]:
    size, rows = bench.use.outline.sizes.default, bench.model.matching
    deep = int(min(rows * DEPTH_SHARE, MOST_DEPTH))
    last = max(int(rows) - size, 0)
    total = bench.total(None)
    early = clock.ms(total.estimate) < session.spending.budget_ms * _EARLY and not total.unknown
    if early:  # all else is told by how many rows there are
        yield _Case(*of, total.strategy, total, 0)
    wanted = [
        ("offset", 0, size),
        ("keyset", deep, size),
        ("offset", deep, size),
        ("deferred-join", deep, size),
        ("keyset", int(rows * 0.617), size),
        ("offset", min(int(rows * 0.713), last), size),
        ("deferred-join", min(int(rows * 0.713), last), size),
        ("keyset", int(rows * 0.043), 10),
        ("keyset", min(int(rows * 0.985), last), size),
        ("offset", 0, 500),
    ]
    if thorough:
        wanted += [
            ("keyset", deep, 500),
            ("offset", deep // 3, 100),
            ("keyset", deep // 8, size),
            ("offset", int(min(rows * 0.3, 10 * MOST_DEPTH)), size),
            ("keyset", int(rows * 0.9), size),
            ("deferred-join", deep // 4, 500),
        ]
    if bench.use.outline.kind == "grid":
        wanted += [("far-end", int(rows * 0.163), size)]
    seen: set[tuple[str, int, int]] = set()
    for strategy, offset, many in wanted:
        reached = _within(bench, clock, strategy, offset, many)
        if reached is None:
            session.left_out.append(f"{bench.plan.listing}: {strategy} near row {offset:,}")
        elif (strategy, reached, many) not in seen:
            seen.add((strategy, reached, many))
            yield from _case(session, bench, strategy, reached, many, of)
    for strategy, offset, many in _turned(bench, last, size):
        ms = clock.ms(bench.model.strategy(strategy, offset, many))
        if ms > session.spending.one_ms:
            session.left_out.append(f"{bench.plan.listing}: {strategy} near row {offset:,}")
        elif (strategy, offset, many) not in seen:
            yield from _case(session, bench, strategy, offset, many, of)
    caps: set[int | None] = {None, bench.use.outline.cap} if thorough else {None}
    if bench.use.outline.total == "capped":
        caps.add(bench.use.outline.cap)
    for cap in sorted(caps, key=lambda one: one or 0):
        if cap is None and early:
            continue
        trial = bench.total(cap)
        if clock.ms(trial.estimate) < _MOST_MS or trial.unknown:
            yield _Case(*of, trial.strategy, trial, 0)
        else:
            session.left_out.append(f"{bench.plan.listing}: {trial.strategy}")
    if rows <= _MOST_WHOLE:
        yield _Case(*of, "whole", bench.page("whole", 0, size), 0)


def _turned(bench: Bench, last: int, size: int) -> Iterator[tuple[str, int, int]]:
    """Yield a page amid the rows of each path that a server turns to."""
    routes = bench.model.routes
    for name, turns in (
        ("offset", routes.deep),
        ("keyset", routes.seek_deep),
        ("deferred-join", routes.keys_deep),
    ):
        for turn, after in zip_longest(turns, turns[1:]):
            end = last if after is None else after.row - size
            amid = int(math.sqrt(max(turn.row, 1.0) * max(end, turn.row)))
            yield name, min(amid, last), size


def _others(session: _Session, bench: Bench, clock: Clock, of: tuple[int, int]) -> Iterator[_Case]:
    size, rows = bench.use.outline.sizes.default, bench.model.matching
    deep = int(min(rows * DEPTH_SHARE, MOST_DEPTH))
    for strategy, offset in (("offset", 0), ("keyset", deep), ("offset", deep // 8)):
        one = _within(bench, clock, strategy, offset, size)
        if one is not None:
            yield from _case(session, bench, strategy, one, size, of)


def _case(
    session: _Session, bench: Bench, strategy: str, offset: int, size: int, of: tuple[int, int]
) -> Iterator[_Case]:
    """Yield a page to run; none where the key that it begins behind cannot be had in time."""
    if session.spending.one_ms <= 0:
        return
    try:
        trial = bench.page(strategy, offset, size, session.spending.one_ms)
    except VrelkoError:
        session.connection.rollback()
        session.left_out.append(f"{bench.plan.listing}: {strategy} behind row {offset:,}")
        return
    yield _Case(*of, strategy, trial, size)


def _within(bench: Bench, clock: Clock, strategy: str, offset: int, size: int) -> int | None:
    """Return an offset no deeper than the time allows, None where even the first takes longer."""
    if bench.path(strategy, offset, size).unknown:  # its prediction says nothing; the limit holds
        return offset
    while clock.ms(bench.model.strategy(strategy, offset, size)) > _MOST_MS:
        if offset < 100:
            return None
        offset //= 3
    return offset


def _follow_taken(session: _Session, plans: Sequence[Plan], cases: Sequence[_Case]) -> list[Plan]:
    """Return the plans with the access paths that pages took which read other than predicted.

    The server is asked about the very statements that were run: where two paths cost about the
    same it turns from one to the other at other rows than those that the plan found.
    """
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
        routes = use.routes.told(case.name, case.reach, case.taken)
        uses = list(plan.uses)
        uses[case.use] = replace(use, routes=routes)
        found[case.plan] = replace(plan, uses=tuple(uses))
    return found


def _predict_again(plans: Sequence[Plan], cases: Sequence[_Case]) -> None:
    """Predict pages by the rows that were counted, where the total was, and by paths as taken."""
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
        if of not in told and of not in moved:
            continue
        plan = plans[case.plan]
        use = plan.uses[case.use]
        use = replace(use, rows=told.get(of, use.rows), checks=())
        model = use.model(plan.facts.table(use.outline.table), plan.facts.server)
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


def _more(session: _Session, plans: Sequence[Plan], cases: Sequence[_Case]) -> list[_Case]:
    """Run more pages of strategies that are not believed, at depths between, while time is left."""
    name = plans[0].facts.server.engine
    doubted: dict[tuple[int, int, str], int] = {}
    for case in cases:
        if (
            case.count
            and case.name in ("offset", "keyset", "deferred-join")
            and case.size
            and (case.trial.unknown or not case.count.agrees(name))
        ):
            doubted.setdefault((case.plan, case.use, case.name), case.size)
    found: list[_Case] = []
    for share in _DEPTHS_MORE:
        for (i, j, strategy), size in doubted.items():
            if session.spending.left_ms < session.spending.budget_ms * _KEPT_BACK:
                return found
            bench = Bench(session.connection, plans[i], plans[i].uses[j])
            clock = Clock(shipped_rates(name), plans[i].facts.server)
            offset = _within(bench, clock, strategy, int(bench.model.matching * share), size)
            if offset:
                usual = plans[i].uses[j].outline.sizes.default
                for case in _case(session, bench, strategy, offset, usual, (i, j)):
                    _run(session, case, plans)
                    found.append(case)
    return found


def _run(session: _Session, case: _Case, plans: Sequence[Plan]) -> None:
    facts = plans[case.plan].facts
    clock = Clock(shipped_rates(facts.server.engine), facts.server)
    most_ms = session.spending.one_ms
    if most_ms <= 0:
        session.left_out.append(f"{case.name} behind row {case.trial.offset:,}: budget spent")
        return
    predicted = counted_as(clock.rates.engine, case.trial.estimate)
    expected_ms = clock.ms(case.trial.estimate)
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


def _time(session: _Session, cases: Sequence[_Case]) -> None:
    """Run what was quick again, in interleaved rounds, and keep each page's fastest time."""
    for _ in range(_ROUNDS):
        for case in cases:
            if case.count is None or case.count.cut or case.ms > _QUICK_MS:
                continue
            if session.spending.left_ms <= 0:
                break
            case.ms = min(case.ms, time_again(session.connection, case.trial, session.spending))
    for case in cases:
        if case.count is not None:
            case.count = replace(case.count, ms=case.ms)


def _checks(cases: Sequence[_Case], engine: str) -> Iterator[Check]:
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
    for name, counts in by_name.items():
        yield make_check(name, counts, nodes.get(name, ""), engine)
