"""Tables spread over several servers: right pages, and no more rows over the wire than a few."""

import random
from datetime import datetime, timedelta

import pytest
from sqlalchemy import Column, DateTime, Integer, MetaData, Table, create_engine, insert, select
from sqlalchemy.dialects import mysql

from exposed import Listing
from shards import mariadb_cluster, postgresql_cluster
from vrelko import Sizes, Spot, Steady
from vrelko.errors import ListingError

pytestmark = pytest.mark.slow  # starts servers of its own
MOMENT = DateTime().with_variant(mysql.DATETIME(), "mariadb", "mysql")
t = Table(
    "capture",
    MetaData(),
    Column("id", Integer, primary_key=True),
    Column("caught_at", MOMENT, nullable=False),
    Column("weight", Integer),
    Column("station", Integer, nullable=False),
)
ROWS = [
    {"id": i, "caught_at": datetime(2026, 1, 1) + timedelta(minutes=10 * (i * 7919 % 900)),
     "weight": None if i % 10 == 0 else i * 31 % 50, "station": i * 13 % 30}
    for i in range(1, 6_001)
]  # fmt: skip


def script(engine, *statements):
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        for one in statements:
            connection.exec_driver_sql(one)


@pytest.fixture(scope="module")
def foreign():
    """PostgreSQL: `capture` partitioned over two servers, and `single`, a foreign table alone."""
    with postgresql_cluster() as urls:
        head, *shards = [create_engine(url) for url in urls]
        for i, shard in enumerate(shards):
            script(
                shard,
                "CREATE TABLE part (id int PRIMARY KEY, caught_at timestamp NOT NULL, "
                "weight int, station int NOT NULL)",
                "CREATE INDEX part_at ON part (caught_at, id)",
                "CREATE INDEX part_weight ON part (weight, id)",
            )
            port = shard.url.port
            script(
                head,
                "CREATE EXTENSION IF NOT EXISTS postgres_fdw",
                f"CREATE SERVER s{i} FOREIGN DATA WRAPPER postgres_fdw OPTIONS "
                f"(host '127.0.0.1', port '{port}', dbname 'postgres')",
                f"CREATE USER MAPPING FOR postgres SERVER s{i} OPTIONS (user 'postgres')",
            )
        script(
            head,
            "CREATE TABLE capture (id int NOT NULL, caught_at timestamp NOT NULL, weight int, "
            "station int NOT NULL) PARTITION BY HASH (id)",
            *[
                f"CREATE FOREIGN TABLE capture_{i} PARTITION OF capture FOR VALUES WITH "
                f"(MODULUS 2, REMAINDER {i}) SERVER s{i} OPTIONS (table_name 'part')"
                for i in range(2)
            ],
            "CREATE FOREIGN TABLE single (id int NOT NULL, caught_at timestamp NOT NULL, "
            "weight int, station int NOT NULL) SERVER s0 OPTIONS (table_name 'part')",
        )
        with head.begin() as connection:
            connection.execute(insert(t), ROWS)
        for shard in shards:
            script(shard, "ANALYZE")
        yield head, shards
        for engine in (head, *shards):
            engine.dispose()


@pytest.fixture(scope="module")
def spider():
    """MariaDB: `capture` by Spider, partitioned over two servers."""
    with mariadb_cluster() as urls:
        head, *shards = [create_engine(url) for url in urls]
        for shard in shards:
            script(
                shard,
                "CREATE DATABASE data",
                "CREATE TABLE data.capture (id int PRIMARY KEY, caught_at datetime NOT NULL, "
                "weight int, station int NOT NULL, KEY (caught_at, id), KEY (weight, id))",
                "CREATE USER far@127.0.0.1 IDENTIFIED BY 'far'",
                "GRANT ALL ON data.* TO far@127.0.0.1",
            )
        script(
            head,
            "CREATE DATABASE data",
            *[
                f"CREATE SERVER s{i} FOREIGN DATA WRAPPER mysql OPTIONS (HOST '127.0.0.1', "
                f"PORT {shard.url.port}, DATABASE 'data', USER 'far', PASSWORD 'far')"
                for i, shard in enumerate(shards)
            ],
            "CREATE TABLE data.capture (id int PRIMARY KEY, caught_at datetime NOT NULL, "
            "weight int, station int NOT NULL, KEY (caught_at, id), KEY (weight, id)) "
            'ENGINE=SPIDER COMMENT=\'wrapper "mysql", table "capture"\' '
            "PARTITION BY KEY (id) (PARTITION a COMMENT='srv \"s0\"', "
            "PARTITION b COMMENT='srv \"s1\"')",
        )
        engine = create_engine(head.url.set(database="data"))
        with engine.begin() as connection:
            connection.execute(insert(t), ROWS)
        yield engine, shards
        for one in (engine, head, *shards):
            one.dispose()


