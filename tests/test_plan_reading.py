"""What a server says of a page is read right, or not believed: held against what the page reads."""

from __future__ import annotations

import json
import math
from dataclasses import replace

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st
from sqlalchemy import (
    Column,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    event,
    func,
    insert,
    select,
    text,
)

import vrelko
from clocks import ENOUGH_MS
from explained import PATH
from vrelko import Listing, Sizes
from vrelko.core.cost.checks import Count, make_check
from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.profiles import entries_apart, entries_between, find_profile
from vrelko.core.cost.rates import shipped_rates
from vrelko.core.cost.work import Work
from vrelko.core.facts import Facts
from vrelko.engines import clock
from vrelko.engines.mariadb import plans as mariadb_plans
from vrelko.engines.postgresql import plans as postgresql_plans
from vrelko.engines.sqlite import plans as sqlite_plans
from vrelko.errors import FactsError, PageError
from vrelko.measuring.budget import Spending
from vrelko.measuring.verification import verify
from vrelko.measuring.verified_pages import Session, choose_cases
from vrelko.planning.key_ladder import KeyLadder
from vrelko.planning.plan import plan_listings

CORPUS = json.loads(PATH.read_text())
PARTS = {f"part_{i}" for i in range(4)}
UNKNOWN = ("subselect", "window", "union", "distinct")
ROWS = 12_000


def read(entry):
    names = {"odd", "part"}
    if entry["engine"] == "postgresql":
        return postgresql_plans.read_plan(entry["said"], names, PARTS)
    reads = sqlite_plans.read_lines if entry["engine"] == "sqlite" else mariadb_plans.read_rows
    return reads(entry["said"], names)


@pytest.mark.parametrize("entry", CORPUS, ids=lambda e: f"{e['engine']}: {e['title']}")
def test_what_is_read_of_explain_agrees_with_what_the_statement_read(entry):
    """In order: as many as skipped and shown; in groups: less than all; sorted: all that match."""
    seen = read(entry)
    a_row = {"sqlite": 22}.get(entry["engine"], 1)  # VM steps a row
    read_rows, title = entry["entries"] / a_row, entry["title"]
    if seen.unknown or seen.lookups or "WHERE" in entry["sql"] or "GROUP" in entry["sql"]:
        return
    skipped = 9_000 if "9000" in entry["sql"] else 500 if "500" in entry["sql"] else 0
    if seen.sorts == "none":
        assert read_rows <= 1.1 * (26 + skipped) + 8, title
    elif seen.sorts == "groups":
        assert 26 < read_rows < entry["rows"] / 2, title
    else:
        assert entry["entries"] >= entry["rows"], title


@pytest.mark.parametrize("engine", ["sqlite", "postgresql", "mariadb"])
@pytest.mark.parametrize("title", UNKNOWN)
def test_what_is_not_modelled_is_named(engine, title):
    (entry,) = (e for e in CORPUS if (e["engine"], e["title"]) == (engine, title))
    seen = read(entry)
    assert seen.unknown or seen.sorts == "all"


def test_steps_that_nobody_knows_are_unknown_never_the_nearest_known():
    scan = {"Node Type": "Index Scan", "Relation Name": "odd", "Index Name": "i", "Plan Rows": 9}
    top = {"Node Type": "Limit", "Plans": [{"Node Type": "Warp Scan", "Plans": [scan]}]}
    assert postgresql_plans.read_plan(top, {"odd"}).unknown == "Warp Scan"
    row = {
        "id": 1,
        "select_type": "SIMPLE",
        "table": "odd",
        "type": "index",
        "key": "i",
        "possible_keys": None,
        "rows": 9,
        "Extra": "Using where; Using telepathy",
    }
    assert mariadb_plans.read_rows([row], {"odd"}).unknown == "Using telepathy"
    assert (
        mariadb_plans.read_rows([{**row, "type": "warp", "Extra": ""}], {"odd"}).unknown == "warp"
    )
    lines = [
        {"id": 1, "parent": 0, "detail": "SCAN odd USING INDEX i"},
        {"id": 2, "parent": 0, "detail": "WARP odd"},
    ]
    assert sqlite_plans.read_lines(lines, {"odd"}).unknown == "WARP odd"
    lines[1]["detail"] = "USE TEMP B-TREE FOR LAST 2 TERMS OF ORDER BY"
    assert sqlite_plans.read_lines(lines, {"odd"}).sorts == "groups"


