"""Column types as databases have them, through reflection and through models that differ.

Each table is made by its own SQL with values that are hard to read and bind again; every walk must
equal the engine's own sort, or be refused when the listing is opened.
"""

import warnings
from pathlib import Path

import pytest
from sqlalchemy import Column, Integer, MetaData, Table, select

from exposed import Listing
from stored import FIRST, REFUSED, TYPES, page_of_promises, promises, summer_zone
from vrelko import Sizes
from vrelko.errors import OrderError
from walks import everyway

CASES = [(engine, kind) for engine, kinds in TYPES.items() for kind in kinds]


@pytest.mark.parametrize(("server", "kind"), CASES, indirect=["server"], scope="session")
@pytest.mark.parametrize("indexed", [True, pytest.param(False, marks=pytest.mark.slow)])
def test_a_stored_type_is_walked_as_its_engine_sorts_it(server, kind, indexed):
    engine = server.dialect.name.replace("mysql", "mariadb")
    ddl, literals, models = TYPES[engine][kind]
    with server.connect() as connection:
        for one in FIRST[engine]:
            connection.exec_driver_sql(one)
        connection.exec_driver_sql(f"CREATE TABLE hard (id INTEGER NOT NULL PRIMARY KEY, k {ddl})")
        try:
            fill(connection, engine, kind, [*literals, "NULL"])
            if indexed:
                part = "(300)" if kind == "text" and engine == "mariadb" else ""
                connection.exec_driver_sql(f"CREATE INDEX hard_k ON hard (k{part}, id)")
            connection.commit()
            for one in FIRST[engine][:1]:
                connection.exec_driver_sql(one)
            if engine == "mariadb":
                connection.exec_driver_sql(f"SET time_zone = '{summer_zone(connection)}'")
            walk_all(connection, engine, kind, models, indexed)
        finally:
            connection.rollback()
            connection.exec_driver_sql("DROP TABLE hard")
            connection.commit()


def fill(connection, engine, kind, literals):
    """Each value a few times, in an order that is not theirs."""
    if engine == "mariadb":
        connection.exec_driver_sql("SET time_zone = '+00:00'")
    for i in range(3 * len(literals)):
        value = literals[(i * 7 + 3) % len(literals)]
        at = (i * 11 + 5) % (3 * len(literals) * 2 + 1)
        connection.exec_driver_sql(f"INSERT INTO hard VALUES ({at * 100 + i}, {value})")


def walk_all(connection, engine, kind, models, indexed):
    with warnings.catch_warnings():  # SQLAlchemy on types that it only half knows
        warnings.simplefilter("ignore")
        tables = [Table("hard", MetaData(), autoload_with=connection)]
        tables += [
            Table("hard", MetaData(), Column("id", Integer, primary_key=True), Column("k", model))
            for model in models
        ]
        for place, table in enumerate(tables):
            if place and not indexed:
                return  # models beside the reflected one are tried once
            for direction in ("", "-") if not place else ("-"[: place % 2],):
                check(connection, engine, kind, table, direction, jumps=not place)


def check(connection, engine, kind, table, direction, jumps):
    down = " DESC" if direction else ""
    place = {"postgresql": " NULLS LAST"}.get(engine, "")
    truth = connection.exec_driver_sql(
        f"SELECT id FROM hard ORDER BY {'k IS NULL, ' if not place else ''}k{down}{place}, id{down}"
    )
    truth = [tuple(row) for row in truth]
    if engine == "mariadb" and kind in ("text", "long"):
        truth = [
            tuple(row)
            for row in connection.exec_driver_sql(
                f"SELECT id FROM hard ORDER BY k IS NULL, LEFT(k, 255){down}, id{down}"
            )
        ]

    def make():
        return Listing(
            select(table.c.id),
            name="hard",
            orders=f"{direction}k:nulls-last",
            sizes=Sizes(7),
            secrets=[b"x" * 16],
            total="exact",
        )

    if (engine, kind) in REFUSED:
        with pytest.raises(OrderError, match="concat"):
            make().read(connection)
        return
    try:
        everyway(make, connection, truth, 7, jumps=jumps)
    except AssertionError as error:
        raise AssertionError(f"{kind} as {table.c.k.type!r} {direction}: {error}") from error


def test_the_documents_promise_what_is_done(server):
    """Write the tables anew with `python tests/stored.py` where this fails."""
    engine = server.dialect.name.replace("mysql", "mariadb")
    with server.connect() as connection:
        for one in FIRST[engine]:
            connection.exec_driver_sql(one)
        if engine == "mariadb":
            connection.exec_driver_sql(f"SET time_zone = '{summer_zone(connection)}'")
        table = page_of_promises(promises(connection, engine))
        connection.commit()
    assert table in (Path(__file__).parents[1] / "docs" / "values.md").read_text()


@pytest.mark.engines("postgresql")
def test_types_that_were_never_tried_are_asked_about_once(server):
    """A composite type of PostgreSQL, whose text loses digits where the session says so."""
    with server.connect() as connection:
        connection.exec_driver_sql("CREATE TYPE pair AS (a float8, b int)")
        connection.exec_driver_sql("CREATE TABLE pairs (id int PRIMARY KEY, k pair)")
        connection.exec_driver_sql(
            "INSERT INTO pairs SELECT i, ROW((mod(i, 7) + 1) / 3.7::float8, i)::pair "
            "FROM generate_series(1, 30) i"
        )
        table = Table("pairs", MetaData(), Column("id", Integer, primary_key=True), Column("k"))
        truth = connection.exec_driver_sql("SELECT id FROM pairs ORDER BY k, id").scalars().all()

        def make():
            return Listing(select(table.c.id), orders="k", sizes=Sizes(4), total="exact")

        listing = make()
        asked = [len(listing.read(connection).statements) for _ in range(3)]
        assert asked[0] == asked[1] + 1 == asked[2] + 1
        everyway(make, connection, [(one,) for one in truth], 4)
        connection.exec_driver_sql("SET extra_float_digits = 0")
        for call in (make().read, lambda lender: list(make().walk(lender))):
            with pytest.raises(OrderError, match="extra_float_digits to 1"):
                call(connection)
        connection.rollback()