def truth(order, rows=ROWS):
    name, down = order.lstrip("-").partition(":")[0], order.startswith("-")
    rows = sorted(rows, key=lambda row: row["id"], reverse=down)
    full = [row for row in rows if row[name] is not None]
    full.sort(key=lambda row: row[name], reverse=down)
    none = [row for row in rows if row[name] is None]
    return [row["id"] for row in (none + full if "first" in order else full + none)]


ORDERS = ["caught_at", "-caught_at", "weight:nulls-first", "-weight:nulls-last", "station"]


def check_pages(engine, table=t, rows=ROWS):
    """A hundred pages at random places, both ways, against sorting in Python."""
    dice = random.Random(5)
    listing = Listing(select(table.c.id), orders=ORDERS, sizes=Sizes(25), total="none")
    with engine.connect() as connection:
        for order in ORDERS:
            expected = truth(order, rows)
            for _ in range(20):
                at = dice.randrange(len(expected))
                jump = listing.read(connection, Spot.offset(at), order=order, size=1)
                assert jump.scalars() == expected[at : at + 1]
                behind = listing.read(connection, jump.after, order=order)
                assert behind.scalars() == expected[at + 1 : at + 26]
                ahead = listing.read(connection, jump.before, order=order)
                assert ahead.scalars() == expected[max(at - 25, 0) : at]


def test_pages_of_partitions_on_other_servers_are_right(foreign):
    check_pages(foreign[0])
    alone = Table(
        "single",
        MetaData(),
        *[Column(c.name, c.type, nullable=c.nullable, primary_key=c.primary_key) for c in t.c],
    )
    with foreign[1][0].connect() as shard:
        held = {row[0] for row in shard.exec_driver_sql("SELECT id FROM part")}
    check_pages(foreign[0], alone, [row for row in ROWS if row["id"] in held])


def test_a_page_fetches_few_rows_of_other_servers(foreign):
    """By a row value alone a page fetches all rows behind its key: 6,000 here."""
    head = foreign[0]
    listing = Listing(select(t), orders="caught_at", sizes=Sizes(25), total="none")
    with head.connect() as connection:
        page = listing.read(connection, Spot.offset(3_000))
        page = listing.read(connection, page.next)
        (asked,) = page.statements
        compiled = asked.select.compile(connection, compile_kwargs={"render_postcompile": True})
        plan = connection.exec_driver_sql(
            f"EXPLAIN (ANALYZE, FORMAT JSON) {compiled}",
            {name: asked.values.get(name, value) for name, value in compiled.params.items()},
        ).scalar()
    assert fetched(plan[0]["Plan"]) < 500


def fetched(node):
    """Rows that foreign scans fetched, those removed afterwards too."""
    own = 0
    if node["Node Type"] == "Foreign Scan":
        own = node["Actual Rows"] + node.get("Rows Removed by Filter", 0)
    return own + sum(fetched(one) for one in node.get("Plans", ()))


def test_pages_of_a_spread_table_are_right(spider):
    check_pages(spider[0])


def test_a_ceiling_is_refused_where_it_would_lose_rows(spider):
    listing = Listing(
        select(t.c.id),
        orders="caught_at",
        strategy="offset",
        steady=Steady(ceiling=True),
        sizes=Sizes(25),
        total="none",
    )
    with spider[0].connect() as connection:
        page = listing.read(connection)
        with pytest.raises(ListingError, match="spread"):
            listing.read(connection, page.next)
