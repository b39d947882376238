"""Models whose types compare, read or write values in ways of their own, in Python and in SQL.

What counts is the database's order of the values that it holds: every page must hold the rows of
one plain statement, by every strategy, in exports, and in the parts of a walk.
"""

from __future__ import annotations

from datetime import datetime

import pytest
from sqlalchemy import (
    Column,
    Integer,
    MetaData,
    String,
    Table,
    create_engine,
    select,
    union,
    union_all,
)
from sqlalchemy.types import DateTime

from converting import Compared, Later, Lowered, Mail, Negated, OwnText, Shifted, Shouted
from exposed import Listing
from vrelko import FrozenIds, Sizes, Spot, Steady
from vrelko.errors import ListingError
from walks import everyway, rows_of

WORDS = ["a", "A", "b", "B", "Ab", "aB", "ab", "AB", "c", "C", "ca", "cA"]


TEXTS = [
    Mail(),
    Compared(40),
    Shouted(40),
    Lowered(40),
    OwnText(),
    String(40).with_variant(Shouted(40), *("sqlite", "postgresql", "mysql", "mariadb")),
]
NUMBERS = [Shifted(), Negated()]
MOMENTS = [Later()]
PLAIN = {"texts": String(40), "numbers": Integer(), "moments": DateTime()}
VALUES = {
    "texts": WORDS,
    "numbers": [5, -3, 11, 10, 0, 7, -10, 21],
    "moments": [datetime(2026, 3, day, hour) for day in (28, 29, 30) for hour in (0, 1, 2, 23)],
}
CASES = [
    (kind, model)
    for kind, models in (("texts", TEXTS), ("numbers", NUMBERS), ("moments", MOMENTS))
    for model in models
]


def stored(kind, key):
    """The table as the database has it; `key` makes the values its primary key."""
    unique = Column("v", PLAIN[kind], primary_key=True, autoincrement=False)
    row_id = Column("id", Integer, primary_key=True, autoincrement=False)
    if key:
        return Table("converting", MetaData(), unique, Column("id", Integer))
    return Table("converting", MetaData(), row_id, Column("v", PLAIN[kind]))


@pytest.mark.parametrize(
    "key", [False, pytest.param(True, marks=pytest.mark.slow)], ids=["order", "key"]
)
@pytest.mark.parametrize(("kind", "model"), CASES, ids=lambda one: type(one).__name__)
def test_rows_are_those_of_the_engines_own_order(server, kind, model, key, tmp_path):
    table, values = stored(kind, key), VALUES[kind]
    lists = FrozenIds(create_engine(f"sqlite:///{tmp_path / 'lists.db'}"))
    lists.create()
    if server.dialect.name == "mariadb" and kind == "texts":  # whose usual collation folds case
        table.c.v.type = String(40, collation="utf8mb4_bin")
    with server.connect() as connection:
        table.create(connection)
        try:
            # As a key each value once; as an order several times, and NULLs too.
            held = values if key else [*values, None] * 2
            rows = [{"id": i, "v": v} for i, v in enumerate(held, 1)]
            connection.execute(table.insert(), rows)
            connection.commit()
            other = Table("converting", MetaData(), *(
                Column(c.name, model if c.name == "v" else c.type, primary_key=c.primary_key)
                for c in table.c
            ))  # fmt: skip
            compare(connection, table, other, lists)
        finally:
            connection.rollback()
            table.drop(connection)
            connection.commit()


def compare(connection, table, other, lists):
    for direction in ("", "-"):
        order = table.c.v.desc() if direction else table.c.v
        last = table.c.id.desc() if direction else table.c.id
        empty = table.c.v.is_(None)
        plain = select(table.c.id).order_by(empty, order, last)
        truth = [tuple(row) for row in connection.execute(plain)]
        orders = f"{direction}v:nulls-last,{direction}id"

        def make(strategy="keyset", orders=orders, **more):
            return Listing(
                select(other.c.id),
                name="converting",
                orders=orders,
                sizes=Sizes(5),
                strategy=strategy,
                total="exact",
                **more,
            )

        everyway(make, connection, truth, 5)
        for strategy in ("offset", "two-ended", "deferred-join", "frozen-ids"):
            kept = {"steady": Steady(frozen=lists)} if strategy == "frozen-ids" else {}
            listing, at, walked = make(strategy, **kept), None, []
            while True:
                page = listing.read(connection, at)
                walked += rows_of(page)
                at = page.next
                if at is None:
                    break
            assert walked == truth, strategy
        parts = [
            row
            for start, until in make().ranges(connection, 3)
            for page in make().walk(connection, size=5, start=start, until=until)
            for row in rows_of(page)
        ]
        assert parts == truth
        for place in (3, len(truth) - 1):
            key = make().read(connection, Spot.offset(place)).keys[0]
            assert make().where_is(connection, key).offset == place


@pytest.mark.parametrize("merged", ["distinct", "union"])
def test_rows_merged_by_values_that_a_type_converts_in_sql_are_refused(merged):
    """By which values rows are merged would depend on what a page adds around the select."""
    table = Table("t", MetaData(), Column("id", Integer, primary_key=True), Column("v", Lowered(9)))
    shown = select(table.c.v)
    statement = shown.distinct() if merged == "distinct" else union(shown, shown)
    with pytest.raises(ListingError, match="'v', whose type changes its values in SQL") as refused:
        Listing(statement, orders="v")
    assert refused.value.code == "select-converted"
    Listing(union_all(shown, shown), orders="v", unique=["v"])
