"""Which engines Vrelko serves, and how a database is opened."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, Table, create_engine, event
from sqlalchemy.engine import URL, make_url
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError

from vrelko.core.capabilities import Capabilities
from vrelko.core.index import IndexFacts
from vrelko.engines import compiled, mariadb, postgresql, sqlite, sqlite_catalog
from vrelko.errors import DatabaseError, nearest

CAPABILITIES: dict[str, Capabilities] = {
    "sqlite": sqlite.CAPABILITIES,
    "postgresql": postgresql.CAPABILITIES,
    "mariadb": mariadb.CAPABILITIES,
    "mysql": mariadb.CAPABILITIES,
    "mssql": compiled.MSSQL,
    "oracle": compiled.ORACLE,
}
"""Capabilities by SQLAlchemy dialect name; MariaDB goes by two."""

SERVED = tuple(name for name, one in CAPABILITIES.items() if one.served)


def capabilities_of(dialect: str) -> Capabilities:
    """Return what an engine can do, by its dialect's name. Raises DatabaseError."""
    found = CAPABILITIES.get(dialect)
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


def dialect_of(connection: Any) -> Dialect:
    """Return the dialect of an Engine, Connection or Session that pages are read from.

    Raises DatabaseError for what is none of these, and for engines that are not served.
    """
    holder = connection if hasattr(connection, "dialect") else getattr(connection, "bind", None)
    dialect = getattr(holder, "dialect", None)
    if dialect is None and hasattr(connection, "get_bind"):
        dialect = connection.get_bind().dialect
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


def is_partitioned(connection: Any, table: Table, dialect: Dialect) -> bool:
    """Tell whether a bound beside a row value spares partitions of a table."""
    if not capabilities_of(dialect.name).bound_prunes:
        return False
    return postgresql.is_partitioned(connection, table, dialect)


def read_indexes(connection: Any, table: Table, dialect: Dialect) -> list[IndexFacts]:
    """Return a table's indexes, as far as page statements depend on them."""
    if dialect.name == "postgresql":
        return postgresql.read_indexes(connection, table, dialect)
    if dialect.name in ("mariadb", "mysql"):
        return mariadb.read_indexes(connection, table, dialect)
    found = sqlite_catalog.read_indexes(connection, table.name)
    return [IndexFacts(one.name, one.columns, one.unique, one.partial) for one in found]


def open_database(address: str, read_only: bool = True) -> Engine:
    """Return an Engine for a URL or the path of an SQLite file, for reading only unless said.

    An SQLite file must exist and be a database: none is ever created here. Raises DatabaseError.
    """
    url = _read_url(address)
    if not capabilities_of(url.get_backend_name()).served:
        raise _unserved(url.get_backend_name())
    if url.get_backend_name() == "sqlite":
        sqlite.check_file(url.database)
    engine = create_engine(url)
    if not read_only:
        return engine
    if url.get_backend_name() == "sqlite":
        sqlite.forbid_writes(engine)
    else:
        _forbid_writes(engine)
    return engine


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
        url.get_dialect()
    except NoSuchModuleError as error:
        scheme = address.partition(":")[0]
        raise DatabaseError(
            f"the database URL names an engine {scheme!r} that SQLAlchemy does not know",
            nearest(scheme, CAPABILITIES),
            "database-url",
        ) from error
    except (ArgumentError, ValueError, ImportError) as error:
        raise DatabaseError(
            "the database URL cannot be read",
            "Write it as sqlite:///path/to/file.db",
            "database-url",
        ) from error
    return url


@contextmanager
def database_errors(doing: str) -> Iterator[None]:
    """Turn what the driver raises inside the block into a DatabaseError."""
    try:
        yield
    except DBAPIError as error:
        raise DatabaseError(
            f"the database refused the {doing}: {error.orig}",
            "Check that the database is whole, and that you may read it",
            "database-refused",
        ) from error
