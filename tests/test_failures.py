"""Databases that fail: every public call, blocking and async, raises Vrelko's own errors."""

import asyncio
import logging
import threading
from contextlib import contextmanager

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
    insert,
    select,
    text,
)
from sqlalchemy.ext.asyncio import create_async_engine
from sqlalchemy.pool import QueuePool

import vrelko
from servers import async_url
from vrelko import Sizes, Spot
from vrelko.engines.limits import limit_time
from vrelko.errors import (
    HTTP_STATUS,
    DatabaseError,
    UnavailableError,
    VrelkoError,
    find_status,
)

META = MetaData()
t = Table(
    "failing",
    META,
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("n", Integer),
    Column("note", String(40)),
    Column("at", DateTime, nullable=False, server_default=func.now()),
)
ROWS = 200


def jumping():
    return listing().changed(jumps="anchors")


def steady(strategy=None, **settings):
    return listing(strategy=strategy, steady=vrelko.Steady(**settings))


def settled():
    return vrelko.Listing(
        select(t),
        orders="at,id",
        name="failing",
        kind="feed",
        expose=True,
        steady=vrelko.Steady(settle=vrelko.Settle("at", 1)),
    )


def listing(**more):
    return vrelko.Listing(
        select(t), orders="n,id", name="failing", sizes=Sizes(20, max=None), expose=True, **more
    )


@pytest.fixture(scope="module")
def filled(server, tmp_path_factory):
    """An engine on a database with 200 rows; SQLite's is a file, which others may lock."""
    engine = server
    if server.dialect.name == "sqlite":
        engine = create_engine(f"sqlite:///{tmp_path_factory.mktemp('failing') / 'failing.db'}")
    META.drop_all(engine)
    META.create_all(engine)
    with engine.begin() as connection:
        connection.execute(insert(t), [{"id": i, "n": i % 9, "note": "x"} for i in range(ROWS)])
    jumping().counted_anchors(engine, every=20).build()
    PLANS[engine.dialect.name] = vrelko.plan(listing(), engine=engine)
    yield engine
    jumping().counted_anchors(engine).drop()
    META.drop_all(engine)
    engine.dispose()


CALLS = {
    "read": lambda one, place: one.read(place),
    "read behind": lambda one, place: one.read(place, Spot.after((3, 30))),
    "read by offset": lambda one, place: one.read(place, Spot.offset(40)),
    "read with a total": lambda one, place: one.read(place, total="exact"),
    "where_is": lambda one, place: one.where_is(place, (3, 30)),
    "count_ahead": lambda one, place: one.count_ahead(place, Spot.after((3, 30))),
    "walk": lambda one, place: list(one.walk(place, size=50)),
    "ranges": lambda one, place: one.ranges(place, 3),
    "read by anchors": lambda one, place: jumping().read(place, Spot.number(2)),
    "read the last page": lambda one, place: jumping().read(place, Spot.end()),
    "read settled": lambda one, place: settled().read(place),
    "read under a ceiling": lambda one, place: steady(ceiling=True).read(place, Spot.number(3)),
    "read with an overlap": lambda one, place: steady(overlap=3, strategy="offset").read(place),
}
PLANS = {}
ON_ENGINES = {
    "survey": lambda one, engine: vrelko.survey(engine, "failing"),
    "plan": lambda one, engine: vrelko.plan(one, engine=engine),
    "measure": lambda one, engine: vrelko.measure(engine, PLANS[engine.dialect.name]),
    "drift": lambda one, engine: vrelko.drift(
        PLANS[engine.dialect.name], engine, walks=1, copy=engine, simulations=1
    ),
    "survey of writes": lambda one, engine: vrelko.survey_writes(engine, "failing", "at"),
    "frozen walk": lambda one, engine: list(one.walk(engine, frozen=True)),
}


def asynchronous(engine):
    """An AsyncEngine on the same database."""
    return create_async_engine(async_url(engine))


def check_all(place, engine=None, codes=None, kind=DatabaseError):
    """Every call raises an error of ours, and one of these codes."""
    for name, call in {**CALLS, **(ON_ENGINES if engine is not None else {})}.items():
        with pytest.raises(VrelkoError) as caught:
            call(listing(), engine if name in ON_ENGINES else place)
        error = caught.value
        assert isinstance(error, kind), (name, error)
        assert codes is None or error.code in codes, (name, error.code)
        assert "x" * 3 not in str(error)


