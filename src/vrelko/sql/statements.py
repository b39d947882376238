"""Page statements: from a select, an order and a spot to SQLAlchemy selects."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    BindParameter,
    ColumnElement,
    Integer,
    Select,
    and_,
    bindparam,
    func,
    literal_column,
    or_,
    select,
    tuple_,
)

from vrelko.core.capabilities import Capabilities
from vrelko.core.order import Order
from vrelko.core.seek import Range, choose_form, plan_ranges
from vrelko.sql.sources import conjuncts, is_row_id

LIMIT = "vrelko_limit"
OFFSET = "vrelko_offset"
KEY = "vrelko_key_"
"""Names of our own bind parameters; a user's may not begin like them."""


@dataclass(frozen=True)
class Source:
    """A select made ready for paging in one order.

    `select` may carry hidden key columns behind its own `width` columns; `places` says at which
    position of a fetched row each order term stands.
    """

    select: Select[Any]
    order: Order
    elements: tuple[ColumnElement[Any], ...]
    width: int
    places: tuple[int, ...]
    ends_in_row_id: bool

    @property
    def hidden(self) -> bool:
        """Whether fetched rows carry columns that the select does not have."""
        return bool(self.places) and max(self.places) >= self.width


def make_source(
    statement: Select[Any],
    order: Order,
    elements: Sequence[ColumnElement[Any]],
) -> Source:
    """Return the select without its own ORDER BY, its missing key columns added at the end."""
    selected = list(statement.selected_columns)
    places = []
    added: list[ColumnElement[Any]] = []
    for position, element in enumerate(elements):
        at = next((i for i, column in enumerate(selected) if _is(column, element)), None)
        if at is None:
            at = len(selected) + len(added)
            added.append(element.label(f"{KEY}{position}"))
        places.append(at)
    whole = statement.order_by(None)
    if added:
        whole = whole.add_columns(*added)
    return Source(
        whole, order, tuple(elements), len(selected), tuple(places), is_row_id(elements[-1])
    )


def build_seek(
    source: Source, null_keys: Sequence[bool], backward: bool, capabilities: Capabilities
) -> tuple[Select[Any], ...]:
    """Return the statements for the rows behind a key, or ahead of it when `backward`.

    They hold disjoint ranges, nearest first: run one after the other until the page is full. Rows
    of a backward statement come in reversed order. Parameters: `vrelko_key_0`, … and the limit.
    """
    order = source.order.reversed() if backward else source.order
    alone = capabilities.hidden_rowid and source.ends_in_row_id
    ranges = plan_ranges(
        order,
        null_keys,
        choose_form(capabilities),
        frozenset({len(order) - 1} if alone else ()),
    )
    whole = _ordered(source, order, capabilities).limit(_integer(LIMIT))
    predicates = [_predicate(source, order, part, null_keys) for part in ranges]
    if capabilities.or_seek and predicates:
        return (_first_where(whole, or_(*predicates)),)
    return tuple(_first_where(whole, predicate) for predicate in predicates)


def build_edge(source: Source, backward: bool, capabilities: Capabilities) -> Select[Any]:
    """Return the statement for the first page, or the last one (reversed) when `backward`."""
    order = source.order.reversed() if backward else source.order
    return _ordered(source, order, capabilities).limit(_integer(LIMIT))


def build_offset(source: Source, capabilities: Capabilities) -> Select[Any]:
    """Return the statement for the rows behind an offset."""
    whole = _ordered(source, source.order, capabilities)
    return whole.limit(_integer(LIMIT)).offset(_integer(OFFSET))


def build_count(statement: Select[Any], cap: int | None) -> Select[Any]:
    """Return the statement that counts a select's rows, at most `cap` + 1 of them."""
    rows: Select[Any] = statement.order_by(None).with_only_columns(
        literal_column("1"), maintain_column_froms=True
    )
    if cap is not None:
        rows = rows.limit(bindparam(None, cap + 1, type_=Integer, literal_execute=True))
    return select(func.count()).select_from(rows.subquery("vrelko_rows"))


def build_whole(source: Source, capabilities: Capabilities) -> Select[Any]:
    """Return the statement for every row, in order."""
    return _ordered(source, source.order, capabilities)


def key_parameters(key: Sequence[Any]) -> dict[str, Any]:
    """Return the bind parameters that carry a key."""
    return {f"{KEY}{i}": value for i, value in enumerate(key) if value is not None}


def _first_where(statement: Select[Any], predicate: ColumnElement[bool]) -> Select[Any]:
    """Return the statement with a predicate ahead of its own conditions.

    Where both bound one column from the same side, SQLite seeks by the one that is written first,
    and by neither of ours beside a BETWEEN. SQLAlchemy has no public way to write it so.
    """
    whole = statement.where(predicate)
    own = (part for criterion in whole._where_criteria[:-1] for part in conjuncts(criterion))
    whole._where_criteria = (*whole._where_criteria[-1:], *own)
    return whole


def _is(column: ColumnElement[Any], element: ColumnElement[Any]) -> bool:
    return column is element or getattr(column, "element", None) is element


def _integer(name: str) -> BindParameter[int]:
    """Return a parameter written into the SQL as a literal: for integers we computed ourselves."""
    return bindparam(name, type_=Integer, literal_execute=True)


def _key(source: Source, position: int) -> BindParameter[Any]:
    return bindparam(f"{KEY}{position}", type_=source.elements[position].type)


def _ordered(source: Source, order: Order, capabilities: Capabilities) -> Select[Any]:
    clauses: list[ColumnElement[Any]] = []
    for term, element in zip(order.terms, source.elements, strict=True):
        clause = element.desc() if term.descending else element.asc()
        if term.nullable:
            native_first = capabilities.nulls_low != term.descending
            if native_first != (term.nulls == "first"):
                if not capabilities.nulls_syntax:
                    empty = element.is_(None)
                    clauses.append(empty.desc() if term.nulls == "first" else empty.asc())
                else:
                    clause = clause.nulls_first() if term.nulls == "first" else clause.nulls_last()
        clauses.append(clause)
    return source.select.order_by(*clauses)


def _predicate(
    source: Source, order: Order, part: Range, null_keys: Sequence[bool]
) -> ColumnElement[bool]:
    conditions: list[ColumnElement[bool]] = []
    for position in part.equal:
        element = source.elements[position]
        same = element.is_(None) if null_keys[position] else element == _key(source, position)
        conditions.append(same)
    if part.null is not None:
        conditions.append(source.elements[part.null].is_(None))
    if part.not_null is not None:
        conditions.append(source.elements[part.not_null].is_not(None))
    if part.beyond:
        conditions.append(_beyond(source, order, part.beyond))
    return and_(*conditions)


def _beyond(source: Source, order: Order, positions: tuple[int, ...]) -> ColumnElement[bool]:
    descending = order.terms[positions[0]].descending
    elements = [source.elements[i] for i in positions]
    keys = [_key(source, i) for i in positions]
    if len(positions) == 1:
        return elements[0] < keys[0] if descending else elements[0] > keys[0]
    left, right = tuple_(*elements), tuple_(*keys)
    return left < right if descending else left > right
