"""One listing over several databases and schemas, and over tables that change while it serves."""

from __future__ import annotations

import threading
from datetime import datetime, timezone

import pytest
from sqlalchemy import (
    Column,
    DateTime,
    Integer,
    MetaData,
    String,
    Table,
    create_engine,
    event,
    func,
    select,
    text,
    type_coerce,
    union_all,
)
from sqlalchemy.orm import Session, registry

from exposed import Listing
from stored import summer_zone
from vrelko import Sizes, Spot
from vrelko.serving.variants import store
from walks import everyway, shown

TABLE = Table(
    "moved",
    MetaData(),
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("k", String(20), nullable=False),
)
BOTH = ("one", "two")
KEY = [b"k" * 16]


class Moved:
    """A row of the table as an entity."""


registry().map_imperatively(Moved, TABLE)


def name_of(engine, which):
    """A schema, or on MariaDB a database, of this test alone."""
    return f"{engine.url.database}_{which}"


@pytest.fixture
def places(server, tmp_path):
    """Two schemas with the table: in the second `k` may be NULL, and folds case."""
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path / 'main.db'}")
        attach = [f"ATTACH '{tmp_path / which}.db' AS {name_of_sqlite(which)}" for which in BOTH]

        @event.listens_for(server, "connect")
        def _attach(connection, _record):
            for statement in attach:
                connection.execute(statement)

    with server.begin() as connection:
        for which in BOTH:
            make(connection, server, which)
    yield server
    with server.begin() as connection:
        for which in BOTH:
            drop(connection, server, which)
    server.dispose()  # of connections that are left in one of the schemas


def name_of_sqlite(which):
    return f"at_{which}"


def schema_of(server, which):
    return name_of_sqlite(which) if server.dialect.name == "sqlite" else name_of(server, which)


def make(connection, server, which):
    engine, schema = server.dialect.name, schema_of(server, which)
    drop(connection, server, which)
    if engine != "sqlite":
        kind = "DATABASE" if engine == "mariadb" else "SCHEMA"
        connection.execute(text(f"CREATE {kind} {schema}"))
    column = "VARCHAR(20) NOT NULL"
    if engine == "mariadb":
        column = "VARCHAR(20) COLLATE utf8mb4_bin NOT NULL"
    if which == "two":
        column = {
            "postgresql": "public.citext",
            "mariadb": "VARCHAR(20) COLLATE utf8mb4_general_ci",
            "sqlite": "VARCHAR(20) COLLATE NOCASE",
        }[engine]
        if engine == "postgresql":
            connection.execute(text("CREATE EXTENSION IF NOT EXISTS citext SCHEMA public"))
    connection.execute(text(f"CREATE TABLE {schema}.moved (id INT PRIMARY KEY, k {column})"))
    values = ["a", "B", "b", "A", "c", "C", "d"] + ([None, None, "D", None] * (which == "two"))
    rows = [{"id": i, "k": value} for i, value in enumerate(values, 1)]
    into = Table("moved", MetaData(), Column("id", Integer), Column("k", String), schema=schema)
    connection.execute(into.insert(), rows)


def drop(connection, server, which):
    schema = schema_of(server, which)
    if server.dialect.name == "sqlite":
        connection.execute(text(f"DROP TABLE IF EXISTS {schema}.moved"))
    elif server.dialect.name == "mariadb":
        connection.execute(text(f"DROP DATABASE IF EXISTS {schema}"))
    else:
        connection.execute(text(f"DROP SCHEMA IF EXISTS {schema} CASCADE"))


def use(connection, server, which):
    """Make the session find the table in one of the two schemas."""
    schema = schema_of(server, which)
    if server.dialect.name == "postgresql":
        connection.execute(text(f"SET search_path = {schema}, public"))
    else:
        connection.execute(text(f"USE {schema}"))


def listing(statement=None, **settings):
    return Listing(
        select(TABLE.c.id) if statement is None else statement,
        name="moved",
        orders=settings.pop("orders", ["k", "-k"]),
        sizes=Sizes(3),
        total="exact",
        **settings,
    )


