"""Statements to take away: text for every dialect, and stored routines that really run."""

from datetime import datetime

import pytest
import sqlglot
from sqlalchemy import (
    Column,
    DateTime,
    Double,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    insert,
    select,
    text,
)
from sqlalchemy.exc import SAWarning

from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.engines.registry import CAPABILITIES
from vrelko.errors import DatabaseError, ListingError
from vrelko.pagesfile.tables import reflect_table
from vrelko.planning.plan import SHAPES, routine_text, statements_text
from vrelko.sql.routines import ROUTINES

t = Table(
    "takeaway",
    MetaData(),
    Column("id", Integer, primary_key=True),
    Column("a", Integer),
    Column("w", Double),
    Column("at", DateTime, nullable=False),
    Column("b", String(9)),
)
grid = Listing(
    select(t.c.id, t.c.b).where(t.c.a == bindparam("a")),
    name="takeaway",
    orders=["-at", "w", "-w:nulls-first"],
    sizes=Sizes(10, max=50),
)


def flat(texts):
    return [" ".join(text.replace("takeaway.", "").split()) for text in texts]


def where_of(sql):
    return sql.partition(" WHERE ")[2].partition(" ORDER BY ")[0]


def test_each_dialect_has_its_own_form():
    forms = {name: flat(statements_text(grid, "keyset", name, {})) for name in CAPABILITIES}
    assert set(forms) == {"sqlite", "postgresql", "mariadb", "mysql", "mssql", "oracle"}
    assert where_of(forms["sqlite"][0]) == "(at, id) < (:key_0, :key_1) AND a = :a"
    assert "(at, id) < (:key_0" in forms["postgresql"][0]
    either = "(at < :key_0 OR at = :key_0 AND id < :key_1) AND a = :a"
    for name in ("mariadb", "mysql", "mssql", "oracle"):
        assert where_of(forms[name][0]) == either, name
    for name in ("mssql", "oracle"):
        assert forms[name][0].endswith("FETCH FIRST 11 ROWS ONLY"), name
    for name in ("sqlite", "postgresql", "mariadb"):
        assert forms[name][0].endswith("LIMIT 11"), name
    assert all(len(texts) == 1 for texts in forms.values())


def test_nulls_are_placed_without_a_sort():
    texts = flat(statements_text(grid, "keyset", "mariadb", {}, "first", "-w:nulls-first"))
    assert [where_of(one) for one in texts][1] == "w IS NOT NULL AND a = :a"
    assert all("ORDER BY w DESC, id DESC" in one for one in texts)
    assert "NULLS" not in "".join(
        flat(statements_text(grid, "keyset", "postgresql", {}, "after", "w"))
    )
    assert "NULLS FIRST" in flat(statements_text(grid, "offset", "oracle", {}, None, "w"))[0] or (
        CAPABILITIES["oracle"].nulls_low is False
    )


@pytest.mark.parametrize("dialect", CAPABILITIES)
@pytest.mark.parametrize("strategy", ["keyset", "offset", "deferred-join", "whole"])
def test_every_shape_compiles(dialect, strategy):
    if (dialect, strategy) == ("mssql", "deferred-join"):
        with pytest.raises(ListingError, match="another strategy"):
            statements_text(grid, strategy, dialect, {})
        return
    for shape in SHAPES:
        for order in (None, "w", "-w:nulls-first"):
            for one in statements_text(grid, strategy, dialect, {}, shape, order):
                assert one.startswith("SELECT")
                assert "POSTCOMPILE" not in one
                assert "vrelko_key" not in one


def test_unknown_words_are_refused():
    with pytest.raises(DatabaseError, match="not known"):
        statements_text(grid, "keyset", "nonsense", {})
    with pytest.raises(ListingError, match="keyset"):
        statements_text(grid, "keysets", "sqlite", {})
    with pytest.raises(ListingError, match="after"):
        statements_text(grid, "keyset", "sqlite", {}, "afer")
    with pytest.raises(ListingError, match="Use one of postgresql, mariadb"):
        routine_text(grid, "sqlite", {})
    sets = Listing(select(t.c.id).where(t.c.a.in_(bindparam("a", expanding=True))), orders="id")
    with pytest.raises(ListingError, match="a set of values"):
        routine_text(sets, "postgresql", {})


@pytest.mark.engines("postgresql", "mariadb")
def test_routines_give_the_pages_of_the_plain_query(made):
    connection, meta = made
    name = connection.dialect.name
    rows = [
        {
            "id": i,
            "a": i % 2,
            "w": None if i % 5 == 0 else i % 7,
            "b": f"b{i}",
            "at": datetime(2026, 3, i % 9 + 1, 5),
        }
        for i in range(1, 120)
    ]
    t.to_metadata(meta).create(connection)
    connection.execute(insert(t), rows)
    connection.commit()
    for total in ("none", "exact", "capped"):
        listing = filtered(total)
        for order in (None, "w", "-w:nulls-first"):
            check_routine(connection, listing, name, order)


