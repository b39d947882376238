"""Statements over many anchors at once: keys walked, and segments counted, inside the server."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, cast

from sqlalchemy import (
    CTE,
    BindParameter,
    Integer,
    Select,
    Table,
    case,
    false,
    func,
    literal_column,
    or_,
    select,
    true,
    tuple_,
)
from sqlalchemy.sql import operators, visitors
from sqlalchemy.sql.elements import BinaryExpression

from vrelko.sql.key_filters import IDS
from vrelko.sql.parameters import KEY, LIMIT, OFFSET, UNTIL, integer
from vrelko.sql.range_statements import build_sum_of, chain_keys

_FIRST: Any = literal_column("1", Integer())


def build_walk(edge: Select[Any], behind: Select[Any], keys: Sequence[Any]) -> Select[Any]:
    """Return the statement that walks keys: each `vrelko_offset` rows behind the one before.

    `edge` reads the rows that it begins with, `behind` those behind a key, whose parameters are
    given the key before. At most `vrelko_limit` keys.
    """
    elements = [key.element.label(f"k{i}") for i, key in enumerate(keys)]
    walk = _walk_from(_one(edge, elements).subquery("vrelko_first").c, 1)
    given = {f"{KEY}{i}": walk.c[f"k{i}"] for i in range(len(keys))}
    # LATERAL lets the subquery see the key of the step before, for which its parameters stand.
    following = _one(_given(behind, given), elements).correlate(walk).lateral("vrelko_next")
    more = (
        select(*following.c, walk.c.step + 1)
        .select_from(walk.join(following, true()))
        .where(walk.c.step < integer(LIMIT))
    )
    return _walked(walk.union_all(more), keys)


def build_walk_by_id(
    edge: Select[Any],
    ranges: Sequence[Select[Any]],
    keys: Sequence[Any],
    identity: Sequence[int],
    begins: bool,
) -> Select[Any]:
    """Return the same statement for engines without LATERAL that stream a UNION ALL.

    `ranges` are the rows behind a key, one range after the other. A scalar subquery finds the next
    row by what tells rows apart, the terms of `identity`, and its whole key is looked up. `begins`:
    from the rows of `edge` on, else from the key that the parameters give.
    """
    elements = [key.element.label(f"k{i}") for i, key in enumerate(keys)]
    if begins:
        walk = _walk_from(_one(edge, elements).subquery("vrelko_first").c, 1)
    else:
        walk = _walk_from(
            [key.parameter(f"{KEY}{i}").label(f"k{i}") for i, key in enumerate(keys)], 0
        )
    given = {f"{KEY}{i}": walk.c[f"k{i}"] for i in range(len(keys))}
    # A scalar subquery gives one value, so it gives what tells the row apart; the rest is looked
    # up.
    ids = [keys[i].element for i in identity]
    chain = chain_keys(
        [_given(one, given) for one in ranges], [elements[i] for i in identity], walk
    )
    found = select(*chain.c).limit(_FIRST).offset(integer(OFFSET)).correlate(walk)
    same = (ids[0] if len(ids) == 1 else tuple_(*ids)) == found.scalar_subquery()
    (table,) = edge.get_final_froms()
    following = edge.limit(None).order_by(None).with_only_columns(*elements, walk.c.step + 1)
    more = following.select_from(walk.join(table, same)).where(walk.c.step < integer(LIMIT))
    return _walked(walk.union_all(more), keys)


def _walk_from(first: Iterable[Any], step: int) -> CTE:
    """Return a walk's first step: the key that it begins with."""
    # One statement: a round trip for each of thousands of anchors would take most of the time.
    counted = literal_column(str(step), Integer()).label("step")
    return select(*first, counted).cte("vrelko_walk", recursive=True)


def _walked(whole: CTE, keys: Sequence[Any]) -> Select[Any]:
    """Return the keys of a walk in order, without the one that was given."""
    read = [_given_columns(key, whole.c[f"k{i}"]) for i, key in enumerate(keys)]
    return select(*read).where(whole.c.step > 0).order_by(whole.c.step)


def build_landed(page: Select[Any], rows: Select[Any], keys: Sequence[Any]) -> Select[Any]:
    """Return a page statement behind the row that stands `vrelko_offset` rows into `rows`.

    `page` reads rows behind a key, whose parameters are given the key of that row.
    """
    names = [f"k{i}" for i in range(len(keys))]
    elements = [key.element.label(name) for key, name in zip(keys, names, strict=True)]
    # A CTE is run once, however often the key is compared with.
    land = _one(rows, elements).cte("vrelko_land")
    given = {f"{KEY}{i}": select(land.c[name]).scalar_subquery() for i, name in enumerate(names)}
    return _given(page, given)