def truth_of(connection, order="k"):
    down = "" if order == "k" else " DESC"
    plain = text(f"SELECT id FROM moved ORDER BY k{down}, id{down}")
    return [tuple(row) for row in connection.execute(plain)]


def walked(listing, connection, order=None):
    """The rows page by page, each by a request of its own."""
    rows, at = [], None
    for _ in range(20):
        page = listing.read(connection, at, order=order)
        rows += [shown(row) for row in page]
        at = page.next
        if at is None:
            return rows
    raise AssertionError(f"does not end: {rows}")


@pytest.mark.engines("postgresql", "mariadb")
@pytest.mark.parametrize("entities", [False, True])
def test_a_session_that_changes_its_schema(places, entities):
    """As where each request sets its tenant's search_path, on connections of one pool."""
    one = listing(select(Moved) if entities else None)
    with Session(places) if entities else places.connect() as lender:
        for turn, which in enumerate(BOTH * 3):
            use(lender, places, which)
            for order in ("k", "-k"):
                truth = truth_of(lender, order)
                if entities:
                    found = [row[0][1][0] for row in walked(one, lender, order)]
                    assert found == [row[0] for row in truth], (turn, order)
                else:
                    assert walked(one, lender, order) == truth, (turn, order)
                    parts = [
                        row.id for page in one.walk(lender, size=2, order=order) for row in page
                    ]
                    assert parts == [row[0] for row in truth]
        lender.rollback()


def test_schemas_that_the_connection_translates(places):
    one, sent = listing(), []
    event.listen(places, "before_cursor_execute", lambda *given: sent.append(given[2]))
    for which in BOTH * 2:
        schema = schema_of(places, which)
        engine = places.execution_options(schema_translate_map={None: schema})
        with engine.connect() as connection:
            down = [
                tuple(row)
                for row in connection.execute(
                    select(TABLE.c.id).order_by(TABLE.c.k.desc(), TABLE.c.id.desc())
                )
            ]
            assert walked(one, connection, "-k") == down
            page = one.read(connection, order="-k")
            sent.clear()
            page = one.read(connection, page.next, order="-k")
            assert len(sent) == len(page.statements)  # the map tells the place by itself


def test_two_databases_with_one_listing(tmp_path):
    """A column that is NOT NULL in the first and holds NULLs in the second."""
    files = [create_engine(f"sqlite:///{tmp_path / which}.db") for which in BOTH]
    one = listing()
    for engine, null in zip(files, ("NOT NULL", ""), strict=True):
        with engine.begin() as connection:
            connection.execute(
                text(f"CREATE TABLE moved (id INT PRIMARY KEY NOT NULL, k TEXT {null})")
            )
            more = "" if null else ", (8, NULL), (9, NULL), (10, NULL)"
            connection.execute(
                text(f"INSERT INTO moved VALUES (1,'a'),(2,'b'),(3,'c'),(4,'a'){more}")
            )
    for engine in (*files, *files):
        with engine.connect() as connection:
            for order in ("k", "-k"):
                assert walked(one, connection, order) == truth_of(connection, order)
        engine.dispose()


ALLOW_NULL = {
    "postgresql": ["ALTER TABLE moved ALTER k DROP NOT NULL"],
    "mariadb": ["ALTER TABLE moved MODIFY k VARCHAR(20) COLLATE utf8mb4_bin"],
    "sqlite": [
        "CREATE TABLE made_anew (id INT PRIMARY KEY NOT NULL, k VARCHAR(20))",
        "INSERT INTO made_anew SELECT * FROM moved",
        "DROP TABLE moved",
        "ALTER TABLE made_anew RENAME TO moved",
    ],
}


