"""Random tables, orders, sizes and walks, held equal to sorting in Python."""

from __future__ import annotations

from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date, datetime
from functools import partial

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import (
    BigInteger,
    Boolean,
    Column,
    Date,
    DateTime,
    Double,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    bindparam,
    insert,
    select,
)
from sqlalchemy.dialects import mysql

from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.engines.registry import capabilities_of

MOMENT = DateTime().with_variant(mysql.DATETIME(fsp=6), "mysql", "mariadb")
VALUES = {
    "a": (Integer, st.integers(0, 3)),
    "b": (Double, st.sampled_from([-0.0, 0.1, 1 / 3, 1e300, -7.25])),
    "c": (String(20), st.sampled_from(["", "a", "A", "é", "zz", "'; --"])),
    "d": (MOMENT, st.sampled_from([datetime(2026, 3, 1, 5), datetime(2026, 3, 1, 5, 0, 0, 7)])),
    "e": (Date, st.sampled_from([date(2026, 3, 1), date(2025, 12, 31)])),
    "f": (Boolean, st.booleans()),
    "g": (LargeBinary, st.binary(max_size=2)),
    "h": (BigInteger, st.sampled_from([-(2**63), 2**63 - 1, 2**53 + 1, 2**53])),
}
KEYS = {"rowid": [Column("id", Integer, primary_key=True)],
        "bigint": [Column("id", BigInteger, primary_key=True)],
        "two": [Column("p", Integer, primary_key=True), Column("q", Integer, primary_key=True)],
        "without": [Column("id", Integer, primary_key=True)]}  # fmt: skip


FILTERS = {
    "eq": (lambda column: column == bindparam("s"), lambda value, s: value == s),
    "ge": (lambda column: column >= bindparam("s"), lambda value, s: value >= s),
    "in": (lambda column: column.in_(bindparam("s", expanding=True)), lambda value, s: value in s),
}


@dataclass
class Case:
    """A listing over a table with rows, and what it should show."""

    table: Table
    rows: list
    order: str
    size: int
    all_columns: bool
    filter: str | None
    sought: object

    @property
    def keys(self):
        return list(self.table.primary_key.columns)

    @property
    def params(self):
        return {} if self.filter is None else {"s": self.sought}

    def shown(self):
        if self.filter is None:
            return self.rows
        return [row for row in self.rows if FILTERS[self.filter][1](row["s"], self.sought)]

    def listing(self, **given):
        return Listing(
            select(self.table) if self.all_columns else select(*self.keys),
            orders=self.order,
            filters={"s": FILTERS[self.filter or "eq"][0](self.table.c.s)},
            **given,
        )


