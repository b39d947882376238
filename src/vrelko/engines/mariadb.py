"""MariaDB: what it can do, and how its catalog is read."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Table, text
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import DBAPIError

from vrelko.core.capabilities import Capabilities
from vrelko.core.index import IndexColumn, IndexFacts

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
    rows = connection.execute(asked, {"space": table.schema, "name": table.name})
    for index, column, collation, non_unique, part in rows:
        columns, _ = found.setdefault(str(index), ([], not non_unique))
        columns.append(IndexColumn(column, collation == "D"))
        if part is not None:
            cut.add(str(index))
    return [
        IndexFacts(index, tuple(columns), unique)
        for index, (columns, unique) in found.items()
        if index not in cut
    ]


def is_index_gone(error: DBAPIError) -> bool:
    """Tell whether a statement failed because it names an index that is no longer there."""
    return getattr(error.orig, "args", ())[:1] == (_NO_SUCH_KEY,)