@pytest.fixture
def changing(server, tmp_path):
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path / 'changing.db'}")
    TABLE.drop(server, checkfirst=True)
    with server.begin() as connection:
        kind = "COLLATE utf8mb4_bin" if server.dialect.name == "mariadb" else ""
        connection.execute(
            text(f"CREATE TABLE moved (id INT PRIMARY KEY NOT NULL, k VARCHAR(20) {kind} NOT NULL)")
        )
        rows = [{"id": i, "k": f"{'ab'[i % 2]}{i % 4}"} for i in range(1, 13)]
        connection.execute(TABLE.insert(), rows)
    yield server
    TABLE.drop(server)
    if server.dialect.name == "sqlite":
        server.dispose()


@pytest.mark.parametrize("order", ["k", "-k"])
@pytest.mark.parametrize("how", ["pages", "walk", "held"])
def test_a_column_that_comes_to_hold_nulls(changing, order, how):
    """While a reader is in the middle: each row is shown once, and none is left out."""
    one = listing()
    with changing.connect() as connection:
        page = one.read(connection, order=order)
        walk = one.walk(changing, size=3, order=order, fresh=True)
        seen = list(next(walk)) if how == "walk" else list(page)
        connection.commit()
        with changing.begin() as other:
            for statement in ALLOW_NULL[changing.dialect.name]:
                other.execute(text(statement))
            # Behind all rows on PostgreSQL upwards, on the others downwards; else ahead of all.
            other.execute(text("INSERT INTO moved VALUES (90, NULL), (91, NULL)"))
        if how == "walk":
            seen += [row for page in walk for row in page]
        at = page.next
        while how != "walk" and at is not None:
            page = one.read(changing if how == "pages" else connection, at, order=order)
            seen += list(page)
            at = page.next
        found = [row.id for row in seen]
        behind = (changing.dialect.name == "postgresql") == (order == "k")
        truth = [row[0] for row in truth_of(connection, order)]
        assert found == (truth if behind else truth[2:])
        assert [row[0] for row in walked(one, connection, order)] == truth


def test_columns_are_read_again_now_and_then(changing, monkeypatch):
    one, now = listing(), [0.0]
    monkeypatch.setattr(store, "monotonic", lambda: now[0])
    sent = []
    event.listen(changing, "before_cursor_execute", lambda *given: sent.append(given[2]))
    with changing.connect() as connection:
        page = one.read(connection)
        for passed, more in ((0.0, 0), (store.RECHECK_S - 1, 0), (2.0, 1), (0.0, 0)):
            now[0] += passed
            sent.clear()
            page = one.read(connection, page.next or None)
            asked = [statement for statement in sent if "moved" not in statement]
            assert bool(asked) == bool(more), (passed, sent)


@pytest.mark.engines("postgresql", "mariadb")
def test_threads_with_schemas_of_their_own(places):
    one, wrong = listing(), []

    def serve(which):
        with places.connect() as connection:
            use(connection, places, which)
            truth = truth_of(connection, "-k")
            for _ in range(15):
                if walked(one, connection, "-k") != truth:
                    wrong.append(which)
            connection.rollback()

    threads = [threading.Thread(target=serve, args=(which,)) for which in BOTH * 2]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert wrong == []


def test_every_way_in_a_translated_schema(places):
    engine = places.execution_options(schema_translate_map={None: schema_of(places, "two")})
    with engine.connect() as connection:
        plain = select(TABLE.c.id, type_coerce(TABLE.c.k, String).label("k"))
        truth = [
            shown(row)
            for row in connection.execute(plain.order_by(TABLE.c.k.desc(), TABLE.c.id.desc()))
        ]
        everyway(lambda: listing(plain, orders="-k"), connection, truth, 3)
        assert listing(plain).read(connection, Spot.end()).rows


WRAPPED = {
    "limit": select(TABLE.c.id, TABLE.c.k).order_by(TABLE.c.id).limit(100),
    "window": select(TABLE.c.id, TABLE.c.k, func.row_number().over(order_by=TABLE.c.id).label("n")),
    "union": union_all(
        select(TABLE.c.id, TABLE.c.k).where(TABLE.c.id < 5),
        select(TABLE.c.id, TABLE.c.k).where(TABLE.c.id >= 5),
    ),
}


