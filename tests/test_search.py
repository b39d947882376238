"""Text search: prefixes, parts and words, with orders of its own, on real servers."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import (
    Column,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    collate,
    insert,
    select,
    text,
)

from exposed import Listing
from vrelko import Search, Sizes
from vrelko.engines.counters import count_reads
from vrelko.errors import CursorError, ListingError, OrderError

t = Table(
    "found",
    MetaData(),
    Column("id", Integer, primary_key=True),
    Column("ring", String(30), nullable=False),
    Column("note", String(80)),
    Index("found_by_ring", "ring", "id"),
)
PARTS = [
    "L",
    "L1",
    "L10",
    "l1",
    "%",
    "_",
    "a%b",
    "a_b",
    "axb",
    "/",
    "a/b",
    "\\",
    "é",
    "\ud7ff",
    "'",
]
RINGS = [f"{part}{i % 7}" for i, part in enumerate(PARTS * 20)]
NOTES = ["red bird", "blue bird", "a red ring", None, "birds of red"]


@pytest.fixture(scope="module")
def connection(server):
    with server.connect() as connection:
        t.create(connection)
        rows = [{"id": i, "ring": ring, "note": NOTES[i % 5]} for i, ring in enumerate(RINGS, 1)]
        connection.execute(insert(t), rows)
        if server.dialect.name == "mariadb":
            connection.execute(text("CREATE FULLTEXT INDEX found_words ON found (note)"))
        connection.commit()
        yield connection
        connection.rollback()
        t.drop(connection)
        connection.commit()


def listing(how, columns=("ring",), **settings):
    return Listing(
        select(t.c.id, t.c.ring),
        name="found",
        orders="-id",
        sizes=Sizes(20, 400),
        total="exact",
        search=Search(columns, how, orders=["ring"]),
        **settings,
    )


def walk(one, connection, params, **request):
    page = one.read(connection, params=params, **request)
    rows = list(page)
    while page.next is not None:
        page = one.read(connection, page.next, params=params, **request)
        rows += page
    return rows


@given(asked=st.sampled_from(PARTS) | st.text("L10%_/a'\\é", min_size=1, max_size=3))
@settings(max_examples=40)
def test_prefixes_and_parts_are_those_of_python(connection, asked):
    if not asked.strip():
        return
    for how, fits in (("prefix", str.startswith), ("contains", str.__contains__)):
        rows = walk(listing(how), connection, {"search": asked}, order="-id")
        folds = connection.dialect.name == "sqlite" and how == "contains"  # LIKE there, ASCII alone
        wanted = [
            i
            for i, ring in enumerate(RINGS, 1)
            if fits(_fold(ring) if folds else ring, _fold(asked) if folds else asked)
        ]
        assert [row.id for row in rows] == wanted[::-1], (how, asked)


def _fold(text):
    return "".join(c.lower() if c.isascii() else c for c in text)


def test_its_own_orders_go_first_and_only_while_searching(connection):
    one = listing("prefix")
    rows = walk(one, connection, {"search": "L1"})
    assert [(row.ring, row.id) for row in rows] == sorted((row.ring, row.id) for row in rows)
    plain = one.read(connection)
    assert plain.scalars()[0] == len(RINGS)
    assert one.read(connection, params={"search": "  "}).rows == plain.rows
    with pytest.raises(OrderError, match="'-id'"):
        one.read(connection, order="ring")
    with pytest.raises(CursorError):
        one.read(connection, plain.next, params={"search": "L1"})


def test_a_prefix_reads_a_page_of_its_index(connection):
    one = listing("prefix")
    params = {"search": "L1"}
    page = one.read(connection, params=params, total=False)
    reads = count_reads(
        connection, lambda: one.read(connection, page.next, params=params, total=False)
    )
    assert reads.entries < (600 if connection.dialect.name == "sqlite" else 150)


def test_words(connection):
    words = listing("words", ["note"])
    if connection.dialect.name == "sqlite":
        with pytest.raises(ListingError, match="contains"):
            words.read(connection, params={"search": "red"})
        return
    rows = walk(words, connection, {"search": "red"}, order="-id")
    wanted = [i for i in range(1, len(RINGS) + 1) if "red" in (NOTES[i % 5] or "")]
    assert [row.id for row in rows] == wanted[::-1]


def test_searches_that_cannot_be():
    for bad in ({"columns": [], "how": "prefix"}, {"columns": ["ring"], "how": "fuzzy"}):
        with pytest.raises(ListingError):
            Search(**bad)
    with pytest.raises(OrderError, match="Did you mean 'ring'"):
        listing("prefix", ["rings"])


@pytest.mark.engines("postgresql")
@pytest.mark.parametrize("how", ["prefix", "contains", "words"])
def test_a_collation_that_like_does_not_take(server, how):
    """Before version 18 PostgreSQL refuses LIKE where different texts are equal."""
    table = Table(
        "folded",
        MetaData(),
        Column("id", Integer, primary_key=True),
        Column("note", String(40)),
    )
    folding = "(provider = icu, locale = 'und-u-ks-level2', deterministic = false)"
    with server.begin() as connection:
        connection.execute(text(f"CREATE COLLATION folding {folding}"))
        connection.execute(
            text("CREATE TABLE folded (id int PRIMARY KEY, note varchar(40) COLLATE folding)")
        )
        connection.execute(insert(table), [{"id": 1, "note": "red"}, {"id": 2, "note": "blue"}])

    def found(column):
        listing = Listing(
            select(table.c.id), name="f", orders="id", search=Search(columns=[column], how=how)
        )
        return listing.read(server, params={"search": "red"}).scalars()

    refused = how != "words" and server.dialect.server_version_info < (18,)
    with server.connect() as connection:
        if refused:
            with pytest.raises(ListingError, match="'note' has the nondeterministic collation"):
                found("note")
        else:
            assert found("note") == [1]
    assert found(collate(table.c.note, "C")) == [1]
    with server.begin() as connection:
        connection.execute(text("DROP TABLE folded"))
        connection.execute(text("DROP COLLATION folding"))
