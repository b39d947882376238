"""Comparing keys outside the database, where Python sorts their values as every engine does."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from datetime import date, datetime
from decimal import Decimal
from functools import cmp_to_key
from typing import Any

from vrelko.core.order import Term

_ALIKE = (int, Decimal, date, datetime)
"""Types that every engine sorts as Python does; texts are a matter of collations."""


class KeyOrder:
    """The order of keys whose values are numbers, dates or NULL."""

    def __init__(self, terms: Sequence[Term]) -> None:
        self._terms = tuple(terms)
        self._sort = cmp_to_key(self.compare)

    def knows(self, key: Sequence[Any]) -> bool:
        """Tell whether a key can be compared here."""
        return all(
            value is None or (type(value) in _ALIKE and getattr(value, "tzinfo", None) is None)
            for value in key
        )

    def compare(self, one: Sequence[Any], other: Sequence[Any]) -> int:
        """Return below 0 where a key comes ahead of another, above 0 behind it, 0 for one key."""
        for term, a, b in zip(self._terms, one, other, strict=True):
            if a == b:
                continue
            if a is None or b is None:
                return -1 if (a is None) == (term.nulls == "first") else 1
            return -1 if (a < b) != term.descending else 1
        return 0

    def first_from(self, keys: Sequence[Any], key: Sequence[Any]) -> int:
        """Return the place of the first of ascending keys at or behind a key."""
        return bisect_left(keys, self._sort(key), key=self._sort)
