"""Indexes and orders: whether an index gives rows in an order, or in its first terms alone."""

from __future__ import annotations

from collections.abc import Container, Sequence
from dataclasses import dataclass
from itertools import takewhile

from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import TableFacts
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.core.order import Order, Term


def entry_bytes(columns: Sequence[IndexColumn], table: TableFacts) -> float:
    """Return the mean bytes of an index entry: its columns, the row id and about 4 of header."""
    widths = [table.column(column.name).width or 8.0 for column in columns if column.name]
    return sum(widths) + 4.0 + 4.0


def index_tail(table: TableFacts, engine: str) -> tuple[str, ...]:
    """Return the columns that every index of a table ends in, unseen and ascending."""
    tail = TRAITS[engine].index_tail
    if tail == "primary-key" or (tail == "row-id" and table.clustered):
        return table.primary_key
    return (table.row_id,) if tail == "row-id" and table.row_id is not None else ()


@dataclass(frozen=True, slots=True)
class Match:
    """How an index stands to an order: the fixed columns that it begins with, and those behind.

    `backward`: whether it is read so, None where it does not give the order. `rest` has the
    columns that it ends in unseen, too.
    """

    lead: tuple[IndexColumn, ...]
    rest: tuple[IndexColumn, ...]
    backward: bool | None


def match_order(
    index: IndexFacts,
    terms: Sequence[tuple[str | None, Term]],
    fixed: Container[str | None],
    tail: Sequence[str],
    lax: bool,
) -> Match:
    """Return how an index stands to the terms of an order that no equality fixes.

    Each term comes with the name of its column, None for an expression, which no index is known to
    give. `tail` names the columns that every index ends in unseen. `lax`: wherever NULLs stand.
    """
    lead = tuple(takewhile(lambda column: column.name in fixed, index.columns))
    # What an index names itself is not added behind a second time.
    held = {column.name for column in index.columns}
    rest = index.columns[len(lead) :]
    rest += tuple(IndexColumn(name) for name in tail if name not in held)
    # All terms one way: an index is read from one end or the other.
    flips = {_flip(*pair, lax) for pair in zip(rest, terms, strict=False)}
    if len(rest) < len(terms) or len(flips) > 1 or None in flips:
        return Match(lead, rest, None)
    return Match(lead, rest, True in flips)


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
    terms = [(term.name, term) for term in order.terms if term.name not in fixed]
    free = lax or TRAITS[engine].nulls_served
    return match_order(index, terms, fixed, index_tail(table, engine), free).backward is not None


def _flip(column: IndexColumn, named: tuple[str | None, Term], free: bool) -> bool | None:
    """Return whether the index must be read backward for a term, None where it has another."""
    name, term = named
    if name is None or column.name != name:
        return None
    backward = column.descending != term.descending
    if not term.nullable or free or term.nulls is None:
        return backward
    # Where the catalog is silent NULLs are lowest, as on SQLite and MariaDB.
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
