"""UNION ALL: page statements pushed into each member, so that each reads about a page.

Paging a subquery that holds the union makes engines read all of it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Column, CompoundSelect, Label, Select, select, union_all
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.sql import visitors
from sqlalchemy.sql.elements import Over

from vrelko.sql.keys import key_column
from vrelko.sql.statements import (
    LIMIT,
    Source,
    integer,
    make_source,
    ordered,
    page_statement,
    ranges_by_statement,
)


def members_of(statement: Any) -> tuple[Select[Any], ...]:
    """Return the selects of a UNION ALL that a page may be pushed into, else none."""
    if not isinstance(statement, CompoundSelect):
        return ()
    own = statement._limit_clause is not None or statement._offset_clause is not None
    members = [one for one in statement.selects if isinstance(one, Select) and _is_plain(one)]
    all_rows = statement.keyword.value == "UNION ALL" and not own
    return tuple(members) if all_rows and len(members) == len(statement.selects) else ()


def build_union(
    source: Source,
    members: Sequence[Select[Any]],
    dialect: Dialect,
    null_keys: Sequence[bool] | None,
    backward: bool,
) -> Select[Any]:
    """Return one statement for a page over the members: behind a key, or the first page.

    `null_keys` is None for the first page (the last, when `backward`).
    """
    order = source.order.reversed() if backward else source.order
    parts = []
    for member in members:
        apart = _member(source, member, dialect)
        for group in ranges_by_statement(apart, order, null_keys):
            one = page_statement(apart, order, group, null_keys or ())
            parts.append(select(one.subquery()))
    rows = union_all(*parts).subquery("vrelko_rows")
    keys = [key_column(rows.c[str(key.element.key)], dialect) for key in source.keys]
    whole = make_source(select(rows), source.order, keys, source.capabilities, list(rows.c))
    return ordered(whole, order).limit(integer(LIMIT))


def _member(source: Source, member: Select[Any], dialect: Dialect) -> Source:
    """Return a member as a source of its own, with the same order over its own columns."""
    shown = [
        # A constant keeps its label: as itself, ORDER BY would take it for a position.
        one.element if isinstance(one, Label) and isinstance(one.element, Column) else one
        for one in member.selected_columns
    ]
    names = [str(column.key) for column in source.select.selected_columns]
    elements = [shown[names.index(str(key.element.key))] for key in source.keys]
    keys = tuple(key_column(element, dialect) for element in elements)
    return replace(source, select=member.order_by(None), keys=keys)


def _is_plain(member: Select[Any]) -> bool:
    """Tell whether a condition added to a member keeps what the member means."""
    own_limit = member._limit_clause is not None or member._offset_clause is not None
    merges = member._distinct or member._group_by_clauses or member._having_criteria
    parts = (part for column in member.selected_columns for part in visitors.iterate(column))
    return not (own_limit or merges or any(isinstance(part, Over) for part in parts))
