"""Counted anchors that one role builds beside an application of another role, which never fails.

The application has rights on its own table alone: it reads pages and writes rows in threads while
anchors are built, folded, verified, repaired and dropped.
"""

from __future__ import annotations

import random
import threading
from contextlib import contextmanager

import pytest
from sqlalchemy import Column, Integer, MetaData, String, Table, create_engine, insert, select, text

from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.errors import DatabaseError

pytestmark = pytest.mark.engines("postgresql", "mariadb")
TABLE = Table(
    "roled",
    MetaData(),
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("k", Integer, nullable=False),
    Column("note", String(20)),
)
ROLES = ("builder", "app", "worker")
ROWS = 400


def listing(**more):
    return Listing(
        select(TABLE.c.id, TABLE.c.k),
        name="roled",
        orders="-k",
        sizes=Sizes(10),
        total="exact",
        jumps="anchors",
        **more,
    )


def run(connection, *statements):
    for statement in statements:
        connection.execute(text(statement))


@pytest.fixture
def roles(server):
    """Engines of the owner and of three roles: what each may do is what the how-to says."""
    database = server.url.database
    names = {role: f"{database}_{role}"[-32:] for role in ROLES}
    postgresql = server.dialect.name == "postgresql"
    with server.begin() as connection:
        TABLE.drop(connection, checkfirst=True)
        TABLE.create(connection)
        rows = [{"id": i, "k": i * 7 % 101, "note": ""} for i in range(1, ROWS + 1)]
        connection.execute(insert(TABLE), rows)
        for name in names.values():
            if postgresql:
                run(connection, f"DROP ROLE IF EXISTS {name}", f"CREATE ROLE {name} LOGIN")
                continue
            user = f"'{name}'@'%'"
            run(connection, f"DROP USER IF EXISTS {user}", f"CREATE USER {user}")
            run(connection, f"DROP USER IF EXISTS '{name}'@'localhost'")
            run(connection, f"CREATE USER '{name}'@'localhost'")
        for name in accounts(server, names["builder"]):
            if postgresql:
                run(connection, f"GRANT CREATE ON SCHEMA public TO {name}")
                run(connection, f"GRANT SELECT, TRIGGER ON roled TO {name}")
            else:
                rights = "CREATE, DROP, ALTER, INDEX, SELECT, INSERT, UPDATE, DELETE, TRIGGER"
                run(connection, f"GRANT {rights} ON {database}.* TO {name}")
        for role in ("app", "worker"):
            for name in accounts(server, names[role]):
                more = ", INSERT, UPDATE, DELETE" if role == "app" else ""
                more += ", TRUNCATE" if postgresql and more else ""
                run(connection, f"GRANT SELECT{more} ON roled TO {name}")
    engines = {
        role: create_engine(server.url.set(username=name), pool_size=8)
        for role, name in names.items()
    }
    yield server, engines, names
    for engine in engines.values():
        engine.dispose()
    with server.begin() as connection:
        if postgresql:
            for name in names.values():
                run(connection, f"DROP OWNED BY {name} CASCADE", f"DROP ROLE {name}")
        TABLE.drop(connection)
        if not postgresql:
            for name in names.values():
                run(connection, f"DROP USER '{name}'@'%', '{name}'@'localhost'")


def accounts(server, name):
    both = (f"'{name}'@'%'", f"'{name}'@'localhost'")
    return (name,) if server.dialect.name == "postgresql" else both


@contextmanager
def application(engine):
    """Readers and writers of the application's role; every failure is kept, and then told."""
    stop, failures, done = threading.Event(), [], {"pages": 0, "writes": 0}

    def read(seed):
        dice, one = random.Random(seed), listing()
        while not stop.is_set():
            at = dice.choice([None, Spot.number(dice.randint(1, 30)), Spot.end()])
            page = one.read(engine, at)
            if at is not None and not page.rows:
                assert page.total.value < 400, page
            done["pages"] += 1

    def write(seed):
        dice, own, number = random.Random(seed), [], 10_000 * seed
        while not stop.is_set():
            with engine.begin() as connection:
                if len(own) > 60:
                    gone = own.pop(dice.randrange(len(own)))
                    connection.execute(TABLE.delete().where(TABLE.c.id == gone))
                number += 1
                connection.execute(insert(TABLE).values(id=number, k=dice.randint(0, 100)))
                own.append(number)
                changed = TABLE.c.id == dice.choice(own)
                connection.execute(TABLE.update().where(changed).values(k=dice.randint(0, 100)))
            done["writes"] += 1

    def watched(work, seed):
        try:
            work(seed)
        except Exception as error:
            failures.append(f"{work.__name__}: {error!r} {error}")

    threads = [
        threading.Thread(target=watched, args=(work, seed))
        for seed, work in enumerate((read, read, write, write), 1)
    ]
    for thread in threads:
        thread.start()
    try:
        yield done
    finally:
        stop.set()
        for thread in threads:
            thread.join()
        assert failures == []