def closed_port(engine):
    """The engine's database where nobody listens."""
    if engine.dialect.name == "sqlite":
        return engine.url.set(database="/nowhere/at/all.db")
    return engine.url.set(host="127.0.0.1", port=9)


def test_a_database_that_is_away(filled):
    away = create_engine(closed_port(filled))
    check_all(away, away, {"database-away"}, UnavailableError)
    lent = asynchronous(away)

    async def ask():
        with pytest.raises(UnavailableError):
            await listing().aread(lent)
        await lent.dispose()
        await asyncio.sleep(0.2)  # for the driver's thread, which tells the loop that it ends

    asyncio.run(ask())
    assert find_status(UnavailableError("a", "b", "c"), HTTP_STATUS) == 503


def test_a_table_that_was_dropped(filled):
    META.drop_all(filled)
    try:
        check_all(filled)
        with filled.connect() as connection, pytest.raises(VrelkoError) as caught:
            listing().read(connection)
        assert not isinstance(caught.value, UnavailableError)  # it does not pass by itself
        assert find_status(caught.value, HTTP_STATUS) == 500
        lent = asynchronous(filled)

        async def ask():
            with pytest.raises(DatabaseError):
                await listing().aread(lent)
            await lent.dispose()

        asyncio.run(ask())
    finally:
        META.create_all(filled)
        with filled.begin() as connection:
            connection.execute(insert(t), [{"id": i, "n": i % 9} for i in range(ROWS)])


@contextmanager
def locked(engine):
    """The table locked against readers by another transaction."""
    with engine.connect() as other:
        if engine.dialect.name == "sqlite":
            other.exec_driver_sql("PRAGMA locking_mode = EXCLUSIVE")
            other.exec_driver_sql("BEGIN EXCLUSIVE")
            other.exec_driver_sql("UPDATE failing SET n = n")
        elif engine.dialect.name == "postgresql":
            other.execute(text("LOCK TABLE failing IN ACCESS EXCLUSIVE MODE"))
        else:
            other.execute(text("LOCK TABLES failing WRITE"))
        try:
            yield
        finally:
            if engine.dialect.name in ("mysql", "mariadb"):
                other.execute(text("UNLOCK TABLES"))
            other.rollback()
            other.invalidate()


def impatient(engine):
    """An engine that waits for locks for a second at most."""
    name = engine.dialect.name
    if name == "sqlite":
        return create_engine(engine.url, connect_args={"timeout": 0.2})
    if name == "postgresql":
        return create_engine(engine.url, connect_args={"options": "-c lock_timeout=200"})
    return create_engine(engine.url, connect_args={"init_command": "SET lock_wait_timeout = 1"})


def test_a_table_that_is_locked(filled):
    waiting = impatient(filled)
    with locked(filled):
        for name in ("read", "where_is", "walk"):
            with pytest.raises(UnavailableError) as caught:
                CALLS[name](listing(), waiting)
            assert caught.value.code == "database-busy", name
    waiting.dispose()
    assert len(listing().read(filled)) == 20


def test_no_connection_comes_free(filled):
    few = create_engine(
        filled.url, poolclass=QueuePool, pool_size=1, max_overflow=0, pool_timeout=0.1
    )
    with few.connect():
        check_all(few, few, {"pool-full"}, UnavailableError)
    few.dispose()


@pytest.mark.engines("postgresql", "mariadb")
def test_a_connection_that_is_cut(filled):
    """Killed in mid-walk: the walk tells it, and goes on from its last cursor."""
    with filled.connect() as connection:
        pages = listing().walk(connection, size=20, fresh=True)
        first = next(pages)
        own = (
            "SELECT pg_backend_pid()"
            if filled.dialect.name == "postgresql"
            else "SELECT connection_id()"
        )
        number = connection.scalar(text(own))
        kill = (
            f"SELECT pg_terminate_backend({number})"
            if filled.dialect.name == "postgresql"
            else f"KILL {number}"
        )
        with filled.connect() as other:
            other.execute(text(kill))
        with pytest.raises(UnavailableError) as caught:
            list(pages)
        assert caught.value.code == "connection-lost"
    rest = [row.id for page in listing().walk(filled, start=first.next) for row in page]
    assert len(rest) == ROWS - 20


