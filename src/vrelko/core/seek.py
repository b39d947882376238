"""Seek predicates: the rows behind a key, as ranges that an index can serve.

The rows behind a key (x, y, z) of the order (a, b, c) fall into disjoint ranges, nearest first:
a = x and b = y and c > z; a = x and b > y; a > x; where a column may hold NULL and its NULLs come
last, a range of NULLs follows each. Which of these one statement may hold is a question of the
engine, answered in `choose_form` alone:

- row-value: neighbouring ranges of one direction become one comparison, (a, b, c) > (x, y, z);
- split: a statement a range, run one after the other until the page is full;
- expanded-or: all ranges in one predicate.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vrelko.core.capabilities import Capabilities, SeekForm
from vrelko.core.order import Order


@dataclass(frozen=True, slots=True)
class Range:
    """Rows behind a key that lie side by side in an index.

    Numbers are positions of terms in the order. `equal`: terms that have the key's value (NULL
    where the key holds NULL). Then one of: `beyond`: these terms together lie behind the key's
    values, in the direction of the first; `null`: this term is NULL; `not_null`: it is not.
    """

    equal: tuple[int, ...] = ()
    beyond: tuple[int, ...] = ()
    null: int | None = None
    not_null: int | None = None


def choose_form(capabilities: Capabilities) -> SeekForm:
    """Return the form of seek predicate that the engine serves from an index."""
    if capabilities.row_value_seek:
        return "row-value"
    return "expanded-or" if capabilities.or_seek else "split"


def plan_ranges(
    order: Order,
    null_keys: Sequence[bool],
    form: SeekForm,
    alone: frozenset[int] = frozenset(),
) -> tuple[Range, ...]:
    """Return the ranges behind a key, nearest first.

    `null_keys` says which values of the key are NULL. `alone` are positions that must not join a
    row value: a row id that ends the index, whose tie group would be walked. Rows ahead of a key
    are the rows behind it in the reversed order.
    """
    ranges: list[Range] = []
    joinable = False  # whether the last range may grow to the left into a row value
    for i in reversed(range(len(order))):
        term = order.terms[i]
        equal = tuple(range(i))
        if null_keys[i]:
            if term.nullable and not term.nulls_after:
                ranges.append(Range(equal, not_null=i))
            joinable = False
            continue
        behind = ranges[-1] if ranges else None
        if (
            form == "row-value"
            and joinable
            and behind is not None
            and order.terms[i + 1].descending == term.descending
        ):
            ranges[-1] = Range(equal, beyond=(i, *behind.beyond))
        else:
            ranges.append(Range(equal, beyond=(i,)))
        joinable = i not in alone
        if term.nulls_after:
            ranges.append(Range(equal, null=i))
            joinable = False
    return tuple(ranges)
