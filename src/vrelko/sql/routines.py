"""Stored routines that give a page by number and size, as text for five dialects."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import (
    BindParameter,
    ClauseElement,
    ColumnElement,
    Select,
    case,
    func,
    literal_column,
    or_,
    select,
)
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import CompileError
from sqlalchemy.sql import visitors
from sqlalchemy.types import TypeEngine

from vrelko.core.arithmetic import Sizes
from vrelko.errors import ListingError
from vrelko.sql.counts import build_rows
from vrelko.sql.page_source import Source
from vrelko.sql.parameters import KEY
from vrelko.sql.portable_types import portable_type
from vrelko.sql.predicates import order_clauses, ordered
from vrelko.sql.text import render_sql

ROUTINES = ("postgresql", "mariadb", "mysql", "mssql", "oracle")
"""Dialects that a stored routine is written for."""

TOTAL, MORE = "total_rows", "more_follow"
"""The last column of a routine's rows: how many there are in all, or whether more follow."""

_SIZE, _ONE_MORE, _SKIP = 2_146_999_001, 2_146_999_002, 2_146_999_003
"""Numbers that stand for a page's size, that and one, and its offset: compilers want numbers."""

# Not the second colon of a PostgreSQL cast.
_NAMED = re.compile(r"(?<!:):(\w+)")
_MOST = 2_147_483_647


_Taken = Mapping[str, tuple[TypeEngine[Any], bool]]


@dataclass(frozen=True)
class Routine:
    """What a stored routine is written from.

    `source` without filters, `columns` the select's own; `filters` may be left out by a caller, by
    NULL; `total` counts the rows, to `cap`, None for no total: then MORE tells what follows.
    """

    name: str
    source: Source
    sizes: Sizes
    filters: Sequence[ColumnElement[bool]] = ()
    total: bool = False
    cap: int | None = None


def render_routine(routine: Routine, dialect: Dialect) -> str:
    """Return a stored routine with page, size and the select's parameters.

    PostgreSQL: a function that returns a table. MariaDB, MySQL and SQL Server: a procedure whose
    result set is the page. Oracle: a procedure that opens a cursor. Sizes and numbers out of bounds
    are brought within them. Raises ListingError for SQLite, which has no routines, and where a
    parameter is a set of values.
    """
    # A routine is text for somebody's migration: the dialect need not be one that is served.
    if dialect.name not in ROUTINES:
        raise ListingError(
            f"stored routines cannot be written for {dialect.name!r}",
            f"Use one of {', '.join(ROUTINES)}; the plain statements are there for others",
            "routine-engine",
        )
    statement = _page(routine)
    taken = _parameters(routine)
    try:
        return _WRITERS[dialect.name](routine, statement, taken, dialect)
    except CompileError as error:
        # A routine declares the type of each column and parameter, where a statement needs none.
        raise ListingError(
            f"this routine cannot be written for {dialect.name}: {error}",
            "Leave out what has such a type, or take the plain statements",
            "statement-dialect",
        ) from error


def _page(routine: Routine) -> Select[Any]:
    """Return the statement for a page, what it tells of the whole as its last column."""
    source = routine.source
    kept = source.select.where(*(_unless_null(one) for one in routine.filters))
    if routine.total:
        rows = build_rows(kept)
        if not kept._distinct:  # a column of a subquery has a name everywhere but here
            rows = rows.with_only_columns(literal_column("1").label("one"))
        rows = rows if routine.cap is None else rows.limit(routine.cap + 1)
        count = select(func.count()).select_from(rows.subquery("counted")).scalar_subquery()
        whole = ordered(replace(source, select=kept.add_columns(count.label(TOTAL))), source.order)
        return whole.limit(_SIZE).offset(_SKIP)
    # Outside of the subquery the order's own columns may not be shown, so they are carried along.
    keys = [key.element.label(f"{KEY}{i}") for i, key in enumerate(source.keys)]
    inside = ordered(replace(source, select=kept.add_columns(*keys)), source.order)
    page = inside.limit(_ONE_MORE).offset(_SKIP).subquery("page")
    own = list(page.c)[: -len(keys)]
    # One row more than the page was fetched, and is cut off outside.
    follow = func.count().over() > literal_column(str(_SIZE))
    more = case((follow, literal_column("1")), else_=literal_column("0")).label(MORE)
    by = order_clauses(source, source.order, [page.c[f"{KEY}{i}"] for i in range(len(keys))])
    return select(*own, more).order_by(*by).limit(_SIZE)


