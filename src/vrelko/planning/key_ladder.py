"""Where a server takes another path for pages behind a key: asked with keys from its statistics.

Nothing is read: keys come from the bounds that part a column into equal shares.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from operator import itemgetter
from typing import Any
from uuid import UUID

from sqlalchemy.types import TypeEngine

from vrelko.core.access_path import ExplainedPath
from vrelko.core.facts import TableFacts, read_moment
from vrelko.core.order import Order, Term
from vrelko.serving.variants.variant import Variant
from vrelko.sql.parameters import key_parameters
from vrelko.sql.statements import ranges_by_statement

_READ: dict[type, Callable[[str], Any]] = {
    int: int,
    float: float,
    Decimal: Decimal,
    str: str,
    datetime: read_moment,
    date: lambda text: read_moment(text).date(),
}
_SOME: dict[type, Any] = {
    int: 1, float: 1.0, Decimal: Decimal(1), str: "m", bytes: b"m", bool: True,
    datetime: datetime(2000, 1, 1), date: date(2000, 1, 1), UUID: UUID(int=1),
}  # fmt: skip


@dataclass(frozen=True)
class _Rungs:
    """The values of one term in its order, and where each begins, in shares of the rows.

    `common` values with where they begin and end; `nulls` likewise.
    """

    values: Sequence[Any]
    begins: Sequence[float]
    common: Sequence[tuple[float, float, Any]]
    nulls: tuple[float, float]

    def at(self, share: float) -> tuple[Any, float]:
        """Return the value at a share of the rows, and how far inside its rows that is."""
        for begin, end, value in (*self.common, (*self.nulls, None)):
            if begin <= share < end:
                return value, (share - begin) / (end - begin)
        if not self.values:
            return self.common[min(int(share * len(self.common)), len(self.common) - 1)][2], 0.5
        # Between two bounds nothing is known: the middle is about where the row stands.
        step = min(bisect_right(self.begins, share), len(self.values) - 1)
        return self.values[max(step - 1, 0)], 0.5


class KeyLadder:
    """Keys at any depth of an order, made of its columns' bounds and common values.

    `shares` of the rows lie ahead of the values of the first term; none where a column has no
    bounds, or its values cannot be made from text, or an equality fixes it.
    """

    def __init__(
        self, variant: Variant, order: Order, table: TableFacts, fixed: Sequence[str]
    ) -> None:
        self._variant = variant
        self._fixed = frozenset(fixed)
        self._rungs: list[_Rungs] = []
        self._names = order.names
        for term, key in zip(order.terms, variant.source.keys, strict=True):
            rungs = _rungs(term, key.bind, table)
            # With one term unknown no whole key can be made.
            if rungs is None:
                self._rungs = []
                break
            self._rungs.append(rungs)
        lead = self._rungs[0] if self._rungs and not self._fixed & set(order.names) else None
        self.shares: Sequence[float] = ()
        # NULLs are read by a statement of their own, which no key leads to.
        if lead is not None and lead.nulls[0] == lead.nulls[1]:
            self.shares = lead.begins

    def key_at(self, share: float) -> list[Any] | None:
        """Return about the key of the row that has a share of the rows ahead, None where unknown.

        Terms are taken as independent of each other; terms that conditions fix are passed over.
        """
        if not self._rungs:
            return None
        key = []
        for name, rungs in zip(self._names, self._rungs, strict=True):
            value, inside = rungs.at(share)
            key.append(value)
            # The next term parts the rows that share this one's value.
            if name not in self._fixed:
                share = inside
        return key

    def ask(
        self,
        share: float,
        values: Mapping[str, Any],
        explain: Callable[[Any, Any], ExplainedPath | None],
    ) -> ExplainedPath | None:
        """Return the path to the page behind the key at a share of the rows, None for no key.

        Of several statements, to the one for all values of the first term behind the key's: the
        others are for rows that share terms with the key, or for NULLs.
        """
        key = self.key_at(share)
        if key is None:
            return None
        statements = self._variant.seek(key, False, True)
        statement = statements[self._widest(key) if len(statements) > 1 else 0]
        return explain(statement, {**values, **key_parameters(key)})

    def _widest(self, key: Sequence[Any]) -> int:
        """Return which statement behind a key goes on beyond the first term's own value."""
        source, free = self._variant.source, 0
        while free < len(self._names) - 1 and self._names[free] in self._fixed:
            free += 1
        nulls = [value is None for value in key]
        groups = ranges_by_statement(source, source.order, nulls, joined=True)
        beyond = (i for i, group in enumerate(groups) for one in group if free in one.beyond[:1])
        return next(beyond, 0)

    def ask_ties(
        self, values: Mapping[str, Any], explain: Callable[[Any, Any], ExplainedPath | None]
    ) -> ExplainedPath | None:
        """Return the path to the rows that tie with a key, None where they are no statement."""
        if not self._variant.splits_ties:
            return None
        key = self.key_at(0.5) or [_any(one.bind) for one in self._variant.source.keys]
        statements = self._variant.seek(key, False, False)
        # As many statements with ties as without: they are read along with the others.
        if None in key or len(statements) == len(self._variant.seek(key, False, True)):
            return None
        return explain(statements[0], {**values, **key_parameters(key)})

    def leads(self, most: int) -> list[Any]:
        """Return the values of the first term that stand where equal parts of the order begin.

        Up to `most` parts. Values are placed by the shares ahead of them: where one has many rows,
        several parts begin within it.
        """
        many = min(len(self.shares) - 1, most)  # behind the last value no row may lie
        steps = [bisect_right(self.shares, i / many) - 1 for i in range(many)]
        values = self._rungs[0].values
        return [values[min(max(step, 0), len(values) - 2)] for step in steps]


def _rungs(term: Term, bind: TypeEngine[Any], table: TableFacts) -> _Rungs | None:
    values, read = _values(table, term.name, bind)
    if not values:
        return None
    column = table.column(term.name)
    nulls = column.null_share or 0.0
    ahead = nulls if term.nulls == "first" else 0.0

    def begin(value: Any, share: float) -> float | None:
        below = column.share_below(value)
        if below is None:
            return None
        return ahead + (max(1 - nulls - below - share, 0.0) if term.descending else below)

    ordered = values[::-1] if term.descending else values
    begins = [begin(value, 0.0) for value in ordered]
    common = []
    # A value with a share of its own takes room between the bounds.
    for text, share in column.common:
        value = read(text)
        at = begin(value, share)
        if at is not None:
            common.append((at, at + share, value))
    if any(one is None for one in begins):
        return None
    where = (0.0, nulls) if term.nulls == "first" else (1.0 - nulls, 1.0)
    return _Rungs(ordered, [one or 0.0 for one in begins], sorted(common, key=itemgetter(0)), where)


def _any(bind: TypeEngine[Any]) -> Any:
    """Return some value of a type."""
    try:
        return _SOME.get(bind.python_type)
    except NotImplementedError:
        return None


def _values(
    table: TableFacts, name: str, bind: TypeEngine[Any]
) -> tuple[list[Any], Callable[[str], Any]]:
    try:
        read = _READ.get(bind.python_type)
    except NotImplementedError:  # a type of the user's own
        return [], str
    if read is None or not table.has_column(name):
        return [], str
    try:
        column = table.column(name)
        if column.bounds:
            return [read(text) for text in column.bounds], read
        # A column of few values has no bounds; its common values are all there are.
        return sorted(read(text) for text, _ in column.common), read
    except (ValueError, ArithmeticError):
        return [], str
