"""How values are spread in SQLite: row ids alone tell, by their least and their greatest."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Table, func, select, text
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.distribution import Distribution
from vrelko.engines.sqlite import catalog


def read_distribution(
    lender: Any, table: Table, column: str, dialect: Dialect
) -> Distribution | None:
    """Return that row ids are spread evenly between the ends; None for any other column.

    Where ANALYZE has counted the rows, gaps between ids are what a share may be off by.
    """
    space = table.schema or catalog.MAIN
    if _row_id(lender, table.name, space) != column:
        return None
    one = table.c[column]
    low, high = (lender.execute(select(end(one))).scalar() for end in (func.min, func.max))
    if low is None:
        return None
    stored = catalog.read_statistics(lender, table.name, space)
    counted = [numbers[0] for numbers in stored.values()]
    # Ids that were deleted, or never given, leave holes that the ends do not show.
    gaps = max(1 - max(counted) / (high - low + 1), 0.0) if counted else None
    return Distribution((low, high) if low < high else (low,), doubt=gaps)


def _row_id(lender: Any, name: str, space: str) -> str | None:
    """Return the column that is another name of the row id, None where there is none."""
    if catalog.is_without_rowid(lender, name, space):
        return None
    asked = text("SELECT name, type FROM pragma_table_info(:name, :space) WHERE pk > 0")
    keys = lender.execute(asked, {"name": name, "space": space}).all()
    alone = len(keys) == 1 and keys[0].type.upper() == "INTEGER"
    return str(keys[0].name) if alone else None
