"""What a select and its orders say of a listing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Column, ColumnElement, Select, Table
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import CompileError
from sqlalchemy.sql import visitors

from vrelko.core.order import Order, parse_order
from vrelko.core.outline import Outline
from vrelko.errors import OrderError
from vrelko.sql.conditions import read_conditions
from vrelko.sql.entities import mapped_columns, whole_entities
from vrelko.sql.names import Names, order_by_of, read_clauses, read_names, resolve_order
from vrelko.sql.proofs import is_nullable
from vrelko.sql.search import Search
from vrelko.sql.select_kinds import Shape, refuse_term, shape_of
from vrelko.sql.sources import (
    Sources,
    base_name,
    plain,
    refuse_unsortable,
    same,
    table_name,
    table_names,
)


@dataclass(frozen=True, kw_only=True)
class Described:
    """A select with its orders resolved.

    `given` are the orders as the caller wrote them, `orders` the same under canonical names,
    `columns` what each name stands for, `unique` names that identify a row, `nullable` names that
    may be NULL, `positions` the expression at each position of a row, None for an entity.
    """

    select: Select[Any]
    given: tuple[Order, ...]
    orders: tuple[Order, ...]
    columns: dict[str, ColumnElement[Any]]
    unique: tuple[str, ...]
    nullable: frozenset[str]
    sources: Sources
    positions: tuple[Any, ...]
    wrapped: bool = False
    merged: bool = False
    searched: tuple[Any, ...] = ()
    search_orders: int = 0

    @property
    def table_names(self) -> tuple[str, ...]:
        """The names of the tables that the select reads, as it calls them."""
        return tuple(table_names(self.sources.tables))


def describe_select(
    select: Any,
    orders: str | Sequence[Any] | None,
    unique: Sequence[str] | None,
    search: Search | None = None,
) -> Described:
    """Read a select and its allowed orders. Raises ListingError and OrderError."""
    # What cannot take a WHERE of ours is put into a subquery first.
    shape = shape_of(select)
    names = read_names(shape.select, shape.sources)
    own = shape.own
    if shape.wrapped and orders:  # the select chooses rows by its own order, which are sorted anew
        own = ()
    elif shape.wrapped and not own and order_by_of(select):
        raise OrderError(
            f"the select's own order, {', '.join(map(str, order_by_of(select)))!r}, names what its "
            "rows do not show",
            "Show it, or name the order with orders=",
            "order-merged",
        )
    given = _read_orders(own, orders, names)
    if search is not None:
        given = (*given, *(parse_order(one) for one in search.orders))
        searched = tuple(names.find(one) if isinstance(one, str) else one for one in search.columns)
    else:
        searched = ()
    columns: dict[str, ColumnElement[Any]] = {}
    resolved = []
    for order in given:
        canonical, found = resolve_order(order, names)
        resolved.append(canonical)
        columns.update(found)
    # DISTINCT and GROUP BY merge rows: what they do not show has no one value per row.
    if shape.closed:
        _refuse_unselected(columns, shape)
    # It may add columns that no order names: a cursor needs them.
    key = _unique_names(shape.unique, names, unique, columns)
    for name, element in columns.items():
        refuse_unsortable(name, element)
    nullable = frozenset(
        name for name, element in columns.items() if is_nullable(element, shape.sources)
    )
    positions = tuple(_position(entry) for entry in shape.select.column_descriptions)
    return Described(
        select=shape.select,
        given=given,
        orders=tuple(resolved),
        columns=columns,
        unique=key,
        nullable=nullable,
        sources=shape.sources,
        positions=positions,
        wrapped=shape.wrapped,
        merged=bool(shape.closed),
        searched=searched,
        search_orders=0 if search is None else len(search.orders),
    )


def _refuse_unselected(columns: Mapping[str, ColumnElement[Any]], shape: Shape) -> None:
    """Raise OrderError for orders by columns that DISTINCT or GROUP BY has merged."""
    shown = list(shape.select.selected_columns)
    known = [*map(plain, shown), *shown, *shape.unique]
    for name, element in columns.items():
        if not any(same(element, one) or element.compare(one) for one in known):
            raise OrderError(
                f"the order names {name!r}, which {shape.closed} leaves without one value per row",
                "Order by what the select shows",
                "order-merged",
            )


def _position(entry: Mapping[str, Any]) -> Any:
    """Return the expression that stands at one position of a row, None for a whole entity."""
    expression = entry["expr"]
    if isinstance(expression, ColumnElement):
        return expression
    made = getattr(expression, "__clause_element__", None)
    clause = made() if made is not None and not isinstance(expression, type) else None
    return clause if isinstance(clause, ColumnElement) else None


def hidden_names(described: Described) -> list[str]:
    """Return the names of order and key columns that a row of the select does not show."""
    shown = [one for one in described.positions if one is not None]
    # A label and the column that it names are one value.
    shown += [getattr(one, "element", one) for one in shown]
    for entity in whole_entities(described.select):
        shown += mapped_columns(entity)
    used = {*described.unique, *(name for order in described.orders for name in order.names)}
    return sorted(
        name for name in used if not any(same(described.columns[name], one) for one in shown)
    )


def outline_of(
    described: Described,
    orders: Sequence[Order],
    where: Any,
    settings: Mapping[str, Any],
    dialect: Dialect,
) -> Outline:
    """Return the pure description of a listing; `settings` are the Outline's other fields."""
    tables = [base_name(table) for table in described.sources.tables]
    opaque = ""
    if described.wrapped or described.merged:
        opaque = "a subquery" if described.wrapped else "DISTINCT or GROUP BY"
        # What a subquery hides is still read: survey and findings need the tables behind it.
        inside = [one for one in visitors.iterate(described.select) if isinstance(one, Table)]
        tables = list(dict.fromkeys(one.fullname for one in inside)) or tables
    columns: list[tuple[str, str]] = []
    for column in described.select.selected_columns:
        plain = getattr(column, "element", column)
        table = getattr(plain, "table", None)
        name = str(plain.name) if table is not None else str(column.key)
        columns.append((base_name(table) if table is not None else "", name))
    return Outline(
        tables=tuple(tables),
        columns=tuple(columns),
        conditions=read_conditions(where),
        orders=tuple(_with_column_names(order, described, tables[0]) for order in orders),
        given=tuple(len(order) for order in described.orders[: len(orders)]),
        opaque=opaque,
        computed={} if opaque else _computed(described, dialect),
        **settings,
    )