@pytest.mark.engines("postgresql", "mariadb")
@pytest.mark.parametrize("kind", WRAPPED)
def test_rows_of_no_table_in_sessions_that_change_their_schema(places, kind):
    """Results of which no column is of a table, by pages of both schemas in turns."""
    rows, at = {which: [] for which in BOTH}, dict.fromkeys(BOTH)
    processes = [listing(WRAPPED[kind], unique=["id"]) for _ in range(2)]
    truth = {}
    with places.connect() as connection:
        for which in BOTH:
            use(connection, places, which)
            truth[which] = [row[0] for row in truth_of(connection)]
        for turn in range(5):
            for which in BOTH:
                if turn and at[which] is None:
                    continue
                use(connection, places, which)
                page = processes[turn % 2].read(connection, at[which])
                rows[which] += [row.id for row in page]
                at[which] = page.next
    assert rows == truth


@pytest.mark.engines("postgresql", "mariadb")
@pytest.mark.parametrize("shown", [(Moved,), (Moved, TABLE.c.id.label("number"))])
def test_pages_of_entities_are_one_statement(places, shown):
    """An entity is one place of a row, and several columns of the result."""
    use_one = {"schema_translate_map": {None: schema_of(places, "one")}}
    with places.connect().execution_options(**use_one) as connection:
        one = Listing(select(*shown), orders="-k", sizes=Sizes(2), total="none", expose=["k"])
        page, sent = one.read(connection), []
        event.listen(connection, "before_cursor_execute", lambda *given: sent.append(given[2]))
        for turn in range(1, 3):
            page = one.read(connection, page.next)
            assert len(sent) == turn, sent


@pytest.mark.engines("mariadb")
def test_moments_in_sessions_of_several_time_zones(server):
    """TIMESTAMP is read by the session's clock: cursors and values of callers, whoever reads."""
    zones = ["+00:00", "+05:30", "-03:00"]
    table = Table(
        "clocks", MetaData(), Column("id", Integer, primary_key=True), Column("at", DateTime)
    )
    with server.connect() as connection:
        zones.append(summer_zone(connection))
        connection.execute(text("SET time_zone = '+00:00'"))
        connection.execute(text("CREATE TABLE clocks (id INT PRIMARY KEY, at TIMESTAMP(6) NULL)"))
        try:
            for i in range(40):
                moment = f"2024-11-03 0{4 + i // 12}:{i % 12 * 5:02}:00"
                connection.execute(text(f"INSERT INTO clocks VALUES ({i * 7 % 41}, '{moment}')"))
            connection.commit()
            truth = [row.id for row in connection.execute(select(table.c.id).order_by(table.c.at))]

            def make():
                return Listing(select(table), name="c", orders="at", sizes=Sizes(3), secrets=KEY)

            rows, page, processes = [], None, [make() for _ in zones]
            for turn in range(14):
                which = turn % len(zones)
                connection.execute(text(f"SET time_zone = '{zones[which]}'"))
                page = processes[which].read(connection, page.next if page else None)
                rows += [row.id for row in page]
                # What a page shows is what a caller may give: by the clock of its session.
                if zones[which] != zones[-1]:
                    behind = make().read(connection, Spot.at_value(page.rows[0].at))
                    assert behind.rows[0] == page.rows[0]
                    moment = page.rows[0].at
                    zone = timezone(datetime.strptime(zones[which], "%z").utcoffset())
                    zoned = make().read(connection, Spot.at_value(moment.replace(tzinfo=zone)))
                    assert zoned.rows[0] == page.rows[0]
                    after = Spot.after((page.rows[0].at, page.rows[0].id))
                    assert make().read(connection, after).rows[:2] == page.rows[1:]
            assert rows == truth[: len(rows)]
            assert len(rows) == 40
            assert page.next is None
        finally:
            connection.execute(text("DROP TABLE clocks"))
            connection.execute(text("SET time_zone = DEFAULT"))
            connection.commit()
