"""Statements over many anchors at once: keys walked, and segments counted, inside the server."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, cast

from sqlalchemy import BindParameter, Integer, Select, func, literal_column, select, true
from sqlalchemy.sql import operators, visitors
from sqlalchemy.sql.elements import BinaryExpression

from vrelko.sql.statements import KEY, LIMIT, OFFSET, UNTIL, integer

_FIRST: Any = literal_column("1", Integer())


def build_walk(edge: Select[Any], behind: Select[Any], keys: Sequence[Any]) -> Select[Any]:
    """Return the statement that walks keys: each `vrelko_offset` rows behind the one before.

    `edge` reads the rows that it begins with, `behind` those behind a key, whose parameters are
    given the key before. At most `vrelko_limit` keys.
    """
    names = [f"k{i}" for i in range(len(keys))]
    elements = [key.element.label(name) for key, name in zip(keys, names, strict=True)]
    first = _one(edge, elements).subquery("vrelko_first")
    # One statement: a round trip for each of thousands of anchors would take most of the time.
    walk = select(*first.c, literal_column("1", Integer()).label("step")).cte(
        "vrelko_walk", recursive=True
    )
    given = {f"{KEY}{i}": walk.c[name] for i, name in enumerate(names)}
    following = _one(_given(behind, given), elements).correlate(walk).lateral("vrelko_next")
    more = (
        select(*following.c, walk.c.step + 1)
        .select_from(walk.join(following, true()))
        .where(walk.c.step < integer(LIMIT))
    )
    whole = walk.union_all(more)
    read = [_given_columns(key, whole.c[name]) for key, name in zip(keys, names, strict=True)]
    return select(*read).order_by(whole.c.step)


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
    count: Select[Any],
    sums: Sequence[Select[Any]],
    d: Any,
    width: int,
) -> Select[Any]:
    """Return the statement that tells each segment's anchor, and the rows it tells of too few.

    `segments` tells of anchors their `id`, `n` and key (`k0`, …), and the key before (`b0`, …),
    beside `before`, the id of that one. `count` reads the rows of a segment, behind `vrelko_key_i`
    and up to `vrelko_until_i`, and `sums` what the log holds of it, in `d`.
    """
    each = segments.subquery("vrelko_segments")
    given = {f"{KEY}{i}": each.c[f"b{i}"] for i in range(width)}
    given |= {f"{UNTIL}{i}": each.c[f"k{i}"] for i in range(width)}
    found: Any = -each.c.n
    found = found + _scalar(_given(count, given), func.count())
    for one in sums:
        # What the log still holds was not folded into n yet, and is in the rows already.
        found = found - _scalar(_given(one, given), func.coalesce(func.sum(d), 0))
    return select(each.c.id, found.label("off")).where(each.c.before.is_not(None))


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
