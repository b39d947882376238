"""Tables by name, as the database has them."""

from __future__ import annotations

from typing import Any

from sqlalchemy import MetaData, Table

from vrelko.errors import DatabaseError, nearest


def reflect(inspector: Any, name: str) -> Table:
    """Return a table as an inspector's database has it. Raises DatabaseError."""
    known = inspector.get_table_names()
    if name not in known:
        raise DatabaseError(
            f"there is no table {name!r} in this database",
            nearest(name, known, otherwise="It has no table at all"),
            "table-missing",
        )
    return Table(name, MetaData(), autoload_with=inspector.bind, resolve_fks=False)
