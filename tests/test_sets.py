"""Set filters: `column IN (…)` of a few values or many, from a list or a subquery."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import (
    BigInteger,
    Column,
    Index,
    Integer,
    MetaData,
    Table,
    bindparam,
    insert,
    select,
    text,
)

import vrelko
from clocks import ENOUGH_MS
from exposed import Listing
from vrelko import Sizes, Spot, Workload
from vrelko.core.set_filters import FEW_VALUES, MOST_VALUES, reads_branches
from vrelko.engines.counters import count_reads

meta = MetaData()
key = BigInteger().with_variant(Integer, "sqlite")
t = Table(
    "sets",
    meta,
    Column("id", key, primary_key=True),
    Column("site", Integer, nullable=False),
    Column("hour", Integer),
    Column("other", Integer, nullable=False),
    Index("sets_by_site", "site", "hour", "id"),
    Index("sets_by_hour", "hour", "id"),
)
follow = Table(
    "sets_follow",
    meta,
    Column("visitor", Integer, primary_key=True),
    Column("site", Integer, primary_key=True),
)
ROWS = [
    {"id": i, "site": i * 37 % 100, "other": 1 + i // 100 % 2,
     "hour": None if i % 11 == 0 else i * 13 % 997 // 7}
    for i in range(1, 6_001)
]  # fmt: skip


@pytest.fixture(scope="module")
def connection(server):
    with server.connect() as connection:
        meta.create_all(connection)
        connection.execute(insert(t), ROWS)
        followed = [{"visitor": v, "site": s} for v in (1, 2) for s in range(v, 100, 33 * v)]
        connection.execute(insert(follow), followed)
        connection.commit()
        yield connection
        connection.rollback()
        meta.drop_all(connection)
        connection.commit()


def test_a_set_has_its_own_values_where_a_request_gives_none(connection):
    for usual in ([3, 4], range(20)):
        chosen = bindparam("sites", list(usual), expanding=True)
        made = Listing(select(t.c.id).where(t.c.site.in_(chosen)), orders="hour:nulls-last")
        for params, wanted in ((None, usual), ({"sites": [5]}, [5])):
            page = made.read(connection, params=params)
            assert [row.id for row in page] == truth("hour:nulls-last", wanted)[:25]
            assert made.read(connection, page.next, params=params).rows


def truth(order, sites):
    """The ids in order, sorted in Python; NULLs as the order says."""
    rows = [row for row in ROWS if row["site"] in sites]
    down = order.startswith("-")
    first = "nulls-first" in order
    rows.sort(key=lambda row: row["id"], reverse=down)
    full = [row for row in rows if row["hour"] is not None]
    full.sort(key=lambda row: row["hour"], reverse=down)
    none = [row for row in rows if row["hour"] is None]
    return [row["id"] for row in (none + full if first else full + none)]


def walk(listing, connection, **request):
    page = listing.read(connection, **request)
    rows = page.scalars()
    while page.next is not None:
        page = listing.read(connection, page.next, **request)
        rows += page.scalars()
    back = listing.read(connection, Spot.end(), **request)
    reverse = [back.scalars()]
    while back.prev is not None:
        back = listing.read(connection, back.prev, **request)
        reverse.append(back.scalars())
    assert rows == [row for part in reversed(reverse) for row in part]
    return rows


sites = select(t.c.id).where(t.c.site.in_(bindparam("sites", expanding=True)))
ORDERS = ["hour:nulls-first", "-hour:nulls-last", "-hour:nulls-first"]


@given(
    chosen=st.lists(st.integers(-3, 103), min_size=1, max_size=90),
    order=st.sampled_from(ORDERS),
    size=st.integers(20, 300),
)
@pytest.mark.slow
@settings(max_examples=25)
def test_walks_over_any_set(connection, chosen, order, size):
    listing = Listing(sites, orders=order, sizes=Sizes(size, 500), total="exact")
    expected = truth(order, set(chosen))
    assert walk(listing, connection, params={"sites": chosen}) == expected
    pages = listing.walk(connection, size=size, params={"sites": chosen})
    assert [row for page in pages for row in page.scalars()] == expected


@pytest.mark.parametrize("order", ORDERS)
def test_a_page_reads_values_times_a_page(connection, order):
    listing = Listing(sites, orders=order, sizes=Sizes(25), total="none")
    params = {"sites": [3, 14, 15, 92]}
    many = listing.read(connection, Spot.offset(150), params=params)
    if connection.dialect.name == "postgresql":  # it would rather hash a table as small as this
        connection.execute(text("SET LOCAL enable_hashjoin = off"))
        connection.execute(text("SET LOCAL enable_mergejoin = off"))
    per_row = 30 if connection.dialect.name == "sqlite" else 3
    for cursor in (None, many.next, many.prev):
        reads = count_reads(
            connection, lambda cursor=cursor: listing.read(connection, cursor, params=params)
        )
        assert reads.entries < 4 * 26 * 2 * per_row, cursor


def test_followed_sites_and_literal_sets(connection):
    inner = select(follow.c.site).where(follow.c.visitor == bindparam("visitor"))
    followed = Listing(
        select(t.c.id).where(t.c.site.in_(inner)),
        orders="-hour:nulls-last",
        sizes=Sizes(40),
        total="exact",
    )
    wanted = truth("-hour:nulls-last", {1, 34, 67})
    assert walk(followed, connection, params={"visitor": 1}) == wanted
    assert followed.read(connection, params={"visitor": 1}).total.value == len(wanted)
    assert walk(followed, connection, params={"visitor": 9}) == []
    fixed = Listing(select(t.c.id).where(t.c.site.in_([5, 6, 6])), orders="hour:nulls-first")
    assert walk(fixed, connection) == truth("hour:nulls-first", {5, 6})


def test_an_optional_set_is_absent_until_given(connection):
    listing = Listing(
        select(t.c.id),
        orders="-hour:nulls-last",
        sizes=Sizes(50),
        total="none",
        filters={"sites": t.c.site.in_(bindparam("sites", expanding=True))},
    )
    everything = truth("-hour:nulls-last", set(range(100)))
    assert listing.read(connection).scalars() == everything[:50]
    chosen = listing.read(connection, params={"sites": (7, 8)})
    assert chosen.scalars() == truth("-hour:nulls-last", {7, 8})[:50]


def test_subqueries_that_lean_on_the_select_or_have_a_limit_stay_whole(connection):
    leaning = select(follow.c.site).where(follow.c.visitor == t.c.other)
    limited = select(follow.c.site).where(follow.c.visitor == 1).order_by(follow.c.site).limit(2)
    followed = {1: {1, 34, 67}, 2: {2, 68}}
    chosen = {
        leaning: {row["id"] for row in ROWS if row["site"] in followed[row["other"]]},
        limited: {row["id"] for row in ROWS if row["site"] in {1, 34}},
    }
    for inner, ids in chosen.items():
        if inner is limited and connection.dialect.name == "mariadb":
            continue  # which has no LIMIT in IN
        listing = Listing(select(t.c.id).where(t.c.site.in_(inner)), orders="hour:nulls-first")
        wanted = [i for i in truth("hour:nulls-first", range(100)) if i in ids]
        assert [r for p in listing.walk(connection, size=50) for r in p.scalars()] == wanted


@given(
    st.sampled_from(["sqlite", "postgresql", "mariadb"]),
    st.integers(1, 80),
    st.integers(2, 201),
    st.floats(0, 1e9),
    st.floats(0, 1),
)
def test_branches_are_bounded_and_weighed(engine, values, want, rows, share):
    chosen = reads_branches(engine, values, want, rows, share)
    if values > MOST_VALUES:
        assert not chosen
    elif values <= FEW_VALUES:
        assert chosen
    elif chosen:  # then more rows, as widely spread, change nothing, nor do fewer values
        assert reads_branches(engine, values, want, rows * 2, share)
        assert reads_branches(engine, values - 1, want, rows, share)
        assert min(rows * share, want / share) > values


@pytest.mark.slow
def test_planned_and_served_choose_alike(server):
    """Few of many values by branches, many of few by the plain form, as statistics have them."""
    meta = MetaData()
    wide = Table(
        "sets_wide",
        meta,
        Column("id", Integer, primary_key=True, autoincrement=False),
        Column("site", Integer, nullable=False),
        Index("sets_wide_by_site", "site", "id"),
        Column("shelf", Integer, nullable=False),
        Index("sets_wide_by_shelf", "shelf", "id"),
        Column("note", Integer),
    )
    meta.create_all(server)
    try:
        with server.begin() as connection:
            rows = [{"id": i, "site": i * 7919 % 400, "shelf": i * 31 % 40} for i in range(40_000)]
            connection.execute(insert(wide), rows)
        analyze = {"sqlite": "ANALYZE", "postgresql": "VACUUM ANALYZE sets_wide"}
        with server.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            connection.execute(text(analyze.get(server.dialect.name, "ANALYZE TABLE sets_wide")))
        seen = set()
        for column, count in ((wide.c.site, 9), (wide.c.site, 60), (wide.c.shelf, 30)):
            given = {"chosen": list(range(count))}
            listing = Listing(
                select(wide).where(column.in_(bindparam("chosen", expanding=True))),
                name="wide",
                orders="id",
                workload=Workload(params=given),
                sizes=Sizes(20),
            )
            with server.connect() as connection:
                page = listing.read(connection, params=given)
            plan = vrelko.plan(listing, engine=server, budget_ms=ENOUGH_MS)
            branched = "UNION ALL" in str(page.statements[0])
            assert (plan.uses[0].routes.seek.branches > 1) == branched, (column.name, count)
            seen.add(branched)
        assert seen == {True, False} or server.dialect.name == "sqlite"
    finally:
        meta.drop_all(server)