@pytest.mark.engines("postgresql", "mariadb")
@pytest.mark.parametrize("limit", [None, 5_000.0])
@pytest.mark.parametrize("when", ["before_cursor_execute", "after_cursor_execute"])
def test_a_server_that_goes_while_a_page_is_read(filled, limit, when):
    """Whatever statement it goes at: the page, or an error that says to try again."""
    postgresql = filled.dialect.name == "postgresql"
    own = create_engine(filled.url)
    asked, at, codes = [], [0], set()

    def kill(connection, cursor, statement, *_):
        asked.append(statement)
        if len(asked) != at[0]:
            return
        driver = connection.connection.driver_connection
        number = driver.info.backend_pid if postgresql else driver.thread_id()
        with filled.connect() as other:
            other.execute(
                text(f"SELECT pg_terminate_backend({number})" if postgresql else f"KILL {number}")
            )

    event.listen(own, when, kill)
    for at[0] in range(1, 8):
        asked.clear()
        try:
            page = listing().read(own, time_limit_ms=limit)
        except UnavailableError as error:
            codes.add(error.code)
        else:
            assert len(page) == 20
    assert codes <= {"connection-lost", "database-away"}
    own.dispose()


@pytest.mark.engines("postgresql", "mariadb")
def test_a_user_without_rights(filled):
    name = filled.dialect.name
    role = f"{filled.url.database}_none"  # roles are the whole server's
    makes = {
        "postgresql": [f"DROP ROLE IF EXISTS {role}", f"CREATE ROLE {role} LOGIN"],
        "mysql": [
            f"DROP USER IF EXISTS {role}",
            f"CREATE USER {role}",
            f"GRANT CREATE ON {filled.url.database}.* TO {role}",
        ],
    }
    steps = makes["postgresql" if name == "postgresql" else "mysql"]
    with filled.begin() as connection:
        for step in steps:
            connection.execute(text(step))
    poor = create_engine(filled.url.set(username=role, password=None))
    try:
        check_all(poor)
        with pytest.raises(DatabaseError) as caught:
            listing().read(poor)
        assert caught.value.code == "database-rights"
        assert find_status(caught.value, HTTP_STATUS) == 500
    finally:
        poor.dispose()
        with filled.begin() as connection:
            connection.execute(text(steps[0].replace("IF EXISTS ", "")))


@pytest.mark.engines("postgresql", "mariadb")
def test_a_login_that_is_refused(filled):
    refused = create_engine(filled.url.set(database="vrelko_not_there"))
    with pytest.raises(DatabaseError) as caught:
        listing().read(refused)
    assert caught.value.code == "database-login"
    assert not isinstance(caught.value, UnavailableError)


@pytest.mark.engines("postgresql")
def test_a_transaction_that_was_aborted(filled):
    with filled.connect() as connection:
        with pytest.raises(Exception, match="nowhere"):
            connection.execute(text("SELECT * FROM nowhere"))
        check_all(connection, codes={"transaction-aborted"})


def test_a_statement_that_takes_too_long(filled):
    slow = vrelko.Listing(
        select(t).where(t.c.id >= select(t.alias().c.id).limit(1).scalar_subquery()),
        orders="n,id",
        name="slow",
        sizes=Sizes(20, max=None),
    )
    with filled.connect() as connection, limit_time(connection, 5_000):
        assert len(slow.read(connection)) == 20
    with pytest.raises(VrelkoError):
        list(slow.walk(filled, size=20, time_limit_ms=0))
    pages = list(slow.walk(filled, size=50, time_limit_ms=10_000))
    assert sum(map(len, pages)) == ROWS


def test_causes_are_told_once_a_minute(caplog):
    from vrelko.web.counters import Causes

    causes = Causes()
    with caplog.at_level(logging.ERROR, "vrelko.web"):
        threads = [
            threading.Thread(target=causes.tell, args=("grid", "database-away", "away"))
            for _ in range(50)
        ]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        causes.tell("grid", "database-busy", "locked")
    told = [record.getMessage() for record in caplog.records]
    assert told == ["grid: away [database-away]", "grid: locked [database-busy]"]
