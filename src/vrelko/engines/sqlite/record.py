"""SQLite's record."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Select, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.access import Seen
from vrelko.core.capabilities import Capabilities
from vrelko.core.index import IndexFacts
from vrelko.core.stored import Stored
from vrelko.engines.explain import explain
from vrelko.engines.record import (
    EngineRecord,
    Names,
    Parts,
    Paths,
    no_functions,
    no_parts,
    no_repeats,
)
from vrelko.engines.sqlite import capabilities, catalog, plans, session


def _indexes(connection: Any, table: Table, dialect: Dialect) -> list[IndexFacts]:
    found = catalog.read_indexes(connection, table.name)
    return [IndexFacts(one.name, one.columns, one.unique, one.partial) for one in found]


def _columns(connection: Any, table: Table, dialect: Dialect) -> dict[str, Stored]:
    return capabilities.read_columns(connection, table)


def _spread(connection: Any, table: Table, column: str, dialect: Dialect) -> tuple[float, float]:
    return catalog.read_spread(connection, table.name, column)


def _kinds(connection: Any, probe: Select[Any], values: Mapping[str, Any]) -> list[Stored | None]:
    return [None] * len(probe.selected_columns)  # each value has a type of its own


def _abilities(
    connection: Any, tables: Sequence[Table], dialect: Dialect
) -> tuple[Capabilities, bool]:
    return capabilities.CAPABILITIES, False


def _path(
    lender: Any, statement: Select[Any], params: Mapping[str, Any], names: Names, parts: Parts
) -> Seen | None:
    return plans.read_lines(_lines(lender, statement, params), names)


def _deferred(
    lender: Any, statement: Select[Any], params: Mapping[str, Any], names: Names, parts: Parts
) -> Paths:
    return plans.read_deferred(_lines(lender, statement, params), names)


def _lines(lender: Any, statement: Select[Any], params: Mapping[str, Any]) -> Sequence[Any]:
    lines: Sequence[Any] = lender.execute(explain(statement), params).mappings().all()
    return lines


def _check_url(url: Any) -> None:
    capabilities.check_file(url.database)


ENGINE = EngineRecord(
    name="sqlite",
    title="SQLite",
    capabilities=capabilities.CAPABILITIES,
    dialects=("sqlite",),
    drivers={},
    driver_module="",
    url_form="sqlite:///path/to/file.db",
    read_indexes=_indexes,
    read_columns=_columns,
    read_spread=_spread,
    read_kinds=_kinds,
    find_functions=no_functions,
    repeats_clock=no_repeats,
    capabilities_for=_abilities,
    read_path=_path,
    read_deferred=_deferred,
    read_parts=no_parts,
    estimate_rows=session.estimate_rows,
    limit_time=session.limit_time,
    is_time_limit=session.is_time_limit,
    count_reads=session.count_reads,
    begin_view=session.begin_view,
    holds_views=session.holds_views,
    exports_snapshots=False,
    keeps_history=False,
    check_url=_check_url,
    forbid_writes=capabilities.forbid_writes,
)
