"""PostgreSQL: what it can do, and how its catalog is read."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Table, text
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.capabilities import Capabilities
from vrelko.core.engine_traits import TRAITS
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.core.stored import Stored

_TRAITS = TRAITS["postgresql"]
CAPABILITIES = Capabilities(
    engine="postgresql",
    form="row-value",
    nulls_low=_TRAITS.nulls_low,
    nulls_syntax=True,
    nulls_served=_TRAITS.nulls_served,
    row_id_joins=True,
    index_tail=_TRAITS.index_tail,
    equality_traps=False,
    lateral=True,
    bound_prunes=True,
    endless_moments=True,
    zoned_moments=True,
    sorts_groups=_TRAITS.sorts_groups,
    tells_open_transactions=True,
)

_INDEXES = text(
    "SELECT c.relname, a.attname, i.indoption[k.place - 1] AS option, i.indisunique, "
    "i.indpred IS NOT NULL AS partial FROM pg_index i "
    "JOIN pg_class c ON c.oid = i.indexrelid JOIN pg_am m ON m.oid = c.relam "
    "CROSS JOIN LATERAL unnest(i.indkey) WITH ORDINALITY AS k(number, place) "
    "LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number AND k.number > 0 "
    "WHERE i.indrelid = to_regclass(:name) AND i.indisvalid AND k.place <= i.indnkeyatts "
    "AND m.amname = 'btree' ORDER BY c.relname, k.place"
)


def read_indexes(connection: Any, table: Table, dialect: Dialect) -> list[IndexFacts]:
    """Return a table's b-tree indexes: columns, directions and where their NULLs stand."""
    name = dialect.identifier_preparer.format_table(table)
    found: dict[str, tuple[list[IndexColumn], bool, bool]] = {}
    for index, column, option, unique, partial in connection.execute(_INDEXES, {"name": name}):
        columns, _, _ = found.setdefault(str(index), ([], bool(unique), bool(partial)))
        # The bits of indoption: descending, NULLs first.
        columns.append(IndexColumn(column, bool(option & 1), bool(option & 2)))
    return [
        IndexFacts(index, tuple(columns), unique, partial)
        for index, (columns, unique, partial) in found.items()
    ]


def needs_bound(connection: Any, table: Table, dialect: Dialect) -> bool:
    """Tell whether a row value alone reads too much: of partitions, or of another server's rows.

    A foreign server is not sent row values, but plain bounds are.
    """
    kind = text("SELECT relkind FROM pg_class WHERE oid = to_regclass(:name)")
    name = dialect.identifier_preparer.format_table(table)
    # Partitioned, or foreign.
    return str(connection.execute(kind, {"name": name}).scalar()) in ("p", "f")


_COLUMNS = text(
    "SELECT a.attname, a.attnotnull, coalesce(c.collname, '') AS collation, "
    "format_type(CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.oid END, NULL) AS kind, "
    "format_type(a.atttypid, a.atttypmod) AS exact, NOT coalesce(c.collisdeterministic, true), "
    "CAST(a.attrelid AS bigint), "
    "CAST(CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.oid END AS bigint), "
    "t.typtype = 'c' "
    "FROM pg_attribute a "
    "JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_collation c ON c.oid = a.attcollation "
    "WHERE a.attrelid = to_regclass(:name) AND a.attnum > 0 AND NOT a.attisdropped"
)
_FUNCTIONS = text(
    "SELECT proname, bool_or(proretset), bool_or(provolatile = 'v') FROM pg_proc "
    "WHERE proname = ANY(:names) GROUP BY 1"
)
_TYPES = text(
    "SELECT oid, format_type(oid, NULL), typtype = 'c' FROM pg_type WHERE oid = ANY(:codes)"
)
_CODES = {
    16: "boolean", 17: "bytea", 18: '"char"', 19: "name", 20: "bigint", 21: "smallint",
    23: "integer", 25: "text", 26: "oid", 700: "real", 701: "double precision",
    1042: "character", 1043: "character varying", 1082: "date", 1083: "time without time zone",
    1114: "timestamp without time zone", 1184: "timestamp with time zone", 1186: "interval",
    1700: "numeric", 2950: "uuid",
}  # fmt: skip
"""Types by the numbers that the wire protocol has for them (pg_type.dat)."""


