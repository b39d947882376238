"""EXPLAIN of a select, as each engine spells it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from itertools import count
from typing import Any

from sqlalchemy import Executable, Select
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql import ClauseElement

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
    # Else SQLAlchemy would look for the select's columns in the rows of the plan.
    compiler._result_columns = []
    return asked


def plan_in(found: Any) -> Mapping[str, Any]:
    """Return the plan that PostgreSQL's EXPLAIN in JSON gave, which most drivers have parsed."""
    (top,) = found if isinstance(found, list) else json.loads(str(found))
    plan: Mapping[str, Any] = top["Plan"]
    return plan
