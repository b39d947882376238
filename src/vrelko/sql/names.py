"""Finding the columns that an order names."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import BindParameter, Column, ColumnElement, Select, bindparam
from sqlalchemy.exc import CompileError
from sqlalchemy.sql import operators, visitors
from sqlalchemy.sql.elements import Grouping, Label, UnaryExpression

from vrelko.core.order import NullPlace, Order, Term
from vrelko.errors import OrderError, nearest
from vrelko.sql.entities import mapped_composites, mapped_names, order_terms
from vrelko.sql.sources import Sources, plain, same, table_names

_ORDER_MODIFIERS = (operators.desc_op, operators.asc_op)
_NULL_PLACES: dict[Any, NullPlace] = {
    operators.nulls_first_op: "first",
    operators.nulls_last_op: "last",
}


@dataclass(frozen=True)
class Names:
    """The names an order may use for a select, each with the columns it could mean.

    `composites`: names of composite() attributes, each with the columns that it sorts by.
    """

    columns: dict[str, list[ColumnElement[Any]]]
    composites: dict[str, tuple[ColumnElement[Any], ...]] = field(default_factory=dict)

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
            f"{name!r} is not a column of this listing",
            nearest(name, [known for known in self.columns if "." not in known or "." in name]),
            "order-unknown",
        )

    def find_all(self, name: str) -> tuple[ColumnElement[Any], ...]:
        """Return the columns that a name sorts by: several for a composite(). Raises OrderError."""
        if name in self.composites and name not in self.columns:
            return tuple(self.columns[self.known(one)][0] for one in self.composites[name])
        return (self.find(name),)

    def known(self, element: ColumnElement[Any]) -> str:
        """Return the name of an expression, made of its text where it had none."""
        return self.name_of(element) or self.like(element) or self.add(element)

    def add(self, element: ColumnElement[Any], key: str | None = None) -> str:
        """Return the name of an expression that had none; a mapped class's own name is `key`."""
        name = base = key if isinstance(key, str) and key.isidentifier() else _named(element)
        number = 1
        # Two expressions may read alike in letters and digits: numbered, unless they are the same.
        while name in self.columns:
            if self.columns[name][0].compare(element):
                return name
            number += 1
            name = f"{base}_{number}"
        self.columns[name] = [written_out(element)]
        return name

    def name_of(self, column: ColumnElement[Any]) -> str | None:
        """Return the shortest name that means just this column."""
        # A name that means two columns would be no name to come back by.
        fits = [name for name, found in self.columns.items() if len(found) == 1]
        # Without a dot, then shortest, then by the alphabet: one name in every process.
        here = [name for name in fits if same(self.columns[name][0], column)]
        return min(here, key=lambda name: ("." in name, len(name), name), default=None)

    def like(self, element: ColumnElement[Any]) -> str | None:
        """Return the name of an expression that reads the same, None where there is none."""
        fits = (name for name, found in self.columns.items() if len(found) == 1)
        return next((n for n in fits if plain(self.columns[n][0]).compare(plain(element))), None)


def read_names(select: Select[Any], sources: Sources) -> Names:
    """Return the names of a select: selected labels first, then table columns, then dotted ones.

    A name of one entity's attribute means that, whatever else its tables call so.
    """
    selected: dict[str, list[ColumnElement[Any]]] = {}
    for column in select.selected_columns:
        element = _plain(column)
        _add(selected, str(getattr(column, "key", None) or column), element)
    # A plain name may mean columns of several tables; with the table's name ahead it means one.
    inner: dict[str, list[ColumnElement[Any]]] = {}
    for table, name in zip(sources.tables, table_names(sources.tables), strict=True):
        for column in table.c:
            _add(inner, column.key, column)
            _add(inner, f"{name}.{column.key}", column)
    mapped: dict[str, list[ColumnElement[Any]]] = {}
    for name, element in mapped_names(select):
        _add(mapped, name, _counterpart(element, sources))
    # A class may call a column otherwise than its table does; readers know the class.
    for name, elements in mapped.items():
        if len(elements) == 1 or name not in inner:
            inner[name] = elements
    return Names({**inner, **selected}, dict(mapped_composites(select)))


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
        for column in names.find_all(term.name):
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
    terms = [term for clause in clauses for term in order_terms(clause)]
    return Order(tuple(_read_clause(term, names) for term in terms))


def order_by_of(select: Select[Any]) -> tuple[Any, ...]:
    """Return the ORDER BY expressions of a select."""
    return tuple(term for clause in select._order_by_clauses for term in order_terms(clause))


def _read_clause(clause: Any, names: Names) -> Term:
    descending, nulls = False, None
    key = getattr(clause, "key", None)
    if hasattr(clause, "__clause_element__"):  # an attribute of a mapped class
        clause = clause.__clause_element__()
    # desc() and nulls_last() wrap one another in any order.
    while isinstance(clause, UnaryExpression) and clause.modifier is not None:
        if clause.modifier in _NULL_PLACES:
            nulls = _NULL_PLACES[clause.modifier]
        elif clause.modifier in _ORDER_MODIFIERS:
            descending = clause.modifier is operators.desc_op
        clause = clause.element
    reference = getattr(clause, "element", clause) if _is_reference(clause) else clause
    # text("caught_at"), or a label by its name.
    if isinstance(reference, str):
        return Term(reference, descending, nulls)
    name = names.name_of(_plain(reference)) if isinstance(reference, ColumnElement) else None
    if name is None and isinstance(reference, ColumnElement):
        name = names.like(reference) or names.add(reference, key)
    if name is None:
        raise OrderError(
            f"an order cannot be of type {type(clause).__name__}",
            "Give text such as '-caught_at', columns, or expressions of them",
            "order-expression",
        )
    return Term(name, descending, nulls)


def _is_reference(clause: Any) -> bool:
    """Tell whether a clause only points to a label or a column."""
    return isinstance(clause, (Label, Grouping)) or "reference" in clause.__visit_name__


def _named(element: ColumnElement[Any]) -> str:
    """Return a name for an expression, made of its own text: the same in every process."""
    try:
        text = str(element.compile())
    except CompileError:
        text = element.__visit_name__
    # Cursors are bound to it, so it must not depend on addresses or counters.
    return re.sub(r"\W+", "_", text).strip("_").lower()[:60] or "expression"


def written_out(element: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return an expression whose constants stand in its SQL.

    As parameters SQLite matches no index of the expression, and PostgreSQL's generic plans none.
    """

    def write(part: Any, **_: Any) -> Any:
        if isinstance(part, BindParameter) and part.unique and not part.expanding:
            return bindparam(None, part.value, type_=part.type, literal_execute=True)
        return None

    if isinstance(element, (Column, Label)):
        return element
    found: ColumnElement[Any] = visitors.replacement_traverse(element, {}, write)  # type: ignore
    return found


def _plain(column: ColumnElement[Any]) -> ColumnElement[Any]:
    """Return a label's own expression where that is a table column, else the column itself."""
    if isinstance(column, Label) and getattr(column.element, "table", None) is not None:
        return column.element
    return column


def _add(names: dict[str, list[ColumnElement[Any]]], name: str, column: ColumnElement[Any]) -> None:
    found = names.setdefault(name, [])
    if not any(same(known, column) for known in found):
        found.append(column)