meta = MetaData()
t = Table(
    "misread",
    meta,
    Column("id", Integer, primary_key=True),
    Column("few", Integer),
    Column("many", Integer, nullable=False),
    Column("late", Integer, nullable=False),
    Column("note", String(60)),
    Index("misread_few", "few"),
    Index("misread_many", "many"),
)


@pytest.fixture(scope="module")
def filled(server):
    with server.begin() as connection:
        meta.create_all(connection)
        rows = [
            {
                "id": i,
                "few": None if i % 9 == 0 else i * 7919 % 12,
                "many": i * 7919 % 4001,
                "late": int(i > ROWS - 90),
                "note": "x" * (20 + i % 40),
            }
            for i in range(1, ROWS + 1)
        ]
        connection.execute(insert(t), rows)
    name = server.dialect.name
    word = {"postgresql": "VACUUM ANALYZE", "mariadb": "ANALYZE TABLE"}.get(name, "ANALYZE")
    with server.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(text(f"{word} misread"))
    yield server
    with server.begin() as connection:
        meta.drop_all(connection)


def grid(select_=None, **settings):
    usual = {"orders": "id", "sizes": Sizes(20), "total": "exact", "name": "grid"}
    return Listing(select(t) if select_ is None else select_, **{**usual, **settings})


def checks_of(plan):
    return {check.strategy: check for check in plan.uses[0].checks}


def planned(engine, listing, **settings):
    """A plan for which everything was run that there was to run."""
    plan = vrelko.plan(listing, engine=engine, budget_ms=ENOUGH_MS, **settings)
    assert not [one for one in plan.left_out if "budget" in one]
    return plan


@pytest.fixture
def ticking(monkeypatch):
    """A clock that moves by the statements sent alone: `ticking(engine, ms)` for each of them."""
    now = [0.0]
    monkeypatch.setattr(clock, "now_s", lambda: now[0])
    engines = []

    def start(engine, ms):
        def tick(*_):
            now[0] += ms / 1e3

        event.listen(engine, "after_cursor_execute", tick, insert=True)
        engines.append((engine, tick))

    yield start
    for engine, tick in engines:
        event.remove(engine, "after_cursor_execute", tick)


@pytest.mark.slow
@pytest.mark.parametrize("order", ["id", "many", "few", "-many,note,id"])
def test_a_believed_page_reads_what_was_predicted(filled, order):
    """Whatever the order: strategies are believed and within tolerance, or costed by counts."""
    rates = shipped_rates({"mysql": "mariadb"}.get(filled.dialect.name, filled.dialect.name))
    plan = planned(filled, grid(orders=order), rates=rates)  # fitted ones hang on the machine
    checks = checks_of(plan)
    assert {"offset", "first", "keyset", "count"} <= set(checks)
    for check in checks.values():
        if check.believed:
            assert check.off < 1.4 or all(one.predicted < 400 for one in check.counts)
    if order in ("id", "many"):
        assert checks["offset"].believed
        assert checks["keyset"].believed
    assert plan.judgement.rows == ROWS  # as the total was counted
    if filled.dialect.name == "postgresql" and order == "many":  # sorted by groups, not as a whole
        keyset = next(c for c in plan.candidates if c.strategy == "keyset")
        assert keyset.ladder[-2].work.sorted_rows < 100
        assert plan.verdict.strategy == "keyset"


