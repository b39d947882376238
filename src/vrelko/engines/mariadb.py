"""MariaDB: what it can do, and how its catalog is read."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Table, text
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.capabilities import Capabilities
from vrelko.core.facts import IndexColumn, IndexFacts

CAPABILITIES = Capabilities(
    engine="mariadb",
    form="expanded-or",
    nulls_low=True,
    nulls_syntax=False,
    nulls_served=False,
    row_id_joins=True,
    index_tail="primary-key",
    equality_traps=True,
)

_INDEXES = text(
    "SELECT index_name, column_name, collation, non_unique FROM information_schema.statistics "
    "WHERE table_schema = coalesce(:space, database()) AND table_name = :name "
    "AND index_type = 'BTREE' ORDER BY index_name, seq_in_index"
)


def read_indexes(connection: Any, table: Table, dialect: Dialect) -> list[IndexFacts]:
    """Return a table's b-tree indexes: columns and directions."""
    found: dict[str, tuple[list[IndexColumn], bool]] = {}
    rows = connection.execute(_INDEXES, {"space": table.schema, "name": table.name})
    for index, column, collation, non_unique in rows:
        columns, _ = found.setdefault(str(index), ([], not non_unique))
        columns.append(IndexColumn(column, collation == "D"))
    return [IndexFacts(index, tuple(columns), unique) for index, (columns, unique) in found.items()]
