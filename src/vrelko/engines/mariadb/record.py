"""MariaDB's record."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Select, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.access_path import ExplainedPath
from vrelko.core.capabilities import Capabilities
from vrelko.core.stored import Stored
from vrelko.engines.mariadb import capabilities, plans, session
from vrelko.engines.mariadb.anchors import ANCHORS
from vrelko.engines.record import (
    EngineRecord,
    Names,
    Parts,
    Paths,
    any_url,
    explained_rows,
    forbid_writes_by,
    kinds_of,
    no_distribution,
    no_functions,
    no_parts,
    no_rounding,
)


def _kinds(connection: Any, probe: Select[Any], values: Mapping[str, Any]) -> list[Stored | None]:
    return capabilities.read_kinds(kinds_of(connection, probe, values))


def _abilities(
    connection: Any, tables: Sequence[Table], dialect: Dialect
) -> tuple[Capabilities, bool]:
    """A table that is spread over servers takes other statements than one that is not."""
    if any(capabilities.is_spread(connection, one) for one in tables):
        return capabilities.SPREAD, True
    return capabilities.CAPABILITIES, False


def _path(rows: Any, names: Names, parts: Parts) -> ExplainedPath | None:
    return plans.read_rows(rows, names)


def _deferred(rows: Any, names: Names, parts: Parts) -> Paths:
    return plans.read_deferred(rows, names)


ENGINE = EngineRecord(
    name="mariadb",
    title="MariaDB",
    capabilities=capabilities.CAPABILITIES,
    dialects=("mariadb", "mysql"),
    drivers={"mariadb": "mariadb+pymysql", "mysql": "mysql+pymysql"},
    driver_module="pymysql",
    url_form="mariadb://user@host:3306/name",
    grammar="mysql",
    folds_names=False,
    read_indexes=capabilities.read_indexes,
    read_columns=capabilities.read_columns,
    sorted_bytes=capabilities.sorted_bytes,
    hides_rows=capabilities.hides_rows,
    rounds_floats=no_rounding,
    shows_nulls=True,
    shows=capabilities.shows,
    database_of=capabilities.database_of,
    schemas_of=capabilities.schemas_of,
    read_spread=capabilities.read_spread,
    read_distribution=no_distribution,  # its estimates of ranges are too far off
    read_kinds=_kinds,
    affinity=None,
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
    keeps_history=True,
    check_url=any_url,
    forbid_writes=forbid_writes_by("SET SESSION TRANSACTION READ ONLY"),
)
