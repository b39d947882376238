"""How a column's values are spread, by statistics: which value stands at a share of the rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from decimal import Decimal
from typing import Any

SORTED_ALIKE = (int, float, Decimal, date, datetime)
"""Types whose values Python sorts as databases do."""


@dataclass(frozen=True)
class Distribution:
    """Ascending `bounds` between equally many rows; `common` values with their shares of all rows.

    `nulls` is the share of rows without a value. `doubt`: how far a share may be off beside what
    the bounds leave open, None where that is not known.
    """

    bounds: tuple[Any, ...]
    common: dict[Any, float] = field(default_factory=dict)
    nulls: float = 0.0
    doubt: float | None = 0.0

    @property
    def error(self) -> float | None:
        """How far a share may be off: a step between two bounds, or the commonest value's share."""
        if self.doubt is None:
            return None
        step = self._between / max(len(self.bounds) - 1, 1)
        return max([step, *self.common.values()]) + self.doubt

    @property
    def _between(self) -> float:
        return max(1.0 - self.nulls - sum(self.common.values()), 0.0)

    def value_at(self, share: float) -> Any:
        """Return the value up to which `share` of the rows that have one stand, ascending.

        Interpolated between bounds. None where nothing is known.
        """
        # Shares are asked of the rows with a value, and steps are kept of all rows.
        goal = share * (1.0 - self.nulls)
        before: tuple[Any, float] | None = None
        for value, below, up_to in self._steps():
            if below >= goal and before is not None:
                last, reached = before
                return _within(last, value, (goal - reached) / max(below - reached, 1e-12))
            # A common value covers a stretch of shares: within it the value is the answer.
            if up_to >= goal:
                return value
            before = value, up_to
        return None if before is None else before[0]

    def share_of(self, value: Any) -> float:
        """Return the share of the rows with a value that stand ahead of one, ascending."""
        with_value = max(1.0 - self.nulls, 1e-12)
        before: tuple[Any, float] | None = None
        for at, below, up_to in self._steps():
            if value <= at:
                # Ahead of the first bound nothing is known to stand.
                if before is None or value == at:
                    return below / with_value
                last, reached = before
                part = _part(last, at, value)
                return (reached + part * (below - reached)) / with_value
            before = at, up_to
        return 1.0

    def _steps(self) -> Sequence[tuple[Any, float, float]]:
        """Return each known value with the shares of all rows below it, and up to it."""
        # Statistics keep common values apart from the bounds, so both are merged into one ascent.
        steps, count = [], max(len(self.bounds) - 1, 1)
        places = {value: i / count for i, value in enumerate(self.bounds)}
        seen = 0.0
        for value in sorted({*places, *self.common}):
            below = seen + self._between * self._place(value, places)
            seen += self.common.get(value, 0.0)
            steps.append((value, below, below + self.common.get(value, 0.0)))
        return steps

    def _place(self, value: Any, places: dict[Any, float]) -> float:
        """Return how far among the bounds a value stands, from 0 to 1."""
        if value in places:
            return places[value]
        for low, high in zip(self.bounds, self.bounds[1:], strict=False):
            if low <= value <= high:
                part = _part(low, high, value)
                return places[low] + part * (places[high] - places[low])
        return 0.0 if self.bounds and value < self.bounds[0] else 1.0


def _part(low: Any, high: Any, value: Any) -> float:
    return float((value - low) / (high - low)) if high != low else 0.0


def _within(low: Any, high: Any, part: float) -> Any:
    """Return what stands at a part of the way between two values, of their type."""
    if isinstance(low, Decimal):
        # A float times a Decimal is refused by Python; the text of the float is exact.
        return low + (high - low) * Decimal(repr(part))
    found = low + (high - low) * part  # a date takes whole days of it
    return round(found) if isinstance(low, int) else found