def read_columns(connection: Any, table: Table, dialect: Dialect) -> dict[str, Stored]:
    """Return the columns of a table or view by name; none where there is no such table."""
    name = dialect.identifier_preparer.format_table(table)
    rows = connection.execute(_COLUMNS, {"name": name})
    return {
        column: Stored(
            kind,
            not filled,
            collation,
            exact=exact,
            nondeterministic=folds,
            wire=(of, number),
            composite=composite,
        )
        for column, filled, collation, kind, exact, folds, of, number, composite in rows
    }


def shows(cursor: Any, wires: Sequence[tuple[int, Any, bool]]) -> bool | None:
    """Tell whether a result's columns are of the tables and types that the catalog told of.

    `wires`: a column's place, with the numbers of its table and type, and whether it may hold NULL.
    None where no column is of a table, as those of unions are. A driver that is not psycopg shows
    nothing that could differ.
    """
    inner = getattr(cursor, "_cursor", cursor)  # of an asynchronous driver
    found = getattr(inner, "pgresult", None)
    if found is None:
        return True
    tables = 0
    for place, known, _ in wires:
        table = found.ftable(place)
        if not table:  # an expression
            continue
        tables += 1
        if table != known[0] or found.ftype(place) != known[1]:
            return False
    return True if tables else None


def rounds_floats(connection: Any) -> bool:
    """Tell whether the session sends floating-point numbers with fewer digits than they have."""
    asked = text("SELECT CAST(current_setting('extra_float_digits') AS int)")
    return int(connection.execute(asked).scalar()) < 1


_HIDES = text("SELECT relkind = 'v' OR relrowsecurity FROM pg_class WHERE oid = to_regclass(:name)")


def hides_rows(connection: Any, table: Table, dialect: Dialect) -> bool:
    """Tell whether users may see other rows of a table: by its policies, or as it is a view."""
    name = dialect.identifier_preparer.format_table(table)
    return bool(connection.execute(_HIDES, {"name": name}).scalar())


def database_of(connection: Any) -> tuple[Any, ...]:
    """Return which database a connection is to, as its driver knows it."""
    info = getattr(connection.connection.driver_connection, "info", None)
    return tuple(str(getattr(info, name, "")) for name in ("host", "port", "dbname"))


def schemas_of(connection: Any) -> str:
    """Return the schemas that names without one are looked for in."""
    return str(connection.execute(text("SELECT CAST(current_schemas(true) AS text)")).scalar())


_SPREAD = text(
    "SELECT c.reltuples, s.n_distinct FROM pg_class c "
    "JOIN pg_namespace n ON n.oid = c.relnamespace LEFT JOIN pg_stats s "
    "ON s.schemaname = n.nspname AND s.tablename = c.relname AND s.attname = :column "
    "WHERE c.oid = to_regclass(:name) ORDER BY s.inherited DESC NULLS LAST LIMIT 1"
)


def read_spread(
    connection: Any, table: Table, column: str, dialect: Dialect
) -> tuple[float, float]:
    """Return about the rows of a table and the distinct values of a column, 0 where not known."""
    name = dialect.identifier_preparer.format_table(table)
    found = connection.execute(_SPREAD, {"name": name, "column": column}).one_or_none()
    rows, distinct = (0.0, 0.0) if found is None else (found[0] or 0.0, found[1] or 0.0)
    # Below 0 the server tells distinct values as a share of the rows.
    return max(rows, 0.0), distinct if distinct >= 0 else -distinct * max(rows, 0.0)


def read_kinds(connection: Any, codes: Sequence[Any]) -> list[Stored | None]:
    """Return the types that a result's columns have, by the codes its description gives."""
    # Types of extensions, and enums, have numbers of their own in each database.
    others = [code for code in codes if type(code) is int and code not in _CODES]
    known = {code: Stored(kind) for code, kind in _CODES.items()}
    if others:
        for code, kind, composite in connection.execute(_TYPES, {"codes": others}):
            known[code] = Stored(kind, composite=composite)
    return [known.get(code) for code in codes]


def find_functions(connection: Any, names: Sequence[str]) -> tuple[set[str], set[str]]:
    """Return which of these functions give several rows for one, and which are volatile."""
    # By name alone: which of several functions is meant depends on the arguments' types.
    found = connection.execute(_FUNCTIONS, {"names": list(names)}).all()
    several = {str(name) for name, many, _ in found if many}
    return several, {str(name) for name, _, volatile in found if volatile}
