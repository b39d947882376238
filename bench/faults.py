"""What clients get while the database fails, and how soon pages come back.

    python bench/faults.py [--engines postgresql,mariadb] [--clients 100] [--seconds 6] [--soak 0]

Starts private PostgreSQL and MariaDB servers in a temporary folder, serves two listings of them by
`vrelko serve`, and lets clients ask without pause while the server is killed, restarted, locked and
so on. Prints a Markdown table for docs/operations.md. Needs root, or the servers' own users.
"""

from __future__ import annotations

import argparse
import collections
import contextlib
import glob
import http.client
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import numpy as np
from sqlalchemy import create_engine, text

ROWS = 200_000
PAGES = """[source]
url = "{url}"
pool = {pool}
pool_wait_s = 2
statement_ms = 4000

[listing.busy]
kind = "feed"
table = "busy"
orders = ["id"]

[listing.calm]
kind = "feed"
table = "calm"
orders = ["id"]

[listing.sorted]
kind = "grid"
table = "calm"
orders = ["note"]
"""


def free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


class PostgreSQL:
    """A private PostgreSQL server that can be killed and started again."""

    name = "postgresql"

    def __init__(self, folder):
        self.folder, self.port = folder / "pg", free_port()
        self.bin = sorted(glob.glob("/usr/lib/postgresql/*/bin"))[-1]
        self.folder.mkdir()
        shutil.chown(self.folder, "postgres")
        self.as_user(f"{self.bin}/initdb", "-D", self.folder, "-A", "trust", "-U", "postgres")
        self.url = f"postgresql+psycopg://postgres@127.0.0.1:{self.port}/postgres"

    def as_user(self, *command):
        subprocess.run(
            ["runuser", "-u", "postgres", "--", *map(str, command)],
            check=True,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )

    def start(self):
        options = f"-p {self.port} -k {self.folder} -c work_mem=64kB -c fsync=off"
        self.as_user(f"{self.bin}/pg_ctl", "-D", self.folder, "-w", "-o", options, "start")

    def stop(self):
        self.as_user(f"{self.bin}/pg_ctl", "-D", self.folder, "-m", "immediate", "stop")

    def kill(self):
        number = int((self.folder / "postmaster.pid").read_text().split()[0])
        children = subprocess.run(["pgrep", "-P", str(number)], capture_output=True, text=True)
        for one in [number, *map(int, children.stdout.split())]:
            with contextlib.suppress(ProcessLookupError):
                os.kill(one, signal.SIGKILL)
        (self.folder / "postmaster.pid").unlink(missing_ok=True)

    lock = "LOCK TABLE busy IN ACCESS EXCLUSIVE MODE"
    unlock = "SELECT 1"
    connections = "SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend'"


