"""Counted anchors of tables that others are put in place of, and that have namesakes elsewhere."""

from __future__ import annotations

import pytest
from sqlalchemy import Column, Integer, MetaData, String, Table, create_engine, event, select, text

from exposed import Listing
from vrelko import Sizes, Spot

TABLE = Table(
    "swapped",
    MetaData(),
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("k", String(20), nullable=False),
)


def listing(**settings):
    return Listing(
        select(TABLE),
        name="swapped",
        orders="id",
        kind="grid",
        sizes=Sizes(10),
        total="exact",
        jumps="anchors",
        **settings,
    )


@pytest.fixture
def engine(server, tmp_path):
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path / 'swapped.db'}")
    for name in ("swapped", "swapped_old", "swapped_new"):
        with server.begin() as connection:
            connection.execute(text(f"DROP TABLE IF EXISTS {name}"))
    TABLE.create(server)
    fill(server, "swapped", 300)
    yield server
    anchors = listing().counted_anchors(server)
    anchors.drop()
    with server.begin() as connection:
        for name in ("swapped", "swapped_old"):
            connection.execute(text(f"DROP TABLE IF EXISTS {name}"))
    server.dispose()


def fill(engine, name, count, schema=None):
    columns = Column("id", Integer), Column("k", String)
    rows = [{"id": i, "k": f"k{i}"} for i in range(1, count + 1)]
    with engine.begin() as connection:
        connection.execute(Table(name, MetaData(), *columns, schema=schema).insert(), rows)


def swap(engine):
    """Put a table of other rows in the place of the one that is served."""
    with engine.begin() as connection:
        connection.execute(
            text("CREATE TABLE swapped_new (id INT PRIMARY KEY NOT NULL, k VARCHAR(20) NOT NULL)")
        )
    fill(engine, "swapped_new", 120)
    if engine.dialect.name == "mariadb":
        # Its catalog tells tables apart by the second in which they were made.
        moves = ["DO SLEEP(1.1)", "ALTER TABLE swapped_new COMMENT 'made later', ALGORITHM=COPY"]
        moves += ["RENAME TABLE swapped TO swapped_old, swapped_new TO swapped"]
    else:
        moves = ["ALTER TABLE swapped RENAME TO swapped_old"]
        moves += ["ALTER TABLE swapped_new RENAME TO swapped"]
    with engine.begin() as connection:
        for one in moves:
            connection.execute(text(one))


def test_a_jump_notices_that_the_table_is_another_one(engine):
    one = listing()
    anchors = one.counted_anchors(engine, every=20)
    anchors.build()
    page = one.read(engine, Spot.number(25))
    assert (page.total.value, page.notes, page[0].id) == (300, (), 241)
    swap(engine)
    for other in (one, listing()):
        for spot, first in ((Spot.number(5), 41), (Spot.end(), 111)):
            page = other.read(engine, spot)
            assert (page.total.value, page[0].id) == (120, first)
            assert "jumped by offset" in page.notes[0]
    # Changes of the table that went are no changes of this one; a build makes all anew.
    with engine.begin() as connection:
        connection.execute(text("DELETE FROM swapped_old WHERE id <= 50"))
    anchors.build()
    assert one.read(engine, Spot.end()).notes == ()
    with engine.begin() as connection:
        connection.execute(text("DELETE FROM swapped WHERE id <= 20"))
        connection.execute(text("DELETE FROM swapped_old WHERE id <= 60"))
    page = one.read(engine, Spot.number(3))
    assert (page.total.value, page[0].id, page.notes) == (100, 41, ())
    assert set(anchors.verify()) == {0}


def test_anchors_serve_on_after_the_table_was_written_anew(engine):
    one = listing()
    one.counted_anchors(engine, every=20).build()
    assert one.read(engine, Spot.number(25)).notes == ()
    rewrite = {
        "sqlite": "VACUUM",
        "postgresql": "VACUUM FULL swapped",
        "mariadb": "OPTIMIZE TABLE swapped",
    }[engine.dialect.name]
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(text(rewrite)).close()
    page = one.read(engine, Spot.number(25))
    assert (page.total.value, page.notes, page[0].id) == (300, (), 241)


