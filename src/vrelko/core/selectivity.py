"""Selectivity: the share of rows that a listing's conditions keep."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import Any

from vrelko.core.facts import ColumnFacts, TableFacts
from vrelko.core.outline import Condition, Outline

_EQUAL, _OTHER = 0.01, 1 / 3
"""Without facts: 1 % for equality, a third for a range or for what cannot be read (Selinger and
others 1979 use 10 % and a third)."""


def shares(
    outline: Outline, table: TableFacts, used: Sequence[str], behind: str | None = None
) -> tuple[float, tuple[str, ...], float]:
    """Return the share that an index leaves, and the other conditions with what they pass.

    `used` columns are fixed; the column `behind` them in the index may be bounded by ranges.
    Conditions are taken as independent of each other.
    """
    share, passing = 1.0, 1.0
    residual: list[str] = []
    bounds: dict[str, list[Condition]] = {}
    for condition in outline.conditions:
        if condition.table not in ("", table.name):  # tested on the row a join looks up
            residual.append(f"{condition.table}.{condition.column}")
            continue
        if condition.kind == "range":
            # Both bounds of a column are one range: taken apart they would be too many rows.
            bounds.setdefault(condition.column, []).append(condition)
            continue
        # Equalities on the index's first columns narrow what is read; all others only what is
        # shown.
        part = condition_share(outline, condition, table)
        if condition.column in used and condition.kind in ("equal", "in"):
            share *= part
        else:
            residual.append(condition.column)
            passing *= part
    for column, both in bounds.items():
        part = _range_share(outline, both, table)
        if column == behind:
            share *= part
        else:
            residual.append(column)
            passing *= part
    return share, tuple(residual), passing


def condition_share(outline: Outline, condition: Condition, table: TableFacts) -> float:
    """Return the share of rows one condition keeps, from facts or by rules of thumb."""
    if not table.has_column(condition.column):
        return _OTHER
    facts = table.column(condition.column)
    if condition.kind == "null":
        return facts.null_share if facts.null_share is not None else _OTHER
    value = _value(outline, condition)
    if condition.kind == "in":
        # A set whose values nobody gave is taken for three, as people tick boxes.
        many = value if isinstance(value, (list, tuple, set, frozenset)) else [None] * 3
        return min(sum(_equal_share(facts, one) for one in many), 1.0)
    return _equal_share(facts, value) if condition.kind == "equal" else _OTHER


def value_shares(outline: Outline, condition: Condition, table: TableFacts) -> tuple[float, ...]:
    """Return the share of rows of each value of a set condition, in the values' own order."""
    value = _value(outline, condition)
    many = list(value) if isinstance(value, (list, tuple, set, frozenset)) else [None] * 3
    if not table.has_column(condition.column):
        return tuple(_EQUAL for _ in many)
    facts = table.column(condition.column)
    # Mixed types do not sort; the order matters to nobody but the figures.
    with suppress(TypeError):
        many.sort()
    return tuple(_equal_share(facts, one) for one in many)


def _equal_share(facts: ColumnFacts, value: Any) -> float:
    if value is None:  # no typical value is known: that of a mean one
        return 1 / facts.distinct if facts.distinct else _EQUAL
    share = facts.share_of(value)
    return _EQUAL if share is None else share


def _range_share(outline: Outline, both: Sequence[Condition], table: TableFacts) -> float:
    """Return the share between the bounds of one column."""
    if not table.has_column(both[0].column):
        return _OTHER ** len(both)
    facts = table.column(both[0].column)
    # No range holds a NULL.
    low, high = 0.0, 1.0 - (facts.null_share or 0.0)
    guessed = 1.0
    for condition in both:
        value = _value(outline, condition)
        below = None if value is None else facts.share_below(value)
        if below is None:
            guessed *= _OTHER
        elif condition.sign.startswith("<"):
            high = min(high, below)
        else:
            low = max(low, below)
    # A range that statistics call empty may hold a row yet.
    least = 0.5 / max(table.rows, 1.0)
    return max(high - low, least) * guessed


def _value(outline: Outline, condition: Condition) -> Any:
    if condition.parameter is not None:
        return outline.params.get(condition.parameter, condition.value)
    return condition.value
