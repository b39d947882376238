"""Seek predicates: the rows behind a key, as ranges that an index can serve.

The rows behind a key (x, y, z) of the order (a, b, c) fall into disjoint ranges, nearest first:
a = x and b = y and c > z; a = x and b > y; a > x; where a column may hold NULL and its NULLs come
last, a range of NULLs follows each. How ranges become statements is a question of the engine,
answered here alone:

- row-value: neighbouring ranges of one direction become one comparison, (a, b, c) > (x, y, z), and
  each range left is a statement, run one after the other until the page is full;
- split: a statement a range;
- expanded-or: all ranges in one statement, as an OR.

NULLs that an engine does not place as asked without sorting are kept apart from values: a statement
that holds only one of the two needs no placement at all.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vrelko.core.capabilities import Capabilities, SeekForm
from vrelko.core.order import Order


@dataclass(frozen=True, slots=True)
class KeyRange:
    """Rows behind a key that lie side by side in an index; without any part, all rows.

    Numbers are positions of terms in the order. `equal`: terms that have the key's value (NULL
    where the key holds NULL). Then one of: `beyond`: these terms together lie behind the key's
    values, in the direction of the first; `null`: this term is NULL; `not_null`: it is not.
    """

    equal: tuple[int, ...] = ()
    beyond: tuple[int, ...] = ()
    null: int | None = None
    not_null: int | None = None

    def holds_null(self, position: int, null_keys: Sequence[bool]) -> bool | None:
        """Tell whether a term is NULL in all rows of the range (True), in none (False), or some."""
        if position in self.equal:
            return null_keys[position]
        if self.null == position:
            return True
        if self.not_null == position or self.beyond[:1] == (position,):
            return False
        return None


def plan_ranges(
    order: Order,
    null_keys: Sequence[bool],
    form: SeekForm,
    alone: frozenset[int] = frozenset(),
) -> tuple[KeyRange, ...]:
    """Return the ranges behind a key, nearest first.

    `null_keys` says which values of the key are NULL. `alone` are positions that must not join a
    row value: a row id that ends the index, whose tie group would be walked. Rows ahead of a key
    are the rows behind it in the reversed order.
    """
    ranges: list[KeyRange] = []
    joinable = False  # whether the last range may grow to the left into a row value
    # From the last term to the first: the nearest rows differ from the key in the last one alone.
    for i in reversed(range(len(order))):
        term = order.terms[i]
        equal = tuple(range(i))
        if null_keys[i]:
            # Behind a NULL that comes first lie all values; behind one that comes last, nothing.
            if term.nullable and not term.nulls_after:
                ranges.append(KeyRange(equal, not_null=i))
            joinable = False
            continue
        behind = ranges[-1] if ranges else None
        if (
            form == "row-value"
            and joinable
            and behind is not None
            and order.terms[i + 1].descending == term.descending
        ):
            ranges[-1] = KeyRange(equal, beyond=(i, *behind.beyond))
        else:
            ranges.append(KeyRange(equal, beyond=(i,)))
        joinable = i not in alone
        # No comparison holds of a NULL, so those that come last are a range of their own.
        if term.nulls_after:
            ranges.append(KeyRange(equal, null=i))
            joinable = False
    return tuple(ranges)


def plan_edge(order: Order, awkward: frozenset[int]) -> tuple[KeyRange, ...]:
    """Return the ranges of all rows, in order: one, or NULLs and values of an awkward first term.

    `awkward` are the terms whose NULLs the engine would have to sort into place.
    """
    # Only the first term decides: the NULLs of later ones lie within ranges of equal first terms.
    if 0 not in awkward:
        return (KeyRange(),)
    parts = (KeyRange(null=0), KeyRange(not_null=0))
    return parts[::-1] if order.terms[0].nulls_after else parts


def awkward_terms(order: Order, capabilities: Capabilities) -> frozenset[int]:
    """Return the positions of terms whose NULLs are not where the engine's own order has them."""
    if capabilities.nulls_served:
        return frozenset()
    return frozenset(
        i
        for i, term in enumerate(order.terms)
        if term.nullable and (term.nulls == "first") != (capabilities.nulls_low != term.descending)
    )


def group_ranges(
    ranges: Sequence[KeyRange],
    null_keys: Sequence[bool],
    awkward: frozenset[int],
    form: SeekForm,
) -> tuple[tuple[KeyRange, ...], ...]:
    """Return the ranges by statement: each alone, or together as far as NULLs need no sorting."""
    # A UNION of ranges would be sorted as a whole, so each is a statement of its own.
    if form != "expanded-or":
        return tuple((one,) for one in ranges)
    groups: list[tuple[KeyRange, ...]] = []
    for one in ranges:
        # One statement for all where it may be: a server then reads the ranges in one go.
        together = (*groups[-1], one) if groups else ()
        if together and not any(_mixes(together, i, null_keys) for i in awkward):
            groups[-1] = together
        else:
            groups.append((one,))
    return tuple(groups)


def needs_placement(ranges: Sequence[KeyRange], position: int, null_keys: Sequence[bool]) -> bool:
    """Tell whether rows of these ranges may differ in whether a term is NULL."""
    states = {one.holds_null(position, null_keys) for one in ranges}
    return None in states or len(states) > 1


def _mixes(ranges: Sequence[KeyRange], position: int, null_keys: Sequence[bool]) -> bool:
    states = {one.holds_null(position, null_keys) for one in ranges}
    return {True, False} <= states
