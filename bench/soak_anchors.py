"""Counted anchors while others write and are killed: every answer against a full sort.

    python bench/soak_anchors.py [URL ...] [--seconds 60] [--checks N] [--seed 1] [--fault NAME]

Processes of their own: writers with every kind of statement, savepoints and rollbacks, fold workers
(two at once), and checkers. Each is killed at random (SIGKILL, or its backend terminated) and begun
again. A checker sorts all rows in one snapshot, and asks for totals, ranks, jumps and pages there.
Exits with 1 where an answer was wrong, or a segment at rest; with --fault where none was.

Faults that a checker must notice: `greedy` deletes the log up to the last number that was folded,
`unsnapped` folds with a snapshot for each statement (MariaDB), `replace` writes through REPLACE
without recursive triggers (SQLite). `plain` writes without anchors: how often transactions are
aborted then.
"""

from __future__ import annotations

import argparse
import multiprocessing
import os
import random
import signal
import sys
import tempfile
import time
import traceback
from collections import Counter
from dataclasses import replace
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

from sqlalchemy import (
    BigInteger,
    Column,
    DateTime,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    create_engine,
    event,
    insert,
    make_url,
    select,
    text,
)
from sqlalchemy.exc import SQLAlchemyError

import vrelko
from vrelko import Sizes, Spot
from vrelko.engines.registry import record_of
from vrelko.errors import VrelkoError
from vrelko.serving.anchors import fold_worker, locks, verifying
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.making import create, drop
from vrelko.serving.anchors.of_listing import anchor_set
from vrelko.serving.anchors.snapshots import snapshot

SERVERS = (
    "postgresql+psycopg://postgres@127.0.0.1/vrelko_bench",
    "mysql+pymysql://root@127.0.0.1/vrelko_bench",
)
metadata = MetaData()
Trip = Table("soak trip", metadata, Column("id", Integer, primary_key=True, autoincrement=False))
Visit = Table(
    "Soak Visit",
    metadata,
    Column("id", BigInteger, primary_key=True, autoincrement=False),
    Column("Site", Integer, nullable=False),
    Column("Seen", DateTime, nullable=True),
    Column("mark", String(20), nullable=False),
    Column("gone", Integer, nullable=True),
    Column("note", Integer, nullable=False),
    Column("trip", ForeignKey("soak trip.id", ondelete="CASCADE"), nullable=True),
    Index("soak_seen", "Site", "Seen", "id"),
    Index("soak_mark", "mark", "id"),
    Index("soak_trip", "trip"),
)
v = Visit.c
BEGUN, SPAN, ROWS, TRIPS = datetime(2026, 1, 1), 20_000, 2_500, 60
EVERY, FAN = 20, 4
PARTED = select(v.id, v.Seen, v.mark).where(v.Site == bindparam("site"), v.gone.is_(None))
LISTINGS = {
    "parted": (PARTED, [[v.Seen.desc().nulls_last(), v.id.desc()]]),
    "marks": (select(v.id, v.mark, v.Seen), [[v.mark.desc(), v.id], [v.Seen.nulls_first(), v.id]]),
}
ORDERS = {"parted": ("parted", 0, {"site": 1}), "marks": ("marks", 0, None),
          "seen": ("marks", 1, None)}  # fmt: skip
"""Which listing an order is of, which one of its orders, and the part; two share one log."""


def sets(engine):
    found = {}
    for name, (of, which, params) in ORDERS.items():
        chosen, orders = LISTINGS[of]
        listing = vrelko.Listing(
            chosen, name=of, orders=orders, sizes=Sizes(10), total="exact", jumps="anchors",
            expose=True,
        )  # fmt: skip
        order = str(listing.described.given[which])
        with engine.connect() as connection:
            anchors = anchor_set(listing.settings, connection, order, k=EVERY, fan=FAN)
        found[name] = listing, params, anchors
    return found


def open_engine(url, recursive=True):
    engine = create_engine(url)
    if engine.dialect.name == "sqlite":

        @event.listens_for(engine, "connect")
        def prepare(raw, _):
            raw.execute("PRAGMA journal_mode = WAL")
            raw.execute("PRAGMA busy_timeout = 20000")
            raw.execute("PRAGMA foreign_keys = 1")
            raw.execute(f"PRAGMA recursive_triggers = {recursive:d}")

    return engine


