"""Page statements: from a select, an order and a spot to SQLAlchemy selects."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import Any
from uuid import UUID

from sqlalchemy import (
    BindParameter,
    ColumnElement,
    Integer,
    Label,
    Select,
    and_,
    bindparam,
    case,
    literal_column,
    or_,
    tuple_,
)

from vrelko.core.capabilities import Capabilities
from vrelko.core.order import Order
from vrelko.core.seek import (
    Range,
    awkward_terms,
    group_ranges,
    needs_placement,
    plan_edge,
    plan_ranges,
)
from vrelko.sql.functions import group_terms
from vrelko.sql.indexes import NO_PINS, Pins
from vrelko.sql.keys import KeyColumn
from vrelko.sql.sources import conjuncts, is_row_id, plain, same

LIMIT = "vrelko_limit"
OFFSET = "vrelko_offset"
KEY = "vrelko_key_"
UNTIL = "vrelko_until_"
"""Names of our own bind parameters; a user's may not begin like them."""

_KEYS = tuple(f"{KEY}{i}" for i in range(16))

_NEUTRAL: dict[type, Any] = {
    bool: False, int: 0, float: 0.0, Decimal: Decimal(0), str: "", bytes: b"",
    datetime: datetime(2000, 1, 1), date: date(2000, 1, 1), time: time(0),
    timedelta: timedelta(0), UUID: UUID(int=0),
}  # fmt: skip
"""A value of each type, for conditions that are never true."""


@dataclass(frozen=True, kw_only=True)
class Source:
    """A select made ready for paging in one order on one engine.

    `select` may carry hidden key columns behind its own `width` columns; `places` says at which
    position of a fetched row each order term stands, `shown` where the user's own row has it, None
    where it has not. `nulls_served`: an index places NULLs as asked.
    """

    select: Select[Any]
    order: Order
    keys: tuple[KeyColumn, ...]
    width: int
    places: tuple[int, ...]
    shown: tuple[int | None, ...]
    capabilities: Capabilities
    pins: Pins = NO_PINS
    nulls_served: bool = False
    prefix: str = KEY
    flagged: bool = False
    bounded: bool = False

    @property
    def hidden(self) -> bool:
        """Whether fetched rows carry columns that the select does not have."""
        return self.flagged or (bool(self.places) and max(self.places) >= self.width)

    def awkward(self, order: Order) -> frozenset[int]:
        """Return the terms whose NULLs would have to be sorted into place."""
        return frozenset() if self.nulls_served else awkward_terms(order, self.capabilities)

    def alone(self) -> frozenset[int]:
        """Return the terms that must not join a row value."""
        places = {i for i, key in enumerate(self.keys) if key.alone}
        if not self.capabilities.row_id_joins and is_row_id(self.keys[-1].element):
            places.add(len(self.keys) - 1)
        return frozenset(places)


def make_source(
    statement: Select[Any],
    order: Order,
    keys: Sequence[KeyColumn],
    capabilities: Capabilities,
    selected: Sequence[Any],
    pins: Pins = NO_PINS,
    nulls_served: bool = False,
) -> Source:
    """Return the select without its own ORDER BY, its missing key columns added at the end.

    `selected` are the expressions of the select's own row positions.
    """
    places = []
    added: list[ColumnElement[Any]] = []
    for position, key in enumerate(keys):
        at = _find(selected, key.read)
        if at is None:
            at = len(selected) + len(added)
            added.append(key.read.label(f"{KEY}{position}"))
        places.append(at)
    shown = tuple(_find(selected, key.element) for key in keys)
    whole = statement.order_by(None)
    if whole.get_execution_options().get(
        "yield_per"
    ):  # a page comes whole, and rows are told apart
        whole = whole.execution_options(yield_per=None)
    if added:
        whole = whole.add_columns(*added)
    return Source(
        select=whole,
        order=order,
        keys=tuple(keys),
        width=len(selected),
        places=tuple(places),
        shown=shown,
        capabilities=capabilities,
        pins=pins,
        nulls_served=nulls_served,
    )


def build_seek(
    source: Source, null_keys: Sequence[bool], backward: bool, joined: bool = False
) -> tuple[Select[Any], ...]:
    """Return the statements for the rows behind a key, or ahead of it when `backward`.

    They hold disjoint ranges, nearest first: run one after the other until the page is full. Rows
    of a backward statement come in reversed order. `joined`: the rows that share the key's terms
    ahead of a row id are few, and may be walked in one statement. Parameters: `vrelko_key_0`, … and
    the limit.
    """
    order = source.order.reversed() if backward else source.order
    groups = ranges_by_statement(source, order, null_keys, joined)
    return tuple(page_statement(source, order, group, null_keys) for group in groups)


