"""Row counts that the engine can tell without counting."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Select, Table

from vrelko.engines.registry import engine_of


def estimate_rows(
    lender: Any, rows: Select[Any], params: Mapping[str, Any], table: Table | None
) -> int | None:
    """Return about how many rows a select gives, None where the engine cannot tell.

    PostgreSQL and MariaDB: the optimizer's own estimate, filters and all. SQLite: the largest row
    id or what ANALYZE stored, for a table without filter alone.
    """
    return engine_of(lender).estimate_rows(lender, rows, params, table)
