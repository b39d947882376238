"""PostgreSQL's record."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Select, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.capabilities import Capabilities
from vrelko.core.stored import Stored
from vrelko.engines.explain import explain, plan_in
from vrelko.engines.postgresql import capabilities, catalog, plans, session
from vrelko.engines.postgresql.anchors import ANCHORS
from vrelko.engines.postgresql.distribution import read_distribution
from vrelko.engines.record import (
    EngineRecord,
    any_url,
    forbid_writes_by,
    kinds_of,
    sorts_all,
)


def _kinds(connection: Any, probe: Select[Any], values: Mapping[str, Any]) -> list[Stored | None]:
    return capabilities.read_kinds(connection, kinds_of(connection, probe, values))


def _abilities(
    connection: Any, tables: Sequence[Table], dialect: Dialect
) -> tuple[Capabilities, bool]:
    bound = any(capabilities.needs_bound(connection, one, dialect) for one in tables)
    return capabilities.CAPABILITIES, bound


def _plan(lender: Any, statement: Select[Any], params: Mapping[str, Any]) -> Mapping[str, Any]:
    return plan_in(lender.execute(explain(statement), params).scalar())


ENGINE = EngineRecord(
    name="postgresql",
    title="PostgreSQL",
    capabilities=capabilities.CAPABILITIES,
    dialects=("postgresql",),
    drivers={"postgresql": "postgresql+psycopg", "postgres": "postgresql+psycopg"},
    driver_module="psycopg",
    url_form="postgresql://user@host:5432/name",
    grammar="postgres",
    folds_names=True,
    read_indexes=capabilities.read_indexes,
    read_columns=capabilities.read_columns,
    sorted_bytes=sorts_all,
    hides_rows=capabilities.hides_rows,
    rounds_floats=capabilities.rounds_floats,
    shows_nulls=False,
    shows=capabilities.shows,
    database_of=capabilities.database_of,
    schemas_of=capabilities.schemas_of,
    read_spread=capabilities.read_spread,
    read_distribution=read_distribution,
    read_kinds=_kinds,
    affinity=None,
    find_functions=capabilities.find_functions,
    capabilities_for=_abilities,
    explained=_plan,
    path_in=plans.read_plan,
    deferred_in=plans.read_deferred,
    read_parts=catalog.read_parts,
    estimate_rows=session.estimate_rows,
    limit_time=session.limit_time,
    is_time_limit=session.is_time_limit,
    count_reads=session.count_reads,
    begin_view=session.begin_view,
    holds_views=session.holds_views,
    writes_beside_views=session.writes_beside_views,
    anchors=ANCHORS,
    exports_snapshots=True,
    keeps_history=False,
    check_url=any_url,
    forbid_writes=forbid_writes_by("SET default_transaction_read_only = on", commits=True),
)