def _unless_null(condition: ColumnElement[bool]) -> ColumnElement[bool]:
    """Return a condition that holds where one of its parameters is NULL."""
    return or_(*(one.is_(None) for one in _taken(condition)), condition)


def _taken(clause: ClauseElement) -> Iterator[BindParameter[Any]]:
    """Yield the parameters that a caller gives."""
    for element in visitors.iterate(clause):
        if isinstance(element, BindParameter) and not element.unique:
            yield element


def _parameters(routine: Routine) -> _Taken:
    """Return the parameters that a caller gives: type, and whether it may be left out.

    Raises ListingError.
    """
    taken: dict[str, tuple[TypeEngine[Any], bool]] = {}
    clauses: tuple[ClauseElement, ...] = (routine.source.select, *routine.filters)
    for clause in clauses:
        for element in _taken(clause):
            if element.expanding:
                raise ListingError(
                    f"the parameter {element.key!r} is a set of values, which no routine can take",
                    "Compare with one value, or join a table of the values",
                    "routine-set",
                )
            # A parameter of the select itself is needed, those of filters are not.
            taken.setdefault(element.key, (element.type, clause is not routine.source.select))
    return taken


def _body(
    statement: Select[Any],
    dialect: Dialect,
    texts: Mapping[str, str],
    mark: str = "p_",
) -> str:
    body = render_sql(statement, dialect, 0)
    # As numbers they went through the compiler, which would quote or bind names.
    for number, name in ((_SIZE, "size"), (_ONE_MORE, "more"), (_SKIP, "skip")):
        body = body.replace(str(number), texts[name])
    return _NAMED.sub(lambda match: f"{mark}{match[1]}", body)


def _write_postgresql(
    routine: Routine, statement: Select[Any], taken: _Taken, dialect: Dialect
) -> str:
    most, usual = _bounds(routine)
    # Brought within bounds, not refused: a routine has no good way to raise for each caller.
    size = f"LEAST(GREATEST(COALESCE(p_size, {usual}), 1), {most})"
    skip = f"(GREATEST(COALESCE(p_page, 1), 1)::bigint - 1) * {size}"
    texts = {"size": size, "more": f"{size} + 1", "skip": skip}
    inputs = ["p_page INTEGER", "p_size INTEGER"]
    inputs += [
        f"p_{key} {_type(kind, dialect)}{' DEFAULT NULL' if optional else ''}"
        for key, (kind, optional) in taken.items()
    ]
    # A function that returns a table names and types its columns, so each needs both.
    quote = dialect.identifier_preparer.quote
    kinds = {MORE: "INTEGER", TOTAL: "BIGINT"}
    columns = ", ".join(
        f"{quote(str(column.key))} {kinds.get(str(column.key)) or _type(column.type, dialect)}"
        for column in statement.selected_columns
    )
    return (
        f"CREATE FUNCTION {routine.name}_page({', '.join(inputs)})\nRETURNS TABLE ({columns})\n"
        "LANGUAGE sql STABLE AS $page$\n"
        f"{_body(statement, dialect, texts)}\n$page$"
    )


