"""Conditions and ORDER BY of page statements: ranges behind a key, and NULLs in their place."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

from sqlalchemy import ColumnElement, Select, and_, bindparam, tuple_

from vrelko.core.order import Order
from vrelko.core.seek import KeyRange, needs_placement
from vrelko.sql.functions import group_terms
from vrelko.sql.keys import plainly
from vrelko.sql.page_source import Source
from vrelko.sql.sources import conjuncts, plain

_NEUTRAL: dict[type, Any] = {
    bool: False, int: 0, float: 0.0, Decimal: Decimal(0), str: "", bytes: b"",
    datetime: datetime(2000, 1, 1), date: date(2000, 1, 1), time: time(0),
    timedelta: timedelta(0), UUID: UUID(int=0),
}  # fmt: skip
"""A value of each type, for conditions that are never true."""


def ordered(
    source: Source,
    order: Order,
    group: Sequence[KeyRange] = (KeyRange(),),
    null_keys: Sequence[bool] = (),
) -> Select[Any]:
    """Return a source's select with its ORDER BY.

    NULLs are placed where an index serves that, or where the rows of `group` differ in them.
    """
    elements = [key.element for key in source.keys]
    clauses = order_clauses(source, order, elements, group, null_keys)
    return source.select.order_by(*source.pins.order_by(order), *clauses)


def order_clauses(
    source: Source,
    order: Order,
    elements: Sequence[ColumnElement[Any]],
    group: Sequence[KeyRange] = (KeyRange(),),
    null_keys: Sequence[bool] = (),
) -> list[ColumnElement[Any]]:
    """Return the ORDER BY terms of an order over elements."""
    capabilities = source.capabilities
    clauses: list[ColumnElement[Any]] = []
    for position, (term, given) in enumerate(zip(order.terms, elements, strict=True)):
        element = plainly(given)
        clause = element.desc() if term.descending else element.asc()
        native_first = capabilities.nulls_low != term.descending
        if term.nullable and native_first != (term.nulls == "first"):
            # A placement that no index serves is left out where the rows read do not
            # differ in it.
            served = capabilities.nulls_served or source.nulls_served
            if served or needs_placement(group, position, null_keys):
                if capabilities.nulls_syntax:
                    first = term.nulls == "first"
                    clause = clause.nulls_first() if first else clause.nulls_last()
                else:
                    empty = element.is_(None)
                    clauses.append(empty.desc() if term.nulls == "first" else empty.asc())
        clauses.append(clause)
    return clauses


def build_predicate(
    source: Source, order: Order, part: KeyRange, null_keys: Sequence[bool]
) -> ColumnElement[bool]:
    """Return the condition of one range behind a key."""
    conditions: list[ColumnElement[bool]] = []
    for position in part.equal:
        key = source.keys[position]
        name = f"{source.prefix}{position}"
        conditions.append(key.is_null if null_keys[position] else key.equals(name))
    if part.null is not None:
        conditions.append(source.keys[part.null].is_null)
    if part.not_null is not None:
        conditions.append(source.keys[part.not_null].is_filled)
    if part.beyond:
        conditions.append(_beyond(source, order, part.beyond))
    return and_(*conditions)


def _beyond(source: Source, order: Order, positions: tuple[int, ...]) -> ColumnElement[bool]:
    descending = order.terms[positions[0]].descending
    # One term needs no row value, and engines prune and seek by it alike.
    if len(positions) == 1:
        return source.keys[positions[0]].beyond(f"{source.prefix}{positions[0]}", descending)
    # One comparison of row values is one range of the index; its terms would be an OR.
    elements = [source.keys[i].sought for i in positions]
    keys = [_key(source, i) for i in positions]
    left, right = tuple_(*elements), tuple_(*keys)
    beyond = left < right if descending else left > right
    if not source.bounded:
        return beyond
    # A partitioned table is pruned by a plain bound, not by the row value that implies it.
    first = plainly(elements[0])
    return and_(first <= keys[0] if descending else first >= keys[0], beyond)


def _key(source: Source, position: int) -> ColumnElement[Any]:
    return source.keys[position].parameter(f"{source.prefix}{position}")


def is_trap(group: Sequence[KeyRange]) -> bool:
    """Tell whether the server could read by equality alone: one range, fixed at its beginning."""
    first = group[0]
    return len(group) == 1 and (bool(first.equal) or first.null is not None)


def never_true(source: Source) -> list[ColumnElement[bool]]:
    """Return a range of the first term that holds no row, beside which no equality is tempting."""
    key = source.keys[0]
    try:
        value = _NEUTRAL[key.bind.python_type]
    except (KeyError, NotImplementedError):
        return []
    low = bindparam(None, value, type_=key.bind)
    element = plainly(key.element)
    return [and_(element > low, element < low)]


def first_where(
    source: Source, statement: Select[Any], predicate: ColumnElement[bool]
) -> Select[Any]:
    """Return the statement with a predicate ahead of its own conditions.

    Where both bound one column from the same side, SQLite seeks by the one that is written first,
    and by neither of ours beside a BETWEEN. SQLAlchemy has no public way to write it so. Where rows
    are grouped by something else than the order, the predicate waits for the groups.
    """
    # A condition on the groups' own columns may come before grouping, and is served by an index
    # then.
    groups = group_terms(statement) if statement._group_by_clauses else ()
    if statement._group_by_clauses and not all(
        any(plain(key.element).compare(plain(one)) for one in groups) for key in source.keys
    ):
        return statement.having(predicate)
    whole = statement.where(predicate)
    # One AND of all would hide which condition SQLite seeks by: each stands alone.
    own = (part for criterion in whole._where_criteria[:-1] for part in conjuncts(criterion))
    whole._where_criteria = (*whole._where_criteria[-1:], *own)
    return whole
