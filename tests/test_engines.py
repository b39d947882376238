"""What single engines are known for: partitions, prepared statements, indexes that come and go."""

from functools import partial

import pytest
from sqlalchemy import (
    BigInteger,
    Column,
    Index,
    Integer,
    String,
    Table,
    bindparam,
    insert,
    select,
    text,
)
from sqlalchemy.dialects import mysql
from sqlalchemy.orm import declarative_base

from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.engines.counters import count_reads
from vrelko.errors import DatabaseError
from vrelko.sql.rows import split_publicly

ROWS = 6_000


def fill(connection, table, row):
    connection.execute(insert(table), [row(i) for i in range(1, ROWS + 1)])
    connection.commit()
    verb = {"mariadb": f"ANALYZE TABLE {table.name}"}.get(connection.dialect.name, "ANALYZE")
    connection.execute(text(verb)).close()
    connection.commit()


@pytest.mark.engines("postgresql")
def test_partitions_are_pruned(made):
    connection, meta = made
    t = Table(
        "parted",
        meta,
        Column("id", BigInteger, primary_key=True),
        Column("day", Integer, primary_key=True),
        Index("parted_by_day", "day", "id"),
        postgresql_partition_by="RANGE (day)",
    )
    t.create(connection)
    for i in range(12):
        connection.execute(
            text(
                f"CREATE TABLE parted_{i} PARTITION OF parted "
                f"FOR VALUES FROM ({i * 10}) TO ({i * 10 + 10})"
            )
        )
    fill(connection, t, lambda i: {"id": i, "day": i * 7 % 120})
    listing = Listing(select(t), orders="-day,-id", sizes=Sizes(25), total="none")
    jump = listing.read(connection, Spot.offset(5_400))  # among the oldest days
    page = listing.read(connection, jump.next)
    reads = count_reads(connection, lambda: listing.read(connection, jump.next))
    assert len(page) == 25
    assert reads.entries <= 60
    assert reads.blocks < 12


def test_the_hundredth_execution_is_as_cheap_as_the_first(made):
    """Prepared statements and generic plans must not lose the index range."""
    connection, meta = made
    t = Table(
        "often",
        meta,
        Column("id", Integer, primary_key=True),
        Column("site", Integer, nullable=False),
        Column("hour", Integer, nullable=False),
        Index("often_by_site", "site", "hour", "id"),
    )
    t.create(connection)
    fill(connection, t, lambda i: {"id": i, "site": i % 3, "hour": i * 7 % 997})
    listing = Listing(
        select(t).where(t.c.site == bindparam("site")),
        orders="-hour",
        sizes=Sizes(10),
        total="none",
    )
    page = listing.read(connection, Spot.offset(1_000), params={"site": 1})

    def reads():
        return count_reads(
            connection, lambda: listing.read(connection, page.next, params={"site": 1})
        ).entries

    if connection.dialect.name == "postgresql":
        connection.execute(text("SET plan_cache_mode = force_generic_plan"))
    first = reads()
    for _ in range(100):
        listing.read(connection, page.next, params={"site": 1})
    assert reads() <= first + 1
    assert first < (400 if connection.dialect.name == "sqlite" else 40)
    if connection.dialect.name == "postgresql":
        before = scanned(connection, "often")
        for _ in range(20):
            listing.read(connection, page.next, params={"site": 1})
        assert scanned(connection, "often") - before <= 20 * 24


def scanned(connection, table):
    """Index entries and rows that PostgreSQL has read of a table in this transaction."""
    return connection.execute(
        text(
            "SELECT coalesce(sum(pg_stat_get_xact_tuples_returned(i)), 0) FROM (SELECT "
            "CAST(:t AS regclass)::oid AS i UNION ALL SELECT indexrelid FROM pg_index "
            "WHERE indrelid = CAST(:t AS regclass)) AS all_of_it"
        ),
        {"t": table},
    ).scalar()


def test_a_dropped_index_breaks_no_page(made):
    connection, meta = made
    t = Table(
        "gone",
        meta,
        Column("id", Integer, primary_key=True),
        Column("status", Integer, nullable=False),
        Column("w", Integer),
        Index("gone_by_status", "status", "w", "id"),
    )
    t.create(connection)
    fill(connection, t, lambda i: {"id": i, "status": i % 2, "w": None if i % 9 == 0 else i % 50})
    listing = Listing(
        select(t.c.id).where(t.c.status == 1),
        orders=["w:nulls-first", "-w:nulls-first"],
        sizes=Sizes(40),
        total="none",
    )
    for order in ("w:nulls-first", "-w:nulls-first"):
        before = listing.read(connection, Spot.offset(500), order=order)
        behind = listing.read(connection, before.next, order=order).rows
        on = " ON gone" if connection.dialect.name == "mariadb" else ""
        connection.execute(text(f"DROP INDEX gone_by_status{on}"))
        assert listing.read(connection, before.next, order=order).rows == behind
        fresh = Listing(select(t.c.id).where(t.c.status == 1), name="gone", orders=order)
        assert fresh.read(connection, Spot.offset(500), size=40).rows == before.rows
        connection.execute(text("CREATE INDEX gone_by_status ON gone (status, w, id)"))
        connection.commit()


