"""Reading conditions: which columns a listing fixes, which it only narrows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from sqlalchemy import BindParameter, Column, Table
from sqlalchemy.sql import operators, visitors
from sqlalchemy.sql.elements import BinaryExpression
from sqlalchemy.types import NullType, TypeEngine

from vrelko.core.outline import Condition, ConditionKind
from vrelko.sql.entities import plain_froms
from vrelko.sql.sources import base_name, conjuncts

_KINDS: dict[Any, ConditionKind] = {
    operators.eq: "equal",
    operators.in_op: "in",
    operators.lt: "range",
    operators.le: "range",
    operators.gt: "range",
    operators.ge: "range",
}

_SIGNS: dict[Any, str] = {
    operators.lt: "<",
    operators.le: "<=",
    operators.gt: ">",
    operators.ge: ">=",
}
_TURNED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}


def read_conditions(clause: Any) -> tuple[Condition, ...]:
    """Return the conditions of a WHERE clause; what cannot be read is of kind "other"."""
    return tuple(_read(part) for part in conjuncts(clause))


def bound_parameters(clause: Any) -> dict[str, bool]:
    """Return the names of the parameters a clause takes, and whether each must be given."""
    if clause is None:
        return {}
    return {
        element.key: bool(element.required)
        for element in visitors.iterate(clause)
        if isinstance(element, BindParameter) and not element.unique
    }


def parameter_types(clause: Any) -> dict[str, tuple[TypeEngine[Any], bool]]:
    """Return the type of each parameter of a clause, and whether it takes several values."""
    if clause is None:
        return {}
    found: dict[str, tuple[TypeEngine[Any], bool]] = {}
    for element in visitors.iterate(clause):
        # Anonymous parameters are constants that SQLAlchemy numbered: nobody gives them.
        if isinstance(element, BindParameter) and not element.unique:
            # The first place that says a type wins: later ones may compare with an untyped
            # expression.
            known = found.get(element.key)
            if known is None or isinstance(known[0], NullType):
                found[element.key] = element.type, bool(element.expanding)
    return found


def read_literals(
    select: Any, bare: Any, elements: Sequence[Any]
) -> Iterator[tuple[str | None, Any]]:
    """Yield the values that stand in a select's conditions and order, with the columns there.

    `bare` is the select without optional filters, which reads from the same places.
    Columns come as (name, None), values as (None, value); what is shown does not count. None at
    all where there are no values.
    """
    clauses = [*getattr(select, "_where_criteria", ()), *getattr(select, "_having_criteria", ())]
    if hasattr(bare, "get_final_froms"):
        # Values in a joined subquery decide which rows there are, too.
        clauses += [one for one in plain_froms(bare) if not isinstance(one, Table)]
    clauses += [one for one in elements if not isinstance(one, Column)]
    found: list[tuple[str | None, Any]] = []
    for clause in clauses:
        for element in visitors.iterate(clause):
            if isinstance(element, BindParameter) and (element.unique or element.literal_execute):
                found.append((None, element.value))
            elif isinstance(element, Column):
                found.append((str(element.name), None))
    if any(name is None for name, _ in found):
        yield from found


def _read(part: Any) -> Condition:
    if isinstance(part, BinaryExpression):
        kind = _KINDS.get(part.operator)
        # People write either side first.
        for column, value in ((part.left, part.right), (part.right, part.left)):
            if kind and isinstance(column, Column) and isinstance(value, BindParameter):
                table = _table_of(column)
                given = None if value.required else value.value
                parameter = None if value.unique else value.key
                sign = _SIGNS.get(part.operator, "")
                # 5 < x says the same as x > 5.
                sign = sign if column is part.left else _TURNED.get(sign, "")
                return Condition(
                    table=table,
                    column=column.name,
                    kind=kind,
                    parameter=parameter,
                    value=given,
                    sign=sign,
                )
        if part.operator is operators.is_ and isinstance(part.left, Column):
            table = _table_of(part.left)
            return Condition(table, part.left.name, "null", None, None)
    # What cannot be read still names its columns, for the finding that says so.
    columns = {element.name for element in visitors.iterate(part) if isinstance(element, Column)}
    return Condition("", ", ".join(sorted(columns)), "other", None, None)


def _table_of(column: Any) -> str:
    """Return the name of the table that a column is of, aliases apart; empty where of none."""
    source = getattr(column, "table", None)
    return "" if source is None else base_name(source)
