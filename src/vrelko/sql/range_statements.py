"""Statements over ranges of keys: counted, summed, and skipped without reading more than keys."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Integer, Select, case, func, literal_column, select

from vrelko.sql.indexes import without_hint
from vrelko.sql.statements import OFFSET, integer

_ONE: Any = literal_column("1").label("vrelko_one")


def build_count_of(statement: Select[Any]) -> Select[Any]:
    """Return the statement that counts the rows of a page statement, without its limit."""
    narrow = statement.limit(None).with_only_columns(_ONE, maintain_column_froms=True)
    inner = without_hint(narrow).order_by(None).subquery("vrelko_count")
    return select(func.count()).select_from(inner)


def build_sum_of(statement: Select[Any], column: str) -> Select[Any]:
    """Return the statement that sums a column over the rows of a page statement."""
    inner = without_hint(statement.limit(None)).order_by(None).subquery("vrelko_sum")
    return select(func.coalesce(func.sum(inner.c[column]), 0))


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
            narrow = begin if summed else begin.with_only_columns(_ONE, maintain_column_froms=True)
            if end is not None:
                narrow = narrow.where(*end._where_criteria)
            limit = None if most is None else literal_column(str(most), Integer())
            narrow = without_hint(narrow.limit(limit))
            inner = (narrow if most is not None else narrow.order_by(None)).subquery()
            told = func.coalesce(func.sum(inner.c[summed]), 0) if summed else func.count()
            found = found + select(told).select_from(inner).scalar_subquery()
    return select(found)


def build_keys_of(statement: Select[Any], keys: Sequence[Any]) -> Select[Any]:
    """Return a page statement that reads keys alone, behind `vrelko_offset` of them."""
    labelled = [key.label(f"vrelko_k{i}") for i, key in enumerate(keys)]
    narrow = statement.with_only_columns(*labelled, maintain_column_froms=True)
    return narrow.offset(integer(OFFSET))


def build_behind_ties(tied: Select[Any], others: Select[Any], keys: Sequence[Any]) -> Select[Any]:
    """Return one statement for keys behind some that tie: the more of these, the fewer to skip.

    For engines whose OFFSET takes an expression. The last column tells how many tie, up to one more
    than are skipped; where that is more, the keys are none of those wanted.
    """
    skip = integer(OFFSET)
    narrow = tied.with_only_columns(_ONE, maintain_column_froms=True).limit(skip + 1)
    ties = select(func.count()).select_from(narrow.subquery("vrelko_ties")).scalar_subquery()
    found = build_keys_of(others, keys).add_columns(ties.label("vrelko_tied"))
    return found.offset(case((ties > skip, 0), else_=skip - ties))
