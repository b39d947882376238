"""Indexes and orders: whether an index gives rows in an order, or in its first terms alone."""

from __future__ import annotations

from collections.abc import Sequence

from vrelko.core.facts import TableFacts
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.core.order import Order, Term


def entry_bytes(columns: Sequence[IndexColumn], table: TableFacts) -> float:
    """Return the mean bytes of an index entry: its columns, the row id and about 4 of header."""
    widths = [table.column(column.name).width or 8.0 for column in columns if column.name]
    return sum(widths) + 4.0 + 4.0


def index_tail(table: TableFacts, engine: str) -> tuple[str, ...]:
    """Return the columns that every index of a table ends in, unseen and ascending."""
    if engine == "mariadb" or (engine == "sqlite" and table.clustered):
        return table.primary_key
    return (table.row_id,) if engine == "sqlite" and table.row_id is not None else ()


def serves_order(
    index: IndexFacts,
    order: Order,
    fixed: Sequence[str],
    table: TableFacts,
    engine: str,
    lax: bool = False,
) -> bool:
    """Tell whether an index gives rows in an order, its leading columns fixed by equality.

    `lax`: wherever NULLs stand, as their rows are read by a range of their own.
    """
    names = [column.name for column in index.columns]
    lead = 0
    while lead < len(names) and names[lead] in fixed:
        lead += 1
    rest = [term for term in order.terms if term.name not in fixed]
    offered = list(index.columns[lead:])
    held = {column.name for column in index.columns}
    offered += [IndexColumn(name) for name in index_tail(table, engine) if name not in held]
    if len(offered) < len(rest):
        return False
    free = lax or engine == "sqlite"
    flips = {_flip(column, term, free) for column, term in zip(offered, rest, strict=False)}
    return len(flips) <= 1 and None not in flips


def _flip(column: IndexColumn, term: Term, free: bool) -> bool | None:
    """Return whether the index must be read backward for a term, None where it has another."""
    if column.name != term.name:
        return None
    backward = column.descending != term.descending
    if not term.nullable or free or term.nulls is None:
        return backward
    first = column.nulls_first if column.nulls_first is not None else not column.descending
    return backward if (first != (term.nulls == "first")) == backward else None


def presorted(
    index: IndexFacts, order: Order, fixed: Sequence[str], most: int = 0
) -> tuple[str, ...]:
    """Return the first terms of an order that an index gives in order, `most` of them (0: all)."""
    rest = [term for term in order.terms if term.name not in fixed]
    columns = [column for column in index.columns if column.name not in fixed]
    found: list[str] = []
    flips = set()
    for column, term in zip(columns, rest, strict=False):
        flips.add(column.descending != term.descending)
        if column.name != term.name or len(flips) > 1:
            break
        found.append(term.name)
    return tuple(found[: most or len(found)])
