"""Which engines Vrelko serves, and how a database is opened."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, Select, Table, create_engine, event
from sqlalchemy.engine import URL, make_url
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import (
    ArgumentError,
    DBAPIError,
    InvalidRequestError,
    NoSuchModuleError,
    SQLAlchemyError,
    UnboundExecutionError,
)

from vrelko.core.capabilities import Capabilities
from vrelko.core.index import IndexFacts
from vrelko.core.stored import Stored
from vrelko.engines import text_only
from vrelko.engines.mariadb import capabilities as mariadb
from vrelko.engines.postgresql import capabilities as postgresql
from vrelko.engines.sqlite import capabilities as sqlite
from vrelko.engines.sqlite import catalog as sqlite_catalog
from vrelko.engines.troubles import explain
from vrelko.errors import DatabaseError, nearest
from vrelko.sql.entities import bind_arguments

CAPABILITIES: dict[str, Capabilities] = {
    "sqlite": sqlite.CAPABILITIES,
    "postgresql": postgresql.CAPABILITIES,
    "mariadb": mariadb.CAPABILITIES,
    "mysql": mariadb.CAPABILITIES,
    "mssql": text_only.MSSQL,
    "oracle": text_only.ORACLE,
}
"""Capabilities by SQLAlchemy dialect name; MariaDB goes by two."""

SERVED = tuple(name for name, one in CAPABILITIES.items() if one.served)


def capabilities_of(dialect: str) -> Capabilities:
    """Return what an engine can do, by its dialect's name. Raises DatabaseError."""
    found = CAPABILITIES.get(dialect) if isinstance(dialect, str) else None
    if found is None:
        raise DatabaseError(
            f"the engine {dialect!r} is not known",
            f"Use one of: {', '.join(sorted(CAPABILITIES))}",
            "engine-unknown",
        )
    return found


def dialect_named(name: str) -> Dialect:
    """Return a dialect to write statements for, by name. Raises DatabaseError."""
    capabilities_of(name)
    url = URL.create("mariadb+pymysql" if name == "mariadb" else name)
    loaded: Dialect = url.get_dialect()()
    if name == "mssql":  # unconnected, SQLAlchemy takes it for a version without OFFSET … FETCH
        loaded._supports_offset_fetch = True  # type: ignore[attr-defined]
    return loaded


def dialect_of(connection: Any, select: Any = None) -> Dialect:
    """Return the dialect of an Engine, Connection or Session that pages are read from.

    A Session may have several databases: `select` tells which one. Raises DatabaseError for what is
    none of these, and for engines that are not served.
    """
    holder = connection if hasattr(connection, "dialect") else getattr(connection, "bind", None)
    dialect = getattr(holder, "dialect", None)
    if dialect is None and hasattr(connection, "get_bind"):
        try:
            bind = connection.get_bind(**({} if select is None else bind_arguments(select)))
        except (UnboundExecutionError, InvalidRequestError) as error:
            raise DatabaseError(
                "the Session has no database for this listing",
                "Give it bind=engine, or binds={Entity: engine} with each entity of the select",
                "connection-unbound",
            ) from error
        dialect = bind.dialect
    if not isinstance(dialect, Dialect):
        raise DatabaseError(
            f"{type(connection).__name__} is no SQLAlchemy Engine, Connection or Session",
            "Pass what create_engine(), engine.connect() or a Session factory returns",
            "connection-kind",
        )
    check_served(dialect)
    return dialect


def check_served(dialect: Dialect) -> None:
    """Raise DatabaseError unless pages are read from this engine."""
    known = capabilities_of(dialect.name)
    version = getattr(dialect, "server_version_info", None)
    foreign = dialect.name == "mysql" and version and not getattr(dialect, "is_mariadb", False)
    if foreign or not known.served:
        raise _unserved("MySQL" if foreign else dialect.name)


def _unserved(name: str) -> DatabaseError:
    return DatabaseError(
        f"the engine {name!r} is not served",
        f"Use one of: {', '.join(SERVED[:3])}",
        "engine-unserved",
    )


def needs_bound(connection: Any, table: Table, dialect: Dialect) -> bool:
    """Tell whether a bound beside a row value spares partitions or rows of another server."""
    if not capabilities_of(dialect.name).bound_prunes:
        return False
    return postgresql.needs_bound(connection, table, dialect)


