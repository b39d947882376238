"""Engines to test on: SQLite always, PostgreSQL and MariaDB where they can be reached.

`VRELKO_REQUIRE=postgresql,mariadb` makes an unreachable one fail instead of skip.
"""

from __future__ import annotations

import functools
import hashlib
import os
import socket
import tempfile
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NoReturn

import pytest
from sqlalchemy import URL, Engine, create_engine, event, make_url, text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.pool import StaticPool

NAMES = ("sqlite", "postgresql", "mariadb")
_URLS = {
    "postgresql": "postgresql+psycopg://postgres@127.0.0.1:5432/postgres",
    # To make ready for TLS takes PyMySQL 15 to 80 ms a connection; to this machine it is no use.
    "mariadb": "mariadb+pymysql://root@127.0.0.1:3306/?ssl_disabled=true",
}
_HOW = {
    "postgresql": "start PostgreSQL on 127.0.0.1:5432, set VRELKO_POSTGRESQL_URL, or "
    "pip install pgserver",
    "mariadb": "start MariaDB on 127.0.0.1:3306, or set VRELKO_MARIADB_URL",
}


def _usual(name: str) -> str:
    """Return the usual address, or that of a private PostgreSQL where none answers there."""
    url = make_url(_URLS[name])
    if name != "postgresql" or _answers(url.host, url.port):
        return _URLS[name]
    return _private_postgresql() or _URLS[name]


def _answers(host: str | None, port: int | None) -> bool:
    try:
        with socket.create_connection((str(host), int(port or 0)), timeout=2):
            return True
    except OSError:
        return False


@functools.cache
def _private_postgresql() -> str | None:
    """Start a server from the wheel `pgserver`, where installed, for this test process."""
    try:
        with warnings.catch_warnings():  # it looks for a folder of the session's at import
            warnings.simplefilter("ignore")
            import pgserver
    except ImportError:
        return None
    folder = tempfile.mkdtemp(prefix="vrelko-postgresql-")
    server = pgserver.get_server(folder, cleanup_mode="delete")
    return str(server.get_uri()).replace("postgresql://", "postgresql+psycopg://", 1)


def database_name() -> str:
    """Return the database's name for this checkout and test process.

    Two checkouts on one server must not drop each other's, nor two processes of one run.
    """
    checkout = hashlib.sha256(str(Path(__file__).resolve().parents[1]).encode()).hexdigest()[:8]
    return f"vrelko_test_{checkout}_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"


def missing(name: str, reason: str) -> NoReturn:
    """Skip the test, or fail it where what is missing is required (`VRELKO_REQUIRE`)."""
    if name in os.environ.get("VRELKO_REQUIRE", "").split(","):
        raise RuntimeError(reason)
    pytest.skip(reason)


@contextmanager
def open_server(name: str) -> Iterator[Engine]:
    """Lend an engine on an empty database of its own for this test process, dropped afterwards."""
    if name == "sqlite":
        engine = create_engine("sqlite://", poolclass=StaticPool)
        yield engine
        engine.dispose()
        return
    address = os.environ.get(f"VRELKO_{name.upper()}_URL") or _usual(name)
    database = database_name()
    admin = create_engine(address, isolation_level="AUTOCOMMIT")
    drop = f"DROP DATABASE IF EXISTS {database}"
    more = " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
    if name == "postgresql":
        drop += " WITH (FORCE)"  # a run that was killed leaves connections
        more = " ENCODING 'UTF8' LOCALE 'C' TEMPLATE template0"
    try:
        with admin.connect() as connection:
            connection.execute(text(drop))
            connection.execute(text(f"CREATE DATABASE {database}{more}"))
            if name == "postgresql":  # nothing here must outlive a power cut
                connection.execute(text(f"ALTER DATABASE {database} SET synchronous_commit = off"))
    except DBAPIError as error:
        admin.dispose()
        missing(name, f"{name} cannot be reached: {_HOW[name]} ({error.orig})")
    engine = create_engine(admin.url.set(database=database))
    if name == "mariadb":
        event.listen(engine, "connect", _read_committed)
    try:
        yield engine
    finally:
        engine.dispose()
        with admin.connect() as connection:
            connection.execute(text(drop))
        admin.dispose()


def async_url(engine: Engine) -> URL:
    """Return the address of an engine's database for an asynchronous driver."""
    name = {"sqlite": "sqlite+aiosqlite", "postgresql": "postgresql+psycopg"}
    driver = name.get(engine.dialect.name, "mysql+aiomysql")
    return engine.url.set(drivername=driver, query={})


def _read_committed(connection, _record):
    with connection.cursor() as cursor:
        cursor.execute("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED")
