"""Row counts that the engine can tell without counting."""

from __future__ import annotations

import json
from collections.abc import Mapping
from itertools import count
from typing import Any

from sqlalchemy import Executable, Select, Table, text
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql import ClauseElement

from vrelko.engines.registry import dialect_of

_ASKED = count()


class explain(Executable, ClauseElement):
    """EXPLAIN of a select in JSON, with the select's own parameters."""

    inherit_cache = False

    def __init__(self, statement: Select[Any]) -> None:
        self.statement = statement


@compiles(explain, "postgresql")
def _postgresql(element: Any, compiler: Any, **kw: Any) -> str:
    return "EXPLAIN (FORMAT JSON) " + _inner(element, compiler, **kw)


@compiles(explain, "sqlite")
def _sqlite(element: Any, compiler: Any, **kw: Any) -> str:
    """A driver keeps a prepared EXPLAIN though an index came or went; a new text is never stale."""
    return f"EXPLAIN QUERY PLAN /* {next(_ASKED)} */ " + _inner(element, compiler, **kw)


@compiles(explain, "mysql", "mariadb")
def _mariadb(element: Any, compiler: Any, **kw: Any) -> str:
    return "EXPLAIN " + _inner(element, compiler, **kw)


def _inner(element: Any, compiler: Any, **kw: Any) -> str:
    """Return the text of the select, without its columns: EXPLAIN gives others."""
    asked = str(compiler.process(element.statement, **kw))
    compiler._result_columns = []
    return asked


def plan_in(found: Any) -> Mapping[str, Any]:
    """Return the plan that PostgreSQL's EXPLAIN in JSON gave, which most drivers have parsed."""
    (top,) = found if isinstance(found, list) else json.loads(str(found))
    plan: Mapping[str, Any] = top["Plan"]
    return plan


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