class Log:
    """A file of events, a line each: a process that is killed loses none it has written."""

    def __init__(self, path):
        self.file = open(path, "a", buffering=1)  # noqa: SIM115 - closed by the process's end

    def __call__(self, word, many=1):
        self.file.write(f"{word}\t{many}\n")


# -- writers


def row(i, draw):
    seen = None if draw.random() < 0.1 else BEGUN + timedelta(minutes=draw.randrange(SPAN))
    return {
        "id": i,
        "Site": draw.randrange(2),
        "Seen": seen,
        "mark": draw.choice(["a", "B", "b", "Å", "zz", ""]) + str(draw.randrange(900)),
        "gone": 1 if draw.random() < 0.15 else None,
        "note": 0,
        "trip": draw.choice([None, draw.randrange(1, TRIPS)]),
    }


STOP = "stop"  # a file of this name ends all processes
LEAST_KILLED = 3
NAMES = list(row(1, random.Random(0)))


class Writer:
    """One writer's statements; ids collide with those of the others, as upserts need."""

    def __init__(self, engine, draw, log):
        self.engine, self.draw, self.log = engine, draw, log
        quote = engine.dialect.identifier_preparer.quote_identifier
        self.name = {"mysql": "mariadb"}.get(engine.dialect.name, engine.dialect.name)
        self.t, self.trips = quote(Visit.name), quote(Trip.name)
        self.c = {name: quote(name) for name in NAMES}
        self.columns = ", ".join(self.c.values())
        self.values = ", ".join(f":{name}" for name in NAMES)
        self.into = f"INTO {self.t} ({self.columns}) VALUES ({self.values})"
        common = [self.insert, self.many, self.copied, self.delete, self.ranged, self.moved,
                  self.parted, self.unlisted, self.other, self.hot, self.upsert, self.ignored,
                  self.key_changed, self.mass]  # fmt: skip
        own = {
            "sqlite": [self.replaced, self.cascade, self.updated_or_replaced],
            "postgresql": [self.cascade, self.merged, self.streamed, self.gone_and_back],
            "mariadb": [self.replaced, self.joined, self.loaded],
        }
        self.kinds = common + own[self.name]

    def transaction(self):
        with self.engine.connect() as connection, connection.begin() as transaction:
            done = []
            for _ in range(self.draw.choice([1, 1, 2, 3, 6])):
                kind = self.draw.choice(self.kinds)
                if self.draw.random() < 0.15:
                    inner = connection.begin_nested()
                    kind(connection)
                    inner.rollback() if self.draw.random() < 0.5 else inner.commit()
                else:
                    kind(connection)
                done.append(kind.__name__)
            if self.draw.random() < 0.15 and self.name != "sqlite":
                time.sleep(self.draw.random() * 0.1)  # commits late
            if self.draw.random() < 0.1:
                transaction.rollback()
                done = ["rollback"]
        for one in done:
            self.log(f"write {one}")
        self.log("transaction")

    def fresh(self):
        return self.draw.randrange(1, 30 * ROWS)

    def run(self, connection, statement, values=None):
        connection.execute(text(statement), values or {})

    def ids(self, connection, many):
        near = select(v.id).where(v.id >= self.fresh()).order_by(v.id).limit(many)
        return [one for (one,) in connection.execute(near)]

    def insert(self, connection):
        self.run(connection, self.or_ignore(), row(self.fresh(), self.draw))

    def many(self, connection):
        rows = [row(self.fresh(), self.draw) for _ in range(self.draw.randrange(2, 40))]
        connection.execute(text(self.or_ignore()), list({one["id"]: one for one in rows}.values()))

    def or_ignore(self):
        return {
            "sqlite": f"INSERT OR IGNORE {self.into}",
            "postgresql": f"INSERT {self.into} ON CONFLICT DO NOTHING",
            "mariadb": f"INSERT IGNORE {self.into}",
        }[self.name]

    ignored = insert

    def copied(self, connection):
        head = self.or_ignore().split("VALUES")[0]
        tail = " ON CONFLICT DO NOTHING" if self.name == "postgresql" else ""
        chosen = ", ".join(
            {"id": f"{self.c['id']} + :by", "mark": "'c'"}.get(name, self.c[name]) for name in NAMES
        )
        low = self.fresh()
        self.run(
            connection,
            f"{head} SELECT {chosen} FROM {self.t} WHERE {self.c['id']} BETWEEN :low AND "
            f":high{tail}",
            {"by": self.draw.randrange(1, 999), "low": low, "high": low + 900},
        )

    def delete(self, connection):
        for one in self.ids(connection, self.draw.randrange(1, 6)):
            self.run(connection, f"DELETE FROM {self.t} WHERE {self.c['id']} = :i", {"i": one})

    def ranged(self, connection):
        low = self.fresh()
        self.run(
            connection,
            f"DELETE FROM {self.t} WHERE {self.c['id']} BETWEEN :low AND :high",
            {"low": low, "high": low + self.draw.choice([50, 400, 1_500])},
        )

    def mass(self, connection):
        """Now and then much of one end goes, so that segments merge."""
        if self.draw.random() < 0.05:
            self.run(
                connection,
                f"DELETE FROM {self.t} WHERE {self.c['Seen']} < :seen",
                {"seen": BEGUN + timedelta(minutes=self.draw.randrange(SPAN // 5))},
            )

    def update(self, connection, name, value):
        for one in self.ids(connection, self.draw.randrange(1, 4)):
            self.run(
                connection,
                f"UPDATE {self.t} SET {self.c[name]} = :x WHERE {self.c['id']} = :i",
                {"x": value, "i": one},
            )

    def moved(self, connection):
        name = self.draw.choice(["Seen", "mark"])
        self.update(connection, name, row(1, self.draw)[name])

    def parted(self, connection):
        self.update(connection, "Site", self.draw.randrange(2))

    def unlisted(self, connection):
        self.update(connection, "gone", self.draw.choice([None, 1]))

    def other(self, connection):
        self.update(connection, "note", self.draw.randrange(99))

    def key_changed(self, connection):
        for one in self.ids(connection, 1):
            free = self.fresh()
            taken = connection.execute(select(v.id).where(v.id == free)).first()
            if taken is None:
                self.run(
                    connection,
                    f"UPDATE {self.t} SET {self.c['id']} = :x WHERE {self.c['id']} = :i",
                    {"x": free, "i": one},
                )

    def hot(self, connection):
        """New rows all at one end, many of one moment."""
        new = [
            {**row(self.fresh(), self.draw), "Seen": BEGUN + timedelta(minutes=SPAN), "mark": "zz"}
            for _ in range(self.draw.randrange(1, 60))
        ]
        connection.execute(text(self.or_ignore()), list({one["id"]: one for one in new}.values()))

    def upsert(self, connection):
        changed = ", ".join(f"{self.c[n]} = :{n}" for n in ("Seen", "mark", "Site"))
        statement = {
            "mariadb": f"INSERT {self.into} ON DUPLICATE KEY UPDATE {changed}",
        }.get(
            self.name,
            f"INSERT {self.into} ON CONFLICT ({self.c['id']}) DO UPDATE SET {changed}",
        )
        for one in [*self.ids(connection, 2), self.fresh()]:
            self.run(connection, statement, row(one, self.draw))

    def replaced(self, connection):
        for one in [*self.ids(connection, 2), self.fresh()]:
            self.run(connection, f"REPLACE {self.into}", row(one, self.draw))

    def updated_or_replaced(self, connection):
        found = self.ids(connection, 2)
        if len(found) == 2:
            self.run(
                connection,
                f"UPDATE OR REPLACE {self.t} SET id = :x WHERE id = :i",
                {"x": found[0], "i": found[1]},
            )

    def cascade(self, connection):
        one = self.draw.randrange(1, TRIPS)
        if self.draw.random() < 0.3:
            self.run(connection, f"DELETE FROM {self.trips} WHERE id = :i", {"i": one})
            self.run(connection, f"INSERT INTO {self.trips} VALUES (:i)", {"i": one})

    def merged(self, connection):
        one = row(self.draw.choice([self.fresh(), *self.ids(connection, 2)]), self.draw)
        casts = {"Seen": "timestamp", "mark": "text"}
        source = ", ".join(f"CAST(:{n} AS {casts.get(n, 'bigint')}) AS {self.c[n]}" for n in NAMES)
        self.run(
            connection,
            f"MERGE INTO {self.t} t USING (SELECT {source}) s "
            f"ON t.{self.c['id']} = s.{self.c['id']} "
            f"WHEN MATCHED AND s.{self.c['gone']} = 1 THEN DELETE WHEN MATCHED THEN UPDATE SET "
            f"{self.c['mark']} = s.{self.c['mark']} WHEN NOT MATCHED THEN INSERT ({self.columns}) "
            f"VALUES ({', '.join(f's.{one}' for one in self.c.values())})",
            one,
        )

    def streamed(self, connection):
        """By COPY, of keys that nobody else draws."""
        low = 10**9 + self.draw.randrange(10**12)
        into = f"COPY {self.t} ({self.columns}) FROM STDIN"
        with connection.connection.cursor() as cursor, cursor.copy(into) as copy:
            for i in range(self.draw.randrange(1, 30)):
                copy.write_row([*{**row(low + i, self.draw), "trip": None}.values()])

    def gone_and_back(self, connection):
        """A statement that deletes in one place and inserts in another."""
        low = self.fresh()
        chosen = ", ".join(
            {"id": f"{self.c['id']} + 10000000000", "mark": "'cte'"}.get(n, self.c[n])
            for n in NAMES
        )
        self.run(
            connection,
            f"WITH gone AS (DELETE FROM {self.t} WHERE {self.c['id']} BETWEEN :low AND :high "
            f"RETURNING {self.columns}) INSERT INTO {self.t} ({self.columns}) SELECT {chosen} "
            "FROM gone ON CONFLICT DO NOTHING",
            {"low": low, "high": low + 300},
        )

    def joined(self, connection):
        self.run(
            connection,
            f"DELETE a FROM {self.t} a JOIN {self.trips} b ON a.{self.c['trip']} = b.id "
            f"WHERE b.id = :i AND a.{self.c['id']} % 3 = 0",
            {"i": self.draw.randrange(1, TRIPS)},
        )

    def loaded(self, connection):
        """By LOAD DATA, which needs `local_infile`; rows of the same keys are replaced."""
        with tempfile.NamedTemporaryFile("w", suffix=".tsv") as file:
            for i in [*self.ids(connection, 3), self.fresh(), self.fresh()]:
                given = row(i, self.draw).values()
                file.write("\t".join("\\N" if one is None else str(one) for one in given) + "\n")
            file.flush()
            how = self.draw.choice(["REPLACE", "IGNORE"])
            connection.exec_driver_sql(
                f"LOAD DATA LOCAL INFILE '{file.name}' {how} INTO TABLE {self.t} "
                f"CHARACTER SET utf8mb4 ({self.columns})"
            )


# -- processes


def write(url, seed, path, until, fault):
    if url.startswith(("mysql", "mariadb")):
        more = {"local_infile": "1", "charset": "utf8mb4"}
        url = make_url(url).update_query_dict(more).render_as_string(hide_password=False)
    draw = random.Random(seed)
    engine = open_engine(url, recursive=fault != "replace")
    if engine.dialect.name != "sqlite":
        level = draw.choice(["READ COMMITTED", "REPEATABLE READ", "SERIALIZABLE"])
        engine = engine.execution_options(isolation_level=level)
    writer = Writer(engine, draw, Log(path))
    while going(path, until):
        attempt(writer.transaction, writer.log, "abort")
        time.sleep(draw.random() * 0.05)


def fold(url, seed, path, until, fault):
    draw, log, engine = random.Random(seed), Log(path), open_engine(url)
    folded = []
    if fault == "greedy":
        fold_worker.forget = lambda connection, rows, done: folded.extend([rows, max(done)])
    if fault == "unsnapped":
        record = record_of(engine.dialect)
        unsnapped = replace(record.anchors, isolation="READ COMMITTED")
        locks.record_of = lambda dialect: replace(record, anchors=unsnapped)
    found = sets(engine)

    def once():
        for _, _, anchors in found.values():
            log("folded", fold_worker.fold(engine, anchors, draw.choice([50, 400, 3_000])))
            if folded:
                with engine.begin() as connection:
                    connection.execute(folded[0].delete().where(folded[0].c.seq <= folded[1]))
                folded.clear()

    while going(path, until):
        attempt(once, log, "fold busy or broken off")
        time.sleep(draw.random() * 0.1)


def check(url, seed, path, until, fault):
    draw, log, engine = random.Random(seed), Log(path), open_engine(url)
    found = sets(engine)
    while going(path, until):
        name = draw.choice(list(found))
        once = partial(compare, engine, *found[name], draw, log, name)
        attempt(once, log, "check broken off")


def compare(engine, listing, params, anchors, draw, log, name):
    asked = {"params": params, "order": anchors.asked, "size": 10}
    with snapshot(engine) as connection:
        lookup = AnchorLookup(anchors, connection, params)
        keys = sorted_keys(connection, name)
        log("snapshot")

        def expect(what, found, expected):
            log("check")
            if found != expected:
                log("WRONG")
                print(f"wrong: {name} {what}: {found}, not {expected}", file=sys.stderr)

        expect("total", lookup.total(), len(keys))
        for _ in range(draw.randrange(200, 500)):
            offset = draw.randrange(len(keys) + 3)
            found = lookup.find(offset)
            rows = lookup.rows_behind(found.key, found.skip, 5)
            there = [lookup.rows.key_from(one)[-1] for one in rows]
            expect(f"rows at {offset}", there, keys[offset : offset + 5])
        for _ in range(draw.randrange(3, 15)):
            if keys:
                at = draw.randrange(len(keys))
                page = listing.read(connection, Spot.number(1 + at // 10), **asked)
                if page.notes:
                    log("by offset")
                    continue
                begin = at // 10 * 10
                expect(f"page {1 + at // 10}", [one.id for one in page], keys[begin : begin + 10])
                expect("its total", page.total.value, len(keys))
                key = page.keys[-1]
                expect("its rank", lookup.rank(key), begin + len(page) - 1)
        page = listing.read(connection, Spot.end(), **asked)
        last = max(len(keys) - 1, 0) // 10 * 10
        expect("the last page", [one.id for one in page], keys[last:])


def sorted_keys(connection, name):
    """The ids of all rows in order, by a statement of this file's own."""
    if name == "parted":
        asked = select(v.id).where(v.Site == 1, v.gone.is_(None))
        asked = asked.order_by(v.Seen.is_(None), v.Seen.desc(), v.id.desc())
    elif name == "seen":
        asked = select(v.id).order_by(v.Seen.is_not(None), v.Seen, v.id)
    else:
        asked = select(v.id).order_by(v.mark.desc(), v.id)
    return [one for (one,) in connection.execute(asked)]


def attempt(way, log, broken):
    try:
        way()
    except (SQLAlchemyError, VrelkoError) as error:
        cause = getattr(error, "orig", None) or error
        told = cause.args[0] if cause.args and type(cause.args[0]) is int else ""
        log(f"{broken} ({type(cause).__name__} {told})".replace(" )", ")"))
        if isinstance(cause, AssertionError):
            raise
    except Exception as error:  # a driver's own, whose backend was terminated
        log(f"{broken} ({type(error).__name__})")
        if type(error).__module__.split(".")[0] not in ("psycopg", "pymysql"):
            traceback.print_exc()
        time.sleep(0.05)


def disturb(engine, crew, draw, log):
    """Kill a process, or a backend of any; return the process's name, or None."""
    if engine.dialect.name == "sqlite" or draw.random() < 0.5:
        name = draw.choice(list(crew))
        os.kill(crew[name].pid, signal.SIGKILL)
        crew[name].join()
        log("killed process")
        return name
    asked = (
        "SELECT pid FROM pg_stat_activity WHERE datname = current_database() AND pid <> "
        "pg_backend_pid()"
    )
    kill = "SELECT pg_terminate_backend({})"
    if engine.dialect.name != "postgresql":
        asked = (
            "SELECT id FROM information_schema.processlist WHERE db = database() AND id <> "
            "connection_id()"
        )
        kill = "KILL {}"
    with engine.connect() as connection:
        some = [one for (one,) in connection.exec_driver_sql(asked)]
        if some:
            try:
                connection.exec_driver_sql(kill.format(draw.choice(some)))
                log("terminated backend")
            except SQLAlchemyError:
                pass  # it has ended by itself
    return None


def going(path, until):
    """Whether a process goes on: until its time is up, or enough was checked."""
    return time.time() < until and not Path(path).with_name(STOP).exists()


def count_events(folder):
    """What all processes have noted so far."""
    events = Counter()
    for file in Path(folder).iterdir():
        for line in file.read_text().splitlines():
            word, _, many = line.partition("\t")
            events[word] += int(many or 1)
    return events


def soak(url, seconds, seed, fault, checks=None):
    """Run everything for a while; return what happened, and what was off at rest.

    A while: `seconds`, or until `checks` were made and some processes killed, if that is sooner.
    """
    engine = open_engine(url)
    metadata.drop_all(engine)
    metadata.create_all(engine)
    draw = random.Random(f"{seed} {engine.dialect.name}")
    with engine.begin() as connection:
        connection.execute(insert(Trip), [{"id": i} for i in range(1, TRIPS)])
        connection.execute(insert(Visit), [row(i * 13, draw) for i in range(1, ROWS)])
        if engine.dialect.name in ("mysql", "mariadb"):
            connection.exec_driver_sql("SET GLOBAL local_infile = 1")
    found = sets(engine)
    if fault == "plain":
        found = {}
    for _, _, anchors in found.values():
        create(engine, anchors)
    folder = tempfile.TemporaryDirectory(prefix="vrelko-soak-")
    until, born = time.time() + seconds, 0
    duties = {f"writer {i}": write for i in range(4)}
    if fault != "plain":
        duties |= {"worker 1": fold, "worker 2": fold, "checker 1": check, "checker 2": check}
    log, context = Log(f"{folder.name}/main"), multiprocessing.get_context("spawn")

    def begin(name):
        nonlocal born
        born += 1
        given = (url, f"{seed} {name} {born}", f"{folder.name}/{born}", until, fault)
        process = context.Process(target=duties[name], args=given, daemon=True)
        process.start()
        return process

    for _, _, anchors in found.values():  # while the writers begin
        fold_worker.build(engine, anchors)
    crew = {name: begin(name) for name in duties}
    while time.time() < until - 3:
        time.sleep(draw.uniform(0.5, 3))
        name = disturb(engine, crew, draw, log)
        for ended in [one for one in crew if not crew[one].is_alive()]:
            name = name or ended
            crew[ended] = begin(ended)
        if checks is not None:
            events = count_events(folder.name)
            if events["check"] >= checks and events["killed process"] >= LEAST_KILLED:
                (Path(folder.name) / STOP).touch()
                break
    for process in crew.values():
        process.join()
    events = count_events(folder.name)
    off = segments = 0
    for _, _, anchors in found.values():
        while many := fold_worker.fold(engine, anchors):
            events["folded"] += many
        for params in [{"site": 0}, {"site": 1}] if anchors.parts else [None]:
            at_rest = verifying.verify(engine, anchors, params)
            segments, off = segments + len(at_rest), off + sum(map(bool, at_rest))
        drop(engine, anchors)
    metadata.drop_all(engine)
    engine.dispose()
    folder.cleanup()
    return events, segments, off


def main():
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("urls", nargs="*")
    parser.add_argument("--seconds", type=float, default=60)
    parser.add_argument("--checks", type=int, help="stop once so many were made")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--fault", choices=["greedy", "unsnapped", "replace", "plain"])
    given = parser.parse_args()
    folder = tempfile.TemporaryDirectory(prefix="vrelko-soak-db-")
    urls, bad = given.urls or [f"sqlite:///{Path(folder.name) / 'soak.db'}", *SERVERS], False
    for url in urls:
        events, segments, off = soak(url, given.seconds, given.seed, given.fault, given.checks)
        wrong = events["WRONG"]
        print(f"\n## {url.split(':')[0]}, seed {given.seed}, fault {given.fault}")
        print(
            f"{wrong:,} wrong of {events['check']:,} checks in {events['snapshot']:,} snapshots; "
            f"{events['transaction']:,} transactions, {events['folded']:,} log rows folded, "
            f"{events['killed process']} processes killed, {events['terminated backend']} backends "
            f"terminated; at rest {off} of {segments} segments off"
        )
        print(", ".join(f"{word} {many:,}" for word, many in sorted(events.items())))
        noticed = bool(wrong or off)
        bad |= noticed if given.fault in (None, "plain") else not noticed
    raise SystemExit(int(bad))


if __name__ == "__main__":
    main()
