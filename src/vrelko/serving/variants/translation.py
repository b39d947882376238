"""Names of schemas that a connection's statements replace by others."""

from __future__ import annotations

from typing import Any

from sqlalchemy import MetaData, Table


def translated(connection: Any, table: Table) -> Table:
    """Return a table under the schema that the connection's statements name instead of its own."""
    names = connection.get_execution_options().get("schema_translate_map")
    if not names or table.schema not in names:
        return table
    return table.to_metadata(MetaData(), schema=names[table.schema])
