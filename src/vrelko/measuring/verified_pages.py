"""Which pages a plan's verification runs: of each variant some near its start, some deep.

What is predicted to take long is run less deep, or said to be left out.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import zip_longest

from sqlalchemy import Connection

from vrelko.core.access_path import AccessPath
from vrelko.core.cost.checks import Count
from vrelko.core.cost.rates import Clock, shipped_rates
from vrelko.errors import PageError, VrelkoError
from vrelko.measuring.budget import Spending
from vrelko.measuring.trials import Bench, Trial
from vrelko.planning.plan import Plan

# No round share: a page must not happen to begin where an index block or a group of rows does.
DEPTH_SHARE, MOST_DEPTH = 0.0517, 20_000
"""The offset of one deep page that is run: a twentieth of the rows, at most so many."""

_MOST_MS = 250.0  # a page predicted to take longer is asked less deep
_EARLY = 0.05  # of the budget, that a total may take to be counted before all else
# rows: to read more at once would be a load of its own on a production server
_MOST_WHOLE = 5_000.0


@dataclass
class Case:
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
class Session:
    """What a verification runs on, spends, and had to leave out."""

    connection: Connection
    spending: Spending
    left_out: list[str] = field(default_factory=list)


def choose_cases(session: Session, plans: Sequence[Plan], thorough: bool) -> Iterator[Case]:
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
            # Each plan's usual variant first: where the budget ends, every listing
            # has been looked at.
            if j == 0:
                yield from _usual(session, bench, clock, (i, j), thorough)
    for (i, j), bench in benches.items():
        clock = Clock(shipped_rates(engine), plans[i].facts.server)
        if j:
            yield from _others(session, bench, clock, (i, j))


def _usual(
    session: Session, bench: Bench, clock: Clock, of: tuple[int, int], thorough: bool
) -> Iterator[Case]:
    size, rows = bench.use.outline.sizes.default, bench.model.matching
    last = max(int(rows) - size, 0)
    total = bench.total(None)
    early = clock.ms(total.estimate) < session.spending.budget_ms * _EARLY and not total.unknown
    # (A guess of rows that is far off would send every deep page to the wrong place.)
    if early:  # all else is told by how many rows there are
        yield Case(*of, total.strategy, total, 0)
    seen: set[tuple[str, int, int]] = set()
    for strategy, offset, many in _usual_pages(bench, thorough):
        reached = depth_in_time(bench, clock, strategy, offset, many)
        if reached is None:
            session.left_out.append(f"{bench.plan.listing}: {strategy} near row {offset:,}")
        elif (strategy, reached, many) not in seen:
            seen.add((strategy, reached, many))
            yield from make_cases(session, bench, strategy, reached, many, of)
    for strategy, offset, many in _turned(bench, last, size):
        # These are not moved nearer to the start: there another path is taken.
        ms = clock.ms(bench.model.strategy(strategy, offset, many))
        if ms > session.spending.one_ms:
            session.left_out.append(f"{bench.plan.listing}: {strategy} near row {offset:,}")
        elif (strategy, offset, many) not in seen:
            yield from make_cases(session, bench, strategy, offset, many, of)
    caps: set[int | None] = {None, bench.use.outline.cap} if thorough else {None}
    if bench.use.outline.total == "capped":
        caps.add(bench.use.outline.cap)
    # The whole count first, as None sorts as 0: the capped one is part of it.
    for cap in sorted(caps, key=lambda one: one or 0):
        # It was counted ahead of all pages.
        if cap is None and early:
            continue
        trial = bench.total(cap)
        if clock.ms(trial.estimate) < _MOST_MS or trial.unknown:
            yield Case(*of, trial.strategy, trial, 0)
        else:
            session.left_out.append(f"{bench.plan.listing}: {trial.strategy}")
    if rows <= _MOST_WHOLE:
        yield Case(*of, "whole", bench.page("whole", 0, size), 0)


def _usual_pages(bench: Bench, thorough: bool) -> list[tuple[str, int, int]]:
    """Return strategy, offset and size of the pages to run, those that tell most first."""
    size, rows = bench.use.outline.sizes.default, bench.model.matching
    deep = int(min(rows * DEPTH_SHARE, MOST_DEPTH))
    last = max(int(rows) - size, 0)
    # Odd shares, so that no page falls on a bound of groups or a multiple of the page size.
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
    return wanted


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
            # The geometric middle: paths turn at 100 and at 100,000 rows, and cost grows by
            # factors.
            amid = int(math.sqrt(max(turn.row, 1.0) * max(end, turn.row)))
            yield name, min(amid, last), size


def _others(session: Session, bench: Bench, clock: Clock, of: tuple[int, int]) -> Iterator[Case]:
    size, rows = bench.use.outline.sizes.default, bench.model.matching
    deep = int(min(rows * DEPTH_SHARE, MOST_DEPTH))
    for strategy, offset in (("offset", 0), ("keyset", deep), ("offset", deep // 8)):
        one = depth_in_time(bench, clock, strategy, offset, size)
        if one is not None:
            yield from make_cases(session, bench, strategy, one, size, of)


def make_cases(
    session: Session, bench: Bench, strategy: str, offset: int, size: int, of: tuple[int, int]
) -> Iterator[Case]:
    """Yield a page to run; none where the key that it begins behind cannot be had in time."""
    if session.spending.one_ms <= 0:
        return
    try:
        trial = bench.page(strategy, offset, size, session.spending.one_ms)
    except VrelkoError:
        # PostgreSQL refuses all further statements of a transaction in which one failed.
        session.connection.rollback()
        session.left_out.append(f"{bench.plan.listing}: {strategy} behind row {offset:,}")
        return
    yield Case(*of, strategy, trial, size)


def depth_in_time(bench: Bench, clock: Clock, strategy: str, offset: int, size: int) -> int | None:
    """Return an offset no deeper than the time allows, None where even the first takes longer."""
    if bench.path(strategy, offset, size).unknown:  # its prediction says nothing; the limit holds
        return offset
    while clock.ms(bench.model.strategy(strategy, offset, size)) > _MOST_MS:
        # Even near the start it is too slow: the strategy is left out.
        if offset < 100:
            return None
        # By thirds, so that ten million rows come down to a hundred within a dozen steps.
        offset //= 3
    return offset
