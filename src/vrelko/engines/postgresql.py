"""PostgreSQL: what it can do, and how its catalog is read."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Table, text
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.capabilities import Capabilities
from vrelko.core.index import IndexColumn, IndexFacts

CAPABILITIES = Capabilities(
    engine="postgresql",
    form="row-value",
    nulls_low=False,
    nulls_syntax=True,
    nulls_served=False,
    row_id_joins=True,
    index_tail="none",
    equality_traps=False,
    bound_prunes=True,
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
        columns.append(IndexColumn(column, bool(option & 1), bool(option & 2)))
    return [
        IndexFacts(index, tuple(columns), unique, partial)
        for index, (columns, unique, partial) in found.items()
    ]


def is_partitioned(connection: Any, table: Table, dialect: Dialect) -> bool:
    """Tell whether a table is split into partitions."""
    kind = text("SELECT relkind FROM pg_class WHERE oid = to_regclass(:name)")
    name = dialect.identifier_preparer.format_table(table)
    return str(connection.execute(kind, {"name": name}).scalar()) == "p"
