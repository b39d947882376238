"""Kinds of select: which can be paged as they stand, which in a subquery, which not at all.

DISTINCT: a row is what it shows, so that is its key. GROUP BY: the group columns are the key, and
the seek predicate goes into HAVING. Window functions, an own LIMIT and set operations: the select
is wrapped, since a condition added to it would change what it means.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import CompoundSelect, Select, TextClause
from sqlalchemy import select as make_select
from sqlalchemy.sql import visitors
from sqlalchemy.sql.elements import Over
from sqlalchemy.sql.functions import FunctionElement

from vrelko.errors import ListingError, OrderError
from vrelko.sql.entities import has_whole_entity, refuse_cut_collections
from vrelko.sql.indexes import fixed_column
from vrelko.sql.sources import Sources, conjuncts, read_sources, same

_UNSTABLE = ("random", "rand", "now", "current_timestamp", "uuid", "gen_random_uuid")


@dataclass(frozen=True)
class Shape:
    """A select as it is paged: `unique` columns identify a row, `closed` names what merges rows.

    `wrapped`: the user's select stands in a subquery.
    """

    select: Select[Any]
    sources: Sources
    unique: tuple[Any, ...]
    closed: str = ""
    wrapped: bool = False


def refuse_selects(select: Any) -> None:
    """Raise ListingError or OrderError for what cannot be paged, with the rewrite."""
    if isinstance(select, TextClause):
        raise ListingError(
            "text() cannot be paged",
            "Say what it returns and wrap it: select(text(…).columns(…).subquery())",
            "select-kind",
        )
    if not isinstance(select, (Select, CompoundSelect)):
        raise ListingError(
            f"{type(select).__name__} cannot be paged",
            "Give a select() of tables, joins or subqueries",
            "select-kind",
        )
    if isinstance(select, CompoundSelect):
        return
    refuse_cut_collections(select)
    for clause in select._order_by_clauses:
        _refuse_term(clause)


def shape_of(select: Select[Any] | CompoundSelect[Any]) -> Shape:
    """Return how a select is paged. Raises ListingError and OrderError."""
    if isinstance(select, CompoundSelect):
        sub = select.subquery("vrelko_rows")
        return Shape(make_select(sub), Sources((sub,), frozenset(), ()), (), wrapped=True)
    own_limit = select._limit_clause is not None or select._offset_clause is not None
    if own_limit or _has_window(select):
        return _wrap(select)
    sources = read_sources(select)
    if select._group_by_clauses:
        keys = tuple(select._group_by_clauses)
        return Shape(select, sources, keys, closed="GROUP BY")
    unique = _without_fixed(select, sources.unique)
    if select._distinct:
        shown = tuple(select.selected_columns)
        held = [getattr(one, "element", one) for one in shown] + list(shown)
        if not unique or not all(any(same(key, one) for one in held) for key in unique):
            unique = shown
        return Shape(select, sources, unique, closed="DISTINCT")
    return Shape(select, sources, unique)


def _wrap(select: Select[Any]) -> Shape:
    if has_whole_entity(select):
        raise ListingError(
            "a select of entities with an own LIMIT or window functions would lose its entities",
            "Select columns, or page the entities alone",
            "select-wrapped",
        )
    inner = read_sources(select)
    sub = select.subquery("vrelko_rows")
    shown = list(select.selected_columns)
    unique: list[Any] = []
    for key in _merged_by(select) or inner.unique:
        at = next(
            (i for i, one in enumerate(shown) if same(getattr(one, "element", one), key)), None
        )
        if at is None:
            unique = []
            break
        unique.append(list(sub.c)[at])
    sources = replace(inner, tables=(sub,), unique=tuple(unique), optional=frozenset())
    return Shape(make_select(sub), sources, tuple(unique), wrapped=True)


def _merged_by(select: Select[Any]) -> tuple[Any, ...]:
    """Return what identifies the rows of a DISTINCT or grouped select."""
    if select._group_by_clauses:
        return tuple(select._group_by_clauses)
    return tuple(select.selected_columns) if select._distinct else ()


def _has_window(select: Select[Any]) -> bool:
    return any(
        isinstance(element, Over)
        for column in select.selected_columns
        for element in visitors.iterate(column)
    )


def _without_fixed(select: Select[Any], unique: tuple[Any, ...]) -> tuple[Any, ...]:
    """Return key columns that no equality fixes: the others decide nothing."""
    fixed = [found[0] for part in conjuncts(select.whereclause) if (found := fixed_column(part))]
    left = tuple(key for key in unique if not any(same(key, one) for one in fixed))
    return left or unique[:1]


def _refuse_term(clause: Any) -> None:
    """Raise OrderError for order terms that no page can rely on."""
    for element in visitors.iterate(clause):
        if isinstance(element, TextClause):
            raise OrderError(
                "the order is raw text, which cannot be turned into a seek predicate",
                "Write it as columns: table.c.name.desc()",
                "order-expression",
            )
        name = str(getattr(element, "name", "")) if isinstance(element, FunctionElement) else ""
        if name.lower() in _UNSTABLE:
            raise OrderError(
                f"the order depends on {name}(), which differs on each page",
                "Order by a stored value",
                "order-unstable",
            )
