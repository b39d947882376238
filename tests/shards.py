"""Private servers, started for the tests that want them and stopped again.

Some of which one spreads a table over two others (PostgreSQL's foreign tables, MariaDB's engine
Spider), and a read-only replica.
"""

from __future__ import annotations

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from contextlib import ExitStack, contextmanager
from pathlib import Path

from sqlalchemy import create_engine

from servers import missing

_PLUGINS = ("/usr/lib/mysql/plugin", "/usr/lib/mariadb/plugin", "/usr/lib64/mariadb/plugin")


def free_port():
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


@contextmanager
def postgresql_cluster():
    """Three servers: the URL of one that has the two others' tables as partitions."""
    ports = [free_port() for _ in range(3)]
    with _postgresql() as servers:
        for port in ports:
            servers.make(port)
            servers.start(port)
        yield [servers.url(port) for port in ports]


@contextmanager
def postgresql_replica():
    """Two servers: the URL of one, and that of a read-only replica that follows it."""
    first, second = free_port(), free_port()
    with _postgresql() as servers:
        servers.make(first)
        servers.start(first)
        servers.run(
            "pg_basebackup", "-R", "-c", "fast", "-h", "127.0.0.1", "-p", str(first),
            "-U", "postgres", "-D", servers.folder / str(second),
        )  # fmt: skip
        servers.start(second)
        yield servers.url(first), servers.url(second)


class _Servers:
    """PostgreSQL servers in one folder, run by a user who may."""

    def __init__(self, tools, folder, user):
        self.tools, self.folder, self.user, self.ports = tools, folder, user, []

    def run(self, tool, *arguments, check=True):
        run(self.user, self.tools / tool, *arguments, check=check)

    def make(self, port):
        data = self.folder / str(port)
        self.run("initdb", "-D", data, "-A", "trust", "-U", "postgres", "--locale=C", "-E", "UTF8")

    def start(self, port):
        data, log = self.folder / str(port), self.folder / f"{port}.log"
        options = f"-p {port} -c fsync=off -c listen_addresses=127.0.0.1 -k {self.folder}"
        self.ports.append(port)
        self.run("pg_ctl", "-D", data, "-w", "-o", options, "-l", log, "start")

    def url(self, port):
        return f"postgresql+psycopg://postgres@127.0.0.1:{port}/postgres"


@contextmanager
def _postgresql():
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    if not found:
        missing("shards", "initdb is missing: apt install postgresql")
    user = "postgres" if os.getuid() == 0 else None
    folder = Path(tempfile.mkdtemp(prefix="vrelko-shards-"))
    if user is not None:
        shutil.chown(folder, user)
    servers = _Servers(found[-1].parent, folder, user)
    try:
        yield servers
    finally:
        for port in servers.ports[::-1]:
            data = folder / str(port)
            servers.run("pg_ctl", "-D", data, "-m", "immediate", "stop", check=False)
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def mariadb_cluster():
    """Three servers: the URLs, the first one's server with Spider."""
    plugins = next((Path(p) for p in _PLUGINS if (Path(p) / "ha_spider.so").exists()), None)
    server = shutil.which("mariadbd") or shutil.which("mariadbd", path="/usr/sbin")
    if plugins is None or server is None or not shutil.which("mariadb-install-db"):
        missing("shards", "Spider is missing: apt install mariadb-server mariadb-plugin-spider")
    user = "mysql" if os.getuid() == 0 else pwd.getpwuid(os.getuid()).pw_name
    folder = Path(tempfile.mkdtemp(prefix="vrelko-shards-"))
    folder.chmod(0o755)
    ports = [free_port() for _ in range(3)]
    started = []
    stack = ExitStack()
    try:
        for i, port in enumerate(ports):
            data = folder / str(port)
            run(
                None,
                "mariadb-install-db",
                "--no-defaults",
                f"--datadir={data}",
                f"--tmpdir={data}",  # a server deletes what it finds in the usual one
                f"--user={user}",
                "--auth-root-authentication-method=normal",
                "--skip-test-db",
            )
            more = [f"--plugin-dir={plugins}", "--plugin-load-add=ha_spider"] if i == 0 else []
            log = stack.enter_context((folder / f"{port}.log").open("w"))
            started.append(
                subprocess.Popen(
                    [
                        server,
                        "--no-defaults",
                        f"--datadir={data}",
                        f"--tmpdir={data}",
                        f"--port={port}",
                        f"--user={user}",
                        f"--socket={data}/socket",
                        f"--pid-file={data}/pid",
                        "--bind-address=127.0.0.1",
                        "--innodb-flush-log-at-trx-commit=0",
                        "--innodb-buffer-pool-size=64M",
                        *more,
                    ],
                    stdout=log,
                    stderr=log,
                )
            )
        urls = [f"mariadb+pymysql://root@127.0.0.1:{port}/mysql" for port in ports]
        for url in urls:
            wait_for(url)
        yield urls
    finally:
        for one in started:
            one.kill()
            one.wait()
        stack.close()
        shutil.rmtree(folder, ignore_errors=True)


def wait_for(url):
    engine = create_engine(url)
    until = time.monotonic() + 60
    while True:
        try:
            with engine.connect():
                return engine.dispose()
        except Exception:
            if time.monotonic() > until:
                raise
            time.sleep(0.2)


def run(user, *command, check=True):
    texts = [str(part) for part in command]
    found = subprocess.run(texts, capture_output=True, text=True, user=user, cwd="/tmp")
    if check and found.returncode:
        raise RuntimeError(f"{texts[0]}: {found.stdout[-500:]} {found.stderr[-1500:]}")
