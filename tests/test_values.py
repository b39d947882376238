"""Key values of every type: a walk must equal the engine's own sort, on each engine."""

import enum
import uuid
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import (
    JSON,
    Boolean,
    Column,
    DateTime,
    Double,
    Enum,
    Float,
    Integer,
    Interval,
    MetaData,
    String,
    Table,
    TypeDecorator,
    Uuid,
    bindparam,
    insert,
    select,
    text,
)
from sqlalchemy.dialects import postgresql

from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.errors import DatabaseError, OrderError, PageError


class Colour(enum.Enum):
    red = "r"
    amber = "a"
    blue = "b"


class Shouted(TypeDecorator):
    impl = String(20)
    cache_ok = True

    def process_bind_param(self, value, dialect):
        return None if value is None else value.lower()

    def process_result_value(self, value, dialect):
        return None if value is None else value.upper()


def floats(i):
    return [0.1, 1 / 3, 2.5, -0.0, 1e-3 * i, 16777217 / 3][i % 6]


NASTY = [
    "",
    " ",
    "a",
    "A",
    "a ",
    "ä",
    "Z",
    "é",
    "e\u0301",
    "ß",
    "ss",
    "'; --",
    "\\",
    "%",
    "日本",
    "𝄞",
]
ALL = ("sqlite", "postgresql", "mariadb")
TYPES = {
    "generic float": (Float, floats, ALL),
    "text": (String(20), lambda i: NASTY[i % len(NASTY)], ALL),
    "boolean": (Boolean, lambda i: i % 3 == 0, ALL),
    "zoned": (
        DateTime(timezone=True),
        lambda i: datetime(2026, 3, 1, 5, i % 4, tzinfo=UTC), ("postgresql",),
    ),
    "interval": (Interval, lambda i: timedelta(days=i % 4, seconds=i % 3, microseconds=5), ALL),
    "uuid": (Uuid, lambda i: uuid.UUID(int=(i % 6) * 2**100 + i % 2), ALL),
    "enum": (Enum(Colour), lambda i: list(Colour)[i % 3], ALL),
    "enum as text": (Enum(Colour, native_enum=False), lambda i: list(Colour)[i % 3], ALL),
    "decorated": (Shouted, lambda i: f"v{i % 5}", ALL),
}  # fmt: skip
"""Types that a model has of its own; those that databases store are in `stored.py`."""


def walk(listing, connection):
    """The ids by next links; and again backward."""
    pages = [listing.read(connection)]
    while (cursor := pages[-1].next) is not None:
        assert len(pages) < 60, "the walk does not end"
        pages.append(listing.read(connection, cursor))
    back = [listing.read(connection, Spot.end())]
    while (cursor := back[-1].prev) is not None:
        assert len(back) < 60, "the walk does not end"
        back.append(listing.read(connection, cursor))
    there = [row.id for page in pages for row in page]
    assert there == [row.id for page in reversed(back) for row in page]
    return there


@pytest.mark.parametrize(
    ("server", "kind"),
    [(engine, kind) for kind, (_, _, engines) in TYPES.items() for engine in engines],
    indirect=["server"],
    scope="session",
)
@pytest.mark.parametrize(
    "order",
    [
        "v,id",
        "-v:nulls-first,-id",
        *(pytest.param(order, marks=pytest.mark.slow) for order in ("-v,id", "v:nulls-last")),
    ],
)
def test_walks_equal_the_engines_own_sort(made, kind, order):
    connection, meta = made
    type_, value, _ = TYPES[kind]
    table = Table("kinds", meta, Column("id", Integer, primary_key=True), Column("v", type_))
    rows = [{"id": i, "v": None if i % 8 == 0 else value(i)} for i in range(1, 61)]
    table.create(connection)
    connection.execute(insert(table), rows)
    connection.commit()
    for shown in ([table.c.id], [table.c.id, table.c.v]):
        listing = Listing(select(*shown), orders=order, sizes=Sizes(7, 100), total="exact")
        truth = [row.id for row in listing.read(connection, size=100)]
        assert sorted(truth) == list(range(1, 61))
        assert walk(listing, connection) == truth


