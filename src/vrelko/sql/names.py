"""Finding the columns that an order names."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Select
from sqlalchemy.sql import operators
from sqlalchemy.sql.elements import Label, UnaryExpression

from vrelko.core.order import NullPlace, Order, Term
from vrelko.errors import OrderError, nearest
from vrelko.sql.entities import mapped_names
from vrelko.sql.sources import Sources, same, table_name

_ORDER_MODIFIERS = (operators.desc_op, operators.asc_op)
_NULL_PLACES: dict[Any, NullPlace] = {
    operators.nulls_first_op: "first",
    operators.nulls_last_op: "last",
}


@dataclass(frozen=True)
class Names:
    """The names an order may use for a select, each with the columns it could mean."""

    columns: dict[str, list[ColumnElement[Any]]]

    def find(self, name: str) -> ColumnElement[Any]:
        """Return the column a name means. Raises OrderError when unknown or ambiguous."""
        found = self.columns.get(name, [])
        if len(found) == 1:
            return found[0]
        if found:
            dotted = [known for known in self.columns if known.endswith(f".{name}")]
            raise OrderError(
                f"{name!r} could mean {len(found)} columns",
                f"Write one of: {', '.join(dotted)}",
                "order-ambiguous",
            )
        raise OrderError(
            f"{name!r} names no column of this listing",
            nearest(name, [known for known in self.columns if "." not in known or "." in name]),
            "order-unknown",
        )

    def name_of(self, column: ColumnElement[Any]) -> str | None:
        """Return the shortest name that means just this column."""
        fits = [name for name, found in self.columns.items() if len(found) == 1]
        here = [name for name in fits if same(self.columns[name][0], column)]
        return min(here, key=lambda name: ("." in name, len(name), name), default=None)


def read_names(select: Select[Any], sources: Sources) -> Names:
    """Return the names of a select: selected labels first, then table columns, then dotted ones."""
    selected: dict[str, list[ColumnElement[Any]]] = {}
    for column in select.selected_columns:
        element = _plain(column)
        _add(selected, str(getattr(column, "key", None) or column), element)
    inner: dict[str, list[ColumnElement[Any]]] = {}
    for table in sources.tables:
        for column in table.c:
            _add(inner, column.key, column)
            _add(inner, f"{table_name(table)}.{column.key}", column)
    for name, element in mapped_names(select):
        if name not in inner:
            _add(inner, name, _counterpart(element, sources))
    return Names({**inner, **selected})


def _counterpart(element: ColumnElement[Any], sources: Sources) -> ColumnElement[Any]:
    """Return the table column that a mapped attribute stands for, where there is one."""
    for table in sources.tables:
        for column in table.c:
            if same(column, element):
                return column
    return element


def resolve_order(order: Order, names: Names) -> tuple[Order, dict[str, ColumnElement[Any]]]:
    """Return the order under its columns' shortest names, and the columns by those names."""
    columns: dict[str, ColumnElement[Any]] = {}
    terms = []
    for term in order.terms:
        column = names.find(term.name)
        name = names.name_of(column) or term.name
        if name in columns:
            raise OrderError(
                f"the order names {name!r} twice", "Name each column once", "order-syntax"
            )
        columns[name] = column
        terms.append(Term(name, term.descending, term.nulls))
    return Order(tuple(terms)), columns


def read_clauses(clauses: Sequence[Any], names: Names) -> Order:
    """Return the order that SQLAlchemy ORDER BY expressions spell. Raises OrderError."""
    return Order(tuple(_read_clause(clause, names) for clause in clauses))


def order_by_of(select: Select[Any]) -> tuple[Any, ...]:
    """Return the ORDER BY expressions of a select."""
    return tuple(select._order_by_clauses)


def _read_clause(clause: Any, names: Names) -> Term:
    descending, nulls = False, None
    while isinstance(clause, UnaryExpression) and clause.modifier is not None:
        if clause.modifier in _NULL_PLACES:
            nulls = _NULL_PLACES[clause.modifier]
        elif clause.modifier in _ORDER_MODIFIERS:
            descending = clause.modifier is operators.desc_op
        clause = clause.element
    reference = getattr(clause, "element", clause)
    name = names.name_of(_plain(reference)) if isinstance(reference, ColumnElement) else None
    if name is None:
        raise OrderError(
            "an ORDER BY expression is neither selected nor a column of the listing's tables",
            "Select it with .label('name') and order by that name",
            "order-expression",
        )
    return Term(name, descending, nulls)


def _plain(column: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return a label's own expression where that is a table column, else the column itself."""
    if isinstance(column, Label) and getattr(column.element, "table", None) is not None:
        return column.element
    return column


def _add(names: dict[str, list[ColumnElement[Any]]], name: str, column: ColumnElement[Any]) -> None:
    found = names.setdefault(name, [])
    if not any(same(known, column) for known in found):
        found.append(column)
