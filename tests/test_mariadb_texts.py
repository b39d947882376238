"""MariaDB: collations that tell accents and case apart, sorted by a part of what is compared."""

from __future__ import annotations

import asyncio
import random

import pytest
from sqlalchemy import Column, Integer, LargeBinary, MetaData, Table, select, text, union_all
from sqlalchemy.exc import DBAPIError
from sqlalchemy.ext.asyncio import create_async_engine

from exposed import Listing
from servers import async_url
from vrelko import Sizes
from vrelko.sql.mariadb_keys import sorted_characters
from walks import everyway

pytestmark = pytest.mark.engines("mariadb")

SHORT = ["a", "A", "á", "Á", "à", "b", "B", "ab", "AB", "Ab", "áb", "z", "Z", "ß", "ss", "æ", None]
COLLATIONS = [
    "utf8mb4_bin",
    "utf8mb4_general_ci",
    "utf8mb4_unicode_520_ci",
    "utf8mb4_nopad_bin",
    "uca1400_ai_ci",
    "uca1400_as_ci",
    "uca1400_ai_cs",
    "uca1400_as_cs",
    "uca1400_nopad_as_cs",
]
QUICK = ("utf8mb4_bin", "uca1400_as_cs")
WIDTHS = (30, 64, 1_000)
SESSIONS = [
    pytest.param(64, marks=pytest.mark.slow),
    1_024,
    pytest.param(8_192, marks=pytest.mark.slow),
]


def words(width, collation, bytes_):
    """Short words, and long ones that differ at the end of what is sorted."""
    draw = random.Random(f"{width} {collation} {bytes_}")
    sorted_ = min(sorted_characters(collation, bytes_), width)
    head = "".join(draw.choice("aAáÁbBßæ한 z") for _ in range(max(sorted_ - 2, 0)))
    return [*SHORT, *(f"{head}{end}"[:width] for end in ("a", "A", "á", "ab", "Ab", "aB"))]


@pytest.fixture
def connection(server):
    with server.connect() as connection:
        yield connection
        connection.rollback()
        connection.execute(text("DROP TABLE IF EXISTS worded"))
        connection.execute(text("DROP VIEW IF EXISTS worded_view"))
        connection.execute(text("SET max_sort_length = DEFAULT"))
        connection.commit()


def fill(connection, width, collation, bytes_):
    ddl = f"id INT PRIMARY KEY, k VARCHAR({width}) CHARACTER SET utf8mb4 COLLATE {collation}"
    connection.execute(text("DROP TABLE IF EXISTS worded"))
    connection.execute(text(f"CREATE TABLE worded ({ddl})"))
    table = Table("worded", MetaData(), autoload_with=connection)
    values = words(width, collation, bytes_) * 2
    rows = [{"id": (i * 7) % 211, "k": word} for i, word in enumerate(values)]
    connection.execute(table.insert(), rows)
    connection.commit()
    return table


def truth_of(connection, sorted_, width, sign):
    """The order by comparisons alone, each row's place counted: no sorting could cut values."""
    k = "{0}.k" if width <= sorted_ else f"LEFT({{0}}.k, {sorted_})"
    mine, other, sooner = k.format("a"), k.format("b"), ">" if sign else "<"
    # NULLs come last either way.
    ahead = (
        f"(b.k IS NOT NULL AND a.k IS NULL) OR {other} {sooner} {mine} "
        f"OR ({other} <=> {mine} AND b.id {sooner} a.id)"
    )
    asked = f"SELECT a.id FROM worded a ORDER BY (SELECT count(*) FROM worded b WHERE {ahead})"
    return [tuple(row) for row in connection.execute(text(asked))]


@pytest.mark.parametrize("bytes_", SESSIONS)
@pytest.mark.parametrize(
    "collation",
    [name if name in QUICK else pytest.param(name, marks=pytest.mark.slow) for name in COLLATIONS],
)
def test_rows_are_sorted_as_they_are_compared(connection, collation, bytes_):
    try:
        connection.execute(text(f"SELECT _utf8mb4'a' COLLATE {collation}"))
    except DBAPIError:
        pytest.skip(f"the server has no collation {collation}: take MariaDB 10.10 or newer")
    connection.execute(text(f"SET max_sort_length = {bytes_}"))
    sorted_ = sorted_characters(collation, bytes_)
    for width in WIDTHS:
        table = fill(connection, width, collation, bytes_)
        connection.execute(text("CREATE OR REPLACE VIEW worded_view AS SELECT * FROM worded"))
        for sign in ("", "-"):
            truth = truth_of(connection, sorted_, width, sign)

            def make(statement, sign=sign):
                orders = f"{sign}k:nulls-last,{sign}id"
                return Listing(
                    statement, name="w", orders=orders, unique=["id"], sizes=Sizes(9), total="exact"
                )

            everyway(lambda make=make, one=table: make(select(one.c.id)), connection, truth, 9)
            view = Table(
                "worded_view", MetaData(), Column("id", Integer, primary_key=True), Column("k")
            )
            walk = make(select(view.c.id)).walk(connection, size=5)
            assert [tuple(row) for page in walk for row in page] == truth
            halves = [select(table.c.id, table.c.k).where(table.c.id % 2 == one) for one in (0, 1)]
            merged = make(union_all(*halves))
            walk = merged.walk(connection, size=5)
            assert [(row.id,) for page in walk for row in page] == truth


def test_sets_of_64_members(connection):
    members = ", ".join(f"'m{i}'" for i in range(64))
    connection.execute(text(f"CREATE TABLE worded (id INT PRIMARY KEY, k SET({members}))"))
    values = ["m63", "m63,m0", "m63,m1", "m0", "", "m63,m62", "m62", "m63,m1,m0"]
    for i, value in enumerate(values * 3):
        connection.execute(text(f"INSERT INTO worded VALUES ({i}, '{value}')"))
    table = Table("worded", MetaData(), Column("id", Integer, primary_key=True), Column("k"))
    for sign in ("", "-"):
        down = " DESC" if sign else ""
        plain = text(f"SELECT id FROM worded ORDER BY k{down}, id{down}")
        truth = [tuple(row) for row in connection.execute(plain)]
        everyway(
            lambda sign=sign: Listing(
                select(table.c.id), name="s", orders=f"{sign}k", sizes=Sizes(5), total="exact"
            ),
            connection,
            truth,
            5,
        )


def test_keys_of_bytes_on_the_asynchronous_driver(server):
    table = Table(
        "worded",
        MetaData(),
        Column("id", LargeBinary(8), primary_key=True),
        Column("n", Integer),
    )

    async def walk():
        engine = create_async_engine(async_url(server))
        async with engine.begin() as connection:
            await connection.execute(
                text("CREATE TABLE worded (id VARBINARY(8) PRIMARY KEY, n INT)")
            )
            for i in range(20):
                value = f"x'{i * 7 % 256:02x}ff{i:02x}'"
                await connection.execute(text(f"INSERT INTO worded VALUES ({value}, {i})"))
        listing = Listing(select(table), name="b", orders="id", sizes=Sizes(6))
        async with engine.connect() as connection:
            found, at = [], None
            for _ in range(5):
                page = await listing.aread(connection, at)
                found += [row.n for row in page]
                at = page.next
                if at is None:
                    break
            ordered = await connection.execute(text("SELECT n FROM worded ORDER BY id"))
            truth = list(ordered.scalars())
        async with engine.begin() as connection:
            await connection.execute(text("DROP TABLE worded"))
        await engine.dispose()
        return found, truth

    found, truth = asyncio.run(walk())
    assert found == truth