class MariaDB:
    """A private MariaDB server that can be killed and started again."""

    name = "mariadb"

    def __init__(self, folder):
        self.folder, self.port = folder / "my", free_port()
        self.folder.mkdir()
        shutil.chown(self.folder, "mysql")
        subprocess.run(
            [
                "mariadb-install-db",
                "--user=mysql",
                f"--datadir={self.folder}",
                f"--tmpdir={self.folder}",
                "--auth-root-authentication-method=normal",
            ],
            check=True,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        self.url = f"mysql+pymysql://root@127.0.0.1:{self.port}/test"
        self.process = None

    def start(self):
        self.process = subprocess.Popen(
            [
                "mariadbd",
                "--no-defaults",
                "--user=mysql",
                f"--datadir={self.folder}",
                f"--port={self.port}",
                "--bind-address=127.0.0.1",
                f"--tmpdir={self.folder}",
                f"--socket={self.folder}/s.sock",
                "--sort-buffer-size=32768",
                "--innodb-flush-log-at-trx-commit=0",
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for _ in range(300):
            with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port)):
                return
            time.sleep(0.1)
        raise RuntimeError("MariaDB did not start")

    def stop(self):
        self.process.terminate()
        self.process.wait(60)

    def kill(self):
        self.process.kill()
        self.process.wait(60)

    lock = "LOCK TABLES busy WRITE"
    unlock = "UNLOCK TABLES"
    connections = "SELECT count(*) FROM information_schema.processlist WHERE user = 'root'"


def fill(engine):
    with engine.begin() as connection:
        for table in ("busy", "calm"):
            connection.execute(
                text(f"CREATE TABLE {table} (id INT PRIMARY KEY, n INT, note VARCHAR(60))")
            )
            series = (
                f"SELECT i, i % 97, md5(i) FROM (SELECT seq AS i FROM seq_1_to_{ROWS}) AS s"
                if engine.dialect.name != "postgresql"
                else f"SELECT i, i % 97, md5(i::text) FROM generate_series(1, {ROWS}) AS s(i)"
            )
            connection.execute(text(f"INSERT INTO {table} {series}"))


class Served:
    """`vrelko serve` on a pages file, and what it holds."""

    def __init__(self, folder, url, pool=8):
        pages = folder / "pages.toml"
        pages.write_text(PAGES.format(url=url, pool=pool))
        self.process = subprocess.Popen(
            [sys.executable, "-m", "vrelko", "serve", str(pages), "--port", "0", "--grace-s", "3"],
            stderr=subprocess.PIPE,
            text=True,
        )
        self.address = self.process.stderr.readline().split()[0].split("/")[2]
        self.told = []
        threading.Thread(target=self._read, daemon=True).start()

    def _read(self):
        for line in self.process.stderr:
            self.told.append(line)

    def memory(self):
        status = Path(f"/proc/{self.process.pid}/status").read_text()
        return int(status.split("VmRSS:")[1].split()[0]) / 1024

    def files(self):
        return len(os.listdir(f"/proc/{self.process.pid}/fd"))

    def end(self):
        began = time.monotonic()
        self.process.send_signal(signal.SIGTERM)
        self.process.wait(60)
        for line in self.told[:40]:
            print(line.rstrip(), file=sys.stderr)
        return time.monotonic() - began


class Clients:
    """Readers that ask page after page without pause, each on its own connection."""

    def __init__(self, address, count, path="/busy?size=25"):
        self.answers, self.stopped = [], False
        self.threads = [
            threading.Thread(target=self._read, args=(address, path), daemon=True)
            for _ in range(count)
        ]
        for one in self.threads:
            one.start()

    def _read(self, address, path):
        connection = http.client.HTTPConnection(address, timeout=30)
        while not self.stopped:
            began = time.monotonic()
            try:
                connection.request("GET", path)
                answer = connection.getresponse()
                answer.read()
                status = answer.status
            except OSError:
                connection.close()
                status = 0
            except http.client.HTTPException:
                connection.close()
                status = 0
            self.answers.append((began, time.monotonic(), status))
            if status != 200:
                time.sleep(0.05)

    def end(self):
        self.stopped = True
        for one in self.threads:
            one.join(40)
        return self.answers


def row(engine, what, answers, back="", more="", served=None, before=None, connections=""):
    counts = collections.Counter(status for _, _, status in answers)
    told = ", ".join(
        f"{many:,} × {status or 'no answer'}" for status, many in sorted(counts.items())
    )
    took = [1e3 * (end - begin) for begin, end, _ in answers]
    p95 = f"{np.percentile(took, 95):,.0f}" if took else ""
    held = ""
    if served is not None and before is not None:
        held = f"{before[0]:.0f} → {served.memory():.0f} MB, {before[1]} → {served.files()} files"
    print(
        f"| {engine} | {what} | {told} | {p95} | {back} | {connections} | {held} | {more} |",
        flush=True,
    )


def back_after(answers, moment):
    """Seconds from a moment until every later answer is a page again."""
    bad = [end for begin, end, status in answers if status != 200 and end > moment]
    return f"{max(bad) - moment:.1f} s" if bad else "at once"


def connections_of(server, engine):
    with engine.connect() as connection:
        return connection.scalar(text(server.connections)) - 1


def scenarios(server, folder, clients, seconds):
    server.start()
    admin = create_engine(server.url)
    fill(admin)
    served = Served(folder, server.url)
    warm = Clients(served.address, clients)
    time.sleep(seconds)
    warm.end()

    def state():
        return served.memory(), served.files()

    name = server.name
    before = state()
    calm = Clients(served.address, clients)
    time.sleep(seconds)
    row(
        name,
        f"nothing; {clients} clients",
        calm.end(),
        "",
        "",
        served,
        before,
        connections_of(server, admin),
    )

    for what, stop in (
        ("kill −9, started 2 s later", server.kill),
        ("stopped, started 2 s later", server.stop),
    ):
        before = state()
        readers = Clients(served.address, clients)
        time.sleep(1)
        admin.dispose()
        stop()
        time.sleep(2)
        server.start()
        moment = time.monotonic()
        time.sleep(seconds)
        answers = readers.end()
        row(
            name,
            what,
            answers,
            back_after(answers, moment),
            "",
            served,
            before,
            connections_of(server, admin),
        )

    before = state()
    with admin.connect() as other:
        other.execute(text(server.lock))
        readers = Clients(served.address, clients)
        others = Clients(served.address, 10, "/calm?size=25")
        time.sleep(seconds)
        moment = time.monotonic()
        other.execute(text(server.unlock))
        other.rollback()
        other.invalidate()
        time.sleep(2)
        told, calm = readers.end(), others.end()
    row(name, "one table locked: its readers", told, back_after(told, moment), "", served, before)
    row(name, "… readers of another table", calm)
    served.end()

    few = Served(folder, server.url, pool=1)
    before = few.memory(), few.files()
    readers = Clients(few.address, clients)
    time.sleep(seconds)
    row(
        name,
        f"a pool of 1 for {clients} clients",
        readers.end(),
        "",
        "",
        few,
        before,
        connections_of(server, admin),
    )
    few.end()

    served = Served(folder, server.url)
    host, _, port = served.address.partition(":")
    stuck = []
    for _ in range(20):
        one = socket.create_connection((host, int(port)))
        one.sendall(b"GET /busy/export HTTP/1.1\r\nHost: localhost\r\n\r\n")
        stuck.append(one)
    time.sleep(1)
    before = served.memory(), served.files()
    readers = Clients(served.address, 20)
    time.sleep(seconds)
    answers = readers.end()
    row(
        name,
        "20 exports that nobody reads: page readers",
        answers,
        "",
        "",
        served,
        before,
        connections_of(server, admin),
    )
    took = served.end()
    row(name, "… then SIGTERM", [], f"ends in {took:.1f} s")
    for one in stuck:
        one.close()
    admin.dispose()


def full_disk(server, folder):
    """A sort that spills to a disk with no room left; then room again."""
    admin = create_engine(server.url)
    served = Served(folder, server.url)
    filler = server.folder / "filler"
    with contextlib.suppress(OSError), filler.open("wb") as out:
        while True:
            out.write(b"\0" * 65_536)
    readers = Clients(served.address, 4, "/sorted?page=2000&size=25")
    others = Clients(served.address, 4, "/calm?size=25")
    time.sleep(4)
    told, calm = readers.end(), others.end()
    row(server.name, "disk full: pages that sort on disk", told)
    row(server.name, "… pages that do not", calm)
    filler.unlink()
    readers = Clients(served.address, 4, "/sorted?page=2000&size=25")
    time.sleep(3)
    row(server.name, "… room again", readers.end())
    served.end()
    admin.dispose()


def soak(server, folder, clients, seconds):
    served = Served(folder, server.url)
    readers = Clients(served.address, clients)
    seen = []
    began = time.monotonic()
    while time.monotonic() - began < seconds:
        time.sleep(5)
        seen.append((time.monotonic() - began, served.memory()))
        del readers.answers[:-1000]
    answers = readers.end()
    second = np.mean([mb for at, mb in seen if 60 <= at < 120] or [seen[0][1]])
    last = np.mean([mb for at, mb in seen if at >= seconds - 60])
    row(
        server.name,
        f"soak of {seconds / 60:.0f} min, {clients} clients (the last 1,000 answers)",
        answers[-1000:],
        "",
        f"second minute {second:.1f} MB, last {last:.1f} MB ({last / second - 1:+.1%})",
    )
    served.end()


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--engines", default="postgresql,mariadb")
    parser.add_argument("--clients", type=int, default=100)
    parser.add_argument("--seconds", type=float, default=6)
    parser.add_argument("--soak", type=float, default=0)
    given = parser.parse_args()
    print(
        "| engine | what happens | what clients get | p95, ms | pages come back | connections | "
        "memory and files | |\n|---|---|---|---:|---|---:|---|---|"
    )
    for kind in (PostgreSQL, MariaDB):
        if kind.name not in given.engines.split(","):
            continue
        with tempfile.TemporaryDirectory(prefix="vrelko-faults-") as temporary:
            folder = Path(temporary)
            folder.chmod(0o755)
            mounted = (
                subprocess.run(
                    ["mount", "-t", "tmpfs", "-o", "size=700M,mode=755", "none", temporary],
                    check=False,
                ).returncode
                == 0
            )
            try:
                server = kind(folder)
                scenarios(server, folder, given.clients, given.seconds)
                if mounted:
                    full_disk(server, folder)
                if given.soak:
                    soak(server, folder, 20, given.soak)
                server.stop()
            finally:
                if mounted:
                    subprocess.run(["umount", "-l", temporary], check=False)


if __name__ == "__main__":
    main()