def test_stored_datetimes_of_any_spelling_are_walked(larkmere, tmp_path):
    """SQLite keeps datetimes as text; other writers spell them otherwise than SQLAlchemy does."""
    from sqlalchemy import create_engine

    engine = create_engine(f"sqlite:///{tmp_path / 'spelled.db'}")
    table = Table("m", MetaData(), Column("id", Integer, primary_key=True), Column("at", DateTime))
    spelled = [
        "2026-03-01 05:00:00",
        "2026-03-01 05:00:00.000000",
        "2026-03-01 05:00:00.5",
        "2026-03-01 05:00:00.500000",
        "2026-03-01 05:00:01",
    ]
    with engine.connect() as connection:
        table.create(connection)
        for i in range(1, 41):
            connection.exec_driver_sql("INSERT INTO m VALUES (?, ?)", (i, spelled[i % 5]))
        for order in ("at", "-at", "at,-id"):
            listing = Listing(select(table), orders=order, sizes=Sizes(3, 100))
            truth = [row.id for row in listing.read(connection, size=100)]
            assert walk(listing, connection) == truth
        page = Listing(select(table), orders="at", sizes=Sizes(3)).read(connection)
        assert page.keys[0][0] == spelled[0]  # the text itself, which no datetime stands for
        tidy = Listing(select(table), orders="-at", sizes=Sizes(40)).read(connection)
        assert datetime(2026, 3, 1, 5, 0, 0, 500_000) in [key[0] for key in tidy.keys]
    engine.dispose()


def test_given_keys_may_be_plain_values(made):
    connection, meta = made
    table = Table(
        "given",
        meta,
        Column("id", Integer, primary_key=True),
        Column("at", DateTime),
        Column("c", Enum(Colour)),
    )
    rows = [{"id": i, "at": datetime(2026, 3, i), "c": Colour.red} for i in range(1, 10)]
    table.create(connection)
    connection.execute(insert(table), rows)
    listing = Listing(select(table), orders=["at", "c,id"], sizes=Sizes(4))
    page = listing.read(connection, Spot.after((datetime(2026, 3, 3), 3)))
    assert [row.id for row in page] == [4, 5, 6, 7]
    assert [row.id for row in listing.read(connection, Spot.after(page[-1]))] == [8, 9]


@pytest.mark.engines("postgresql")
def test_infinite_and_not_a_number(made):
    connection, meta = made
    table = Table("n", meta, Column("id", Integer, primary_key=True), Column("v", Double))
    values = [float("inf"), float("-inf"), float("nan"), 0.0, -0.0, None]
    table.create(connection)
    rows = [{"id": i, "v": values[i % 6]} for i in range(1, 31)]
    connection.execute(insert(table), rows)
    for order in ("v,id", "-v,id"):
        listing = Listing(select(table), orders=order, sizes=Sizes(4, 100), total="exact")
        truth = [row.id for row in listing.read(connection, size=100)]
        assert walk(listing, connection) == truth


@pytest.mark.engines("postgresql")
def test_rows_that_the_driver_cannot_read(made):
    connection, meta = made
    table = Table("far", meta, Column("id", Integer, primary_key=True), Column("at", DateTime))
    table.create(connection)
    connection.execute(text("INSERT INTO far VALUES (1, 'infinity')"))
    with pytest.raises(DatabaseError, match="Cast the column"):
        Listing(select(table), orders="id").read(connection)
    connection.rollback()


@pytest.mark.engines("postgresql")
def test_parameters_of_another_type_are_bad_requests(made):
    connection, meta = made
    table = Table("typed", meta, Column("id", Integer, primary_key=True))
    listing = Listing(select(table).where(table.c.id == bindparam("id")), orders="id")
    table.create(connection)
    connection.commit()
    with pytest.raises(PageError, match="does not fit") as caught:
        listing.read(connection, params={"id": "secret text"})
    assert "secret" not in str(caught.value)


def test_types_without_an_order_are_refused():
    table = Table(
        "j",
        MetaData(),
        Column("id", Integer, primary_key=True),
        Column("v", JSON),
        Column("w", postgresql.ARRAY(Integer)),
    )
    for order in ("v", "w"):
        with pytest.raises(OrderError, match="has no order a page can rely on"):
            Listing(select(table), orders=order)


@pytest.mark.engines("postgresql")
def test_a_session_in_another_time_zone_reads_the_same(made):
    connection, meta = made
    table = Table(
        "z", meta, Column("id", Integer, primary_key=True), Column("at", DateTime(timezone=True))
    )
    table.create(connection)
    rows = [{"id": i, "at": datetime(2026, 3, 1, i, tzinfo=UTC)} for i in range(1, 20)]
    connection.execute(insert(table), rows)
    listing = Listing(select(table), orders="-at", sizes=Sizes(5))
    cursor = listing.read(connection).next
    here = listing.read(connection, cursor).rows
    connection.execute(text("SET TIME ZONE 'America/New_York'"))
    assert [row.id for row in listing.read(connection, cursor)] == [r.id for r in here]
