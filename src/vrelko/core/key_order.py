"""Comparing keys outside the database, where Python sorts their values as every engine does."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from vrelko.core.order import Term

_FAMILIES = {int: "number", Decimal: "number", datetime: "moment", date: "day", str: "text"}
"""Types that every engine sorts as Python does, and texts, which are a matter of collations."""
_BEGINS = {datetime: datetime.min, date: date.min}


# A text has no negative, so its comparison is turned round instead.
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


@dataclass(frozen=True, slots=True)
class Firsts:
    """The first values of ascending keys, as Python sorts them; `family`: what kind they are."""

    family: str | None
    values: tuple[tuple[Any, ...], ...]


def _family(value: Any) -> str | None:
    """Return the kind of values among which one is compared; None: Python cannot tell."""
    # With a zone, one database sorts by the instant, another by the text that it stored.
    if getattr(value, "tzinfo", None) is not None:
        return None
    return _FAMILIES.get(type(value))


class KeyOrder:
    """The order of keys whose values are numbers, dates or NULL, and texts sorted by code."""

    def __init__(self, terms: Sequence[Term], texts: Sequence[bool] = ()) -> None:
        """`texts`: of which terms the database compares texts, by their code points.

        SQLite holds moments so: the text alone tells their order, not the moment it means.
        """
        self._terms = tuple(terms)
        self._texts = tuple(texts) or (False,) * len(self._terms)

    def sorts(self, keys: Iterable[Sequence[Any]]) -> bool:
        """Tell whether keys can be compared here with one another."""
        seen: list[str | None] = [None] * len(self._terms)
        for key in keys:
            for i, value in enumerate(key):
                if value is None:
                    continue
                family = _family(value)
                if family is None or (family == "text") != self._texts[i]:
                    return False
                # A date and a moment do not compare in Python.
                if seen[i] not in (None, family):
                    return False
                seen[i] = family
        return True

    def firsts(self, keys: Sequence[Sequence[Any]]) -> Firsts | None:
        """Return the first values of ascending keys for `before_value`; None: of several kinds."""
        values = [key[0] for key in keys]
        families = {_family(value) for value in values if value is not None}
        if len(families) > 1 or None in families or (families == {"text"} and not self._texts[0]):
            return None
        first = KeyOrder(self._terms[:1])
        return Firsts(next(iter(families), None), tuple(first.sortable((v,)) for v in values))

    def sortable(self, key: Sequence[Any]) -> tuple[Any, ...]:
        """Return what Python sorts among others of its kind as the order sorts the key."""
        found: list[Any] = []
        for term, value in zip(self._terms, key, strict=True):
            if value is None:
                # 0 for values: NULLs go ahead of them or behind, and compare with each other alone.
                found += [-1 if term.nulls == "first" else 1, 0]
                continue
            if term.descending:
                value = _turned(value)
            found += [0, value]
        return tuple(found)

    def before_value(self, firsts: Firsts, value: Any) -> int | None:
        """Return how many keys stand ahead of a value of the first term; None: of another kind.

        Of a descending term those that have the value itself, too.
        """
        if firsts.family not in (None, _family(value)):
            return None
        # Descending, the bound itself stands ahead of all that is below it.
        find = bisect_right if self._terms[0].descending else bisect_left
        return find(firsts.values, KeyOrder(self._terms[:1]).sortable((value,)))

    def first_from(self, sorted_keys: Sequence[tuple[Any, ...]], key: Sequence[Any]) -> int:
        """Return the place of the first at or behind a key, among ascending `sortable` keys."""
        return bisect_left(sorted_keys, self.sortable(key))
