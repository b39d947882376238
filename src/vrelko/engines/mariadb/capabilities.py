"""MariaDB: what it can do, and how its catalog is read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Table, text
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import DBAPIError

from vrelko.core.capabilities import Capabilities
from vrelko.core.engine_traits import TRAITS
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.core.stored import Stored

_TRAITS = TRAITS["mariadb"]
CAPABILITIES = Capabilities(
    engine="mariadb",
    form="expanded-or",
    nulls_low=_TRAITS.nulls_low,
    nulls_syntax=False,
    nulls_served=_TRAITS.nulls_served,
    row_id_joins=True,
    index_tail=_TRAITS.index_tail,
    equality_traps=True,
    sorts_groups=_TRAITS.sorts_groups,
)

SPREAD = replace(CAPABILITIES, form="row-value", equality_traps=False, ors_lose=True)
"""What it can do with tables whose partitions lie on several servers."""

_INDEXES = (
    "SELECT index_name, column_name, collation, non_unique, sub_part "
    "FROM information_schema.statistics "
    "WHERE table_schema = coalesce(:space, database()) AND table_name = :name "
    "AND index_type = 'BTREE'{} ORDER BY index_name, seq_in_index"
)
_IN_USE = " AND ignored = 'NO'"  # from 10.6 on an index may stand unused
_NO_SUCH_KEY = 1176


def read_indexes(connection: Any, table: Table, dialect: Dialect) -> list[IndexFacts]:
    """Return a table's b-tree indexes: columns and directions.

    Without those that hold only the beginnings of values, which are in no order to page by.
    """
    found: dict[str, tuple[list[IndexColumn], bool]] = {}
    cut = set()
    asked = text(_INDEXES.format(_IN_USE if (dialect.server_version_info or ()) >= (10, 6) else ""))
    # By the catalog, not by SHOW INDEX, which takes no parameters.
    rows = connection.execute(asked, {"space": table.schema, "name": table.name})
    for index, column, collation, non_unique, part in rows:
        columns, _ = found.setdefault(str(index), ([], not non_unique))
        columns.append(IndexColumn(column, collation == "D"))
        # Two values alike in their beginning stand in any order there.
        if part is not None:
            cut.add(str(index))
    return [
        IndexFacts(index, tuple(columns), unique)
        for index, (columns, unique) in found.items()
        if index not in cut
    ]


_SPREAD = text(
    "SELECT COUNT(*) FROM information_schema.partitions "
    "JOIN information_schema.tables USING (table_schema, table_name) "
    "WHERE table_schema = coalesce(:space, database()) AND table_name = :name "
    "AND engine = 'SPIDER' AND partition_name IS NOT NULL"
)


def is_spread(connection: Any, table: Table) -> bool:
    """Tell whether a table's partitions lie on several servers (the engine Spider).

    With two or more of them an OR of key ranges loses rows there and repeats others, without a
    word; a row value beside the bound that it implies is right.
    """
    # One partition is one server, and right.
    found = connection.execute(_SPREAD, {"space": table.schema, "name": table.name}).scalar()
    return int(found or 0) > 1


def is_index_gone(error: DBAPIError) -> bool:
    """Tell whether a statement failed because it names an index that is no longer there."""
    return getattr(error.orig, "args", ())[:1] == (_NO_SUCH_KEY,)


_COLUMNS = text(
    "SELECT column_name, data_type, is_nullable, collation_name, character_maximum_length, "
    "table_schema FROM information_schema.columns "
    "WHERE table_schema = coalesce(:space, database()) AND table_name = :name"
)
_CODES = {
    0: "decimal", 1: "bigint", 2: "bigint", 3: "bigint", 4: "float", 5: "double", 7: "timestamp",
    8: "bigint", 9: "bigint", 10: "date", 11: "time", 12: "datetime", 13: "year", 16: "bit",
    246: "decimal",
    249: "varchar", 250: "varchar", 251: "varchar", 252: "varchar", 253: "varchar", 254: "varchar",
}  # fmt: skip
"""Types of computed values by the numbers that the wire protocol has for them; none is an ENUM."""


def read_columns(connection: Any, table: Table, dialect: Dialect) -> dict[str, Stored]:
    """Return the columns of a table or view by name; none where there is no such table."""
    rows = connection.execute(_COLUMNS, {"space": table.schema, "name": table.name})
    return {
        name: Stored(
            kind.lower(),
            nullable == "YES",
            collation or "",
            length,
            wire=(space.encode(), nullable == "YES"),
        )
        for name, kind, nullable, collation, length, space in rows
    }


_NOT_NULL = 1  # a flag of a result's column (MariaDB's protocol, "Column definition packet")


def shows(cursor: Any, wires: Sequence[tuple[int, Any, bool]]) -> bool | None:
    """Tell whether a result's columns are of the databases, and as NOT NULL, as the catalog told.

    `wires`: a column's place, its database and whether it may hold NULL, and whether its term may.
    None where no column is of a table, as those of subqueries are that the server keeps in a table
    of its own. A driver that is not PyMySQL shows nothing that could differ.
    """
    inner = getattr(cursor, "_cursor", cursor)  # of an asynchronous driver
    fields = getattr(getattr(inner, "_result", None), "fields", None)
    if not fields:
        return True
    tables = 0
    for place, known, nullable in wires:
        field = fields[place]
        if not field.db:  # an expression
            continue
        tables += 1
        # A column that an outer join makes NULL is none that has changed.
        if field.db != known[0] or (not nullable and not field.flags & _NOT_NULL):
            return False
    return True if tables else None


def sorted_bytes(connection: Any) -> int:
    """Return the bytes of a value that the session's sorting looks at."""
    return int(connection.execute(text("SELECT @@max_sort_length")).scalar())


