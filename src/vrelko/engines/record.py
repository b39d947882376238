"""The record of one engine: a part for each thing that pages, plans and surveys ask of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Engine, Select, Table, event
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import DBAPIError

from vrelko.core.access_path import ExplainedPath
from vrelko.core.capabilities import Capabilities
from vrelko.core.distribution import Distribution
from vrelko.core.index import IndexFacts
from vrelko.core.stored import Stored
from vrelko.engines.anchoring import AnchorEngine
from vrelko.engines.explain import explain
from vrelko.engines.reads import Reads

Names = frozenset[str]
Parts = Mapping[str, str]
Paths = tuple[ExplainedPath | None, ExplainedPath | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class EngineRecord:
    """What Vrelko knows and does of one engine that pages are read from.

    No part has a default: a record without one cannot be made. `dialects` are SQLAlchemy's names
    of it, `drivers` the driver that each short form of a URL means, `driver_module` what
    the extra of the same name installs. `grammar` is what sqlglot calls its SQL;
    `folds_names`: names without quotes are lower-cased.
    """

    name: str
    title: str
    capabilities: Capabilities
    dialects: tuple[str, ...]
    drivers: Mapping[str, str]
    driver_module: str
    url_form: str
    grammar: str
    folds_names: bool

    # What the catalog says of tables.
    read_indexes: Callable[[Any, Table, Dialect], list[IndexFacts]]
    read_columns: Callable[[Any, Table, Dialect], dict[str, Stored]]
    rounds_floats: Callable[[Any], bool]
    sorted_bytes: Callable[[Any], int | None]
    hides_rows: Callable[[Any, Table, Dialect], bool]
    shows_nulls: bool  # whether `shows` tells a column that may hold NULL
    shows: Callable[[Any, Sequence[tuple[int, Any, bool]]], bool | None]
    database_of: Callable[[Any], tuple[Any, ...]]
    schemas_of: Callable[[Any], str]
    read_spread: Callable[[Any, Table, str, Dialect], tuple[float, float]]
    read_distribution: Callable[[Any, Table, str, Dialect], Distribution | None]
    read_kinds: Callable[[Any, Select[Any], Mapping[str, Any]], list[Stored | None]]
    affinity: Callable[[str], str] | None  # how types convert what they are compared with
    find_functions: Callable[[Any, Sequence[str]], tuple[set[str], set[str]]]
    capabilities_for: Callable[[Any, Sequence[Table], Dialect], tuple[Capabilities, bool]]

    # What it says of statements.
    explained: Callable[[Any, Select[Any], Mapping[str, Any]], Any]
    path_in: Callable[[Any, Names, Parts], ExplainedPath | None]
    deferred_in: Callable[[Any, Names, Parts], Paths]
    read_parts: Callable[[Any, str], dict[str, str]]
    estimate_rows: Callable[[Any, Select[Any], Mapping[str, Any], Table | None], int | None]

    # How statements are run.
    limit_time: Callable[[Any, float], AbstractContextManager[None]]
    is_time_limit: Callable[[DBAPIError], bool]
    count_reads: Callable[[Connection, Callable[[], Any]], Reads]
    begin_view: Callable[[Connection, str | None], Connection]
    holds_views: Callable[[Engine], bool]
    writes_beside_views: Callable[[Engine], bool]
    anchors: AnchorEngine
    exports_snapshots: bool
    keeps_history: bool

    # How it is opened.
    check_url: Callable[[Any], None]
    forbid_writes: Callable[[Engine], None]


def explained_rows(lender: Any, statement: Select[Any], params: Mapping[str, Any]) -> Any:
    """Return the rows of an EXPLAIN, of engines that answer with a table."""
    return lender.execute(explain(statement), params).mappings().all()


def no_functions(connection: Any, names: Sequence[str]) -> tuple[set[str], set[str]]:
    """Return that nothing is known of functions, as of engines whose catalog does not tell."""
    return set(), set()


def no_distribution(
    lender: Any, table: Table, column: str, dialect: Dialect
) -> Distribution | None:
    """Return that nothing is known of how values are spread that shares could be told by."""
    return None


def no_parts(lender: Any, table: str) -> dict[str, str]:
    """Return that a table has no partitions with names of their own."""
    return {}


def no_rounding(lender: Any) -> bool:
    """Return that numbers come as they are stored."""
    return False


def hides_nothing(connection: Any, table: Table, dialect: Dialect) -> bool:
    """Return that every user sees the same rows."""
    return False


def sorts_all(lender: Any) -> int | None:
    """Return that sorting looks at all of a value."""
    return None


def any_url(url: Any) -> None:
    """Take any URL: the server itself says what is wrong with it."""


def kinds_of(connection: Any, probe: Select[Any], values: Mapping[str, Any]) -> list[Any]:
    """Return the driver's code for the type of each column of a select that returns no row."""
    # The database itself describes the rows, without sending one.
    result = connection.execute(probe, values)
    description = result.cursor.description if result.cursor is not None else ()
    result.close()
    return [column[1] for column in description]


def forbid_writes_by(statement: str, commits: bool = False) -> Callable[[Engine], None]:
    """Return what makes every transaction of an engine's connections read-only, by a statement."""

    def forbid(engine: Engine) -> None:
        @event.listens_for(engine, "connect")
        def _set(connection: Any, _record: Any) -> None:
            cursor = connection.cursor()
            cursor.execute(statement)
            cursor.close()
            if commits:
                connection.commit()

    return forbid
