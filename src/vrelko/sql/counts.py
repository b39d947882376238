"""Statements that count: rows of a select, and those behind a key or ahead of it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Integer, Select, bindparam, func, literal_column, select

from vrelko.sql.indexes import without_hint
from vrelko.sql.page_source import Source
from vrelko.sql.statements import build_seek


def without_locks(statement: Select[Any]) -> Select[Any]:
    """Return a select that locks no row: for counts and the like."""
    # A count that locked the rows it counts would lock the table.
    if statement._for_update_arg is None:
        return statement
    free = statement.where()
    free._for_update_arg = None
    return free


def build_rows(statement: Select[Any]) -> Select[Any]:
    """Return a select without its order, one literal a row: to count or estimate."""
    # Order does not matter to a count, and would cost a sort.
    rows: Select[Any] = statement.order_by(None)
    if not statement._distinct:  # each row of a DISTINCT select counts as what it shows
        rows = rows.with_only_columns(literal_column("1"), maintain_column_froms=True)
    return rows


def build_count_behind(
    source: Source, null_keys: Sequence[bool], backward: bool, cap: int | None
) -> tuple[Select[Any], ...]:
    """Return statements that together count the rows behind a key, or ahead of it."""
    return tuple(
        build_count(without_hint(one.limit(None)), cap)
        for one in build_seek(source, null_keys, backward)
    )


def build_count(statement: Select[Any], cap: int | None) -> Select[Any]:
    """Return the statement that counts a select's rows, at most `cap` + 1 of them."""
    rows = build_rows(statement)
    if cap is not None:
        # One more than the cap, so that "more than" can be told from "just as many".
        rows = rows.limit(bindparam(None, cap + 1, type_=Integer, literal_execute=True))
    # Criteria for entities wherever they stand count for the statement that they are given to.
    options = [one for one in getattr(statement, "_with_options", ()) if _is_criterion(one)]
    counted: Select[Any] = select(func.count()).select_from(rows.subquery("vrelko_rows"))
    return counted.options(*options) if options else counted


def _is_criterion(option: Any) -> bool:
    return bool(getattr(option, "_is_criteria_option", False))
