"""Which engines Vrelko serves, and how a database is opened."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from contextlib import contextmanager
from decimal import Decimal
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine
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
from vrelko.engines import text_only
from vrelko.engines.mariadb.record import ENGINE as MARIADB
from vrelko.engines.postgresql.record import ENGINE as POSTGRESQL
from vrelko.engines.record import EngineRecord
from vrelko.engines.sqlite.record import ENGINE as SQLITE
from vrelko.engines.troubles import explain
from vrelko.errors import DatabaseError, nearest
from vrelko.sql.entities import bind_arguments

ENGINES: dict[str, EngineRecord] = {one.name: one for one in (SQLITE, POSTGRESQL, MARIADB)}
"""The engines that pages are read from, by name."""

CAPABILITIES: dict[str, Capabilities] = {
    **{name: one.capabilities for name, one in ENGINES.items()},
    **text_only.CAPABILITIES,
}
"""What each engine can do that statements are written for, by name."""

_BY_DIALECT = {name: one for one in ENGINES.values() for name in one.dialects}


def engine_name(dialect: Dialect | str) -> str:
    """Return an engine's name by its dialect: MySQL and MariaDB are told apart by the server.

    SQLAlchemy's dialect "mysql" is either; before it has connected it is taken for MariaDB, which
    is looked at again by `check_served`. A name by itself is the engine of that name.
    """
    if not isinstance(dialect, Dialect):
        return dialect
    if dialect.name != "mysql":
        return dialect.name
    connected = getattr(dialect, "server_version_info", None)
    return "mysql" if connected and not getattr(dialect, "is_mariadb", False) else "mariadb"


def capabilities_of(dialect: Dialect | str) -> Capabilities:
    """Return what an engine can do, by its dialect or name. Raises DatabaseError."""
    name = engine_name(dialect)
    found = CAPABILITIES.get(name) if isinstance(name, str) else None
    if found is None:
        raise DatabaseError(
            f"the engine {name!r} is not known",
            f"Use one of: {', '.join(sorted(CAPABILITIES))}",
            "engine-unknown",
        )
    return found


def record_of(dialect: Dialect) -> EngineRecord:
    """Return the record of a dialect's engine. Raises DatabaseError where it is not served."""
    check_served(dialect)
    return ENGINES[engine_name(dialect)]


def engine_of(connection: Any, select: Any = None) -> EngineRecord:
    """Return the record of the engine that pages are read from. Raises DatabaseError."""
    return ENGINES[engine_name(dialect_of(connection, select))]


def dialect_named(name: str) -> Dialect:
    """Return a dialect to write statements for, by the engine's name. Raises DatabaseError."""
    capabilities_of(name)
    # Without a driver's name SQLAlchemy would take one that may not be installed.
    url = URL.create("mariadb+pymysql" if name == "mariadb" else name)
    loaded: Dialect = url.get_dialect()()
    if name == "mssql":  # unconnected, SQLAlchemy takes it for a version without OFFSET … FETCH
        loaded._supports_offset_fetch = True  # type: ignore[attr-defined]
    if name == "mysql":  # whose unconnected dialect would be MariaDB's as well
        loaded.server_version_info = text_only.MYSQL_VERSION
    return loaded


def dialect_of(connection: Any, select: Any = None) -> Dialect:
    """Return the dialect of an Engine, Connection or Session that pages are read from.

    A Session may have several databases: `select` tells which one. Raises DatabaseError for what is
    none of these, and for engines that are not served.
    """
    # A Session has no dialect of its own, and may have no single bind either.
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
            f"{type(connection).__name__} is not a SQLAlchemy Engine, Connection or Session",
            "Pass what create_engine(), engine.connect() or a Session factory returns",
            "connection-kind",
        )
    check_served(dialect)
    return dialect