def build_differences(
    segments: Select[Any],
    counts: Sequence[Select[Any]],
    sums: Sequence[Select[Any]],
    d: Any,
    width: int,
) -> Select[Any]:
    """Return the statement that tells each segment's anchor, and the rows it tells of too few.

    `segments` tells of anchors their `id`, `n` and key (`k0`, …), and the key before (`b0`, …),
    beside `before`, the id of that one. `counts` read the rows of a segment, behind `vrelko_key_i`,
    up to `vrelko_until_i` and at `vrelko_idsi`, and `sums` what the log holds of it, in `d`.
    """
    # Its own beginning and end stand where a page statement has its parameters.
    each = segments.subquery("vrelko_segments")
    given = {f"{KEY}{i}": each.c[f"b{i}"] for i in range(width)}
    for name in (UNTIL, IDS):
        given |= {f"{name}{i}": each.c[f"k{i}"] for i in range(width)}
    # Rows that are there, less those that the anchor tells of and those that the log will add.
    found: Any = -each.c.n
    for one in counts:
        found = found + _scalar(_given(one, given), func.count())
    for one in sums:
        # What the log still holds was not folded into n yet, and is in the rows already.
        found = found - _scalar(_given(one, given), func.coalesce(func.sum(d), 0))
    return select(each.c.id, found.label("off")).where(each.c.before.is_not(None))


def sums_in_one_pass(
    log: Table, where: Sequence[Any], behind: Sequence[Sequence[Select[Any]]]
) -> list[Any]:
    """Return columns that tell a part's log: its rows, what they add, and what of it behind keys.

    `behind`: the statements for the changes behind each key, few behind the last one. A server that
    fetches each row of an index range from the table reads all of the log once sooner than most of
    it several times.
    """
    told: list[Any] = [func.count().label("rows"), func.sum(log.c.d).label("net")]
    for i, several in enumerate(behind[:-1]):
        # The comparison of keys stands first in each, the part's own conditions behind it.
        lies = or_(false(), *(one._where_criteria[0] for one in several))
        summed = func.sum(case((lies, log.c.d), else_=0))
        told.append(func.coalesce(summed, 0).label(f"behind_{i}"))
    columns = select(*told).select_from(log).where(*where).subquery("vrelko_log").c
    return [*columns, *map(_sum, behind[-1:])]


def sums_by_ranges(
    log: Table,
    where: Sequence[Any],
    behind: Sequence[Sequence[Select[Any]]],
    up_to: Sequence[Select[Any]],
) -> list[Any]:
    """Return the same for engines whose index ranges cost no more than the table.

    But for the second: it sums up what the log adds up to the first key, by the statements `up_to`.
    With what lies behind that key it is all; a sum of all would read each change once more.
    """
    rows = select(func.count()).select_from(log).where(*where).scalar_subquery()
    return [rows, _sum(up_to), *map(_sum, behind)]


def _sum(several: Sequence[Select[Any]]) -> Any:
    found: Any = literal_column("0", Integer())
    for one in several:
        found = found + build_sum_of(one, "d").scalar_subquery()
    return found


def up_to(behind: Select[Any], ahead: Select[Any]) -> Select[Any] | None:
    """Return the rows behind one key and up to another, which counts; None where none says so.

    `ahead` are the rows ahead of that other key, by one comparison.
    """
    # The comparison of keys stands first, conditions of the listing behind it.
    first, *others = ahead._where_criteria
    if not isinstance(first, BinaryExpression) or first.operator not in (
        operators.lt,
        operators.gt,
    ):
        return None
    turned = operators.le if first.operator is operators.lt else operators.ge
    # A second statement for the row at the key would cost a descent of the index for each segment.
    return behind.where(BinaryExpression(first.left, first.right, turned), *others)


def _one(statement: Select[Any], elements: Sequence[Any]) -> Select[Any]:
    """Return a page statement that reads one key, behind so many rows."""
    narrow = statement.with_only_columns(*elements, maintain_column_froms=True)
    return narrow.limit(_FIRST).offset(integer(OFFSET))


def _scalar(statement: Select[Any], told: Any) -> Any:
    # A count of a segment wants neither its limit nor an order.
    narrow = statement.limit(None).order_by(None)
    return narrow.with_only_columns(told, maintain_column_froms=True).scalar_subquery()


def _given(statement: Select[Any], columns: Mapping[str, Any]) -> Select[Any]:
    """Return a statement with columns for some of its parameters."""

    def change(element: Any, **_: Any) -> Any:
        if isinstance(element, BindParameter):
            return columns.get(element.key)
        return None

    changed: Any = visitors.replacement_traverse(statement, {}, change)
    return cast("Select[Any]", changed)


def _given_columns(key: Any, column: Any) -> Any:
    """Return the expression that reads a key, of another column that holds it."""

    def change(element: Any, **_: Any) -> Any:
        return column if element is key.element else None

    return (
        column if key.read is key.element else visitors.replacement_traverse(key.read, {}, change)
    )
