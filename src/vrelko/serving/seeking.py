"""Where a server takes another path for pages behind a key: asked with keys from its statistics.

Nothing is read: keys come from the bounds that part a column into equal shares.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy.types import TypeEngine

from vrelko.core.access import Seen
from vrelko.core.facts import TableFacts
from vrelko.core.order import Order
from vrelko.serving.variants import Variant
from vrelko.sql.statements import key_parameters

_READ: dict[type, Callable[[str], Any]] = {
    int: int,
    float: float,
    Decimal: Decimal,
    str: str,
    datetime: datetime.fromisoformat,
    date: date.fromisoformat,
}


class KeyLadder:
    """Keys at rising depths of an order, made of its columns' bounds.

    `shares` of the rows lie ahead of each key; none where a column has no bounds, or its values
    cannot be made from text, or an equality fixes it.
    """

    def __init__(
        self, variant: Variant, order: Order, table: TableFacts, fixed: Sequence[str]
    ) -> None:
        self._variant = variant
        self._bounds: list[list[Any]] = []
        self.shares: list[float] = []
        for term, key in zip(order.terms, variant.source.keys, strict=True):
            bounds = _values(table, term.name, key.bind)
            if term.name in fixed or not bounds:
                return
            self._bounds.append(bounds[::-1] if term.descending else bounds)
        lead = table.column(order.names[0])
        if lead.null_share:
            return
        places = [lead.share_below(value) for value in self._bounds[0]]
        if any(place is None for place in places):
            return
        ahead = [float(place or 0.0) for place in places]
        self.shares = [1 - place for place in ahead] if order.terms[0].descending else ahead

    def ask(
        self, step: int, values: Mapping[str, Any], explain: Callable[[Any, Any], Seen | None]
    ) -> Seen | None:
        """Return the path to the page behind the key of a step, None where there is none."""
        key = [self._bounds[0][step], *(bounds[len(bounds) // 2] for bounds in self._bounds[1:])]
        statements = self._variant.seek(key, False, True)
        if len(statements) != 1:
            return None
        return explain(statements[0], {**values, **key_parameters(key)})

    def leads(self, most: int) -> list[Any]:
        """Return the values of the first term that stand where equal parts of the order begin.

        Up to `most` parts. Values are placed by the shares ahead of them: where one has many rows,
        several parts begin within it.
        """
        many = min(len(self.shares) - 1, most)  # behind the last value no row may lie
        steps = [bisect_right(self.shares, i / many) - 1 for i in range(many)]
        return [self._bounds[0][min(max(step, 0), len(self.shares) - 2)] for step in steps]

    def turn(
        self,
        first: Seen | None,
        values: Mapping[str, Any],
        explain: Callable[[Any, Any], Seen | None],
    ) -> tuple[float, Seen] | None:
        """Return the share of rows from which another path than the first is taken, and it."""
        high = len(self.shares) - 2
        last = self.ask(high, values, explain) if high > 0 else None
        if first is None or last is None or last.signature == first.signature:
            return None
        low = 0
        while high - low > 1:
            middle = (low + high) // 2
            found = self.ask(middle, values, explain)
            if found is not None and found.signature == first.signature:
                low = middle
            else:
                high, last = middle, found or last
        return self.shares[high], last


def _values(table: TableFacts, name: str, bind: TypeEngine[Any]) -> list[Any]:
    try:
        read = _READ.get(bind.python_type)
    except NotImplementedError:  # a type of the user's own
        return []
    if read is None or not table.has_column(name):
        return []
    try:
        column = table.column(name)
        if column.bounds:
            return [read(text) for text in column.bounds]
        return sorted(read(text) for text, _ in column.common)
    except (ValueError, ArithmeticError):
        return []