@pytest.fixture
def sightings(made):
    """Half the rows share a status: by its equality MariaDB would walk them all for a page."""
    connection, meta = made
    t = Table(
        "sighting",
        meta,
        Column("id", Integer, primary_key=True),
        Column("status", Integer, nullable=False),
        Column("w", Integer, nullable=False),
        Column("name", String(40), nullable=False),
        Index("by_status", "status", "w", "id"),
        Index("by_w", "w", "id"),
        Index("by_name", "name", "w", mariadb_length={"name": 3}),
    )
    t.create(connection)
    fill(connection, t, lambda i: {"id": i, "status": i % 2, "w": i % 50, "name": f"ring {i % 9}"})
    return connection, t


def by_name(page):
    return "FORCE INDEX" in str(page.statements[-1].select.compile(dialect=mysql.dialect()))


def test_a_page_of_one_fixed_value_reads_a_page_by_the_index_that_serves_it(sightings):
    connection, t = sightings
    Base = declarative_base(metadata=t.metadata)
    entity = type("Sighting", (Base,), {"__table__": t})
    other = t.alias("other")
    given = bindparam("status")
    for whole in (
        select(t.c.id, t.c.w).where(t.c.status == given),
        select(entity).where(entity.status == given),
        select(other.c.id, other.c.w).where(other.c.status == given),
    ):
        listing = Listing(whole, orders=["w", "-w"], sizes=Sizes(20), total="none")
        for order in ("w", "-w"):
            for depth in (0, 40, 1_400, 2_900):
                at = listing.read(connection, Spot.offset(depth), params={"status": 1}, order=order)
                go = partial(listing.read, connection, params={"status": 1}, order=order)
                reads = count_reads(connection, partial(go, at.next))
                assert by_name(go(at.next)) == (connection.dialect.name == "mariadb")
                assert reads.entries <= (60 if connection.dialect.name != "sqlite" else 1_500)


def test_no_index_is_named_where_another_could_serve_as_well(sightings):
    connection, t = sightings
    listing = Listing(
        select(t.c.id),
        orders=["w,id", "name,w"],
        sizes=Sizes(20),
        total="none",
        filters={
            "status": t.c.status == bindparam("status"),
            "name": t.c.name == bindparam("name"),
            "w": t.c.w > bindparam("w"),
        },
    )
    read = partial(listing.read, connection)
    assert by_name(read(params={"status": 1})) == (connection.dialect.name == "mariadb")
    for more in ({"w": 3}, {"name": "ring 2"}):
        assert not by_name(read(params={"status": 1, **more}))
    assert not by_name(read(params={"name": "ring 2"}))  # its index holds three letters of it
    assert not by_name(read())
    hinted = select(t.c.id).where(t.c.status == 1).with_hint(t, "USE INDEX (by_w)", "mariadb")
    assert not by_name(Listing(hinted, orders="w", total="none").read(connection))
    connection.execute(text("CREATE INDEX by_status_too ON sighting (status, w)"))
    if connection.dialect.name == "mariadb":  # the primary key ends both
        twice = Listing(select(t.c.id).where(t.c.status == 1), orders="w", total="none")
        assert not by_name(twice.read(connection))


def test_a_walk_outlives_the_index_it_names(sightings):
    connection, t = sightings
    select_one = select(t.c.id).where(t.c.status == 1)
    listing = Listing(select_one, orders="-w", sizes=Sizes(100), total="none")
    truth = [key for page in listing.walk(connection) for key in page.keys]
    walk = listing.walk(connection, size=100, fresh=True)
    found = next(walk).keys
    connection.commit()
    on = " ON sighting" if connection.dialect.name == "mariadb" else ""
    connection.execute(text(f"DROP INDEX by_status{on}"))
    for page in walk:
        found += page.keys
    assert found == truth
    assert len(truth) == ROWS / 2
    assert not by_name(listing.read(connection))


def test_cut_rows_are_those_of_the_public_way(made):
    connection, meta = made
    t = Table("cut", meta, Column("id", Integer, primary_key=True), Column("n", Integer))
    t.create(connection)
    connection.execute(insert(t), [{"id": i, "n": i % 3} for i in range(1, 9)])
    listing = Listing(select(t.c.n.label("x")), orders="n,id")
    variant = listing.variant(connection.dialect.name, None)
    statement = variant.limited(variant.edge(False)[0], 5)
    rows, full = variant.cutter.split(connection.execute(statement))
    same, whole = split_publicly(connection.execute(statement), 1)
    assert (rows, full) == (same, whole)
    for one, other in zip(rows, same, strict=True):
        assert type(one) is type(other)
        assert one._fields == other._fields == ("x",)
        assert one._mapping == other._mapping
        assert one._mapping[variant.source.select.selected_columns[0]] == other.x


@pytest.mark.engines("postgresql", "mariadb")
def test_a_lost_connection_is_a_clear_error_and_the_walk_goes_on(server, made):
    other, meta = made
    t = Table("lost", meta, Column("id", Integer, primary_key=True))
    t.create(other)
    other.execute(insert(t), [{"id": i} for i in range(1, 101)])
    other.commit()
    listing = Listing(select(t), orders="id", sizes=Sizes(10))
    connection = server.connect()
    page = listing.read(connection)
    seen = page.scalars()
    postgresql = server.dialect.name == "postgresql"
    own = "SELECT pg_backend_pid()" if postgresql else "SELECT connection_id()"
    backend = connection.execute(text(own)).scalar()
    kill = "SELECT pg_terminate_backend(:b)" if postgresql else "KILL :b"
    other.execute(text(kill), {"b": backend})
    with pytest.raises(DatabaseError) as caught:
        listing.read(connection, page.next)
    assert caught.value.todo
    connection.invalidate()
    connection.close()
    while page.next is not None:
        page = listing.read(server, page.next)
        seen += page.scalars()
    assert seen == list(range(1, 101))