_HIDES = text(
    "SELECT table_type = 'VIEW' FROM information_schema.tables "
    "WHERE table_schema = coalesce(:space, database()) AND table_name = :name"
)


def hides_rows(connection: Any, table: Table, dialect: Dialect) -> bool:
    """Tell whether users may see other rows of a table: a view may ask who they are."""
    return bool(connection.execute(_HIDES, {"space": table.schema, "name": table.name}).scalar())


def database_of(connection: Any) -> tuple[Any, ...]:
    """Return which database a connection is to, as its driver knows it."""
    driver = connection.connection.driver_connection
    return tuple(str(getattr(driver, name, "")) for name in ("host", "port", "db"))


def schemas_of(connection: Any) -> str:
    """Return the database that names without one are looked for in."""
    return str(connection.execute(text("SELECT DATABASE()")).scalar())


def read_kinds(codes: Sequence[Any]) -> list[Stored | None]:
    """Return the types that a result's columns have, by the codes its description gives."""
    return [Stored(_CODES[code]) if code in _CODES else None for code in codes]


_ROWS = text(
    "SELECT table_rows FROM information_schema.tables "
    "WHERE table_schema = coalesce(:space, database()) AND table_name = :name"
)


_DISTINCT = text(
    "SELECT max(cardinality) FROM information_schema.statistics WHERE seq_in_index = 1 "
    "AND table_schema = coalesce(:space, database()) AND table_name = :name "
    "AND column_name = :column"
)


def read_spread(
    connection: Any, table: Table, column: str, dialect: Dialect
) -> tuple[float, float]:
    """Return about the rows of a table and the distinct values of a column, 0 where not known."""
    values = {"space": table.schema, "name": table.name, "column": column}
    distinct = float(connection.execute(_DISTINCT, values).scalar() or 0)
    return float(count_rows(connection, table)), distinct / 2  # InnoDB shows twice what it found


def count_rows(connection: Any, table: Table) -> int:
    """Return about the rows of a table, as the catalog has them."""
    values = {"space": table.schema, "name": table.name}
    return int(connection.execute(_ROWS, values).scalar() or 0)
