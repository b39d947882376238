"""Row counts that the engine can tell without counting."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Select, Table, text

from vrelko.engines.explain import explain, plan_in
from vrelko.engines.registry import dialect_of


def estimate_rows(
    lender: Any, rows: Select[Any], params: Mapping[str, Any], table: Table | None
) -> int | None:
    """Return about how many rows a select gives, None where the engine cannot tell.

    PostgreSQL and MariaDB: the optimizer's own estimate, filters and all. SQLite: the largest row
    id or what ANALYZE stored, for a table without filter alone.
    """
    name = dialect_of(lender).name
    if name == "postgresql":
        found = lender.execute(explain(rows), params).scalar()
        return int(plan_in(found)["Plan Rows"])
    if name in ("mariadb", "mysql"):
        estimate = 1.0
        for step in lender.execute(explain(rows), params).mappings():
            passing = float(step.get("filtered") or 100.0) / 100
            estimate *= float(step["rows"] or 0) * passing
        return round(estimate)
    if rows.whereclause is not None or table is None or len(rows.get_final_froms()) != 1:
        return None
    statistics = text("SELECT stat FROM sqlite_stat1 WHERE tbl = :table LIMIT 1")
    if lender.execute(text("SELECT 1 FROM sqlite_master WHERE name = 'sqlite_stat1'")).scalar():
        stored = lender.execute(statistics, {"table": table.name}).scalar()
        if stored:
            return int(str(stored).split()[0])
    return None