def _write_mariadb(
    routine: Routine, statement: Select[Any], taken: _Taken, dialect: Dialect
) -> str:
    most, usual = _bounds(routine)
    texts = {"size": "v_size", "more": "v_more", "skip": "v_skip"}
    inputs = ["IN p_page INTEGER", "IN p_size INTEGER"]
    # Parameters have no defaults there: a caller writes NULL for what is left out.
    inputs += [f"IN p_{key} {_type(kind, dialect)}" for key, (kind, _) in taken.items()]
    return (
        f"CREATE PROCEDURE {routine.name}_page({', '.join(inputs)})\nREADS SQL DATA\nBEGIN\n"
        f"DECLARE v_size INTEGER DEFAULT LEAST(GREATEST(COALESCE(p_size, {usual}), 1), {most});\n"
        # LIMIT takes a variable in a routine, but no expression.
        "DECLARE v_more INTEGER DEFAULT v_size + 1;\n"
        "DECLARE v_skip BIGINT DEFAULT (GREATEST(COALESCE(p_page, 1), 1) - 1) * v_size;\n"
        f"{_body(statement, dialect, texts)};\nEND"
    )


def _write_mssql(routine: Routine, statement: Select[Any], taken: _Taken, dialect: Dialect) -> str:
    most, usual = _bounds(routine)
    texts = {"size": "(@v_size)", "more": "(@v_size + 1)", "skip": "@v_skip"}
    inputs = [
        f"@p_{key} {_type(kind, dialect)}{' = NULL' if optional else ''}"
        for key, (kind, optional) in taken.items()
    ]
    inputs = ["@p_page INT = 1", f"@p_size INT = {usual}", *inputs]
    return (
        f"CREATE PROCEDURE {routine.name}_page {', '.join(inputs)}\nAS\nBEGIN\nSET NOCOUNT ON;\n"
        f"DECLARE @v_size BIGINT = COALESCE(@p_size, {usual});\n"
        f"IF @v_size < 1 SET @v_size = 1;\nIF @v_size > {most} SET @v_size = {most};\n"
        "DECLARE @v_skip BIGINT = COALESCE(@p_page, 1) - 1;\n"
        "IF @v_skip < 0 SET @v_skip = 0;\nSET @v_skip = @v_skip * @v_size;\n"
        f"{_body(statement, dialect, texts, '@p_')};\nEND"
    )


def _write_oracle(routine: Routine, statement: Select[Any], taken: _Taken, dialect: Dialect) -> str:
    most, usual = _bounds(routine)
    texts = {"size": "v_size", "more": "(v_size + 1)", "skip": "v_skip"}
    inputs = ["p_page IN NUMBER", "p_size IN NUMBER"]
    inputs += [
        f"p_{key} IN {_bare(_type(kind, dialect))}{' DEFAULT NULL' if optional else ''}"
        for key, (kind, optional) in taken.items()
    ]
    return (
        f"CREATE PROCEDURE {routine.name}_page ({', '.join(inputs)}, p_rows OUT SYS_REFCURSOR) AS\n"
        f"v_size NUMBER := LEAST(GREATEST(COALESCE(p_size, {usual}), 1), {most});\n"
        "v_skip NUMBER := (GREATEST(COALESCE(p_page, 1), 1) - 1) * v_size;\nBEGIN\n"
        f"OPEN p_rows FOR\n{_body(statement, dialect, texts)};\nEND;"
    )


_WRITERS = {
    "postgresql": _write_postgresql,
    "mariadb": _write_mariadb,
    "mysql": _write_mariadb,
    "mssql": _write_mssql,
    "oracle": _write_oracle,
}


def _bounds(routine: Routine) -> tuple[int, int]:
    """Return the most rows that a page may have, and how many it has unless said."""
    most = routine.sizes.max if routine.sizes.max is not None else _MOST - 1
    return most, routine.sizes.default


def _bare(kind: str) -> str:
    """Return a type without length and precision, which no parameter of Oracle's has."""
    return re.sub(r"\(.*?\)", "", kind)


def _type(kind: TypeEngine[Any], dialect: Dialect) -> str:
    """Return a type as a dialect spells it, whichever engine it was read from."""
    # Read from one engine and written for another: a dialect knows only its own types.
    return portable_type(kind).compile(dialect=dialect)
