"""Where a server turns to another path, pages told from counts, turns taken: without a database."""

import asyncio
import math
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

import vrelko
from test_findings import facts, listing
from vrelko.core.access_path import AccessPath, ExplainedPath
from vrelko.core.cost.checks import Count, make_check
from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.groups import Groups, Spread, blocks_between, heap_blocks, scattered_share
from vrelko.core.cost.routes import Routes
from vrelko.core.cost.turns import Turn, path_at, turn_seen, turned, unsure_at
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.errors import UnavailableError
from vrelko.planning.access_paths import find_turns
from vrelko.web.turns import Turns

PATHS = [ExplainedPath("index", f"i{n}", False) for n in range(4)]


@given(
    st.lists(st.floats(0.0005, 0.99), max_size=3, unique=True).map(sorted),
    st.integers(1_000, 10**8),
)
def test_turns_are_found_wherever_they_are(shares, rows):
    """Each path that holds between two places asked about is found, its row to one per cent."""
    at = [share * rows for share in shares]
    kept = [one for i, one in enumerate(at) if i == 0 or one > 1.1 * at[i - 1]]

    def ask(row):
        return PATHS[sum(row >= turn for turn in kept)]

    found = find_turns(ask, ask(1.0), 1.0, float(rows))
    assert [seen for _, seen in found] == [ask(row) for row, _ in found]
    assert found == tuple(sorted(found, key=lambda one: one[0]))
    assert len(found) == len([one for one in kept if one > 1])
    for (row, _), turn in zip(found, [one for one in kept if one > 1], strict=True):
        assert turn <= row * 1.0001
        assert row <= turn * 1.011 + 1


def test_paths_that_come_back_are_told_too():
    def ask(row):
        return PATHS[0] if row < 50 or 6_000 <= row < 100_000 else PATHS[1]

    found = find_turns(ask, ask(1.0), 1.0, 200_000.0)
    assert [seen for _, seen in found] == [PATHS[1], PATHS[0], PATHS[1]]


@given(
    st.floats(10, 1e5),
    st.floats(1, 4),
    st.lists(st.tuples(st.floats(0, 1), st.booleans()), max_size=12),
    st.floats(0, 1),
)
def test_turns_follow_the_pages_that_were_seen(low, times, seen, place):
    """A server that takes one path up to a row, another from a later one, and either between."""
    high = low * times
    near = AccessPath(
        kind="ordered", index=None, fixed=(), share=1.0, residual=(), passing=1.0, covering=False
    )
    far = replace(near, kind="sorted", scan="table")
    turns = (Turn(low + place * (high - low), far),)
    for share, upper in seen:
        row = low / 2 + share * (2 * high - low / 2)
        taken = near if row < low else far if row >= high else (near, far)[upper]
        turns = turn_seen(near, turns, row, taken)
        assert path_at(near, turns, row) == taken
    assert len(turns) == 1
    for row in (0.0, low * 0.99, high * 1.01 + 2, 10 * high + 10):
        assert path_at(near, turns, row) == (near if row < low else far)
        assert not unsure_at(turns, row)
    (turn,) = turns
    if turn.unsure:
        begin, end = turn.unsure
        assert unsure_at(turns, (begin + end) / 2)
        for row in (begin, end):  # the other path is taken there, once it is turned
            assert path_at(near, turned(turns, row), row) != path_at(near, turns, row)


def test_a_path_that_leads_nowhere_else_is_taken_at_its_row_alone():
    near = AccessPath(
        kind="ordered", index=None, fixed=(), share=1.0, residual=(), passing=1.0, covering=False
    )
    other = replace(near, kind="sorted", scan="table")
    turns = turn_seen(near, (), 400.0, other)
    assert [path_at(near, turns, row) for row in (399.0, 400.0, 402.0)] == [near, other, near]
    assert unsure_at(turns, 300.0)
    assert not unsure_at(turns, 10.0)
    assert turn_seen(near, turns, 400.0, other) == turns
    assert turn_seen(near, (), 0.0, other) == ()


def test_counts_of_each_path_hold_where_a_server_turns():
    """Both paths may be taken there; what was counted of each is known, whichever it is."""
    plan = vrelko.plan(listing(), facts())
    (use,) = plan.uses
    model = use.model(plan.facts.table("visit"), plan.facts.server)
    near = model.routes.page
    far = replace(near, kind="sorted", scan="table")
    routes = replace(model.routes, deep=(Turn(5_000, far, unsure=(4_000, 6_000)),))
    turning = replace(model, routes=routes)

    def counted(checks, at=5_000):
        read = replace(turning, checks=checks).offset(at, 25)
        return counted_as(plan.facts.server.engine, read)

    plain = counted({})
    counts = [
        Count(at, 25, predicted=plain, counted=plain / 50, ms=1.0, rows=25, path=path.signature)
        for at, path in ((1_000, near), (4_500, near), (5_500, far), (9_000, far))
    ]
    check = make_check("offset", counts, "", plan.facts.server.engine)
    assert counted({"offset": check}) < plain / 4
    assert not replace(turning, checks={"offset": check}).believes("offset", 5_000, 25)


