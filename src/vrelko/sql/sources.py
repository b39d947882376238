"""What a select reads from: its tables, which may lack rows, and what identifies one row."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Alias, Column, ColumnElement, Table, TableValuedAlias
from sqlalchemy.sql import operators
from sqlalchemy.sql.elements import BinaryExpression, BooleanClauseList, Grouping, Label
from sqlalchemy.sql.selectable import AliasedReturnsRows, FromClause

from vrelko.errors import OrderError


@dataclass(frozen=True, slots=True)
class Sources:
    """The tables of a select: `unique` columns identify one row of it, `optional` ones come from
    the side of an outer join that may be missing.
    """

    tables: tuple[FromClause, ...]
    optional: frozenset[FromClause]
    unique: tuple[Any, ...]


def same(one: Any, other: Any) -> bool:
    """Tell whether two columns or tables are one, whatever the ORM has noted on them.

    SQLAlchemy's annotated copies keep the hash of what they annotate.
    """
    return one is other or hash(one) == hash(other)


def table_name(source: FromClause) -> str:
    """Return the name a table or alias goes by inside its select.

    Anonymous aliases get theirs when they are compiled: they go by their table's here.
    """
    name = str(getattr(source, "name", source))
    # An anonymous alias is a template that the compiler fills in.
    if not name.startswith("%("):
        return name
    base = base_table(source)
    return "rows" if base is None else base.name


def table_names(tables: Sequence[FromClause]) -> list[str]:
    """Return the names of a select's tables, numbered where several go by one."""
    names: list[str] = []
    for name in map(table_name, tables):
        # A table joined with itself has two roles, and readers must tell them apart.
        number = sum(1 for known in names if known.partition("#")[0] == name)
        names.append(f"{name}#{number + 1}" if number else name)
    return names


def base_table(source: FromClause) -> Table | None:
    """Return the table behind an alias, or None where there is no single one.

    The one of the model itself: a mapped class has a copy with notes of its own on it.
    """
    if isinstance(source, Alias):
        return base_table(source.element) if isinstance(source.element, FromClause) else None
    if not isinstance(source, Table):
        return None
    # The table as its metadata has it: keys and indexes that were added later stand there alone.
    own = source.metadata.tables.get(source.key)
    return own if own is not None and same(own, source) else source


def base_name(source: Any) -> str:
    """Return the name of the table behind a source, after its schema's where it has one."""
    table = base_table(source)
    return table_name(source) if table is None else table.fullname


def is_source(source: FromClause) -> bool:
    """Tell whether rows can be paged that come from there."""
    inner = isinstance(source, (AliasedReturnsRows, TableValuedAlias))
    sampled = source.__visit_name__ == "tablesample"
    return not sampled and (inner or base_table(source) is not None)


def conjuncts(clause: Any) -> Iterator[Any]:
    """Yield the parts of a condition that all must hold; BETWEEN as its two bounds."""
    if clause is None:
        return
    if isinstance(clause, Grouping):
        yield from conjuncts(clause.element)
    elif isinstance(clause, BooleanClauseList) and clause.operator is operators.and_:
        for part in clause.clauses:
            yield from conjuncts(part)
    # As its bounds: an index is bounded by each of them.
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


def plain(element: Any) -> Any:
    """Return what stands under labels and brackets."""
    while isinstance(element, (Label, Grouping)):
        element = element.element
    return element


def origins(element: Any) -> tuple[Column[Any], ...]:
    """Return the table columns whose values an expression shows unchanged, none if it computes.

    Through aliases, subqueries and the members of set operations, which may give several.
    """
    element = plain(element)
    # A table's own column shows itself.
    if isinstance(element, Column) and isinstance(element.table, Table):
        return (element,)
    proxied = getattr(element, "_proxies", ())  # no public name tells what a column stands for
    found = [origins(one) for one in proxied]
    return tuple(one for part in found for one in part) if all(found) else ()


def leaves(element: Any) -> tuple[Any, ...]:
    """Return what a column shows: table columns and expressions, one of each member of a UNION."""
    element = plain(element)
    proxied = getattr(element, "_proxies", ())
    if not proxied or (isinstance(element, Column) and isinstance(element.table, Table)):
        return (element,)
    return tuple(one for part in proxied for one in leaves(part))


def own_column(element: Any, table: Table | None) -> Column[Any] | None:
    """Return a table's own column where an expression shows just that, None for any other.

    Through aliases, and whatever a mapped class has noted on it.
    """
    found = origins(element)
    if table is None or len(found) != 1:
        return None
    return next((one for one in table.c if same(one, found[0])), None)


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
