"""Set filters: pages over `column IN (…)`, read as one branch a value.

An index on (column, order …) gives the rows of one value in order, but not those of several:
engines then sort all matching rows, or walk the whole order and drop what does not match. A branch
a value, each no longer than the page, reads values × page entries instead. It is worth it for few
values and where that index exists; otherwise the engine chooses.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from typing import Any
from uuid import UUID

from sqlalchemy import (
    BindParameter,
    Column,
    ColumnElement,
    Date,
    DateTime,
    Integer,
    Select,
    String,
    Uuid,
    bindparam,
    select,
    union_all,
)
from sqlalchemy.sql import operators
from sqlalchemy.sql.elements import BinaryExpression, Grouping
from sqlalchemy.types import TypeEngine

from vrelko.sql.entities import plain_froms
from vrelko.sql.indexes import Sought, serves_within
from vrelko.sql.keys import plainly
from vrelko.sql.page_source import Source
from vrelko.sql.parameters import KEY, LIMIT, integer
from vrelko.sql.predicates import order_clauses
from vrelko.sql.sources import conjuncts, same
from vrelko.sql.statements import page_statement, ranges_by_statement

VALUE = "vrelko_in_"


@dataclass(frozen=True)
class SetFilter:
    """A condition `column IN (…)`: `name` is the parameter that holds the list, None where the
    values stand in the select or come from `rows`, a subquery.
    """

    part: Any
    column: Column[Any]
    name: str | None
    values: tuple[Any, ...] = ()
    rows: Select[Any] | None = None

    def tells_apart(self, values: Sequence[Any]) -> bool:
        """Tell whether values that differ in Python differ for the database as well.

        Else a branch a value could bring one row twice: "1" and "01" for a number.
        """
        kinds = (exact for kind, exact in _APART if isinstance(self.column.type, kind))
        wanted = next(kinds, None)
        return wanted is not None and all(type(value) is wanted for value in values)


_APART: tuple[tuple[type[TypeEngine[Any]], type], ...] = (
    (Integer, int), (Uuid, UUID), (DateTime, datetime), (Date, date),
)  # fmt: skip
"""Types of columns with the one type of value that is compared as Python does it."""


def has_set(where: Any) -> bool:
    """Tell whether a condition holds a set filter."""
    return any(_read(part) is not None for part in conjuncts(where))


def find_set(sought: Sought, tables: Sequence[Any]) -> SetFilter | None:
    """Return a set filter whose column leads an index that then serves the order.

    `tables` are those of the select: a subquery that refers to one cannot be read by itself.
    """
    for part in conjuncts(sought.where):
        found = _read(part)
        if found is None or not serves_within(sought, found.column):
            continue
        # A correlated subquery gives other values for each row.
        froms = [] if found.rows is None else plain_froms(found.rows)
        if not any(same(one, table) for one in froms for table in tables):
            return found
    return None


def build_branches(
    source: Source,
    statement: Select[Any],
    unique: Sequence[ColumnElement[Any]],
    among: SetFilter,
    count: int,
    null_keys: Sequence[bool] | None,
    backward: bool,
) -> Select[Any]:
    """Return one statement for a page over `count` values: behind a key, or the first page.

    `null_keys` is None for the first page (the last, when `backward`). Parameters: `vrelko_in_0`,
    …, those of a key, and the limit.
    """
    order = source.order.reversed() if backward else source.order
    groups = ranges_by_statement(source, order, null_keys)
    # Labels of ours, since columns of two tables may have one name.
    names = [f"{KEY}u{i}" for i in range(len(unique))]
    sorts = [f"{KEY}o{i}" for i in range(len(order))]
    columns = [element.label(name) for element, name in zip(unique, names, strict=True)]
    columns += [key.element.label(name) for key, name in zip(source.keys, sorts, strict=True)]
    # Keys only: whole rows of every branch would be fetched to throw most of them away.
    narrow = statement.order_by(None).with_only_columns(*columns, maintain_column_froms=True)
    parts = []
    for value in range(count):
        branch = replace(source, select=_with_value(narrow, among, f"{VALUE}{value}"))
        for group in groups:
            one = page_statement(branch, order, group, null_keys or ())
            parts.append(select(one.subquery()))
    merged = union_all(*parts).subquery("vrelko_set")
    clauses = order_clauses(source, order, [merged.c[name] for name in sorts])
    page = select(*(merged.c[name] for name in names)).order_by(*clauses).limit(integer(LIMIT))
    keys = page.subquery("vrelko_page")
    # The keys that were found tell the rows; the set need not be tested again.
    whole = _with_value(source.select, among, None).where(
        *(plainly(element) == keys.c[name] for element, name in zip(unique, names, strict=True))
    )
    elements = [key.element for key in source.keys]
    return whole.order_by(*order_clauses(source, order, elements))


def value_parameters(values: Sequence[Any]) -> dict[str, Any]:
    """Return the bind parameters that carry the values of a set."""
    return {f"{VALUE}{i}": value for i, value in enumerate(values)}


def _read(part: Any) -> SetFilter | None:
    if not isinstance(part, BinaryExpression) or part.operator is not operators.in_op:
        return None
    column = part.left
    if not isinstance(column, Column) or isinstance(column.type, String):
        return None  # texts that a collation holds equal would each bring the same rows
    right: Any = part.right.element if isinstance(part.right, Grouping) else part.right
    if isinstance(right, BindParameter):
        if not right.unique:
            # Its own values hold where a request gives it none.
            usual = right.value if isinstance(right.value, Iterable) else ()
            return SetFilter(part, column, right.key, tuple(usual))
        return SetFilter(part, column, None, tuple(right.value or ()))
    inner = getattr(right, "element", right)
    if not isinstance(inner, Select) or inner._limit_clause is not None:
        return None
    return SetFilter(part, column, None, rows=inner)


def _with_value(statement: Select[Any], among: SetFilter, name: str | None) -> Select[Any]:
    """Return the statement with the set filter replaced by equality with one value, or left out."""
    # Compared by what it says: the part was found in a copy of the same clause.
    criteria = []
    for criterion in statement._where_criteria:
        for part in conjuncts(criterion):
            if not part.compare(among.part):
                criteria.append(part)
            elif name is not None:
                value = bindparam(name, type_=among.column.type)
                criteria.append(plainly(among.column) == value)
    whole = statement.where()
    whole._where_criteria = tuple(criteria)
    return whole
