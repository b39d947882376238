"""What a select reads from: its tables, which may lack rows, and what identifies one row."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Alias, Column, ColumnElement, Join, Select, Table, UniqueConstraint
from sqlalchemy.sql import operators
from sqlalchemy.sql.elements import BinaryExpression, BooleanClauseList, Grouping
from sqlalchemy.sql.selectable import FromClause, Subquery

from vrelko.errors import ListingError, OrderError
from vrelko.sql.entities import plain_froms


@dataclass(frozen=True, slots=True)
class Sources:
    """The tables of a select: `unique` columns identify one row of it, `optional` ones come from
    the side of an outer join that may be missing.
    """

    tables: tuple[FromClause, ...]
    optional: frozenset[FromClause]
    unique: tuple[Any, ...]


def read_sources(select: Select[Any]) -> Sources:
    """Return the tables of a select and the columns proven to identify one of its rows.

    Proof comes from primary keys and unique constraints of base tables alone: a join keeps the
    left key where the right side is matched on a full unique key, else both keys are needed.
    Raises ListingError for tables that prove nothing (`unique` stays empty for those without key).
    """
    tables: list[FromClause] = []
    optional: set[FromClause] = set()
    unique: list[Any] = []
    proven = True
    for source in plain_froms(select):
        _collect(source, False, tables, optional)
        key = _key_of(source)
        proven = proven and bool(key)
        unique.extend(key)
    if not tables:
        raise ListingError(
            "the select reads from no table", "Select columns of a table or join", "select-source"
        )
    return Sources(tuple(tables), frozenset(optional), tuple(unique) if proven else ())


def same(one: Any, other: Any) -> bool:
    """Tell whether two columns or tables are one, whatever the ORM has noted on them.

    SQLAlchemy's annotated copies keep the hash of what they annotate.
    """
    return one is other or hash(one) == hash(other)


def table_name(source: FromClause) -> str:
    """Return the name a table or alias goes by inside its select."""
    return str(getattr(source, "name", source))


def base_table(source: FromClause) -> Table | None:
    """Return the table behind an alias, or None where there is no single one."""
    if isinstance(source, Alias):
        return base_table(source.element) if isinstance(source.element, FromClause) else None
    return source if isinstance(source, Table) else None


def conjuncts(clause: Any) -> Iterator[Any]:
    """Yield the parts of a condition that all must hold; BETWEEN as its two bounds."""
    if clause is None:
        return
    if isinstance(clause, Grouping):
        yield from conjuncts(clause.element)
    elif isinstance(clause, BooleanClauseList) and clause.operator is operators.and_:
        for part in clause.clauses:
            yield from conjuncts(part)
    elif _is_between(clause):
        low, high = clause.right.clauses
        yield clause.left >= low
        yield clause.left <= high
    else:
        yield clause


def _is_between(clause: Any) -> bool:
    return (
        isinstance(clause, BinaryExpression)
        and clause.operator is operators.between_op
        and not clause.modifiers.get("symmetric")
    )


def _collect(
    source: FromClause, missing: bool, tables: list[FromClause], optional: set[FromClause]
) -> None:
    if isinstance(source, Join):
        _collect(source.left, missing or source.full, tables, optional)
        _collect(source.right, missing or source.full or source.isouter, tables, optional)
        return
    if base_table(source) is None and not isinstance(source, Subquery):
        raise ListingError(
            f"the select reads from {table_name(source)!r}, which is no table",
            "Select from tables and joins of tables",
            "select-source",
        )
    tables.append(source)
    if missing:
        optional.add(source)


def _key_of(source: FromClause) -> tuple[Any, ...]:
    if not isinstance(source, Join):
        keys = list(_unique_keys(source))
        return keys[0] if keys else ()
    left, right = _key_of(source.left), _key_of(source.right)
    if left and _matched_on_key(source, source.right):
        return left
    if right and not source.isouter and not source.full and _matched_on_key(source, source.left):
        return right
    return (*left, *right) if left and right else ()


def _matched_on_key(join: Join, side: FromClause) -> bool:
    """Tell whether each row of the other side meets at most one row of `side`."""
    if isinstance(side, Join) or join.full:
        return False
    fixed = set()
    for part in conjuncts(join.onclause):
        if isinstance(part, BinaryExpression) and part.operator is operators.eq:
            for one, other in ((part.left, part.right), (part.right, part.left)):
                elsewhere = not same(getattr(other, "table", None), side)
                if same(getattr(one, "table", None), side) and elsewhere:
                    fixed.add(one)
    return any(fixed.issuperset(key) for key in _unique_keys(side))


def _unique_keys(source: FromClause) -> Iterator[tuple[Any, ...]]:
    """Yield the keys of a table or alias: the primary key, then unique keys without NULLs."""
    table = base_table(source)
    if table is None:
        return
    sets: list[Sequence[Column[Any]]] = []
    if len(table.primary_key.columns):
        sets.append(list(table.primary_key.columns))
    sets.extend(
        list(constraint.columns)
        for constraint in sorted(table.constraints, key=lambda c: str(c.name))
        if isinstance(constraint, UniqueConstraint)
    )
    for columns in sets:
        if all(not column.nullable for column in columns):
            yield tuple(source.c[column.key] for column in columns)


def is_nullable(element: ColumnElement[Any], sources: Sources) -> bool:
    """Tell whether an order term may be NULL; expressions always may."""
    column = getattr(element, "element", element) if not isinstance(element, Column) else element
    table = getattr(column, "table", None)
    nullable = getattr(column, "nullable", True)
    return bool(nullable) or table in sources.optional


def is_row_id(element: ColumnElement[Any]) -> bool:
    """Tell whether a column would be SQLite's row id: a table's only key column, INTEGER."""
    table = base_table(element.table) if isinstance(element, Column) else None
    if table is None or table.dialect_options["sqlite"].get("with_rowid") is False:
        return False
    keys = [column.name for column in table.primary_key.columns]
    if keys != [element.name]:
        return False
    from sqlalchemy.dialects import sqlite

    return bool(element.type.compile(dialect=sqlite.dialect()).upper() == "INTEGER")


def refuse_unsortable(name: str, element: ColumnElement[Any]) -> None:
    """Raise OrderError for types whose order no engine agrees on."""
    kind = element.type.__visit_name__.upper()
    if kind in ("JSON", "JSONB", "ARRAY", "HSTORE"):
        raise OrderError(
            f"{name!r} is of type {kind}, which has no order a page can rely on",
            "Order by a plain column, such as one value taken out of it",
            "order-type",
        )
