"""Rows alike in the first terms of an order: where their groups begin and end.

A sort within groups reads each group that a page touches to its end.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from vrelko.core.access import AccessPath
from vrelko.core.facts import TableFacts
from vrelko.core.order import Order

_FEW = 4.0  # groups within which a page from the beginning knows where groups end


@dataclass(frozen=True, slots=True)
class Groups:
    """Groups along an order of `rows` rows: those known one by one, and the mean of the others.

    `known` holds where each begins and how many rows it has, in rows.
    """

    rows: float
    mean: float
    known: tuple[tuple[float, float], ...] = ()

    def end(self, at: float) -> float:
        """Return the end of the group that holds the row before `at`, in rows."""
        for begin, size in self.known:
            if begin < at <= begin + size:
                return begin + size
        if at <= _FEW * self.mean:
            return min(math.ceil(at / self.mean) * self.mean, self.rows)
        return min(at + self.mean / 2, self.rows)

    def begin(self, at: float) -> float:
        """Return the beginning of the group that holds the row at `at`, in rows."""
        for begin, size in self.known:
            if begin <= at < begin + size:
                return begin
        return max(at - self.mean / 2, 0.0)


def find_groups(order: Order, path: AccessPath, table: TableFacts) -> Groups:
    """Return the groups of rows alike in the terms that a path gives in order.

    Of a single leading term the common values are placed one by one, where facts tell their shares
    and their order; NULLs too.
    """
    rows = max(table.rows * path.share, 1.0)
    names = path.presorted
    distinct = 1.0
    for name in names:
        known = table.column(name).distinct if table.has_column(name) else None
        distinct *= known or 1.0
    usual = max(rows / max(min(distinct, rows), 1.0), 1.0)
    lead = next((term for term in order.terms if term.name == names[0]), None) if names else None
    if lead is None or len(names) > 1 or path.fixed or not table.has_column(lead.name):
        return Groups(rows, usual)
    column = table.column(lead.name)
    nulls = column.null_share or 0.0
    first_nulls = nulls if lead.nulls == "first" else 0.0
    placed = []
    for text, share in column.common:
        below = column.share_below(_like(text, column.type))
        if below is None:
            return Groups(rows, usual)
        begin = 1 - nulls - below - share if lead.descending else below
        placed.append(((first_nulls + begin) * rows, share * rows))
    if nulls:
        placed.append((0.0 if first_nulls else (1 - nulls) * rows, nulls * rows))
    rest = 1 - nulls - sum(share for _, share in column.common)
    others = max((column.distinct or 1.0) - len(column.common), 1.0)
    mean = max(rows * rest / others, 1.0) if column.common and rest > 0 else usual
    return Groups(rows, mean, tuple(sorted(placed)))


def _like(text: str, type_name: str) -> object:
    """Return the text of a number as one, by the column's type."""
    kind = type_name.upper()
    if any(part in kind for part in ("INT", "NUM", "DEC", "REAL", "DOUB", "FLOA")):
        try:
            return float(text)
        except ValueError:
            return text
    return text