def build_edge(source: Source, backward: bool) -> tuple[Select[Any], ...]:
    """Return the statements for the first page, or the last one (reversed) when `backward`."""
    order = source.order.reversed() if backward else source.order
    groups = ranges_by_statement(source, order, None)
    return tuple(page_statement(source, order, group, ()) for group in groups)


def ranges_by_statement(
    source: Source, order: Order, null_keys: Sequence[bool] | None, joined: bool = False
) -> tuple[tuple[Range, ...], ...]:
    """Return the ranges behind a key, or of all rows where `null_keys` is None, by statement."""
    # NULLs that sort where no index has them make ranges of their own, read in turn.
    awkward, form = source.awkward(order), source.capabilities.form
    if null_keys is None:
        return group_ranges(plan_edge(order, awkward), (), awkward, form)
    alone = frozenset(i for i, key in enumerate(source.keys) if key.alone)
    ranges = plan_ranges(order, null_keys, form, alone if joined else source.alone())
    return group_ranges(ranges, null_keys, awkward, form)


def build_offset(source: Source, backward: bool = False) -> Select[Any]:
    """Return the statement for the rows behind an offset, from the end when `backward`."""
    order = source.order.reversed() if backward else source.order
    whole = ordered(source, order)
    return whole.limit(integer(LIMIT)).offset(integer(OFFSET))


def build_deferred(
    source: Source, statement: Select[Any], unique: Sequence[ColumnElement[Any]]
) -> Select[Any]:
    """Return the statement for the rows behind an offset, found by their keys alone first.

    The inner select reads the `unique` columns, from an index where one holds them with the order;
    the outer one reads the page's rows by them.
    """
    keys = [element.label(f"{KEY}u{i}") for i, element in enumerate(unique)]
    narrow = statement.order_by(None).with_only_columns(*keys, maintain_column_froms=True)
    bare = replace(source, select=narrow)
    everything = ordered(bare, source.order)
    page = everything.limit(integer(LIMIT)).offset(integer(OFFSET)).subquery("vrelko_page")
    joined = replace(
        source,
        select=source.select.where(
            *(element == page.c[f"{KEY}u{i}"] for i, element in enumerate(unique))
        ),
    )
    return ordered(joined, source.order)


def build_whole(source: Source) -> Select[Any]:
    """Return the statement for every row, in order."""
    return ordered(source, source.order)


def key_parameters(key: Sequence[Any], prefix: str = KEY) -> dict[str, Any]:
    """Return the bind parameters that carry a key."""
    if prefix == KEY and None not in key and len(key) <= len(_KEYS):
        return dict(zip(_KEYS, key, strict=False))
    return {f"{prefix}{i}": value for i, value in enumerate(key) if value is not None}


def flag_behind(source: Source, null_keys: Sequence[bool]) -> Source:
    """Return the source with a last column that is 1 in rows behind a key, else 0.

    Parameters: `vrelko_until_0`, …. The column costs no index: rows are cut by it when they come.
    """
    apart = replace(source, prefix=UNTIL)
    ranges = plan_ranges(source.order, null_keys, "split")
    predicates = [build_predicate(apart, source.order, part, null_keys) for part in ranges]
    flag = case((or_(*predicates), 1), else_=0) if predicates else literal_column("0", Integer())
    flagged = source.select.add_columns(flag.label("vrelko_beyond"))
    return replace(source, select=flagged, flagged=True)


def build_key_at(source: Source, statement: Select[Any]) -> Select[Any]:
    """Return the statement for the key of one row behind an offset, reading nothing else."""
    return build_keys(source, statement).limit(integer(LIMIT)).offset(integer(OFFSET))


def build_keys(source: Source, statement: Select[Any]) -> Select[Any]:
    """Return the statement for the key of every row, in order, reading nothing else."""
    keys = [key.read.label(f"{KEY}{i}") for i, key in enumerate(source.keys)]
    narrow = statement.order_by(None).with_only_columns(*keys, maintain_column_froms=True)
    return ordered(replace(source, select=narrow), source.order)


def build_ahead_of_value(source: Source, statement: Select[Any]) -> tuple[Select[Any], ...]:
    """Return the statements for the key of the last row ahead of a value of the first term.

    NULLs that stand ahead of all values are asked for apart, so that each statement seeks one
    place of the index. Parameter: `vrelko_key_0`.
    """
    narrow = build_keys(source, statement).order_by(None)
    bare = replace(source, select=narrow)
    order, term, key = source.order.reversed(), source.order.terms[0], source.keys[0]
    conditions = [key.beyond(f"{KEY}0", not term.descending)]
    if term.nullable and term.nulls == "first":
        conditions.append(key.element.is_(None))
    return tuple(
        first_where(bare, ordered(bare, order), one).limit(literal_column("1", Integer()))
        for one in conditions
    )


