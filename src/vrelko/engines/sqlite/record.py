"""SQLite's record."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Select, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.access_path import ExplainedPath
from vrelko.core.capabilities import Capabilities
from vrelko.core.index import IndexFacts
from vrelko.core.stored import Stored
from vrelko.engines.record import (
    EngineRecord,
    Names,
    Parts,
    Paths,
    explained_rows,
    hides_nothing,
    no_functions,
    no_parts,
    no_rounding,
    sorts_all,
)
from vrelko.engines.sqlite import capabilities, catalog, plans, session
from vrelko.engines.sqlite.anchors import ANCHORS
from vrelko.engines.sqlite.distribution import read_distribution


def _indexes(connection: Any, table: Table, dialect: Dialect) -> list[IndexFacts]:
    found = catalog.read_indexes(connection, table.name, table.schema or catalog.MAIN)
    return [IndexFacts(one.name, one.columns, one.unique, one.partial) for one in found]


def _kinds(connection: Any, probe: Select[Any], values: Mapping[str, Any]) -> list[Stored | None]:
    return [None] * len(probe.selected_columns)  # each value has a type of its own


def _abilities(
    connection: Any, tables: Sequence[Table], dialect: Dialect
) -> tuple[Capabilities, bool]:
    return capabilities.CAPABILITIES, False


def _path(lines: Any, names: Names, parts: Parts) -> ExplainedPath | None:
    return plans.read_lines(lines, names)


def _deferred(lines: Any, names: Names, parts: Parts) -> Paths:
    return plans.read_deferred(lines, names)


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
    grammar="sqlite",
    folds_names=False,
    read_indexes=_indexes,
    read_columns=capabilities.read_columns,
    sorted_bytes=sorts_all,
    hides_rows=hides_nothing,  # a file has no users
    rounds_floats=no_rounding,
    shows_nulls=False,
    shows=capabilities.shows,
    database_of=capabilities.database_of,
    schemas_of=capabilities.schemas_of,
    read_spread=catalog.read_spread,
    read_distribution=read_distribution,
    read_kinds=_kinds,
    affinity=capabilities.affinity_of,
    find_functions=no_functions,
    capabilities_for=_abilities,
    explained=explained_rows,
    path_in=_path,
    deferred_in=_deferred,
    read_parts=no_parts,
    estimate_rows=session.estimate_rows,
    limit_time=session.limit_time,
    is_time_limit=session.is_time_limit,
    count_reads=session.count_reads,
    begin_view=session.begin_view,
    holds_views=session.holds_views,
    writes_beside_views=session.writes_beside_views,
    anchors=ANCHORS,
    exports_snapshots=False,
    keeps_history=False,
    check_url=_check_url,
    forbid_writes=capabilities.forbid_writes,
)
