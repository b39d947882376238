"""What surveys ask of an engine: one record an engine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from sqlalchemy import Connection, text

from vrelko.core.facts import TableFacts
from vrelko.engines.mariadb import catalog as mariadb
from vrelko.engines.postgresql import catalog as postgresql
from vrelko.engines.sqlite import catalog as sqlite
from vrelko.surveying import mariadb_tables, postgresql_tables, sqlite_tables
from vrelko.surveying.budget import Budget


@dataclass(frozen=True, slots=True, kw_only=True)
class EngineSurvey:
    """The functions of one engine; none has a default.

    `list_tables` that can be surveyed, `read_server` its version, settings and caches,
    `quoted_name` of a table, `survey_table` its facts (None where there is no such table).
    `read_changes`: updates and deletes per minute as the server counted them, nothing where it
    counts none. `elsewhere`: what to say of a name with a dot in it that is not found, None where
    that names a schema.
    """

    list_tables: Callable[[Connection], Any]
    read_server: Callable[[Connection], dict[str, Any]]
    quoted_name: Callable[[Connection, str], str]
    survey_table: Callable[[Connection, str, Budget, list[str]], TableFacts | None]
    read_changes: Callable[[Connection, str], dict[str, float]]
    elsewhere: str | None


def _no_changes(connection: Connection, table: str) -> dict[str, float]:
    return {}


def _postgresql_changes(connection: Connection, table: str) -> dict[str, float]:
    row = connection.execute(
        text(
            "SELECT s.n_tup_upd, s.n_tup_del, now() - coalesce(d.stats_reset, "
            "pg_postmaster_start_time()) FROM pg_stat_user_tables s, pg_stat_database d "
            "WHERE s.relid = to_regclass(quote_ident(:t)) AND d.datname = current_database()"
        ),
        {"t": table},
    ).first()
    if row is None:
        return {}
    # Counters begin anew when somebody resets them, else when the server starts.
    minutes = max(row[2] / timedelta(minutes=1), 1e-3)
    return {"updates": row[0] / minutes, "deletes": row[1] / minutes}


SURVEYS: dict[str, EngineSurvey] = {
    "sqlite": EngineSurvey(
        list_tables=sqlite.list_tables,
        read_server=sqlite.read_server,
        quoted_name=sqlite.quoted_name,
        survey_table=sqlite_tables.survey_table,
        read_changes=_no_changes,
        elsewhere="Tables of attached databases are served, but surveyed and planned "
        "only in a connection to their own file",
    ),
    "postgresql": EngineSurvey(
        list_tables=postgresql.list_tables,
        read_server=postgresql.read_server,
        quoted_name=postgresql.quoted_name,
        survey_table=postgresql_tables.survey_table,
        read_changes=_postgresql_changes,
        elsewhere=None,
    ),
    "mariadb": EngineSurvey(
        list_tables=mariadb.list_tables,
        read_server=mariadb.read_server,
        quoted_name=mariadb.quoted_name,
        survey_table=mariadb_tables.survey_table,
        read_changes=_no_changes,
        elsewhere=None,
    ),
}
