"""Pages kept steady while rows change: ceilings, overlaps, settle delays, anchors, frozen lists."""

from datetime import UTC, datetime, timedelta
from time import sleep

import pytest
from sqlalchemy import (
    BigInteger,
    Column,
    DateTime,
    Index,
    Integer,
    String,
    Table,
    bindparam,
    create_engine,
    delete,
    func,
    insert,
    select,
    text,
)
from sqlalchemy.pool import StaticPool

import vrelko
from exposed import Listing
from vrelko import FrozenIds, Settle, Sizes, Spot, Steady
from vrelko.errors import CursorError, ListingError, PageError, VrelkoError

SECRET = b"a secret of sixteen bytes or more"


@pytest.fixture
def shelf(made):
    """Forty rows in the order of -n, of two groups, and the connection they are on."""
    connection, meta = made
    table = Table(
        "shelf",
        meta,
        Column("id", Integer, primary_key=True, autoincrement=False),
        Column("n", Integer),
        Column("kind", String(5)),
        Index("shelf_n", "n", "id"),
    )
    meta.create_all(connection)
    rows = [{"id": i, "n": i // 2 if i % 7 else None, "kind": "ab"[i % 2]} for i in range(40)]
    connection.execute(insert(table), rows)
    connection.commit()
    return connection, table


def shelf_listing(table, strategy="offset", **settings):
    return Listing(
        select(table.c.id, table.c.n),
        name="shelf",
        orders="-n:nulls-last",
        sizes=Sizes(5),
        filters={"kind": table.c.kind == bindparam("kind")},
        strategy=strategy,
        **settings,
    )


def ids(page):
    return [row.id for row in page]


@pytest.mark.parametrize("strategy", ["offset", "two-ended", "deferred-join", "keyset"])
@pytest.mark.parametrize("secrets", [(), (SECRET,)])
def test_a_ceiling_holds_what_comes_above_it_back(shelf, strategy, secrets):
    connection, table = shelf
    listing = shelf_listing(table, strategy, secrets=secrets, steady=Steady(ceiling=True))
    before = [ids(page) for page in shelf_listing(table).walk(connection, size=5)]
    page = listing.read(connection)
    connection.execute(insert(table), [{"id": 100 + i, "n": 99, "kind": "a"} for i in range(7)])
    assert listing.count_ahead(connection, page.ceiling).value == 7
    jumped = listing.read(connection, Spot.number(4), ceiling=page.ceiling)
    assert ids(jumped) == before[3]
    seen = [ids(page)]
    while page.next:
        page = listing.read(connection, page.next)
        seen.append(ids(page))
        assert page.total.value == 40
    assert seen == before
    back = listing.read(connection, listing.read(connection, page.prev).first)
    assert ids(back) == before[0]
    assert back.prev is None
    assert ids(listing.read(connection, jumped.last)) == before[-1]
    assert ids(listing.read(connection))[0] == 106  # without a cursor a new walk begins
    fresh = listing.read(connection, Spot.number(2))
    assert ids(fresh) == [101, 100, 39, 38, 37]
    assert listing.count_ahead(connection, fresh.ceiling).value == 0


def test_a_ceiling_goes_with_a_filter_and_is_bound_to_it(shelf):
    connection, table = shelf
    listing = shelf_listing(table, steady=Steady(ceiling=True), secrets=(SECRET,))
    page = listing.read(connection, params={"kind": "a"})
    connection.execute(insert(table), [{"id": 100, "n": 99, "kind": "a"}])
    second = listing.read(connection, page.next, params={"kind": "a"})
    assert ids(second) == [
        row.id
        for row in connection.execute(
            select(table.c.id)
            .where(table.c.kind == "a", table.c.id < 100)
            .order_by(table.c.n.is_(None), table.c.n.desc(), table.c.id.desc())
            .limit(5)
            .offset(5)
        )
    ]
    with pytest.raises(CursorError, match="a different listing"):
        listing.read(connection, Spot.number(2), ceiling=page.ceiling)
    empty = listing.read(connection, params={"kind": "z"})
    assert (empty.ceiling, empty.next) == (None, None)
    with pytest.raises(PageError, match="no ceiling"):
        shelf_listing(table).read(connection, Spot.number(2), ceiling=page.ceiling)


def test_an_overlap_gives_rows_that_deletes_pushed_back(shelf):
    connection, table = shelf
    listing = shelf_listing(table, steady=Steady(overlap=3))
    page = listing.read(connection)
    seen = ids(page)
    order = [id_ for one in shelf_listing(table).walk(connection) for id_ in ids(one)]
    while page.next:
        connection.execute(delete(table).where(table.c.id == seen[-2]))
        connection.execute(delete(table).where(table.c.id == seen[-1]))
        page = listing.read(connection, page.next)
        seen += ids(page)
    assert sorted(seen) == sorted(order)
    assert len(set(seen)) == len(seen)
    assert len(listing.read(connection, Spot.offset(10))) == 5  # a jump has seen nothing


def test_a_frozen_list_stays_and_ends(shelf, tmp_path):
    connection, table = shelf
    store = create_engine(f"sqlite:///{tmp_path / 'lists.db'}")
    frozen = FrozenIds(store, expires_s=60)
    frozen.create()
    frozen.create()
    listing = shelf_listing(
        table, "frozen-ids", steady=Steady(frozen=frozen), total="exact", secrets=(SECRET,)
    )
    before = [ids(page) for page in shelf_listing(table).walk(connection, size=5)]
    page = listing.read(connection)
    connection.execute(insert(table), [{"id": 100, "n": 99, "kind": "a"}])
    connection.execute(delete(table).where(table.c.id.in_([before[1][0], before[1][3]])))
    second = listing.read(connection, page.next)
    assert ids(second) == [before[1][1], before[1][2], before[1][4]]
    assert (second.total.value, second.number, second.last_number) == (40, 2, 8)
    assert ids(listing.read(connection, second.last)) == before[-1]
    assert ids(listing.read(connection, second.prev)) == before[0]
    assert listing.read(connection, second.last).next is None
    assert ids(listing.read(connection, second.after)) == before[2]  # behind a key, by key
    with pytest.raises(PageError, match="past the end"):
        listing.read(connection, Spot.number(9), past_end="error")
    last = listing.read(connection, Spot.number(9), on_bad_page="clamp")
    assert "past the end" in last.clamped
    with store.begin() as lent:
        lent.execute(frozen.table.update().values(expires_at=0))
    with pytest.raises(CursorError, match="has expired"):
        listing.read(connection, page.next)
    assert frozen.clean() >= 1
    with store.connect() as lent:
        assert lent.execute(select(func.count()).select_from(frozen.table)).scalar() == 0
    small = shelf_listing(table, "frozen-ids", steady=Steady(frozen=FrozenIds(store, most=10)))
    with pytest.raises(PageError, match="more than 10 rows"):
        small.read(connection)
    assert (
        shelf_listing(table, "frozen-ids", steady=Steady(frozen=frozen))
        .read(connection, params={"kind": "z"})
        .rows
        == []
    )
    store.dispose()


def test_frozen_lists_of_thousands_of_ids():
    engine = create_engine("sqlite://", poolclass=StaticPool)
    frozen = FrozenIds(engine)
    frozen.create()
    everything = [(i, f"row {i}") for i in range(2_503)]
    name = frozen.store(everything)
    for first, last in ((0, 10), (995, 1_020), (999, 1_000), (1_990, 2_503), (2_500, 2_600)):
        assert frozen.fetch(name, first, last) == (everything[first:last], 2_503)
    engine.dispose()


@pytest.mark.parametrize("kind", ["naive", "aware", "seconds"])
def test_settling_waits_for_late_commits(made, kind):
    connection, meta = made
    types = {"naive": DateTime(), "aware": DateTime(timezone=True), "seconds": BigInteger()}
    own = Column("id", Integer, primary_key=True, autoincrement=False)
    table = Table("tail", meta, own, Column("at", types[kind]))
    meta.create_all(connection)
    now = datetime.now(UTC)
    moments = [now - timedelta(seconds=s) for s in (500, 300, 100, 8)]
    for i, moment in enumerate(moments):
        value = int(moment.timestamp()) if kind == "seconds" else moment
        value = moment.replace(tzinfo=None) if kind == "naive" else value
        connection.execute(insert(table), {"id": i, "at": value})
    settled = Listing(
        select(table),
        name="tail",
        kind="feed",
        orders="at",
        sizes=Sizes(2),
        steady=Steady(settle=Settle("at", seconds=30)),
    )
    page = settled.read(connection)
    assert ids(page) == [0, 1]
    page = settled.read(connection, page.next)
    assert (ids(page), page.next) == ([2], None)
    poll = settled.read(connection, page.after)
    assert ids(poll) == []
    assert [ids(page) for page in settled.walk(connection)] == [[0, 1, 2]]
    spelled = settled.statements(dialect=connection.dialect.name)
    got = [connection.execute(one) for one in spelled]
    assert ids(settled.page_of(got, dialect=connection.dialect.name)) == [0, 1]


def test_the_horizon_of_transactions_is_exact(server):
    """A row whose transaction began before others that are under way waits for them."""
    if server.dialect.name != "postgresql":
        table = Table("log", vrelko_meta(), Column("id", Integer, primary_key=True))
        listing = Listing(
            select(table), orders="id", steady=Steady(settle=Settle("id", horizon=True))
        )
        with server.connect() as connection, pytest.raises(ListingError, match="under way"):
            listing.read(connection)
        return
    make = (
        "CREATE TABLE log (id int PRIMARY KEY, tx bigint NOT NULL "
        "DEFAULT (pg_current_xact_id()::text::bigint))"
    )
    with server.begin() as connection:
        connection.execute(text("DROP TABLE IF EXISTS log"))
        connection.execute(text(make))
    meta = vrelko_meta()
    table = Table("log", meta, autoload_with=server)
    listing = Listing(
        select(table), orders="tx,id", steady=Steady(settle=Settle("tx", horizon=True))
    )
    with server.connect() as early, server.connect() as late, server.connect() as reader:
        early.execute(text("INSERT INTO log (id) VALUES (1)"))
        late.execute(text("INSERT INTO log (id) VALUES (2)"))
        late.commit()
        assert ids(listing.read(reader)) == []
        early.commit()
        for _ in range(200):  # the server's other databases have transactions of their own
            reader.rollback()
            if shown := ids(listing.read(reader)):
                break
            sleep(0.05)
        assert shown == [1, 2]
    with server.begin() as connection:
        connection.execute(text("DROP TABLE log"))


def vrelko_meta():
    from sqlalchemy import MetaData

    return MetaData()


T = Table(
    "things",
    vrelko_meta(),
    Column("id", Integer, primary_key=True),
    Column("name", String(9)),
    Column("at", DateTime()),
)


@pytest.mark.parametrize(
    ("strategy", "kind", "steady", "says"),
    [
        ("keyset", "grid", lambda: Steady(overlap=2), "by offset"),
        ("offset", "grid", lambda: Steady(overlap=-1), "at least 0 rows, got -1"),
        ("offset", "grid", lambda: Steady(overlap=2, ceiling=True), "without a ceiling"),
        ("whole", "grid", lambda: Steady(ceiling=True), "no ceiling"),
        ("frozen-ids", "grid", lambda: Steady(), "neither without"),
        ("offset", "grid", lambda: Steady(frozen=FrozenIds(None)), "neither without"),
        ("frozen-ids", "feed", lambda: Steady(frozen=FrozenIds(None)), "numbered pages"),
        ("keyset", "grid", lambda: Steady(settle=Settle("at")), "seconds above 0"),
        ("keyset", "grid", lambda: Steady(settle=Settle("nam", seconds=1)), "No order|no order"),
        (
            "keyset",
            "grid",
            lambda: Steady(settle=Settle("name", seconds=1)),
            "not a date/time column",
        ),
        ("keyset", "grid", lambda: Steady(frozen=FrozenIds(None, most=0)), "most of at least 1"),
    ],
)
def test_what_does_not_go_together_says_so(strategy, kind, steady, says):
    with pytest.raises(VrelkoError, match=says):
        Listing(select(T), orders="name", strategy=strategy, kind=kind, steady=steady())


def test_views_of_databases_in_memory_are_refused():
    engine = create_engine("sqlite://", poolclass=StaticPool)
    T.create(engine)
    with pytest.raises(vrelko.errors.DatabaseError, match="in memory"):
        list(Listing(select(T), orders="id").walk(engine, frozen=True))
    engine.dispose()


def test_a_walk_through_history(shelf):
    """MariaDB reads system-versioned tables at a moment, PostgreSQL at an exported snapshot."""
    connection, table = shelf
    engine, listing = connection.engine, shelf_listing(table, "keyset")
    moment = datetime(2031, 1, 1)
    if engine.dialect.name == "sqlite":
        with pytest.raises(VrelkoError, match="keeps no history"):
            list(listing.walk(engine, frozen=moment))
        with pytest.raises(VrelkoError, match="cannot share a snapshot"):
            list(listing.walk(engine, frozen="00000003-0000001B-1"))
        return
    before = list(map(ids, listing.walk(engine, size=6)))
    connection.commit()
    if engine.dialect.name == "postgresql":
        frozen = connection.execute(text("SELECT pg_export_snapshot()")).scalar()
    else:
        connection.execute(text("ALTER TABLE shelf ADD SYSTEM VERSIONING"))
        frozen = connection.execute(text("SELECT CAST(NOW(6) AS DATETIME(6))")).scalar()
    with engine.begin() as other:
        other.execute(delete(table).where(table.c.id < 20))
        other.execute(insert(table), [{"id": 77, "n": 900, "kind": "a"}])
    assert list(map(ids, listing.walk(engine, size=6, frozen=frozen))) == before
    first = next(iter(listing.walk(engine, size=6, frozen=frozen)))
    rest = listing.walk(engine, size=6, frozen=frozen, start=first.next)
    assert [ids(first), *map(ids, rest)] == before
    now = [row for page in listing.walk(engine, size=6) for row in ids(page)]
    assert 77 in now
    assert len(now) == 21
    wrong = moment if engine.dialect.name == "postgresql" else "00000003-0000001B-1"
    with pytest.raises(VrelkoError, match=r"cannot share a snap|keeps no history"):
        list(listing.walk(engine, frozen=wrong))
    connection.rollback()
