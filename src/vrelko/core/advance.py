"""Whether keys go on: a page that does not come behind its key would be shown for ever."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from vrelko.core.order import Term

_SORTED_ALIKE = frozenset({int, float, Decimal, date, datetime})
"""Types that every engine sorts as Python does; texts and the rest are the engine's own matter."""


def alike(one: Any, other: Any) -> bool:
    """Tell whether two values, or keys of them, are one.

    Moments of one zone are equal in Python where its clock shows the same twice.
    """
    return bool(one == other) and repr(one) == repr(other)


def goes_back(terms: Sequence[Term], key: Sequence[Any], found: Sequence[Any]) -> bool:
    """Tell whether a row's key surely does not come behind another one.

    Terms are compared one by one up to the first whose values differ. NULLs, numbers that are none
    and values that engines sort each in their own way decide nothing.
    """
    for term, one, other in zip(terms, key, found, strict=True):
        if one == other:
            if repr(one) == repr(other):
                continue
            return False
        kind = type(one)
        if kind is not type(other) or kind not in _SORTED_ALIKE or one != one or other != other:
            return False
        if getattr(one, "tzinfo", None) is not None or getattr(other, "tzinfo", None) is not None:
            return False  # of one zone, Python compares by the clock, which may be turned back
        return bool(other < one) != term.descending
    return True


class LoopAlarm:
    """Notices a walk that comes to the same key again, keeping one key (R. P. Brent, 1980)."""

    def __init__(self) -> None:
        self._mark: tuple[Any, ...] | None = None
        self._steps, self._span = 0, 1

    def repeats(self, key: tuple[Any, ...]) -> bool:
        """Note a key; tell whether it was the marked one: within three times the loop's length."""
        if key == self._mark and alike(key, self._mark):
            return True
        self._steps += 1
        # The mark moves on at doubled distances, so that it comes to stand in a loop of any length.
        if self._steps == self._span:
            self._mark, self._steps, self._span = key, 0, self._span * 2
        return False