person = Table(
    "misread_person",
    meta,
    Column("id", Integer, primary_key=True),
    Column("region", Integer, nullable=False),
)
visit = Table(
    "misread_visit",
    meta,
    Column("id", Integer, primary_key=True),
    Column("person", Integer, nullable=False),
    Column("hour", Integer, nullable=False),
    Column("note", String(60)),
    Index("misread_visit_hour", "hour"),
    Index("misread_visit_person", "person"),
)
both = select(visit.c.id, visit.c.hour, visit.c.note, person.c.region).join(
    person, person.c.id == visit.c.person
)
JOINED = {
    "joined": grid(both, orders="id"),
    "joined, one region": grid(both.where(person.c.region == 3), orders="id"),
    "joined, an order without an index": grid(both, orders="note,id"),
    "many alike, from the end": grid(select(visit), orders="-hour,id"),
}


@pytest.fixture(scope="module")
def visited(filled):
    with filled.begin() as connection:
        people = [{"id": i, "region": i % 20} for i in range(1, 2_001)]
        connection.execute(insert(person), people)
        rows = [
            {"id": i, "person": i * 7919 % 2000 + 1, "hour": i // 40, "note": f"{i * 31 % 9973}"}
            for i in range(1, ROWS + 1)
        ]
        connection.execute(insert(visit), rows)
    word = {"postgresql": "VACUUM ANALYZE", "mariadb": "ANALYZE TABLE"}
    with filled.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        for table in (person, visit):
            connection.execute(text(f"{word.get(filled.dialect.name, 'ANALYZE')} {table.name}"))
    return filled


@pytest.mark.slow
@pytest.mark.parametrize("title", JOINED)
def test_joins_and_many_alike_are_read_right(visited, title):
    """Lookups of each row walked, tables read ahead of the paged one, indexes read backward."""
    checks = checks_of(planned(visited, JOINED[title]))
    assert {"offset", "keyset"} <= set(checks)
    for name in ("offset", "keyset"):
        unknown = checks[name].node and visited.dialect.name == "sqlite"  # read ahead, Bloom filter
        assert unknown or checks[name].believed, checks[name]


def test_rows_that_stand_together_are_found_along_the_order(filled):
    """A filter whose rows all come last: places along the order tell where; statistics cannot."""
    late = grid(select(t).where(t.c.late == 1))
    plan = planned(filled, late)
    assert plan.uses[0].routes.page.profile
    checks = checks_of(plan)
    assert checks["first"].off < 2.5
    first = plan.candidates[0].ladder[0]
    assert first.work.read > 0.7 * ROWS  # rows are walked until the first that passes
    keyset = next(c for c in plan.candidates if c.strategy == "keyset")
    assert keyset.ladder[-1].work.read < 200  # but behind a key they stand together
    asked = vrelko.plan(late, engine=filled, run=False)
    assert asked.judgement.reading == "asked"
    assert not asked.uses[0].checks
    assert asked.candidates[0].ladder[0].time.high > asked.candidates[0].ladder[0].time.low * 8


def test_pages_past_the_end_say_nothing_of_a_reading(filled):
    """A guess of 620 rows sends the deepest page behind row 600, which is the last one."""
    few = grid(select(t).where(t.c.id <= 600))
    facts = vrelko.survey(filled, few)
    with filled.connect() as connection:
        (plan,) = plan_listings([few], facts, engine=filled)
        guessed = replace(plan, uses=(replace(plan.uses[0], rows=620.0),))
        session = Session(connection, Spending(ENOUGH_MS))
        cases = list(choose_cases(session, [guessed], thorough=False))
    (deepest,) = [one for one in cases if (one.name, one.trial.offset) == ("keyset", 600)]
    assert deepest.size == 20
    (verified,) = verify(filled, [guessed], ENOUGH_MS)
    check = checks_of(verified)["keyset"]
    assert check.believed
    assert max(count.offset for count in check.counts) < 600
    assert verified.judgement.rows == 600


def test_the_first_page_of_an_empty_listing_is_still_compared(filled):
    plan = planned(filled, grid(select(t).where(t.c.id < 0)))
    assert plan.judgement.rows == 0
    assert {count.offset for count in checks_of(plan)["offset"].counts} == {0}


def test_what_is_not_understood_is_counted_and_said(filled):
    """A subselect in the list runs for rows that are skipped too: no formula here knows it."""
    other = t.alias("other")
    busy = select(func.max(other.c.note)).where(other.c.id == t.c.many + 1).scalar_subquery()
    plan = planned(filled, grid(select(t.c.id, busy.label("busy"))))
    check = checks_of(plan)["offset"]
    assert check.node
    assert not check.believed
    (finding,) = (f for f in plan.findings if f.code == "plan-misread")
    assert "has a step Vrelko cannot estimate" in finding.evidence
    assert plan.judgement.reading == "counted"
    deep = max(check.counts, key=lambda one: one.offset)
    work = plan.usual_model().offset(deep.offset, deep.size)
    engine = {"mysql": "mariadb"}.get(filled.dialect.name, filled.dialect.name)
    assert counted_as(engine, work) == pytest.approx(deep.counted, rel=0.05)


@given(
    passed=st.lists(st.integers(0, 50), min_size=8, max_size=80),
    reached=st.floats(1_000, 1e6),
    begin=st.floats(0, 1),
    length=st.floats(0, 1),
)
def test_profiles_share_out_all_entries_and_all_rows(passed, reached, begin, length):
    """Whatever the profile: parts add up, and no page walks more entries than there are."""
    profile = find_profile(passed, 50)
    assume(profile)
    matching = reached * sum(profile) / len(profile)
    middle = matching * begin
    end = min(middle + matching * length, matching)
    whole = entries_between(profile, reached, matching, 0, end)
    first = entries_between(profile, reached, matching, 0, middle)
    rest = entries_between(profile, reached, matching, middle, end)
    assert whole <= reached * (1 + 1e-9)
    assert rest >= end - middle - 1e-6
    if middle > 0 and end - middle > 1:
        assert first + rest == pytest.approx(whole, rel=1e-3, abs=2 + end - middle)
    # A page that is not full looks for more up to the last entry, wherever the last row stands.
    short = entries_between(profile, reached, matching, middle, matching)
    assert first + short >= reached * (1 - 1e-9)
    assert not find_profile([25] * 40, 50)


def test_places_along_an_order_of_few_values_stand_where_their_rows_do(filled):
    """Of values with unequal shares, equal parts of the order begin within the large ones."""
    facts = vrelko.survey(filled, "misread")
    table = facts.table("misread")
    uneven = (("1", 0.7), ("2", 0.1), *((str(i), 0.02) for i in range(3, 13)))
    few = replace(table.column("few"), common=uneven, bounds=(), null_share=0.0, distinct=12.0)
    known = replace(table, columns=tuple(few if c.name == "few" else c for c in table.columns))
    listing = grid(orders="few,id")
    with filled.connect() as connection:
        variant = listing.lent_variant(connection, None, {})
        ladder = KeyLadder(variant, listing.orders(filled.dialect.name)[0], known, ())
    places = ladder.leads(64)
    assert places == sorted(places)
    assert places.count(1) == pytest.approx(0.7 * len(places), abs=1)


def test_a_budget_bounds_what_is_run(filled, ticking):
    by_note = grid(orders="note,id")
    ticking(filled, 10)
    budget_ms = planned(filled, by_note).spent_ms / 4
    plan = vrelko.plan(by_note, engine=filled, budget_ms=budget_ms)
    assert budget_ms / 2 < plan.spent_ms < budget_ms + 60  # a page is up to six statements
    assert any("budget spent" in one for one in plan.left_out)
    for wrong in (0, -5, "x", None):
        with pytest.raises(PageError, match="budget of database time must be above 0"):
            vrelko.plan(by_note, engine=filled, budget_ms=wrong)


def test_a_select_is_planned_with_nothing_else_said(filled):
    plan = planned(filled, select(t.c.id, t.c.note))
    assert plan.listing == "select"
    assert plan.judgement.reading == "agreed"
    with pytest.raises(FactsError, match="needs facts or a database"):
        vrelko.plan(select(t.c.id))


def test_parameters_without_a_value_leave_pages_unread(filled):
    open_ = grid(select(t).where(t.c.many == bindparam("many")))
    plan = vrelko.plan(open_, engine=filled)
    assert plan.judgement.reading == "predicted"
    assert isinstance(plan.facts, Facts)


def test_counts_stand_for_what_lies_between_them():
    counts = [
        Count(offset=0, size=20, predicted=10, counted=1_000, ms=5.0, rows=20),
        Count(offset=4_000, size=20, predicted=10, counted=5_000, ms=25.0, rows=20),
    ]
    check = make_check("offset", counts, "", "mariadb")
    assert not check.believed
    work = check.correct(Work(entries=10, rows=20), 2_000, 1.0, "mariadb")
    assert (work.entries, work.rows, work.timed_us) == (3_000, 20, 15_000)
    beyond = check.correct(Work(entries=10, rows=20), 6_000, 1.0, "mariadb")
    assert beyond.entries == 7_000
    by_key = make_check("keyset", [counts[0], replace(counts[1], counted=40)], "", "mariadb")
    between = by_key.correct(Work(entries=10, rows=20), 3_900, 1.0, "mariadb")
    assert between.entries == pytest.approx((1_000 * 40) ** 0.5)  # where depth tells nothing
    assert between.timed_scatter == pytest.approx(math.log(1_000 / 40) / 2)
    assert make_check(
        "offset",
        [Count(offset=0, size=20, predicted=1_000, counted=1_100, ms=5.0, rows=20)],
        "",
        "mariadb",
    ).believed
    assert not make_check("offset", [Count(0, 20, 9, 9, 1.0)], "CTE Scan", "postgresql").believed
    assert not make_check("offset", [Count(0, 20, 9, 9, 1.0, cut=True)], "", "sqlite").believed


@given(st.integers(8, 56), st.floats(0.3, 0.9), st.integers(1, 60))
def test_what_a_profile_leaves_open(edge, dense, size):
    """Beside the place where dense rows turn rare a page reads a few entries or thousands."""
    profile = [dense] * edge + [dense / 500] * (64 - edge)
    reached, step = 64 * 6_400.0, edge * 6_400 * dense
    matching = reached * sum(profile) / 64

    def apart(begin):
        return entries_apart(profile, reached, matching, begin, begin + size)

    assert apart(step - size / 2) > 3
    assert 1 <= apart(step * 0.4) < 1.5
    even = entries_apart([dense] * 64, reached, reached * dense, 1_000, 1_000 + size)
    assert 1 <= even < 1.5


def test_pages_that_read_whole_groups_go_on_as_predicted():
    """Two depths on either side of where a group begins tell no slope of all that follows."""
    counts = [
        Count(offset=0, size=20, predicted=7_000, counted=11_000, ms=9.0, rows=20),
        Count(offset=1_700, size=20, predicted=14_000, counted=22_000, ms=18.0, rows=20),
    ]
    check = make_check("offset", counts, "", "postgresql")
    deep = Work(statements=1, entries=150_000, visits=150_000)
    predicted = counted_as("postgresql", deep)
    line, steps = (
        counted_as("postgresql", check.correct(deep, 150_000, 1.0, "postgresql", in_steps=in_steps))
        for in_steps in (False, True)
    )
    assert steps == pytest.approx(predicted * 22 / 14, rel=0.3)
    assert line >= steps


def test_time_is_counted_while_statements_run(filled, ticking):
    ticking(filled, 30)
    spending = Spending(1_000)
    with filled.connect() as connection:
        connection.execute(select(t)).all()
        with spending.watch(filled):
            connection.execute(select(t)).all()
            connection.execute(select(t)).all()
    assert spending.spent_ms == pytest.approx(60)
    assert spending.one_ms == 250
    spending.add(2_000)
    assert spending.left_ms == spending.one_ms == 0
