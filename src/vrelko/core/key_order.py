"""Comparing keys outside the database, where Python sorts their values as every engine does."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from vrelko.core.order import Term

_ALIKE = (int, Decimal, date, datetime)
"""Types that every engine sorts as Python does; texts are a matter of collations."""
_BEHIND_ALL = 2  # beyond what tells NULLs from values
_BEGINS = {datetime: datetime.min, date: date.min}


class _Behind(str):
    """A text that sorts the other way round."""

    __slots__ = ()

    def __lt__(self, other: str) -> bool:
        return str.__gt__(self, other)

    def __gt__(self, other: str) -> bool:
        return str.__lt__(self, other)


def _turned(value: Any) -> Any:
    """Return what sorts descending values among one another in ascending order."""
    if type(value) is str:
        return _Behind(value)
    begins = _BEGINS.get(type(value))
    return -value if begins is None else begins - value


class KeyOrder:
    """The order of keys whose values are numbers, dates or NULL, and texts sorted by code."""

    def __init__(self, terms: Sequence[Term], texts: Sequence[bool] = ()) -> None:
        """`texts`: of which terms texts are sorted by their code points, as moments of SQLite."""
        self._terms = tuple(terms)
        self._texts = tuple(texts) or (False,) * len(self._terms)

    def knows(self, key: Sequence[Any]) -> bool:
        """Tell whether a key can be compared here."""
        return all(
            value is None
            or (type(value) in _ALIKE and getattr(value, "tzinfo", None) is None)
            or (by_code and type(value) is str)
            for value, by_code in zip(key, self._texts, strict=False)
        )

    def sortable(self, key: Sequence[Any]) -> tuple[Any, ...]:
        """Return what Python sorts among others of its kind as the order sorts the key."""
        found: list[Any] = []
        for term, value in zip(self._terms, key, strict=True):
            if value is None:
                found += [-1 if term.nulls == "first" else 1, 0]
                continue
            if term.descending:
                value = _turned(value)
            found += [0, value]
        return tuple(found)

    def before_value(self, sorted_keys: Sequence[tuple[Any, ...]], value: Any) -> int:
        """Return how many of ascending `sortable` keys stand ahead of a value of the first term.

        Of a descending term those that have the value itself, too.
        """
        term = self._terms[0]
        wanted = KeyOrder([term], self._texts[:1]).sortable((value,))
        return bisect_left(sorted_keys, (*wanted, _BEHIND_ALL) if term.descending else wanted)

    def first_from(self, sorted_keys: Sequence[tuple[Any, ...]], key: Sequence[Any]) -> int:
        """Return the place of the first at or behind a key, among ascending `sortable` keys."""
        return bisect_left(sorted_keys, self.sortable(key))
