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


def test_no_step_makes_a_statement_of_the_application_fail(roles):
    _, engines, _ = roles
    anchors = listing().counted_anchors(engines["builder"], every=20)
    with application(engines["app"]) as done:
        for _ in range(3):
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
