"""Positions on real servers: numbers, offsets, clamping, places, walks and their parts."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import (
    BigInteger,
    Column,
    Integer,
    MetaData,
    String,
    Table,
    create_engine,
    insert,
    select,
)

from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.errors import CursorError, PageError

t = Table(
    "spots",
    MetaData(),
    Column("id", BigInteger().with_variant(Integer, "sqlite"), primary_key=True),
    Column("a", Integer),
    Column("b", String(9), nullable=False),
)
ROWS = [{"id": i, "a": None if i % 6 == 0 else i * 7 % 9, "b": f"b{i % 4}"} for i in range(1, 104)]
ORDERS = ["id", "-id", "-a,b", "a:nulls-first,-b", "a:nulls-last", "-a:nulls-first,id"]
STRATEGIES = ["keyset", "offset", "two-ended", "deferred-join"]


@pytest.fixture(scope="module")
def connection(server):
    with server.connect() as connection:
        t.create(connection)
        connection.execute(insert(t), ROWS)
        connection.commit()
        yield connection
        connection.rollback()
        t.drop(connection)
        connection.commit()


def grid(order="-a,b", size=10, **settings):
    return Listing(
        select(t.c.id, t.c.a),
        name="spots",
        orders=order,
        sizes=Sizes(size),
        total="exact",
        **settings,
    )


def everything(connection, order):
    return grid(order, 200).read(connection).scalars()


@pytest.mark.parametrize("strategy", STRATEGIES)
@pytest.mark.parametrize("order", ORDERS)
def test_strategies_serve_the_same_pages(connection, strategy, order):
    truth = everything(connection, order)
    assert sorted(truth) == [row["id"] for row in ROWS]
    listing = grid(order, strategy=strategy)
    for number in (1, 2, 6, 10, 11):
        page = listing.read(connection, Spot.number(number))
        assert page.scalars() == truth[number * 10 - 10 : number * 10]
        assert (page.number, page.last_number, page.total.value) == (number, 11, 103)
        assert (page.next is None, page.prev is None) == (number == 11, number == 1)
        for cursor, near in ((page.next, number + 1), (page.prev, number - 1)):
            if cursor is not None:
                assert (
                    listing.read(connection, cursor).scalars()
                    == (truth[near * 10 - 10 : near * 10])
                )
    last = listing.read(connection, Spot.end())
    assert last.scalars() == truth[100:]
    odd = listing.read(connection, Spot.offset(97), size=4)
    assert odd.scalars() == truth[97:101]


@given(start=st.integers(0, 103), size=st.integers(1, 30), order=st.sampled_from(ORDERS))
@settings(max_examples=30)
def test_another_size_keeps_the_first_row(connection, start, size, order):
    page = grid(order).read(connection, Spot.offset(start))
    again = grid(order).read(connection, page.self, size=size)
    assert again.scalars()[:1] == page.scalars()[:1]
    number = grid(order).read(connection, Spot.number(start // 10 + 1))
    resized = grid(order).read(connection, number.self, size=size)
    assert resized.scalars()[:1] == number.scalars()[:1]


@pytest.mark.parametrize(
    ("asked", "number"),
    [("abc", 1), ("0", 1), (-3, 1), ("2", 2), (10**15, 11), (99, 11), (11, 11), ("1e3", 1)],
)
def test_clamping_gives_the_nearest_page_and_says_so(connection, asked, number):
    page = grid().read(connection, Spot.number(asked), on_bad_page="clamp")
    assert page.number == number
    assert page.scalars() == everything(connection, "-a,b")[number * 10 - 10 : number * 10]
    assert (page.clamped is None) == (str(asked) in ("2", "11"))


def test_clamping_sizes_and_cursors(connection):
    page = grid().read(connection, "1nonsense", size="-5", on_bad_page="clamp")
    assert len(page) == 1
    assert "cursor" in page.clamped
    assert "size" in page.clamped
    with pytest.raises(CursorError):
        grid().read(connection, "1nonsense")
    with pytest.raises(PageError, match="whole number"):
        grid().read(connection, Spot.number("abc"))
    nothing = Listing(select(t.c.id).where(t.c.id < 0), orders="id", total="exact")
    assert nothing.read(connection, Spot.number(7), on_bad_page="clamp").rows == []


def test_past_the_end_by_choice(connection):
    assert grid().read(connection, Spot.number(50)).rows == []
    last = grid().read(connection, Spot.number(50), past_end="last")
    assert (last.number, len(last)) == (11, 3)
    with pytest.raises(PageError, match="past the end"):
        grid().read(connection, Spot.number(50), past_end="error")


def test_deep_offsets_are_refused_with_the_cursor_way(connection):
    shallow = grid(max_offset=30)
    assert shallow.read(connection, Spot.number(4)).number == 4
    with pytest.raises(PageError, match="cursor"):
        shallow.read(connection, Spot.number(5))
    assert shallow.read(connection, Spot.number(9), on_bad_page="clamp").number == 4
    page = shallow.read(connection, Spot.number(4))
    for _ in range(7):
        page = shallow.read(connection, page.next)
    assert page.next is None


@given(at=st.integers(0, 102), size=st.integers(1, 40), order=st.sampled_from(ORDERS))
@settings(max_examples=30)
def test_where_is_any_row(connection, at, size, order):
    listing = grid(order, 200)
    page = listing.read(connection)
    place = listing.where_is(connection, page.keys[at], size=size)
    assert (place.offset, place.number) == (at, at // size + 1)
    assert page.scalars()[at] in listing.read(connection, place.spot, size=size).scalars()


def test_counting_ahead_and_behind(connection):
    listing = grid()
    page = listing.read(connection, Spot.number(4))
    assert str(listing.count_ahead(connection, page.before)) == "30"
    assert str(listing.count_ahead(connection, page.before, most=12)) == "12+"
    assert str(listing.count_ahead(connection, page.after)) == "63"
    assert listing.count_ahead(connection, listing.read(connection).before).value == 0


@given(
    size=st.integers(1, 120),
    order=st.sampled_from(ORDERS),
    low=st.integers(0, 102),
    high=st.integers(0, 102),
)
@settings(max_examples=30)
def test_walks_from_here_to_there(connection, size, order, low, high):
    listing = grid(order, 200)
    page = listing.read(connection)
    truth = page.scalars()
    batches = list(listing.walk(connection, size=size))
    assert [row for batch in batches for row in batch.scalars()] == truth
    assert all(len(batch) == size for batch in batches[:-1])
    fresh = list(listing.walk(connection, size=size, fresh=True))
    ways = [(batch.next, batch.prev, batch.offset, batch.after) for batch in batches]
    assert [(one.next, one.prev, one.offset, one.after) for one in fresh] == ways
    assert all(one.statements for one in fresh)
    resumed = listing.walk(connection, size=size, start=batches[0].next)
    rest = truth[size:] if batches[0].next else truth
    assert [row for batch in resumed for row in batch.scalars()] == rest
    start, until = page.cursor(low), page.cursor(high)
    part = listing.walk(connection, size=size, start=start, until=until)
    assert [row for batch in part for row in batch.scalars()] == truth[low + 1 : high + 1]


@pytest.mark.parametrize("parts", [1, 3, 8, 103, 200])
def test_ranges_split_a_walk(connection, parts):
    listing = grid("-a,b")
    pieces = listing.ranges(connection, parts)
    assert len(pieces) <= min(parts, 103)
    seen = []
    for start, until in pieces:
        rows = [
            row
            for page in listing.walk(connection, size=7, start=start, until=until)
            for row in page.scalars()
        ]
        assert abs(len(rows) - 103 / len(pieces)) <= 1
        seen += rows
    assert seen == everything(connection, "-a,b")


def test_statements_of_a_walk_read_more_and_more_pages(connection):
    listing = grid("id")
    asked = [len(page.statements) for page in listing.walk(connection, size=4)]
    assert asked == [1, 1, 0, 1, 0, 0, 0, *[1, 0, 0, 0, 0, 0, 0, 0] * 2, 1, 0, 0]
    assert [one.rows for page in listing.walk(connection, size=4) for one in page.statements] == [
        5,
        9,
        17,
        33,
        33,
        11,
    ]
    wide = grid("id").walk(connection, size=8_001)
    assert [len(page.statements) for page in wide] == [1]


@pytest.mark.engines("postgresql", "mariadb")
def test_a_walk_on_an_engine_holds_no_connection(server, connection):
    listing = grid("id")
    walk = listing.walk(server, size=50)
    first = next(walk)
    assert server.pool.checkedout() == 1  # the fixture's own
    connection.execute(insert(t), [{"id": 500, "a": 1, "b": "x"}])
    connection.commit()
    rest = [row for page in walk for row in page.scalars()]
    assert first.scalars() + rest == [*range(1, 104), 500]
    connection.execute(t.delete().where(t.c.id == 500))
    connection.commit()


def test_a_frozen_walk_sees_the_rows_as_they_stood(server, connection, tmp_path):
    """While another connection inserts, deletes and changes rows between its pages."""
    engine, writer = server, connection
    if server.dialect.name == "sqlite":
        engine = create_engine(f"sqlite:///{tmp_path / 'walked.db'}")
        writer = engine.connect()
        writer.exec_driver_sql("PRAGMA journal_mode = WAL")
        t.metadata.create_all(writer)
        writer.execute(insert(t), [{"id": i, "a": i % 7, "b": "x"} for i in range(1, 104)])
        writer.commit()
    walk = grid("a").walk(engine, size=20, frozen=True)
    first = next(walk)
    before = everything(writer, "a")
    was = writer.scalar(select(t.c.a).where(t.c.id == before[60]))
    writer.execute(insert(t), [{"id": 900 + i, "a": i, "b": "x"} for i in range(7)])
    writer.execute(t.update().where(t.c.id == before[60]).values(a=0))
    writer.commit()
    assert first.scalars() + [row for page in walk for row in page.scalars()] == before
    assert everything(writer, "a") != before
    writer.execute(t.delete().where(t.c.id >= 900))
    writer.execute(t.update().where(t.c.id == before[60]).values(a=was))
    writer.commit()
    with pytest.raises(PageError, match="takes an Engine"):
        grid("a").walk(writer, frozen=True)
    if engine is not server:
        writer.close()
        engine.dispose()


@pytest.mark.parametrize("order", ORDERS)
def test_statements_run_by_hand_make_the_same_page(connection, order):
    listing = grid(order)
    keys = grid(order, 200).read(connection).keys
    name = connection.dialect.name
    for spot in (None, Spot.number(3), Spot.offset(98), Spot.after(keys[50]), Spot.after(keys[99])):
        results, rows = [], 0
        for statement in listing.statements(spot, dialect=name):
            if rows < 11:
                results.append(connection.execute(statement).freeze())
                rows += len(results[-1]().all())
        page = listing.page_of([frozen() for frozen in results], spot, dialect=name)
        served = listing.read(connection, spot)
        assert page.rows == served.rows
        assert (page.next is None) == (served.next is None)
        if page.next is not None:
            assert listing.read(connection, page.next).rows == (
                listing.read(connection, served.next).rows
            )


@pytest.mark.parametrize(
    "call", [{"size": 0}, {"size": "many"}, {"until": Spot.start()}, {"start": "nonsense"}]
)
def test_walks_that_cannot_be(connection, call):
    with pytest.raises((PageError, CursorError)):
        list(grid().walk(connection, **call))
    with pytest.raises(PageError):
        grid().ranges(connection, 0)
    with pytest.raises(PageError):
        grid().count_ahead(connection, Spot.start(), most=0)
