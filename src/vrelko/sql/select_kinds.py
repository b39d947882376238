"""Kinds of select: which can be paged as they stand, which in a subquery, which not at all.

DISTINCT: a row is what it shows, so that is its key. GROUP BY: the group columns are the key, and
the seek predicate goes into HAVING. Window functions, an own LIMIT and set operations: the select
is wrapped, since a condition added to it would change what it means.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnClause, ColumnElement, CompoundSelect, Select, Subquery, TextClause
from sqlalchemy import select as make_select
from sqlalchemy.sql import operators, visitors
from sqlalchemy.sql.elements import Over, UnaryExpression
from sqlalchemy.sql.functions import FunctionElement

from vrelko.errors import ListingError, OrderError
from vrelko.sql.entities import has_whole_entity, order_terms, refuse_cut_collections
from vrelko.sql.functions import distinct_terms, group_terms, is_extended, merges_rows
from vrelko.sql.indexes import fixed_column
from vrelko.sql.proofs import key_within, read_sources
from vrelko.sql.sources import Sources, conjuncts, plain, same

_UNSTABLE = frozenset(
    {
        "random",
        "rand",
        "random_normal",
        "randomblob",
        "now",
        "current_timestamp",
        "current_time",
        "current_date",
        "localtimestamp",
        "localtime",
        "clock_timestamp",
        "statement_timestamp",
        "transaction_timestamp",
        "timeofday",
        "sysdate",
        "curdate",
        "curtime",
        "utc_timestamp",
        "utc_date",
        "utc_time",
        "unixepoch",
        "uuid",
        "uuid_short",
        "gen_random_uuid",
        "uuid_generate_v4",
        "newid",
        "nextval",
        "sys_guid",
    }
)


@dataclass(frozen=True)
class Shape:
    """A select as it is paged: `unique` columns identify a row, `closed` names what merges rows.

    `wrapped`: the user's select stands in a subquery. `own`: the select's ORDER BY, where wrapped
    by the subquery's columns.
    """

    select: Select[Any]
    sources: Sources
    unique: tuple[Any, ...]
    closed: str = ""
    wrapped: bool = False
    own: tuple[Any, ...] = ()


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
    _refuse_columns(select)
    if select._offset_clause is not None:
        raise ListingError(
            "the select has an OFFSET of its own, so its first rows would never be shown",
            "Leave OFFSET and LIMIT to the listing; where just those rows are meant, page "
            "select(….subquery())",
            "select-offset",
        )
    for clause in select._order_by_clauses:
        refuse_term(clause)


def shape_of(select: Select[Any] | CompoundSelect[Any]) -> Shape:
    """Return how a select is paged. Raises ListingError and OrderError."""
    _refuse_merged_conversions(select)
    if isinstance(select, CompoundSelect):
        sub = select.subquery("vrelko_rows")
        own, _ = _order_outside(select._order_by_clauses, sub)
        return Shape(make_select(sub), Sources((sub,), frozenset(), ()), (), wrapped=True, own=own)
    # A condition added to it would be applied before its own LIMIT or window, and change its rows.
    if _must_wrap(select):
        return _wrap(select)
    sources, own = read_sources(select), tuple(select._order_by_clauses)
    if select._group_by_clauses:
        keys = group_terms(select)
        return Shape(select, sources, keys, closed="GROUP BY", own=own)
    unique = _without_fixed(select, sources.unique)
    if select._distinct:
        shown = tuple(select.selected_columns)
        # A key that is shown keeps rows apart; else DISTINCT may have merged some, and all that is
        # shown is the key.
        held = [plain(one) for one in shown] + list(shown)
        if not unique or not all(any(same(key, one) for one in held) for key in unique):
            unique = shown
        return Shape(select, sources, unique, closed="DISTINCT", own=own)
    return Shape(select, sources, unique, own=own)


def _refuse_merged_conversions(select: Select[Any] | CompoundSelect[Any]) -> None:
    """Raise ListingError where rows are merged by values that a column's type changes in SQL.

    SQLAlchemy writes such conversions in the outermost select alone: whether rows are merged by the
    converted values or by the stored ones would depend on what a page adds around the select.
    """
    if isinstance(select, CompoundSelect):
        merges = not select.keyword.value.endswith("ALL")
    else:
        merges = bool(select._distinct)
    if not merges:
        return
    for column in select.selected_columns:
        if column.type._has_column_expression:
            raise ListingError(
                f"rows are merged by {column.key!r}, whose type changes its values in SQL",
                "Select what is meant, with a type that changes nothing: the column by "
                "type_coerce(…, String), or the converting expression itself",
                "select-converted",
            )


def _must_wrap(select: Select[Any]) -> bool:
    """Tell whether a condition added to a select would change what its rows are."""
    # Its own LIMIT chooses rows first, and a page is of these.
    own_limit = select._limit_clause is not None or select._fetch_clause is not None
    # Somebody wrote DISTINCT as text, which SQLAlchemy knows nothing of.
    prefixed = any("distinct" in str(text).lower() for text, _ in select._prefixes)
    distinct = bool(distinct_terms(select)) or is_extended(select) or prefixed
    return own_limit or distinct or _merges_all(select) or _has_window(select)


def _wrap(select: Select[Any]) -> Shape:
    if has_whole_entity(select):
        raise ListingError(
            "a select of entities with an own LIMIT, DISTINCT ON or window functions would lose "
            "its entities",
            "Select columns, or page the entities alone",
            "select-wrapped",
        )
    sub = select.subquery("vrelko_rows")
    shown = len(sub.c)
    own, unshown = _order_outside(select._order_by_clauses, sub)
    merges = _merges_all(select) or bool(select._distinct) or is_extended(select)
    # What the select sorts by and does not show is carried out of the subquery, unseen.
    if unshown and not (merges or select._prefixes or select._group_by_clauses):
        hidden = [one.label(f"vrelko_order_{i}") for i, one in enumerate(unshown)]
        sub = select.add_columns(*hidden).subquery("vrelko_rows")
        own, _ = _order_outside(select._order_by_clauses, sub)
    columns = list(sub.c)[:shown]
    # What a prefix does to rows is not known, so it proves nothing.
    proves = not (_merges_all(select) or select._prefixes)
    unique = key_within(select, columns) if proves else ()
    sources = Sources((sub,), frozenset(), unique)
    return Shape(make_select(*columns), sources, unique, wrapped=True, own=own)


_UNARY = (operators.desc_op, operators.asc_op, operators.nulls_first_op, operators.nulls_last_op)


def _order_outside(clauses: Sequence[Any], sub: Subquery) -> tuple[tuple[Any, ...], list[Any]]:
    """Return an ORDER BY by the columns of the subquery around it, and terms that it lacks.

    The order is empty where a term is lacking: half of it would be another order.
    """
    found, unshown = [], []
    for clause in clauses:
        modifiers, left = [], None
        while clause is not left:  # until nothing more is wrapped around it
            left = clause
            if isinstance(clause, UnaryExpression) and clause.modifier in _UNARY:
                modifiers.append(clause.modifier)
                clause = clause.element
            elif "label_reference" in getattr(clause, "__visit_name__", ""):
                clause = clause.element
            elif hasattr(clause, "__clause_element__"):  # an attribute of a mapped class
                clause = clause.__clause_element__()
        column = sub.c.get(clause) if isinstance(clause, str) else _column_of(clause, sub)
        if column is None:
            unshown.append(clause)
            continue
        for modifier in reversed(modifiers):
            column = modifier(column)
        found.append(column)
    return (() if unshown else tuple(found)), [one for one in unshown if not isinstance(one, str)]


def _column_of(element: Any, sub: Subquery) -> Any:
    """Return the column of a subquery that an expression inside it stands as, None for none."""
    if not isinstance(element, ColumnElement):
        return None
    given: Any = element
    column = sub.corresponding_column(given)
    if column is not None:
        return column
    inside = zip(sub.element.selected_columns, sub.c, strict=False)
    return next((c for one, c in inside if plain(one).compare(plain(element))), None)


def _merges_all(select: Select[Any]) -> bool:
    return not select._group_by_clauses and any(map(merges_rows, select.selected_columns))


def _has_window(select: Select[Any]) -> bool:
    return any(
        isinstance(element, Over)
        for column in select.selected_columns
        for element in visitors.iterate(column)
    )


def _without_fixed(select: Select[Any], unique: tuple[Any, ...]) -> tuple[Any, ...]:
    """Return key columns that no equality fixes: the others decide nothing."""
    # A column that has one value in all rows sorts nothing.
    fixed = [found[0] for part in conjuncts(select.whereclause) if (found := fixed_column(part))]
    left = tuple(key for key in unique if not any(same(key, one) for one in fixed))
    # Where equalities fix the whole key there is one row, and one term is enough to order it.
    return left or unique[:1]


def _refuse_columns(select: Select[Any]) -> None:
    """Raise ListingError for columns whose number cannot be told."""
    for column in select._raw_columns:
        text = str(column.text) if isinstance(column, TextClause) else ""
        if isinstance(column, ColumnClause) and column.is_literal:
            text = column.name if _STAR.search(column.name) else ""
        if text:
            raise ListingError(
                f"the select shows {text!r}, which may be any number of columns",
                "Select a Table or its columns, or give text a name and a type: "
                "literal_column('…', Integer).label('name')",
                "select-columns",
            )


_STAR = re.compile(r"(^|[.,\s])\*\s*($|,)")


def refuse_term(clause: Any) -> None:
    """Raise OrderError for order terms that no page can rely on."""
    # Attributes of mapped classes stand for columns.
    if hasattr(clause, "__clause_element__"):
        clause = clause.__clause_element__()
    for element in (part for term in order_terms(clause) for part in visitors.iterate(term)):
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
