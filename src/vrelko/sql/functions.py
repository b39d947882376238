"""What functions among a select's columns do to its rows: some give several, some merge them."""

from __future__ import annotations

from typing import Any

from sqlalchemy import ScalarSelect
from sqlalchemy.sql import visitors
from sqlalchemy.sql.elements import ClauseList, Over, WithinGroup
from sqlalchemy.sql.functions import Function, FunctionElement, GenericFunction

_SEVERAL = frozenset(
    {
        "unnest",
        "generate_series",
        "generate_subscripts",
        "json_array_elements",
        "json_array_elements_text",
        "jsonb_array_elements",
        "jsonb_array_elements_text",
        "json_each",
        "json_each_text",
        "jsonb_each",
        "jsonb_each_text",
        "json_object_keys",
        "jsonb_object_keys",
        "jsonb_path_query",
        "regexp_matches",
        "regexp_split_to_table",
        "string_to_table",
        "json_populate_recordset",
        "jsonb_populate_recordset",
        "json_to_recordset",
        "jsonb_to_recordset",
    }
)
"""Functions of PostgreSQL that give several rows for one."""

_MERGING = frozenset(
    {
        "count",
        "sum",
        "min",
        "max",
        "avg",
        "total",
        "group_concat",
        "string_agg",
        "array_agg",
        "json_agg",
        "jsonb_agg",
        "json_object_agg",
        "jsonb_object_agg",
        "json_arrayagg",
        "json_objectagg",
        "bool_and",
        "bool_or",
        "every",
        "any_value",
        "stddev",
        "stddev_pop",
        "stddev_samp",
        "variance",
        "var_pop",
        "var_samp",
        "bit_and",
        "bit_or",
        "bit_xor",
        "percentile_cont",
        "percentile_disc",
        "mode",
        "json_group_array",
        "json_group_object",
        "corr",
        "covar_pop",
        "covar_samp",
        "regr_slope",
        "regr_count",
        "range_agg",
        "xmlagg",
        "median",
    }
)
"""Functions that merge rows into one, on any engine."""


def multiplies_rows(column: Any) -> bool:
    """Tell whether a column is known to give several rows for one."""
    return bool(_SEVERAL.intersection(_names(column)))


def merges_rows(column: Any) -> bool:
    """Tell whether a column merges rows into one, without a window."""
    # A window keeps its rows, and a subquery merges its own.
    if isinstance(column, (Over, ScalarSelect)):
        return False
    # Ordered sets, such as percentile_cont, merge rows whatever their name.
    if isinstance(column, WithinGroup):
        return True
    if isinstance(column, FunctionElement) and _name(column) in _MERGING:
        return not _is_scalar(column)
    return any(merges_rows(part) for part in column.get_children())


def group_terms(select: Any) -> tuple[Any, ...]:
    """Return the terms that a select groups by, one by one; none where it groups in several ways.

    ROLLUP and the like give rows that share their group's values.
    """
    found: list[Any] = []
    waiting = list(select._group_by_clauses)
    while waiting:
        clause = waiting.pop(0)
        inner = getattr(clause, "element", None) if "reference" in clause.__visit_name__ else None
        if isinstance(inner, str):  # the name of a label
            inner = next((one for one in select.selected_columns if one.key == inner), None)
        if inner is not None:
            waiting.insert(0, inner)
        elif isinstance(clause, ClauseList):
            waiting[:0] = clause.clauses
        else:
            found.append(clause)
    # They give a row for several groupings at once, so their terms tell no row apart.
    several = {"rollup", "cube", "grouping_sets"}
    return () if any(_names(one) & several for one in found) else tuple(found)


def distinct_terms(select: Any) -> tuple[Any, ...]:
    """Return the terms of PostgreSQL's DISTINCT ON, however it was written."""
    # Up to SQLAlchemy 2.0 it stands on the select itself.
    own = tuple(getattr(select, "_distinct_on", ()))
    clause = getattr(select, "_pre_columns_clause", None)  # from SQLAlchemy 2.1 on
    parts = [] if clause is None else list(visitors.iterate(clause))
    return own or tuple(one for part in parts for one in getattr(part, "_distinct_on", ()))


def is_extended(select: Any) -> bool:
    """Tell whether a select has clauses that SQLAlchemy itself does not know."""
    places = getattr(select, "_position_map", {}).values()
    return any(getattr(select, place, None) is not None for place in places)


def own_functions(columns: Any) -> list[str]:
    """Return the names of functions in columns that SQLAlchemy itself knows nothing of."""
    found = {
        _name(element)
        for column in columns
        for element in visitors.iterate(column)
        if isinstance(element, Function) and not isinstance(element, GenericFunction)
    }
    return sorted(found - _MERGING - _SEVERAL)


def _is_scalar(function: Any) -> bool:
    """Tell whether min or max compares several values of one row, as SQLite has it."""
    return _name(function) in ("min", "max") and len(list(function.clauses)) > 1


def _names(column: Any) -> set[str]:
    return {_name(one) for one in visitors.iterate(column) if isinstance(one, FunctionElement)}


def _name(function: Any) -> str:
    return str(getattr(function, "name", "")).lower()