def check_routine(connection, listing, name, order):
    """Against pages read by number: their rows, with the total or whether more follow."""
    routine = routine_text(listing, name, {}, order)
    connection.exec_driver_sql(routine.replace("%", "%%"))
    verb = "SELECT * FROM" if name == "postgresql" else "CALL"
    call = text(f"{verb} takeaway_page(:page, :size, :a, :below, :b)")
    for page, size in ((1, 10), (3, 7), (2, 50), (99, 10), (0, 0), (None, None), (6, 10)):
        for below, b in ((None, None), (55, None), (55, "b7")):
            wanted_by = {"a": 1, "below": below, "b": b}
            given = {"page": page, "size": size, **wanted_by}
            found = [tuple(row) for row in connection.execute(call, given)]
            wanted = listing.read(
                connection,
                Spot.number(max(page or 1, 1)),
                order=order,
                size=10 if size is None else max(size, 1),
                params=wanted_by,
                past_end="empty",
            )
            told = int(wanted.next is not None) if listing.total == "none" else wanted.total.value
            assert [row[:-1] for row in found] == [tuple(row) for row in wanted], (order, given)
            if listing.total == "capped":
                told = min(filtered("exact").read(connection, params=wanted_by).total.value, 21)
            assert {row[-1] for row in found} <= {told}, (order, given)
    drop = "FUNCTION" if name == "postgresql" else "PROCEDURE"
    connection.execute(text(f"DROP {drop} takeaway_page"))


def filtered(total):
    return Listing(
        select(t.c.id, t.c.b).where(t.c.a == bindparam("a")),
        name="takeaway",
        total=total,
        cap=20,
        orders=["-at", "w", "-w:nulls-first"],
        sizes=Sizes(10, max=50),
        filters={"below": t.c.id < bindparam("below"), "b": t.c.b == bindparam("b")},
    )


@pytest.mark.parametrize("total", ["none", "exact", "capped"])
def test_routines_of_servers_that_are_not_read_from(total):
    """SQL Server's and Oracle's as text, whose query a parser of each dialect reads."""
    for dialect, grammar, call in (
        (
            "mssql",
            "tsql",
            "CREATE PROCEDURE takeaway_page @p_page INT = 1, @p_size INT = 10, "
            "@p_a INTEGER, @p_below INTEGER = NULL, @p_b VARCHAR(9) = NULL",
        ),
        (
            "oracle",
            "oracle",
            "CREATE PROCEDURE takeaway_page (p_page IN NUMBER, p_size IN NUMBER, "
            "p_a IN INTEGER, p_below IN INTEGER DEFAULT NULL, p_b IN VARCHAR2 DEFAULT NULL, "
            "p_rows OUT SYS_REFCURSOR) AS",
        ),
    ):
        for order in (None, "w", "-w:nulls-first"):
            routine = routine_text(filtered(total), dialect, {}, order)
            assert routine.partition("\n")[0] == call
            assert "param_" not in routine
            assert "2146999" not in routine
            query = routine[routine.index("\nSELECT") : routine.rindex(";\nEND")]
            (parsed,) = sqlglot.parse(query, dialect=grammar)
            last = "more_follow" if total == "none" else "total_rows"
            assert parsed.named_selects == ["id", "b", last]


@pytest.mark.parametrize("dialect", ["sqlite", "postgresql", "mariadb", "mssql", "oracle"])
def test_tables_of_one_engine_are_written_for_another(larkmere, dialect):
    """A table as SQLite reflects it: its types are named otherwise elsewhere."""
    table = Table("capture", MetaData(), autoload_with=larkmere)
    listing = Listing(select(table.c.id, table.c.caught_at), orders="-caught_at,-weight_g")
    strategies = ("keyset", "offset", *(["deferred-join"] if dialect != "mssql" else []))
    for strategy in strategies:
        (text, *_) = statements_text(listing, strategy, dialect, {})
        assert "CAST" not in text
        assert "datetime" not in text


_KINDS = {
    "sqlite": ("INTEGER", "REAL", "TEXT", "NUMERIC(8, 2)", "DATETIME", "BLOB", "DOUBLE(53)"),
    "postgresql": (
        *("double precision", "real", "numeric", "timestamptz", "timetz", "interval", "uuid"),
        *("bytea", "text", "char(5)", "inet", "money", "bit(3)", "int4range", "boolean"),
    ),
    "mariadb": (
        *("bit(4)", "year", "enum('a', 'b')", "set('a', 'b')", "double", "float(7, 2)"),
        *("decimal(10, 3)", "bigint unsigned", "mediumtext", "datetime(6)", "time(3)", "uuid"),
    ),
}


# Of its own types, such as YEAR: SQLAlchemy says so of any order by them.
@pytest.mark.filterwarnings("ignore:Type object:sqlalchemy.exc.SADeprecationWarning")
def test_columns_of_any_type_are_written_for_every_dialect(server, tmp_path):
    """As `vrelko sql` reflects them: SQLAlchemy fails at some types of other engines."""
    for kind in _KINDS[server.dialect.name]:
        with server.begin() as connection:
            connection.execute(text("DROP TABLE IF EXISTS kinds"))
            connection.execute(text(f"CREATE TABLE kinds (id INTEGER PRIMARY KEY, c {kind})"))
        table = reflect_table(tmp_path, server, "kinds", "kinds")
        listing = Listing(select(table), orders="c")
        for dialect in CAPABILITIES:
            for strategy in ("keyset", "offset", "whole"):
                assert statements_text(listing, strategy, dialect, {})
            if dialect in ROUTINES:
                assert " kinds" in routine_text(listing, dialect, {})
    with server.begin() as connection:
        connection.execute(text("DROP TABLE kinds"))


@pytest.mark.engines("postgresql")
def test_a_routine_for_a_type_that_is_not_known_says_so(server, tmp_path):
    with server.begin() as connection:
        connection.execute(text("CREATE TABLE places (id INTEGER PRIMARY KEY, at point)"))
    with pytest.warns(SAWarning, match="Did not recognize"):
        table = reflect_table(tmp_path, server, "places", "places")
    with pytest.raises(ListingError, match="this routine cannot be written for postgresql"):
        routine_text(Listing(select(table), orders="id"), "postgresql", {})
    with server.begin() as connection:
        connection.execute(text("DROP TABLE places"))