def test_each_schema_has_anchors_of_its_own_or_none(server, tmp_path):
    """Under names of schemas that the connection translates."""
    names = [f"{server.url.database or 'at'}_{which}" for which in ("a", "b")]
    if server.dialect.name == "sqlite":
        names = ["at_a", "at_b"]
        server = create_engine(f"sqlite:///{tmp_path / 'main.db'}")
    attach = [f"ATTACH '{tmp_path / name}.db' AS {name}" for name in names]
    if server.dialect.name == "sqlite":

        @event.listens_for(server, "connect")
        def _attach(connection, _record):
            for statement in attach:
                connection.execute(statement)

    kind = "DATABASE" if server.dialect.name == "mariadb" else "SCHEMA"
    more = " CASCADE" if server.dialect.name == "postgresql" else ""
    engines = [server.execution_options(schema_translate_map={None: name}) for name in names]
    for name, engine, count in zip(names, engines, (300, 120), strict=True):
        if server.dialect.name != "sqlite":
            with server.begin() as connection:
                connection.execute(text(f"DROP {kind} IF EXISTS {name}{more}"))
                connection.execute(text(f"CREATE {kind} {name}"))
        TABLE.create(engine)
        fill(server, "swapped", count, name)
    one = listing()
    one.counted_anchors(engines[0], every=20).build()
    for _ in range(2):
        first, second = (one.read(engine, Spot.number(5)) for engine in engines)
        assert (first.total.value, first.notes) == (300, ())
        assert second.total.value == 120
        assert "there are no anchors" in second.notes[0]
    one.counted_anchors(engines[1], every=20).build()
    with engines[1].begin() as connection:
        connection.execute(TABLE.delete().where(TABLE.c.id <= 20))
    first, second = (one.read(engine, Spot.number(5)) for engine in engines)
    assert (first.total.value, first[0].id, first.notes) == (300, 41, ())
    assert (second.total.value, second[0].id, second.notes) == (100, 61, ())
    for engine in engines:
        assert set(one.counted_anchors(engine).verify()) == {0}
        one.counted_anchors(engine).drop()
    if server.dialect.name != "sqlite":
        with server.begin() as connection:
            for name in names:
                connection.execute(text(f"DROP {kind} {name}{more}"))
    server.dispose()


@pytest.mark.engines("postgresql")
def test_anchors_of_one_schema_leave_a_session_of_another_alone(server):
    """With search_path set by each request, on a connection whose transaction goes on."""
    names = [f"{server.url.database}_{which}" for which in ("a", "b")]
    one = listing()
    for name, count in zip(names, (300, 120), strict=True):
        with server.begin() as connection:
            connection.execute(text(f"DROP SCHEMA IF EXISTS {name} CASCADE"))
            connection.execute(text(f"CREATE SCHEMA {name}"))
            connection.execute(text(f"SET LOCAL search_path = {name}"))
            TABLE.create(connection)
        fill(server, "swapped", count, name)
    url = server.url.update_query_dict({"options": f"-csearch_path={names[0]}"})
    builder = create_engine(url)
    one.counted_anchors(builder, every=20).build()
    answers = []
    for name in names * 3:
        with server.connect() as connection:
            connection.execute(text(f"SET search_path = {name}"))
            # As a grid does: its first page, then a jump.
            one.read(connection)
            page = one.read(connection, Spot.number(5))
            answers.append((page.total.value, page.notes == ()))
            connection.rollback()
    assert answers == [(300, True), (120, False)] * 3
    one.counted_anchors(builder).drop()
    builder.dispose()
    server.dispose()
    with server.begin() as connection:
        for name in names:
            connection.execute(text(f"DROP SCHEMA {name} CASCADE"))
