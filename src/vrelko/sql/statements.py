"""Page statements: from a select, an order and a spot to SQLAlchemy selects."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import (
    ColumnElement,
    Integer,
    Select,
    case,
    literal_column,
    or_,
)

from vrelko.core.order import Order
from vrelko.core.seek import (
    KeyRange,
    group_ranges,
    plan_edge,
    plan_ranges,
)
from vrelko.sql.keys import plainly
from vrelko.sql.page_source import Source
from vrelko.sql.parameters import KEY, LIMIT, OFFSET, UNTIL, integer
from vrelko.sql.predicates import (
    build_predicate,
    first_where,
    is_trap,
    never_true,
    ordered,
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
) -> tuple[tuple[KeyRange, ...], ...]:
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
    # Labels of ours: a column named like a parameter or another table's would clash in the join.
    keys = [element.label(f"{KEY}u{i}") for i, element in enumerate(unique)]
    narrow = statement.order_by(None).with_only_columns(*keys, maintain_column_froms=True)
    bare = replace(source, select=narrow)
    everything = ordered(bare, source.order)
    page = everything.limit(integer(LIMIT)).offset(integer(OFFSET)).subquery("vrelko_page")
    joined = replace(
        source,
        select=source.select.where(
            *(plainly(element) == page.c[f"{KEY}u{i}"] for i, element in enumerate(unique))
        ),
    )
    return ordered(joined, source.order)


def build_whole(source: Source) -> Select[Any]:
    """Return the statement for every row, in order."""
    return ordered(source, source.order)


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
    # Ahead is behind in the reversed order, so the same predicate serves both.
    conditions = [key.beyond(f"{KEY}0", not term.descending)]
    if term.nullable and term.nulls == "first":
        conditions.append(key.is_null)
    return tuple(
        first_where(bare, ordered(bare, order), one).limit(literal_column("1", Integer()))
        for one in conditions
    )


def page_statement(
    source: Source, order: Order, group: Sequence[KeyRange], null_keys: Sequence[bool]
) -> Select[Any]:
    """Return the statement for the rows of some ranges, in order, up to the limit."""
    whole = ordered(source, order, group, null_keys)
    if group != (KeyRange(),):
        # The range furthest off holds most rows, and an OR is asked from the left for each of them.
        predicates = [build_predicate(source, order, part, null_keys) for part in reversed(group)]
        # Else MariaDB reads the whole equal prefix by ref access, and sorts it.
        if source.capabilities.equality_traps and is_trap(group):
            predicates += never_true(source)
        either = or_(*predicates) if len(predicates) > 1 else predicates[0]
        whole = first_where(source, whole, either)
    return source.pins.apply(whole).limit(integer(LIMIT))