def _computed(described: Described, dialect: Dialect) -> dict[str, str]:
    """Return the SQL of the orders' expressions over the first table, its columns by bare names."""
    found = {}
    first = described.sources.tables[0]
    for name in {name for order in described.orders for name in order.names}:
        element = plain(described.columns[name])
        columns = [one for one in visitors.iterate(element) if isinstance(one, Column)]
        # Only an expression over the paged table alone can have an index there.
        mine = columns and all(same(one.table, first) for one in columns)
        if isinstance(element, Column) or not mine:
            continue
        try:
            text = str(element.compile(dialect=dialect, compile_kwargs={"literal_binds": True}))
        except (CompileError, NotImplementedError):  # a value that cannot be written out
            continue
        # An index's expression names columns without their table.
        quoted = dialect.identifier_preparer.quote(table_name(first))
        found[name] = text.replace(f"{quoted}.", "")
    return found


def _with_column_names(order: Order, described: Described, first: str) -> Order:
    """Return the order with bare column names for the first table, dotted ones for others."""
    terms = []
    for term in order.terms:
        column = described.columns[term.name]
        table = getattr(column, "table", None)
        name = term.name
        if isinstance(column, Column) and table is not None:
            # Two columns of one name in a join: the plan tells them apart by their tables.
            base = base_name(table)
            name = column.name if base == first else f"{base}.{column.name}"
        terms.append(replace(term, name=name))
    return Order(tuple(terms))


def _read_orders(
    own: Sequence[Any], orders: str | Sequence[Any] | None, names: Names
) -> tuple[Order, ...]:
    if orders is None or (isinstance(orders, (list, tuple)) and not orders):
        return (read_clauses(own, names),) if own else (Order(()),)
    if own:
        raise OrderError(
            "the order is given twice: as ORDER BY in the select, and as orders=",
            "Keep one of them",
            "order-twice",
        )
    several = list(orders) if isinstance(orders, (list, tuple)) else [orders]
    for one in several:
        # Refused here, where the caller's own clause can be named, before orders are resolved.
        for clause in _listed(one):
            if not isinstance(clause, str):
                refuse_term(clause)
    return tuple(
        parse_order(one) if isinstance(one, str) else read_clauses(_listed(one), names)
        for one in several
    )


def _listed(one: Any) -> Sequence[Any]:
    return one if isinstance(one, (list, tuple)) else (one,)


def _unique_names(
    proven: Sequence[Any],
    names: Names,
    given: Sequence[str] | None,
    columns: dict[str, ColumnElement[Any]],
) -> tuple[str, ...]:
    """Return the names of the columns that identify a row, adding them to `columns`."""
    elements = proven if given is None else tuple(names.find(name) for name in given)
    if not elements:
        raise OrderError(
            "rows of this listing have no primary key or unique constraint",
            "Add one, or name the identifying columns with unique=[…]",
            "order-unproven",
        )
    found = []
    for element in elements:
        name = names.name_of(element)
        if name is None and isinstance(plain(element), Column):
            raise OrderError(
                "a key column of this listing has no name of its own",
                "Name columns that identify a row with unique=[…]",
                "order-unproven",
            )
        if name is None:  # such as an expression of GROUP BY, which may be shown under a label
            name = names.like(element) or names.add(element)
            element = names.find(name)
        columns.setdefault(name, element)
        found.append(name)
    return tuple(found)