def capabilities_for(
    connection: Any, tables: Sequence[Table], dialect: Dialect
) -> tuple[Capabilities, bool]:
    """Return what an engine can do with these tables, and whether row values need a bound there.

    A table of MariaDB spread over servers takes other statements than one that is not.
    """
    usual = capabilities_of(dialect.name)
    if usual.engine == "mariadb" and any(mariadb.is_spread(connection, one) for one in tables):
        return mariadb.SPREAD, True
    return usual, any(needs_bound(connection, one, dialect) for one in tables)


def read_indexes(connection: Any, table: Table, dialect: Dialect) -> list[IndexFacts]:
    """Return a table's indexes, as far as page statements depend on them."""
    if dialect.name == "postgresql":
        return postgresql.read_indexes(connection, table, dialect)
    if dialect.name in ("mariadb", "mysql"):
        return mariadb.read_indexes(connection, table, dialect)
    found = sqlite_catalog.read_indexes(connection, table.name)
    return [IndexFacts(one.name, one.columns, one.unique, one.partial) for one in found]


def read_columns(connection: Any, table: Table, dialect: Dialect) -> dict[str, Stored]:
    """Return a table's columns by name, as the database has them."""
    return _COLUMNS[capabilities_of(dialect.name).engine](connection, table, dialect)


_COLUMNS: dict[str, Callable[[Any, Table, Dialect], dict[str, Stored]]] = {
    "sqlite": lambda connection, table, _: sqlite.read_columns(connection, table),
    "postgresql": postgresql.read_columns,
    "mariadb": lambda connection, table, _: mariadb.read_columns(connection, table),
}


def read_spread(
    connection: Any, table: Table, column: str, dialect: Dialect
) -> tuple[float, float]:
    """Return about the rows of a table and the distinct values of a column, 0 where not known.

    As statistics have them: nothing is counted.
    """
    return _SPREADS[capabilities_of(dialect.name).engine](connection, table, column, dialect)


_SPREADS: dict[str, Callable[[Any, Table, str, Dialect], tuple[float, float]]] = {
    "sqlite": lambda connection, table, column, _: sqlite_catalog.read_spread(
        connection, table.name, column
    ),
    "postgresql": postgresql.read_spread,
    "mariadb": lambda connection, table, column, _: mariadb.read_spread(connection, table, column),
}


def read_kinds(
    connection: Any, probe: Select[Any], values: Mapping[str, Any], dialect: Dialect
) -> list[Stored | None]:
    """Return the types that a select's columns have for the server, None where it does not tell.

    `probe` returns no row. SQLite tells none: there each value has a type of its own.
    """
    engine = capabilities_of(dialect.name).engine
    if engine == "sqlite":
        return [None] * len(probe.selected_columns)
    result = connection.execute(probe, values)
    description = result.cursor.description if result.cursor is not None else ()
    result.close()
    codes = [column[1] for column in description]
    if engine == "postgresql":
        return postgresql.read_kinds(connection, codes)
    return mariadb.read_kinds(codes)


def find_functions(
    connection: Any, names: Sequence[str], dialect: Dialect
) -> tuple[set[str], set[str]]:
    """Return which of these functions give several rows for one, and which differ at each call.

    PostgreSQL's catalog alone tells.
    """
    if capabilities_of(dialect.name).engine != "postgresql" or not names:
        return set(), set()
    return postgresql.find_functions(connection, names)


def open_database(
    address: str, read_only: bool = True, pool: int | None = None, pool_wait_s: float | None = None
) -> Engine:
    """Return an Engine for a URL or the path of an SQLite file, for reading only unless said.

    An SQLite file must exist and be a database: none is ever created here. `pool`: connections held
    at most; `pool_wait_s`: seconds to wait for one of them. A connection that went away meanwhile
    is replaced before it is used. Errors show no parameters. Raises DatabaseError.
    """
    url = _read_url(address)
    if not capabilities_of(url.get_backend_name()).served:
        raise _unserved(url.get_backend_name())
    if url.get_backend_name() == "sqlite":
        sqlite.check_file(url.database)
    try:
        engine = create_engine(url, **_engine_settings(url, pool, pool_wait_s))
    except ImportError as error:
        extra = capabilities_of(url.get_backend_name()).engine
        raise DatabaseError(
            f"the database needs the driver {error.name!r}, which is not installed",
            f'Install it with: pip install "vrelko[{extra}]"'
            if error.name in _DRIVERS
            else f"Install it, or write the URL as {_URLS[extra]}",
            "driver-missing",
        ) from error
    if not read_only:
        return engine
    if url.get_backend_name() == "sqlite":
        sqlite.forbid_writes(engine)
    else:
        _forbid_writes(engine)
    return engine


