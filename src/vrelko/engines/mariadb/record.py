"""MariaDB's record."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Select, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.access import Seen
from vrelko.core.capabilities import Capabilities
from vrelko.core.stored import Stored
from vrelko.engines.explain import explain
from vrelko.engines.mariadb import capabilities, plans, session
from vrelko.engines.record import (
    EngineRecord,
    Names,
    Parts,
    Paths,
    any_url,
    kinds_of,
    no_functions,
    no_parts,
)
from vrelko.engines.sessions import forbid_writes_by


def _columns(connection: Any, table: Table, dialect: Dialect) -> dict[str, Stored]:
    return capabilities.read_columns(connection, table)


def _spread(connection: Any, table: Table, column: str, dialect: Dialect) -> tuple[float, float]:
    return capabilities.read_spread(connection, table, column)


def _kinds(connection: Any, probe: Select[Any], values: Mapping[str, Any]) -> list[Stored | None]:
    return capabilities.read_kinds(kinds_of(connection, probe, values))


def _abilities(
    connection: Any, tables: Sequence[Table], dialect: Dialect
) -> tuple[Capabilities, bool]:
    """A table that is spread over servers takes other statements than one that is not."""
    if any(capabilities.is_spread(connection, one) for one in tables):
        return capabilities.SPREAD, True
    return capabilities.CAPABILITIES, False


def _path(
    lender: Any, statement: Select[Any], params: Mapping[str, Any], names: Names, parts: Parts
) -> Seen | None:
    return plans.read_rows(_rows(lender, statement, params), names)


def _deferred(
    lender: Any, statement: Select[Any], params: Mapping[str, Any], names: Names, parts: Parts
) -> Paths:
    return plans.read_deferred(_rows(lender, statement, params), names)


def _rows(lender: Any, statement: Select[Any], params: Mapping[str, Any]) -> Sequence[Any]:
    rows: Sequence[Any] = lender.execute(explain(statement), params).mappings().all()
    return rows


ENGINE = EngineRecord(
    name="mariadb",
    title="MariaDB",
    capabilities=capabilities.CAPABILITIES,
    dialects=("mariadb", "mysql"),
    drivers={"mariadb": "mariadb+pymysql", "mysql": "mysql+pymysql"},
    driver_module="pymysql",
    url_form="mariadb://user@host:3306/name",
    read_indexes=capabilities.read_indexes,
    read_columns=_columns,
    read_spread=_spread,
    read_kinds=_kinds,
    find_functions=no_functions,
    repeats_clock=capabilities.moves_clock,
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
    keeps_history=True,
    check_url=any_url,
    forbid_writes=forbid_writes_by("SET SESSION TRANSACTION READ ONLY"),
)
