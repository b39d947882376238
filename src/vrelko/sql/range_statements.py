"""Statements over ranges of keys: counted, summed, and skipped without reading more than keys."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import (
    FromClause,
    Integer,
    Select,
    Subquery,
    bindparam,
    func,
    literal_column,
    select,
    union_all,
)

from vrelko.sql.indexes import without_hint
from vrelko.sql.parameters import LIMIT, OFFSET, integer

_ONE: Any = literal_column("1").label("vrelko_one")
_NONE: Any = literal_column("0", Integer())
"""Written into the SQL: a parameter for each would be bound at each run."""


def build_count_of(statement: Select[Any]) -> Select[Any]:
    """Return the statement that counts the rows of a page statement, without its limit."""
    narrow = statement.limit(None).with_only_columns(_ONE, maintain_column_froms=True)
    inner = without_hint(narrow).order_by(None).subquery("vrelko_count")
    return select(func.count()).select_from(inner)


def build_sum_of(statement: Select[Any], column: str) -> Select[Any]:
    """Return the statement that sums a column over the rows of a page statement."""
    inner = without_hint(statement.limit(None)).order_by(None).subquery("vrelko_sum")
    return select(func.coalesce(func.sum(inner.c[column]), _NONE))


def build_between(
    behind: Sequence[Select[Any]],
    ahead: Sequence[Select[Any]],
    most: int | None,
    summed: str | None = None,
) -> Select[Any]:
    """Return the statement that counts rows behind one key and ahead of another.

    Both keys bound the range in each part, so an index is read between them alone. `most`: it
    stops there in each part; read in order up to a limit, no server sorts or reads all. `summed`: a
    column whose values are summed instead.
    """
    found: Any = literal_column("0")
    for begin in behind:
        for end in ahead or (None,):
            # Counting needs no column at all, so an index of the keys serves it.
            narrow = begin if summed else begin.with_only_columns(_ONE, maintain_column_froms=True)
            if end is not None:
                narrow = narrow.where(*end._where_criteria)
            limit = None if most is None else literal_column(str(most), Integer())
            narrow = without_hint(narrow.limit(limit))
            inner = (narrow if most is not None else narrow.order_by(None)).subquery()
            told = func.coalesce(func.sum(inner.c[summed]), _NONE) if summed else func.count()
            found = found + select(told).select_from(inner).scalar_subquery()
    return select(found)


def build_keys_of(statement: Select[Any], keys: Sequence[Any]) -> Select[Any]:
    """Return a page statement that reads keys alone, behind `vrelko_offset` of them."""
    labelled = [key.label(f"vrelko_k{i}") for i, key in enumerate(keys)]
    narrow = statement.with_only_columns(*labelled, maintain_column_froms=True)
    return narrow.offset(integer(OFFSET))


def build_chained(ranges: Sequence[Select[Any]], keys: Sequence[Any]) -> Select[Any]:
    """Return one statement for keys of ranges that are read one after the other.

    For engines that stream a UNION ALL: they skip `vrelko_offset` rows of it without sorting, or
    even keeping, any. Parameters: those of the ranges, and the limit.
    """
    chain = chain_keys(ranges, [key.label(f"vrelko_k{i}") for i, key in enumerate(keys)])
    # As plain parameters: where it stops says nothing of how such an engine reads.
    limit, offset = (bindparam(name, type_=Integer) for name in (LIMIT, OFFSET))
    return select(*chain.c).limit(limit).offset(offset)


def chain_keys(
    ranges: Sequence[Select[Any]], elements: Sequence[Any], *beside: FromClause
) -> Subquery:
    """Return some columns of ranges as one subquery, in order; it may read what stands `beside`."""
    # Only the columns asked for: whole rows would be fetched from the table to be skipped.
    parts = [
        one.limit(None).with_only_columns(*elements, maintain_column_froms=True) for one in ranges
    ]
    if beside:
        parts = [part.correlate(*beside) for part in parts]
    if len(parts) == 1:
        return parts[0].subquery("vrelko_chain")
    # Without a limit of its own the server takes each part for its own loop, one after the other.
    apart = [select(part.subquery()) for part in parts]
    return union_all(*apart).subquery("vrelko_chain")
