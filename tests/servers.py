"""Engines to test on: SQLite always, PostgreSQL and MariaDB where they can be reached.

`VRELKO_REQUIRE=postgresql,mariadb` makes an unreachable one fail instead of skip.
"""

from __future__ import annotations

import functools
import os
import socket
import tempfile
import warnings

import pytest
from sqlalchemy import Engine, create_engine, event, make_url, text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.pool import StaticPool

NAMES = ("sqlite", "postgresql", "mariadb")
_URLS = {
    "postgresql": "postgresql+psycopg://postgres@127.0.0.1:5432/postgres",
    "mariadb": "mariadb+pymysql://root@127.0.0.1:3306/",
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


def open_server(name: str) -> Engine:
    """Return an engine on an empty database of its own, for this test process."""
    if name == "sqlite":
        return create_engine("sqlite://", poolclass=StaticPool)
    address = os.environ.get(f"VRELKO_{name.upper()}_URL") or _usual(name)
    database = f"vrelko_test_{os.environ.get('PYTEST_XDIST_WORKER', 'alone')}"
    admin = create_engine(address, isolation_level="AUTOCOMMIT")
    try:
        with admin.connect() as connection:
            connection.execute(text(f"DROP DATABASE IF EXISTS {database}"))
            more = (
                " ENCODING 'UTF8' LOCALE 'C' TEMPLATE template0"
                if name == "postgresql"
                else (" CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
            )
            connection.execute(text(f"CREATE DATABASE {database}{more}"))
    except DBAPIError as error:
        if name in os.environ.get("VRELKO_REQUIRE", "").split(","):
            raise
        pytest.skip(f"{name} cannot be reached: {_HOW[name]} ({error.orig})")
    finally:
        admin.dispose()
    engine = create_engine(admin.url.set(database=database))
    if name == "mariadb":
        event.listen(engine, "connect", _read_committed)
    return engine


def _read_committed(connection, _record):
    with connection.cursor() as cursor:
        cursor.execute("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED")