def check_served(dialect: Dialect) -> None:
    """Raise DatabaseError unless pages are read from this engine."""
    name = engine_name(dialect)
    if name == "mysql":
        raise DatabaseError(
            "the server is MySQL, whose plans, counters and time limits were never "
            "verified with Vrelko",
            "Take its statements as text (vrelko sql --dialect mysql), or serve from MariaDB",
            "engine-unserved",
        )
    capabilities_of(name)
    if name not in ENGINES:
        raise _unserved(name)


def record_for(address: str) -> EngineRecord:
    """Return the record of the engine that a URL, or the path of an SQLite file, is for.

    Raises DatabaseError.
    """
    name = read_url(address).get_backend_name()
    if name not in _BY_DIALECT:
        capabilities_of(name)
        raise _unserved(name)
    return _BY_DIALECT[name]


def _unserved(name: str) -> DatabaseError:
    return DatabaseError(
        f"the engine {name!r} is not served",
        f"Use one of: {', '.join(ENGINES)}",
        "engine-unserved",
    )


def open_database(
    address: str, read_only: bool = True, pool: int | None = None, pool_wait_s: float | None = None
) -> Engine:
    """Return an Engine for a URL or the path of an SQLite file, for reading only unless said.

    An SQLite file must exist and be a database: none is ever created here. `pool`: connections held
    at most; `pool_wait_s`: seconds to wait for one of them. A connection that went away meanwhile
    is replaced before it is used. Errors show no parameters. Raises DatabaseError.
    """
    url = read_url(address)
    record = record_for(address)
    record.check_url(url)
    try:
        engine = create_engine(url, **_engine_settings(url, pool, pool_wait_s))
    except ImportError as error:
        raise DatabaseError(
            f"the database needs the driver {error.name!r}, which is not installed",
            f'Install it with: pip install "vrelko[{record.name}]"'
            if error.name == record.driver_module
            else f"Install it, or write the URL as {record.url_form}",
            "driver-missing",
        ) from error
    if read_only:
        record.forbid_writes(engine)
    return engine


def _engine_settings(url: URL, pool: int | None, pool_wait_s: float | None) -> dict[str, Any]:
    settings: dict[str, Any] = {
        "hide_parameters": True,
        "pool_pre_ping": True,
        "json_deserializer": read_json,
    }
    # Its pool takes no size.
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
    # Money in a JSON column must come out as it went in.
    return near if math.isfinite(near) and Decimal(repr(near)) == exact else exact


_USUAL_DRIVERS = {name: full for one in ENGINES.values() for name, full in one.drivers.items()}
"""What a URL without a driver means."""


def read_url(address: str) -> URL:
    """Return the URL of an address, or of the path of an SQLite file. Raises DatabaseError."""
    # A path has no scheme; one with :// in it would be no path that anybody uses.
    if "://" not in address:
        return URL.create("sqlite", database=str(Path(address)))
    try:
        url = make_url(address)
        # What people write without a driver means the one that the extras install.
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
        meant = _BY_DIALECT.get("postgresql" if scheme == "postgres" else scheme)
        forms = [one.url_form for one in ([meant] if meant else ENGINES.values())]
        raise DatabaseError(
            "the database URL cannot be read",
            f"Write it as {' or '.join(forms)}; a port is a number",
            "database-url",
        ) from error
    return url


def database_file(url: URL) -> str | None:
    """Return the path of a database that is a file of its own; None for servers and in memory."""
    path = url.database
    # A URI may name anything, and says by its options how it is opened.
    of_its_own = path not in (None, "", ":memory:") and not str(path).startswith("file:")
    return path if url.get_backend_name() == "sqlite" and of_its_own else None


@contextmanager
def database_errors(doing: str) -> Iterator[None]:
    """Turn what the driver or the connection raises inside the block into a DatabaseError."""
    try:
        yield
    except SQLAlchemyError as error:
        known = explain(error)
        if known is not None:
            raise known from error
        # Mistakes in how SQLAlchemy was used are no failures of the database.
        if not isinstance(error, DBAPIError):
            raise
        raise DatabaseError(
            f"the database refused the {doing}: {error.orig}",
            "Check that the database is whole, and that you may read it",
            "database-refused",
        ) from error