def test_an_index_is_left_where_it_is_no_longer_walked():
    """Not where only workers or a sort within groups come in."""
    index = IndexFacts("by_lead", (IndexColumn("lead"),))
    near = AccessPath(
        kind="ordered", index=index, fixed=(), share=1.0, residual=(), passing=1.0, covering=False
    )
    grouped, sort = replace(near, kind="grouped"), replace(near, kind="sorted", index=None)
    routes = Routes(near, near, near, near, (Turn(40, grouped), Turn(900, sort)))
    assert (routes.switch, routes.leaves) == (40, 900)
    assert replace(routes, deep=routes.deep[:1]).leaves is None
    assert Routes(sort, sort, sort, sort, (Turn(40, near),)).leaves is None


@given(
    st.lists(st.floats(0.01, 0.3), max_size=3),
    st.floats(0.0005, 0.02),
    st.floats(0, 1),
    st.floats(0, 1),
)
def test_blocks_of_groups_are_those_of_each_group(shares, mean, one, other):
    """Against walking group after group: common ones where they stand, equal ones between."""
    known, begin = [], 0.0
    for share in shares:
        known.append((begin, share))
        begin += share + 5 * mean
    known = [(b, s) for b, s in known if b + s <= 1]
    rows, blocks = 100_000.0, 2_000.0
    groups = Groups(rows, (Spread(mean, tuple(known)),))
    low, high = sorted((one * rows, other * rows))
    found = blocks_between(groups, low, high, blocks)
    wanted, free = 0.0, high - low
    for b, s in known:
        inside = max(min(high, (b + s) * rows) - max(low, b * rows), 0.0)
        wanted += heap_blocks(s * rows, blocks) * inside / (s * rows)
        free -= inside
    wanted += max(free, 0.0) * heap_blocks(mean * rows, blocks) / (mean * rows)
    assert found == pytest.approx(wanted, rel=1e-6, abs=1e-3)
    assert 0 < scattered_share(groups, blocks) <= 1


def count(offset, predicted, counted, path):
    return Count(
        offset=offset,
        size=20,
        predicted=predicted,
        counted=counted,
        ms=counted / 1_000,
        rows=20,
        path=path,
    )


def test_pages_are_believed_by_their_own_path():
    counts = [
        count(10, 100, 101, "index"),
        count(5_000, 100, 9_000, "table sort"),
        count(9_000, 120, 9_100, "table sort"),
    ]
    check = make_check("offset", counts, "", "sqlite")
    assert not check.believed
    assert check.by_path("index", "sqlite", 10).believed
    assert not check.by_path("table sort", "sqlite", 6_000).believed
    assert check.by_path("bitmap sort", "sqlite", 10) is None
    unknown = make_check("offset", counts, "Odd Scan", "sqlite")
    assert unknown.by_path("index", "sqlite", 10) is unknown


def test_pages_are_believed_by_the_nearest_that_were_counted():
    counts = [count(at, 1_000, 1_000 * off, "index") for at, off in ((0, 9), (50, 1), (700, 1))]
    check = make_check("offset", counts, "", "sqlite")
    believed = {at: check.by_path("index", "sqlite", at).believed for at in (0, 20, 50, 300, 900)}
    assert believed == {0: False, 20: False, 50: True, 300: True, 900: False}
    assert check.surrounds(300, 1_010, "sqlite")  # between two that read as much, and as told
    assert not check.surrounds(20, 1_000, "sqlite")
    assert not check.surrounds(300, 2_000, "sqlite")
    chance = replace(counts[0], counted=2_500, scatter=0.4)
    assert chance.agrees("sqlite")
    assert not replace(chance, scatter=0.0).agrees("sqlite")


def test_counts_correct_by_whichever_tells_more():
    """By their ratio to predictions that follow the depth, by lines where predictions do not."""
    from vrelko.core.cost.work import Work

    bent = [count(at, at**0.5 * 100, at**0.5 * 180, "a") for at in (100, 2_500, 40_000, 160_000)]
    check = make_check("keyset", bent, "", "sqlite")
    told = check.correct(Work(steps=100 * math.sqrt(10_000)), 10_000, 1.0, "sqlite")
    assert told.steps == pytest.approx(18_000, rel=0.01)
    straight = [count(at, 10, 50_000 + 3 * at, "a") for at in (100, 2_500, 40_000, 160_000)]
    check = make_check("keyset", straight, "", "sqlite")
    told = check.correct(Work(steps=10), 80_000, 1.0, "sqlite")
    assert told.steps == pytest.approx(290_000, rel=0.01)
    ahead = check.correct(Work(steps=10), 0, 1.0, "sqlite")
    assert ahead.steps == pytest.approx(50_000, rel=0.01)


def test_turns_come_in_the_order_of_their_asking():
    turns, seen = Turns(2, 5.0), []

    async def reader(number):
        async with turns.take("x"):
            seen.append(number)
            await asyncio.sleep(0.01)

    async def late():
        busy = Turns(1, 0.05)

        async def again():
            async with busy.take("z"):
                seen.append("never")

        async with busy.take("z"):
            with pytest.raises(UnavailableError):
                await again()

    async def left():
        """Who gives up while waiting takes no turn with them."""
        async with turns.take("x"), turns.take("x"):
            waiting = asyncio.create_task(reader(99))
            await asyncio.sleep(0.01)
            waiting.cancel()
        await reader(100)

    async def all_of_them():
        await asyncio.gather(*(reader(number) for number in range(20)))
        await late()
        await left()

    asyncio.run(all_of_them())
    assert seen == [*range(20), 100]