@st.composite
def tables(draw):
    """A table with rows, an order, a filter and a page size."""
    key = draw(st.sampled_from(sorted(KEYS)))
    names = draw(st.lists(st.sampled_from(sorted(VALUES)), min_size=1, max_size=3, unique=True))
    nullable = {name: draw(st.booleans()) for name in names}
    table = Table(
        "t",
        MetaData(),
        *_copies(key),
        Column("s", Integer, nullable=False),
        *[Column(name, VALUES[name][0], nullable=nullable[name]) for name in names],
        sqlite_with_rowid=key != "without",
    )
    shapes = [st.none() | VALUES[name][1] if nullable[name] else VALUES[name][1] for name in names]
    values = draw(st.lists(st.tuples(*shapes), max_size=40))
    ids = draw(st.permutations(range(1, len(values) + 1)))
    rows = []
    for i, value in zip(ids, values, strict=True):
        keys = {"p": i // 3, "q": i % 3} if key == "two" else {"id": i}
        rows.append({**keys, "s": i % 3, **dict(zip(names, value, strict=True))})
    terms = []
    for name in names:
        place = draw(st.sampled_from(["", ":nulls-first", ":nulls-last"]))
        terms.append(draw(st.sampled_from(["", "-"])) + name + place)
    if "g" not in names and draw(st.booleans()):
        Index("t_s", table.c.s, *[table.c[name] for name in names], *table.primary_key.columns)
    kind = draw(st.sampled_from([None, *FILTERS]))
    sought = draw(st.lists(st.integers(0, 3), max_size=3) if kind == "in" else st.integers(0, 3))
    size, all_columns = draw(st.integers(1, 7)), draw(st.booleans())
    return Case(table, rows, ",".join(terms), size, all_columns, kind, sought)


def _copies(key):
    return [Column(c.name, c.type, primary_key=True) for c in KEYS[key]]


def expected(server, case):
    """Sort in Python: the reference. The servers here compare text by code points."""
    nulls_low = capabilities_of(server.dialect.name).nulls_low
    keys, rows = [column.name for column in case.keys], case.shown()
    terms = [part.partition(":") for part in case.order.split(",")]
    last_descends = terms[-1][0].startswith("-")
    for name in reversed(keys):
        rows = sorted(rows, key=lambda row: row[name], reverse=last_descends)
    for body, _, place in reversed(terms):
        name, down = body.lstrip("-"), body.startswith("-")
        first = place == "nulls-first" or (not place and nulls_low != down)
        full = [row for row in rows if row[name] is not None]
        none = [row for row in rows if row[name] is None]
        full = sorted(full, key=lambda row: row[name], reverse=down)
        rows = none + full if first else full + none
    return [tuple(row[key] for key in keys) for row in rows]


@contextmanager
def connected(server, table, rows):
    """Lend a connection on which the table stands, and drop it again."""
    with server.connect() as connection:
        table.create(connection)
        try:
            if rows:
                connection.execute(insert(table), rows)
            connection.commit()
            yield connection
        finally:
            connection.rollback()
            table.drop(connection)
            connection.commit()


@pytest.mark.parametrize(
    "strategy",
    [
        "keyset",
        *(
            pytest.param(one, marks=pytest.mark.slow)
            for one in ("offset", "two-ended", "deferred-join")
        ),
    ],
)
@given(case=tables())
def test_walks_equal_sorting(server, strategy, case):
    truth, size, keys = expected(server, case), case.size, case.keys
    listing = case.listing(sizes=Sizes(size), strategy=strategy, total="exact")
    with connected(server, case.table, case.rows) as connection:
        read = partial(listing.read, connection, params=case.params)
        pages = [read()]
        while (cursor := pages[-1].next) is not None:
            pages.append(read(cursor))
        assert [ids(page, keys) for page in pages] == chunks(truth, size)
        assert [page.number for page in pages] == list(range(1, len(pages) + 1))
        assert {page.total.value for page in pages} == {len(truth)}
        assert {page.last_number for page in pages} == {len(pages)}
        assert pages[0].prev is pages[0].first is pages[-1].last is None

        back = [read(Spot.end())]
        while (cursor := back[-1].prev) is not None:
            back.append(read(cursor))
        assert [ids(page, keys) for page in reversed(back)] == chunks(truth, size)
        assert back[0].next is None


@pytest.mark.slow
@given(case=tables(), moves=st.lists(st.sampled_from(["next", "prev", "jump"]), max_size=12))
def test_random_moves_stay_on_the_numbered_pages(server, case, moves):
    truth, keys = chunks(expected(server, case), case.size), case.keys
    listing = case.listing(sizes=Sizes(case.size))
    with connected(server, case.table, case.rows) as connection:
        read = partial(listing.read, connection, params=case.params)
        page, here = read(), 0
        for i, move in enumerate(moves):
            if move == "jump":
                here = i * 7 % len(truth)
                page = read(Spot.number(here + 1))
            else:
                cursor = page.next if move == "next" else page.prev
                inside = 0 <= here + (1 if move == "next" else -1) < len(truth)
                assert (cursor is not None) == inside
                if cursor is None:
                    continue
                here += 1 if move == "next" else -1
                page = read(cursor)
            assert ids(page, keys) == truth[here]
            assert (page.next is None) == (here == len(truth) - 1)
            assert (page.prev is None) == (here == 0)
            again = read(page.self)
            assert ids(again, keys) == truth[here]


@pytest.mark.slow
@given(case=tables(), cut=st.integers(0, 40))
def test_before_and_after_any_row_are_its_neighbours(server, case, cut):
    truth, size, keys = expected(server, case), case.size, case.keys
    if not truth:
        return
    cut %= len(truth)
    listing = case.listing(sizes=Sizes(100, max=None))
    with connected(server, case.table, case.rows) as connection:
        read = partial(listing.read, connection, params=case.params)
        whole = read()
        assert ids(whole, keys) == truth
        behind = read(whole.cursor(cut), size=size)
        assert ids(behind, keys) == truth[cut + 1 : cut + 1 + size]
        ahead = read(behind.before, size=size)
        if behind:
            assert ids(ahead, keys) == truth[max(cut + 1 - size, 0) : cut + 1]


def ids(page, keys):
    return [tuple(getattr(row, key.name) for key in keys) for row in page]


def chunks(rows, size):
    return [rows[i : i + size] for i in range(0, len(rows), size)] or [[]]
