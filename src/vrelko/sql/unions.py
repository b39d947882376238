"""UNION ALL: page statements pushed into each member, so that each reads about a page.

Paging a subquery that holds the union makes engines read all of it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import (
    BindParameter,
    Column,
    ColumnClause,
    ColumnElement,
    CompoundSelect,
    Null,
    Select,
    select,
    union_all,
)

from vrelko.sql.functions import is_extended
from vrelko.sql.keys import KeyColumn
from vrelko.sql.page_source import Source, make_source
from vrelko.sql.parameters import LIMIT, integer
from vrelko.sql.predicates import ordered
from vrelko.sql.sources import plain
from vrelko.sql.statements import page_statement, ranges_by_statement


def members_of(statement: Any) -> tuple[Select[Any], ...]:
    """Return the selects of a UNION ALL that a page may be pushed into, else none."""
    if not isinstance(statement, CompoundSelect):
        return ()
    # A limit of the union chooses rows of all members: none can be read by itself.
    own = statement._limit_clause is not None or statement._fetch_clause is not None
    members = [one for one in statement.selects if isinstance(one, Select) and _is_plain(one)]
    # UNION merges rows of several members, so a member alone does not say which rows there are.
    all_rows = statement.keyword.value == "UNION ALL" and not own
    return tuple(members) if all_rows and len(members) == len(statement.selects) else ()


@dataclass(frozen=True)
class Members:
    """The selects of a UNION ALL, and at which position of their rows each order term stands.

    `over` gives the key of a term, by its position in the order, over another column.
    """

    selects: tuple[Select[Any], ...] = ()
    places: tuple[int, ...] = ()
    over: Callable[[int, ColumnElement[Any]], KeyColumn] | None = None


NO_MEMBERS = Members()


def build_union(
    source: Source, members: Members, null_keys: Sequence[bool] | None, backward: bool
) -> Select[Any]:
    """Return one statement for a page over the members: behind a key, or the first page.

    `null_keys` is None for the first page (the last, when `backward`).
    """
    order = source.order.reversed() if backward else source.order
    parts = []
    for member in members.selects:
        # A constant keeps its label: as itself, ORDER BY would take it for a position.
        shown = [one if is_constant(plain(one)) else plain(one) for one in member.selected_columns]
        apart = replace(source, select=member.order_by(None), keys=_keys(members, shown))
        for group in ranges_by_statement(apart, order, null_keys):
            one = page_statement(apart, order, group, null_keys or ())
            parts.append(select(one.subquery()))
    # Each part has a page at most; the page itself is cut out of these.
    rows = union_all(*parts).subquery("vrelko_rows")
    keys = _keys(members, list(rows.c))
    whole = make_source(select(rows), source.order, keys, source.capabilities, list(rows.c))
    return ordered(whole, order).limit(integer(LIMIT))


def _keys(members: Members, shown: Sequence[Any]) -> tuple[KeyColumn, ...]:
    assert members.over is not None
    return tuple(members.over(i, shown[place]) for i, place in enumerate(members.places))


def _is_plain(member: Select[Any]) -> bool:
    """Tell whether a condition added to a member keeps what the member means."""
    # A condition would be applied before the member's own limit.
    own_limit = member._limit_clause is not None or member._offset_clause is not None
    merges = member._distinct or member._group_by_clauses or member._having_criteria
    changed = own_limit or member._fetch_clause is not None or merges or is_extended(member)
    if changed or member._prefixes or member._for_update_arg is not None:
        return False
    # Functions could merge rows or multiply them: what is not a column or a value is not trusted.
    return all(
        isinstance(one, (Column, BindParameter, Null)) or is_constant(one)
        for one in map(plain, member.selected_columns)
    )


def is_constant(element: Any) -> bool:
    """Tell whether an expression is a whole number that stands in the select."""
    if isinstance(element, BindParameter):
        return type(element.value) is int and element.unique
    written = isinstance(element, ColumnClause) and element.is_literal
    return bool(written and element.name.removeprefix("-").isdigit())