def _engine_settings(url: URL, pool: int | None, pool_wait_s: float | None) -> dict[str, Any]:
    settings: dict[str, Any] = {"hide_parameters": True, "pool_pre_ping": True,
                                "json_deserializer": read_json}  # fmt: skip
    if url.get_backend_name() == "sqlite" and url.database in (None, "", ":memory:"):
        return settings  # one connection a thread
    if pool is not None:
        settings |= {"pool_size": pool, "max_overflow": 0}
    if pool_wait_s is not None:
        settings["pool_timeout"] = pool_wait_s
    return settings


def read_json(text: str | bytes) -> Any:
    """Return the data of a JSON text; a number that a float would round stays a Decimal."""
    return json.loads(text, parse_float=_exact_number)


def _exact_number(text: str) -> float | Decimal:
    exact, near = Decimal(text), float(text)
    return near if math.isfinite(near) and Decimal(repr(near)) == exact else exact


_DRIVERS = ("psycopg", "pymysql")
"""The drivers that the extras of their engines install."""

_USUAL_DRIVERS = {
    "postgresql": "postgresql+psycopg",
    "postgres": "postgresql+psycopg",
    "mysql": "mysql+pymysql",
    "mariadb": "mariadb+pymysql",
}
"""What a URL without a driver means."""

_URLS = {
    "sqlite": "sqlite:///path/to/file.db",
    "postgresql": "postgresql://user@host:5432/name",
    "mariadb": "mariadb://user@host:3306/name",
}

_READ_ONLY = {
    "postgresql": "SET default_transaction_read_only = on",
    "mysql": "SET SESSION TRANSACTION READ ONLY",
    "mariadb": "SET SESSION TRANSACTION READ ONLY",
}


def _forbid_writes(engine: Engine) -> None:
    """Make every transaction of an engine's connections read-only."""

    @event.listens_for(engine, "connect")
    def _set(connection: Any, _record: Any) -> None:
        cursor = connection.cursor()
        cursor.execute(_READ_ONLY[engine.dialect.name])
        cursor.close()
        if engine.dialect.name == "postgresql":
            connection.commit()


def _read_url(address: str) -> URL:
    if "://" not in address:
        return URL.create("sqlite", database=str(Path(address)))
    try:
        url = make_url(address)
        usual = _USUAL_DRIVERS.get(url.drivername)
        url = url if usual is None else url.set(drivername=usual)
        url.get_dialect()
    except NoSuchModuleError as error:
        scheme = address.partition(":")[0]
        raise DatabaseError(
            f"the database URL names an engine {scheme!r} that SQLAlchemy does not know",
            nearest(scheme, CAPABILITIES),
            "database-url",
        ) from error
    except (ArgumentError, ValueError, ImportError) as error:
        scheme = address.partition(":")[0].partition("+")[0]
        known = _URLS.get({"mysql": "mariadb", "postgres": "postgresql"}.get(scheme, scheme))
        raise DatabaseError(
            "the database URL cannot be read",
            f"Write it as {known or ' or '.join(_URLS.values())}; a port is a number",
            "database-url",
        ) from error
    return url


@contextmanager
def database_errors(doing: str) -> Iterator[None]:
    """Turn what the driver or the connection raises inside the block into a DatabaseError."""
    try:
        yield
    except SQLAlchemyError as error:
        known = explain(error)
        if known is not None:
            raise known from error
        if not isinstance(error, DBAPIError):
            raise
        raise DatabaseError(
            f"the database refused the {doing}: {error.orig}",
            "Check that the database is whole, and that you may read it",
            "database-refused",
        ) from error