@pytest.mark.slow
def test_no_step_makes_a_statement_of_the_application_fail(roles):
    _, engines, _ = roles
    anchors = listing().counted_anchors(engines["builder"], every=20)
    with application(engines["app"]) as done:
        for _ in range(2):
            anchors.build()
            wait_for(done, 10)
            for _ in range(5):
                anchors.fold()
            wait_for(done, 10)
            anchors.repair()
            anchors.check()
            wait_for(done, 10)
            anchors.drop()
            wait_for(done, 5)
    assert done["pages"] > 20
    assert done["writes"] > 20
    assert not anchors.exist


def wait_for(done, more):
    """Wait until the application has read and written some more."""
    goal = {name: count + more for name, count in done.items()}
    for _ in range(3_000):
        if all(done[name] >= count for name, count in goal.items()):
            return
        threading.Event().wait(0.01)
    raise AssertionError(f"the application stands still: {done}")


def test_a_reader_without_rights_pages_by_offset_and_one_with_them_jumps(roles):
    _, engines, names = roles
    with engines["app"].connect() as connection:
        before = listing().read(connection, Spot.number(30))
    anchors = listing().counted_anchors(engines["builder"], every=20)
    anchors.build()
    one = listing()
    for reader in (engines["app"], engines["app"].connect()):
        page = one.read(reader, Spot.number(30))
        assert page.rows == before.rows
        assert page.total.value == ROWS
        assert "that the database user may read" in page.notes[0]
        if reader is not engines["app"]:
            assert one.read(reader).rows  # the transaction goes on
            reader.close()
    for statement in anchors.grant_statements(names["app"]):
        assert "SELECT ON" in statement
    grant(roles, anchors, "app")
    page = one.read(engines["app"], Spot.number(30))
    assert (page.notes, page.rows) == ((), before.rows)
    with engines["app"].begin() as connection:
        connection.execute(insert(TABLE).values(id=9_999, k=1))
    with pytest.raises(DatabaseError):
        listing().counted_anchors(engines["app"]).fold()
    grant(roles, anchors, "worker", folds=True)
    worker = listing().counted_anchors(engines["worker"])
    assert worker.fold() == 1
    assert not any(worker.verify())
    assert one.read(engines["app"], Spot.end()).total.value == ROWS + 1
    anchors.drop()
    assert not anchors.exist


def grant(roles, anchors, role, **more):
    """As the builder, who owns the anchors on PostgreSQL; on MariaDB it may not."""
    server, _, names = roles
    if server.dialect.name == "postgresql":
        anchors.grant(names[role], **more)
        return
    with pytest.raises(DatabaseError, match="may not grant rights") as refused:
        anchors.grant(f"{names[role]}@%", **more)
    assert refused.value.todo.count("GRANT SELECT") == 3
    for host in ("%", "localhost"):
        listing().counted_anchors(server, every=20).grant(f"{names[role]}@{host}", **more)


def test_rights_that_go_while_a_reader_knows_the_anchors(roles):
    """In a transaction of the reader's own, which goes on."""
    server, engines, names = roles
    anchors = listing().counted_anchors(engines["builder"], every=20)
    anchors.build()
    grant(roles, anchors, "app")
    one = listing()
    assert one.read(engines["app"], Spot.number(30)).notes == ()
    with engines["builder"].begin() as connection:
        for statement in anchors.grant_statements(names["app"]):
            if server.dialect.name == "postgresql":
                gone = statement.replace("GRANT", "REVOKE").replace(" TO ", " FROM ")
                connection.execute(text(gone))
    if server.dialect.name == "mariadb":
        with server.begin() as connection:
            for name in accounts(server, names["app"]):
                for table in (anchors.tables.state, anchors.tables.log, anchors.tables.anchors):
                    run(connection, f"REVOKE SELECT ON {table.name} FROM {name}")
    with engines["app"].connect() as connection:
        page = one.read(connection, Spot.number(30))
        assert "that the database user may read" in page.notes[0]
        assert page.total.value == ROWS
        assert one.read(connection, page.next).rows
    anchors.drop()


@pytest.mark.engines("postgresql")  # no trigger of MariaDB sees a TRUNCATE
def test_a_truncated_table_is_empty_to_everybody(roles):
    _, engines, _ = roles
    anchors = listing().counted_anchors(engines["builder"], every=20)
    anchors.build()
    grant(roles, anchors, "app")
    one = listing()
    assert one.read(engines["app"], Spot.number(30)).notes == ()
    with engines["app"].begin() as connection:
        connection.execute(text("TRUNCATE roled"))
        connection.execute(insert(TABLE).values(id=1, k=1))
    page = one.read(engines["app"], Spot.end())
    assert (page.total.value, len(page)) == (1, 1)
    anchors.drop()


@pytest.mark.engines("mariadb")
def test_a_builder_who_may_not_write_the_log_makes_no_trigger(roles):
    server, engines, names = roles
    database = server.url.database
    with server.begin() as connection:
        for name in accounts(server, names["builder"]):
            run(connection, f"REVOKE INSERT ON {database}.* FROM {name}")
    anchors = listing().counted_anchors(engines["builder"], every=20)
    with pytest.raises(DatabaseError, match="not all rights for the making") as refused:
        anchors.build()
    assert refused.value.code == "anchors-rights"
    with engines["app"].begin() as connection:
        connection.execute(insert(TABLE).values(id=9_999, k=1))
    assert listing().read(engines["app"], Spot.end()).total.value == ROWS + 1
    anchors.drop()