def page_statement(
    source: Source, order: Order, group: Sequence[Range], null_keys: Sequence[bool]
) -> Select[Any]:
    """Return the statement for the rows of some ranges, in order, up to the limit."""
    whole = ordered(source, order, group, null_keys)
    if group != (Range(),):
        # The range furthest off holds most rows, and an OR is asked from the left for each of them.
        predicates = [build_predicate(source, order, part, null_keys) for part in reversed(group)]
        # Else MariaDB reads the whole equal prefix by ref access, and sorts it.
        if source.capabilities.equality_traps and _is_trap(group):
            predicates += _never(source)
        either = or_(*predicates) if len(predicates) > 1 else predicates[0]
        whole = first_where(source, whole, either)
    return source.pins.apply(whole).limit(integer(LIMIT))


def first_where(
    source: Source, statement: Select[Any], predicate: ColumnElement[bool]
) -> Select[Any]:
    """Return the statement with a predicate ahead of its own conditions.

    Where both bound one column from the same side, SQLite seeks by the one that is written first,
    and by neither of ours beside a BETWEEN. SQLAlchemy has no public way to write it so. Where rows
    are grouped by something else than the order, the predicate waits for the groups.
    """
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


def _find(selected: Sequence[Any], element: ColumnElement[Any]) -> int | None:
    """Return the position of an expression among selected ones, under a label or not."""
    for i, one in enumerate(selected):
        plain = one.element if isinstance(one, Label) else one
        if one is not None and (same(one, element) or same(plain, element)):
            return i
    return None


def integer(name: str) -> BindParameter[int]:
    """Return a parameter written into the SQL as a literal: for integers we computed ourselves."""
    return bindparam(name, type_=Integer, literal_execute=True)


def ordered(
    source: Source,
    order: Order,
    group: Sequence[Range] = (Range(),),
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
    group: Sequence[Range] = (Range(),),
    null_keys: Sequence[bool] = (),
) -> list[ColumnElement[Any]]:
    """Return the ORDER BY terms of an order over elements."""
    capabilities = source.capabilities
    clauses: list[ColumnElement[Any]] = []
    for position, (term, element) in enumerate(zip(order.terms, elements, strict=True)):
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
    source: Source, order: Order, part: Range, null_keys: Sequence[bool]
) -> ColumnElement[bool]:
    """Return the condition of one range behind a key."""
    conditions: list[ColumnElement[bool]] = []
    for position in part.equal:
        key = source.keys[position]
        name = f"{source.prefix}{position}"
        conditions.append(key.element.is_(None) if null_keys[position] else key.equals(name))
    if part.null is not None:
        conditions.append(source.keys[part.null].element.is_(None))
    if part.not_null is not None:
        conditions.append(source.keys[part.not_null].element.is_not(None))
    if part.beyond:
        conditions.append(_beyond(source, order, part.beyond))
    return and_(*conditions)


def _beyond(source: Source, order: Order, positions: tuple[int, ...]) -> ColumnElement[bool]:
    descending = order.terms[positions[0]].descending
    # One term needs no row value, and engines prune and seek by it alike.
    if len(positions) == 1:
        return source.keys[positions[0]].beyond(f"{source.prefix}{positions[0]}", descending)
    elements = [source.keys[i].sought for i in positions]
    keys = [_key(source, i) for i in positions]
    left, right = tuple_(*elements), tuple_(*keys)
    beyond = left < right if descending else left > right
    if not source.bounded:
        return beyond
    # A partitioned table is pruned by a plain bound, not by the row value that implies it.
    return and_(elements[0] <= keys[0] if descending else elements[0] >= keys[0], beyond)


def _key(source: Source, position: int) -> ColumnElement[Any]:
    return source.keys[position].parameter(f"{source.prefix}{position}")


def _is_trap(group: Sequence[Range]) -> bool:
    """Tell whether the server could read by equality alone: one range, fixed at its beginning."""
    first = group[0]
    return len(group) == 1 and (bool(first.equal) or first.null is not None)


def _never(source: Source) -> list[ColumnElement[bool]]:
    """Return a range of the first term that holds no row, beside which no equality is tempting."""
    key = source.keys[0]
    try:
        value = _NEUTRAL[key.bind.python_type]
    except (KeyError, NotImplementedError):
        return []
    low = bindparam(None, value, type_=key.bind)
    return [and_(key.element > low, key.element < low)]
