"""Which engines Vrelko serves, and how a database is opened."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine
from sqlalchemy.engine import URL, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError

from vrelko.core.capabilities import Capabilities
from vrelko.engines import sqlite
from vrelko.errors import DatabaseError, nearest

CAPABILITIES: dict[str, Capabilities] = {"sqlite": sqlite.CAPABILITIES}
"""Capabilities by SQLAlchemy dialect name."""


def capabilities_of(dialect: str) -> Capabilities:
    """Return what an engine can do, by its dialect's name. Raises DatabaseError."""
    found = CAPABILITIES.get(dialect)
    if found is None:
        raise DatabaseError(
            f"the engine {dialect!r} is not served",
            f"Use one of: {', '.join(sorted(CAPABILITIES))}",
            "engine-unknown",
        )
    return found


def dialect_of(connection: Any) -> str:
    """Return the dialect name of an Engine, Connection or Session. Raises DatabaseError."""
    for holder in (connection, getattr(connection, "bind", None)):
        name = getattr(getattr(holder, "dialect", None), "name", None)
        if isinstance(name, str):
            return name
    if hasattr(connection, "get_bind"):
        return str(connection.get_bind().dialect.name)
    raise DatabaseError(
        f"{type(connection).__name__} is no SQLAlchemy Engine, Connection or Session",
        "Pass what create_engine(), engine.connect() or a Session factory returns",
        "connection-kind",
    )


def open_database(address: str) -> Engine:
    """Return an Engine for a URL or the path of an SQLite file, for reading only.

    An SQLite file must exist and be a database: none is ever created here. Raises DatabaseError.
    """
    url = _read_url(address)
    capabilities_of(url.get_backend_name())
    if url.get_backend_name() == "sqlite":
        sqlite.check_file(url.database)
    engine = create_engine(url)
    if url.get_backend_name() == "sqlite":
        sqlite.forbid_writes(engine)
    return engine


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
