"""Declared keys that do not tell rows apart: child tables, joins that match more than is said."""

from __future__ import annotations

import pytest
from sqlalchemy import (
    Column,
    ForeignKey,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    create_engine,
    select,
    text,
)

from exposed import Listing
from vrelko import FrozenIds, Sizes, Steady
from vrelko.errors import ListingError
from walks import rows_of

STRATEGIES = ("keyset", "offset", "two-ended", "deferred-join")


def walked(listing, connection, params=None):
    rows, at = [], None
    for _ in range(40):
        page = listing.read(connection, at, params=params)
        rows += rows_of(page)
        at = page.next
        if at is None:
            return rows
    raise AssertionError("does not end")


@pytest.fixture
def parent(server):
    """A parent table whose two children share ids."""
    with server.begin() as connection:
        for statement in (
            "DROP TABLE IF EXISTS shared CASCADE",
            "CREATE TABLE shared (id int PRIMARY KEY, k int NOT NULL, kind int NOT NULL)",
            "CREATE TABLE shared_east (CHECK (kind = 1)) INHERITS (shared)",
            "CREATE TABLE shared_west (CHECK (kind = 2)) INHERITS (shared)",
            "INSERT INTO shared_east SELECT i, (i * 7) % 23, 1 FROM generate_series(1, 20) i",
            "INSERT INTO shared_west SELECT i, (i * 5) % 23 + 30, 2 FROM generate_series(1, 20) i",
        ):
            connection.execute(text(statement))
    yield server
    with server.begin() as connection:
        connection.execute(text("DROP TABLE shared CASCADE"))


@pytest.mark.engines("postgresql")
@pytest.mark.parametrize("strategy", STRATEGIES)
def test_children_that_share_ids(parent, strategy):
    table = Table("shared", MetaData(), autoload_with=parent)
    listing = Listing(select(table), name="s", orders="k", sizes=Sizes(6), strategy=strategy)
    plain = select(table).order_by(table.c.k, table.c.id)
    with parent.connect() as connection:
        truth = [tuple(row) for row in connection.execute(plain)]
        assert walked(listing, connection) == truth
        # By branches for each value of a set, which are joined by the key as well.
        kinds = Listing(
            select(table),
            name="s",
            orders="k",
            sizes=Sizes(6),
            strategy=strategy,
            filters={"kinds": table.c.kind.in_(bindparam("kinds", expanding=True))},
        )
        assert walked(kinds, connection, {"kinds": [1, 2]}) == truth
        exported = [tuple(row) for page in listing.walk(connection, size=7) for row in page]
        assert exported == truth


@pytest.mark.engines("postgresql")
def test_a_frozen_list_of_ids_that_are_shared_is_refused(parent, tmp_path):
    lists = FrozenIds(create_engine(f"sqlite:///{tmp_path / 'lists.db'}"))
    lists.create()
    table = Table("shared", MetaData(), autoload_with=parent)
    listing = Listing(
        select(table),
        name="s",
        orders="k",
        sizes=Sizes(6),
        strategy="frozen-ids",
        steady=Steady(frozen=lists),
    )
    with parent.connect() as connection, pytest.raises(ListingError, match="one key"):
        walked(listing, connection)


@pytest.fixture
def matched(server, tmp_path):
    """Codes that differ by case alone, and rows that name them in a column that folds case."""
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path / 'matched.db'}")
    exact, folding = {
        "sqlite": ("VARCHAR(9) COLLATE BINARY", "VARCHAR(9) COLLATE NOCASE"),
    }[server.dialect.name]
    with server.begin() as connection:
        for statement in (
            "DROP TABLE IF EXISTS matched_row",
            "DROP TABLE IF EXISTS matched_code",
            f"CREATE TABLE matched_code (code {exact} NOT NULL PRIMARY KEY, title INT NOT NULL)",
            f"CREATE TABLE matched_row (id INT NOT NULL PRIMARY KEY, code {folding}, k INT)",
        ):
            connection.execute(text(statement))
        for i, code in enumerate(["a", "A", "b", "B", "c", "d"]):
            connection.execute(text(f"INSERT INTO matched_code VALUES ('{code}', {i})"))
        for i in range(24):
            connection.execute(
                text(f"INSERT INTO matched_row VALUES ({i}, '{'aBcd'[i % 4]}', {i // 5})")
            )
    yield server
    with server.begin() as connection:
        connection.execute(text("DROP TABLE matched_row"))
        connection.execute(text("DROP TABLE matched_code"))
    if server.dialect.name == "sqlite":
        server.dispose()


# On MariaDB and PostgreSQL such a comparison goes by the exact collation.
@pytest.mark.engines("sqlite")
@pytest.mark.parametrize("strategy", STRATEGIES)
def test_a_join_that_matches_more_rows_than_the_model_says(matched, strategy):
    """No page repeats a row or leaves one out in silence: all are shown, or none."""
    meta = MetaData()
    code = Table(
        "matched_code", meta, Column("code", String(9), primary_key=True), Column("title", Integer)
    )
    row = Table(
        "matched_row",
        meta,
        Column("id", Integer, primary_key=True),
        Column("code", ForeignKey(code.c.code)),
        Column("k", Integer),
    )
    joined = select(row.c.id, code.c.title).join(code, row.c.code == code.c.code)
    with matched.connect() as connection:
        expected = connection.execute(joined).all()
        # Eight rows match one code, twelve match two.
        assert len(expected) == 36
        try:
            listing = Listing(joined, name="j", orders="k", sizes=Sizes(5), strategy=strategy)
            found = walked(listing, connection)
        except ListingError as error:
            found = error.code
        assert found == "key-tied" or sorted(found) == sorted(map(tuple, expected))
        # With the columns that do tell them apart, all rows are served.
        listing = Listing(
            joined, name="j", orders="k", sizes=Sizes(5), strategy=strategy, unique=["id", "title"]
        )
        assert sorted(walked(listing, connection)) == sorted(map(tuple, expected))
