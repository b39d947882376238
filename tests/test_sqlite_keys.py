"""SQLite's keys that may be NULL, and columns whose rows come from columns of several types."""

from __future__ import annotations

import pytest
from sqlalchemy import (
    Column,
    Integer,
    MetaData,
    String,
    Table,
    create_engine,
    select,
    text,
    union_all,
)
from sqlalchemy.types import NullType

from exposed import Listing
from vrelko import Sizes
from walks import everyway


@pytest.fixture
def connection():
    engine = create_engine("sqlite://")
    with engine.connect() as connection:
        yield connection
    engine.dispose()


def compare(connection, statement, order, truth_order, unique=None, size=3):
    """Walk a listing both ways; hold it equal to the engine's own order."""
    for sign, down in (("", ""), ("-", " DESC")):
        asked = ", ".join(f"{name}{down}" for name in truth_order.split(","))
        truth = [tuple(row) for row in connection.execute(statement.order_by(text(asked)))]
        orders = ",".join(f"{sign}{name}" for name in order.split(","))
        everyway(
            lambda orders=orders: Listing(
                statement,
                name="rows",
                orders=orders,
                unique=unique,
                sizes=Sizes(size),
                total="exact",
            ),
            connection,
            truth,
            size,
        )


KEYS = {
    "INTEGER PRIMARY KEY DESC": True,
    "INT PRIMARY KEY": True,
    "INTEGER PRIMARY KEY": False,
    "INT PRIMARY KEY NOT NULL": False,
    "TEXT PRIMARY KEY": True,
}


@pytest.mark.parametrize("reflected", [True, False])
@pytest.mark.parametrize("key", KEYS)
def test_keys_that_hold_nulls_are_told_apart_by_the_row_id(connection, key, reflected):
    connection.exec_driver_sql(f"CREATE TABLE rows_ (id {key}, v INT)")
    nulls = "(NULL, 2), (NULL, 3), (NULL, 9), (NULL, 2), (NULL, 5)," if KEYS[key] else ""
    connection.exec_driver_sql(f"INSERT INTO rows_ VALUES {nulls} (1, 1), (5, 2), (7, 7), (9, 2)")
    table = Table("rows_", MetaData(), autoload_with=connection)
    if not reflected:
        table = Table(
            "rows_", MetaData(), Column("id", Integer, primary_key=True), Column("v", Integer)
        )
    last = "rowid" if KEYS[key] else "id"
    compare(connection, select(table.c.v), "id", f"id,{last}")
    compare(connection, select(table.c.v, table.c.id), "v", f"v,{last}")


@pytest.mark.parametrize("key", ["INTEGER PRIMARY KEY DESC", "INT PRIMARY KEY", "TEXT PRIMARY KEY"])
def test_a_key_without_row_ids_is_never_null(connection, key):
    connection.exec_driver_sql(f"CREATE TABLE rows_ (id {key}, v INT) WITHOUT ROWID")
    connection.exec_driver_sql("INSERT INTO rows_ VALUES (1, 1), (5, 2), (7, 7), (9, 2), (3, 2)")
    table = Table("rows_", MetaData(), autoload_with=connection)
    compare(connection, select(table), "id", "id")
    compare(connection, select(table), "v", "v,id")


VALUES = ["10", "'10'", "'9'", "9", "'a'", "10.5", "x'31'", "NULL", "''", "100", "'100'", "-2"]
TYPES = ["INTEGER", "TEXT", "BLOB", "REAL", "NUMERIC(8, 2)", "VARCHAR(9)", ""]
USUAL = 4  # of them: the others convert as one of these does


@pytest.fixture
def typed(connection):
    """A table of each type, all with the same values as far as the type keeps them."""
    for number, kind in enumerate(TYPES):
        connection.exec_driver_sql(f"CREATE TABLE t{number} (k {kind}, id INTEGER PRIMARY KEY)")
        for i, value in enumerate(VALUES, 100 * number):
            connection.exec_driver_sql(f"INSERT INTO t{number} VALUES ({value}, {i})")
    return connection


PAIRS = [(one, other) for one in range(len(TYPES)) for other in range(one)]
PAIRS += [(other, one) for one, other in PAIRS]
PARTS = [
    pytest.param([pair for pair in PAIRS if max(pair) < USUAL], id="usual"),
    pytest.param(PAIRS, id="all", marks=pytest.mark.slow),
]


@pytest.mark.slow
@pytest.mark.parametrize(
    "model", [String(), Integer(), NullType()], ids=lambda one: type(one).__name__
)
@pytest.mark.parametrize("pairs", PARTS)
def test_views_of_columns_of_several_types(typed, pairs, model):
    """10 and '10' are two values there, which a column of either type would take for one."""
    typed.exec_driver_sql("CREATE VIEW pair AS SELECT k, id FROM t0")
    for one, other in pairs:
        typed.exec_driver_sql("DROP VIEW IF EXISTS inner_pair")
        typed.exec_driver_sql("DROP VIEW pair")
        typed.exec_driver_sql(
            f"CREATE VIEW inner_pair AS SELECT k, id FROM t{one} "
            f"UNION ALL SELECT k, id FROM t{other}"
        )
        typed.exec_driver_sql("CREATE VIEW pair AS SELECT k, id FROM inner_pair WHERE id >= 0")
        key = Column("id", Integer, primary_key=True)
        pair = Table("pair", MetaData(), Column("k", model), key)
        compare(typed, select(pair.c.id), "k,id", "k,id", size=9)


@pytest.mark.parametrize("pairs", PARTS)
def test_unions_of_columns_of_several_types(typed, pairs):
    # Without a type in the model: a reflected NUMERIC could not read 'a'.
    tables = [
        Table(f"t{i}", MetaData(), Column("k"), Column("id", Integer, primary_key=True))
        for i in range(len(TYPES))
    ]
    for pair in pairs:
        members = [select(tables[i].c.k, tables[i].c.id) for i in pair]
        rows = union_all(*members).subquery("rows_")
        compare(typed, select(rows.c.id), "k,id", "k,id", unique=["id"], size=9)
        merged = union_all(*members)
        listing = Listing(merged, name="m", orders="k,id", unique=["id"], sizes=Sizes(5))
        walked = [row.id for page in listing.walk(typed, size=5) for row in page]
        ordered = select(rows.c.id).order_by(rows.c.k, rows.c.id)
        assert walked == list(typed.scalars(ordered))
