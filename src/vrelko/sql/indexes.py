"""What a page statement may rely on because an index exists: pins, and where NULLs stand.

With `status = 0 AND (hour, id) > …` and an index on (status, hour, id), MariaDB may read every
entry of the status. Pins keep it from that. Where the fixed columns are all that the select asks
for, the statement names the index: no other can serve its pages better, and the server spends a
good part of a page's time on weighing them. Else the equality is written as a range, which leaves
the choice to the server: `status >= 0 AND status <= 0 … ORDER BY status, hour, id` means the same
and reads a page. Both need an index that begins with the fixed columns: elsewhere they would cause
a sort.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import BindParameter, Column, ColumnElement, Select
from sqlalchemy.sql import operators
from sqlalchemy.sql.elements import BinaryExpression
from sqlalchemy.sql.selectable import FromClause
from sqlalchemy.util import immutabledict

from vrelko.core.index import IndexFacts
from vrelko.core.index_order import Match, match_order
from vrelko.core.order import Order, Term
from vrelko.sql.sources import conjuncts, same


@dataclass(frozen=True)
class Sought:
    """What is sought of indexes: conditions and order of a statement, and the indexes there are.

    `elements` are the order's columns; `tail` names those that every index ends in unseen. `table`
    is the one that the statement reads plain rows of, None where it joins or groups.
    """

    where: Any
    elements: Sequence[ColumnElement[Any]]
    order: Order
    indexes: Sequence[IndexFacts]
    tail: Sequence[str]
    table: FromClause | None = None

    def wanted(self, fixed: Mapping[str | None, Column[Any]]) -> list[tuple[str | None, Term]]:
        """Return the order's terms that no equality fixes, with their column's names."""
        names = [one.name if isinstance(one, Column) else None for one in self.elements]
        pairs = zip(names, self.order.terms, strict=True)
        return [(name, term) for name, term in pairs if name not in fixed]

    def match(
        self, index: IndexFacts, fixed: Mapping[str | None, Column[Any]], lax: bool = True
    ) -> Match:
        """Return how an index stands to the order; a partial one never gives it."""
        found = match_order(index, self.wanted(fixed), fixed, self.tail, lax)
        return replace(found, backward=None) if index.partial else found


@dataclass(frozen=True)
class Pins:
    """The fixed columns of an index, and whether each descends where the order runs forward.

    `hint` names the index for `table` instead, where that is safe.
    """

    columns: tuple[tuple[ColumnElement[Any], bool], ...] = ()
    forward: Order | None = None
    table: FromClause | None = None
    hint: str = ""

    def order_by(self, order: Order) -> tuple[ColumnElement[Any], ...]:
        """Return the ORDER BY terms that go ahead of the order's own."""
        # The pinned columns turn round with the order, so that the index is still read one way.
        backward = order != self.forward
        return tuple(
            column.desc() if descending != backward else column.asc()
            for column, descending in self.columns
        )

    def apply(self, statement: Select[Any]) -> Select[Any]:
        """Return the statement with the equalities of pinned columns written as two bounds."""
        # Naming the index does all that bounds would, and saves the server its weighing.
        if self.table is not None:
            return statement.with_hint(self.table, self.hint)
        if not self.columns:
            return statement
        # Conditions are rewritten where they stand, so that a page still reads as it was written.
        criteria: list[Any] = []
        for criterion in statement._where_criteria:
            for part in conjuncts(criterion):
                criteria.extend(self._bounds(part))
        # An empty where() copies the statement, which may be the listing's own.
        whole = statement.where()
        whole._where_criteria = tuple(criteria)
        return whole

    def _bounds(self, part: Any) -> Sequence[Any]:
        fixed = fixed_column(part)
        if fixed is None or not any(same(fixed[0], column) for column, _ in self.columns):
            return (part,)
        return fixed[0] >= fixed[1], fixed[0] <= fixed[1]


NO_PINS = Pins()


def fixed_column(part: Any) -> tuple[Column[Any], BindParameter[Any]] | None:
    """Return the column and value of a condition `column = value`, None for any other."""
    if isinstance(part, BinaryExpression) and part.operator is operators.eq:
        for column, value in ((part.left, part.right), (part.right, part.left)):
            if isinstance(column, Column) and isinstance(value, BindParameter):
                return column, value
    return None


def find_pins(sought: Sought) -> Pins:
    """Return the fixed columns of an index that serves an order; no such index, no pins."""
    fixed = _fixed(sought.where)
    found = []
    for index in sought.indexes:
        match = sought.match(index, fixed)
        if match.lead and match.backward is not None:
            found.append((index, match.lead, match.backward))
    if not found:
        return NO_PINS
    index, lead, flip = found[0]
    parts = [fixed_column(part) for part in conjuncts(sought.where)]
    # None stands for a condition that is no equality.
    names = {None if part is None else part[0].name for part in parts}
    settled = names <= {column.name for column in lead}
    # Only where no other index could be better, and where its name needs no escaping.
    if sought.table is not None and settled and len(found) == 1 and index.name.isidentifier():
        return Pins(table=sought.table, hint=_Hint(f"FORCE INDEX (`{index.name}`)"))
    return Pins(tuple((fixed[c.name], c.descending != flip) for c in lead), sought.order)


class _Hint(str):
    """A hint of ours: those of a listing's own select are left to it."""


def has_hint(statement: Select[Any]) -> bool:
    """Tell whether a statement names an index that it was given here."""
    hints = getattr(statement, "_hints", {})
    return any(isinstance(text, _Hint) for text in hints.values())


def without_hint(statement: Select[Any]) -> Select[Any]:
    """Return a statement that names no index: for one whose index is gone."""
    if not has_hint(statement):
        return statement
    bare = statement.where()
    bare._hints = immutabledict()
    return bare


def places_nulls(sought: Sought) -> bool:
    """Tell whether an index serves an order with its NULLs where the order wants them."""
    fixed = _fixed(sought.where)
    return any(
        sought.match(index, fixed, lax=False).backward is not None for index in sought.indexes
    )


def first_alone(sought: Sought) -> int | None:
    """Return the place of the order's first free term where an index has it but not the others.

    None where an index serves the order, or none begins with that term.
    """
    fixed = _fixed(sought.where)
    wanted = sought.wanted(fixed)
    # With one free term there is nothing behind it to sort; an expression has no plain bound.
    if len(wanted) < 2 or wanted[0][0] is None:
        return None
    begins = False
    for index in sought.indexes:
        match = sought.match(index, fixed)
        if match.backward is not None:
            return None
        first = match.rest[0].name if match.rest else None
        # A partial index lacks rows.
        begins = begins or (not index.partial and first == wanted[0][0])
    names = [term.name for term in sought.order.terms]
    return names.index(wanted[0][1].name) if begins else None


def serves_within(sought: Sought, column: Column[Any]) -> bool:
    """Tell whether an index serves an order within each value of a column."""
    fixed: dict[str | None, Column[Any]] = {**_fixed(sought.where), column.name: column}
    for index in sought.indexes:
        match = sought.match(index, fixed)
        if match.backward is not None and column.name in {one.name for one in match.lead}:
            return True
    return False


def _fixed(where: Any) -> dict[str | None, Column[Any]]:
    return {found[0].name: found[0] for part in conjuncts(where) if (found := fixed_column(part))}
