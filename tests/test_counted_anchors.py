"""Counted anchors: positions, jumps and totals equal a full sort, whatever is written."""

import json
import random
import re
import subprocess
import sys
import threading
import time
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from click.testing import CliRunner
from sqlalchemy import (
    Column,
    DateTime,
    Float,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    create_engine,
    delete,
    event,
    func,
    insert,
    inspect,
    literal_column,
    select,
    text,
    update,
)
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import registry, with_loader_criteria
from starlette.testclient import TestClient

import vrelko
from clocks import ENOUGH_MS
from vrelko.cli.main import main
from vrelko.core.arithmetic import Total
from vrelko.core.strategies import STRATEGIES
from vrelko.engines.views import hold_view
from vrelko.serving.anchors.fold_worker import build, fold
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.making import create, drop
from vrelko.serving.anchors.of_listing import anchor_set
from vrelko.serving.anchors.snapshots import snapshot
from vrelko.serving.anchors.verifying import repair, verify
from vrelko.web.application import make_app

metadata = MetaData()
Visit = Table(
    "Site Visit",
    metadata,
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("Site", Integer, nullable=False),
    Column("Seen", DateTime, nullable=True),
    Column("mark", String(20), nullable=False),
    Column("gone", Integer, nullable=True),
    Index("visit_seen", "Site", "Seen", "id"),
    Index("visit_mark", "mark", "id"),
)
v = Visit.c


class SiteVisit:
    """A row of the table as an entity."""

    def __eq__(self, other):
        return all(getattr(self, name) == getattr(other, name) for name in v.keys())  # noqa: SIM118

    __hash__ = object.__hash__


class AnyVisit:
    """The same, of several kinds."""


class GoneVisit(AnyVisit):
    """One of a kind, in the table of all."""


mapped = registry()
mapped.map_imperatively(SiteVisit, Visit)
mapped.map_imperatively(AnyVisit, Visit, polymorphic_on=v.gone)
mapped.map_imperatively(GoneVisit, inherits=AnyVisit, polymorphic_identity=1)
BEGUN = datetime(2026, 1, 1)
ORDERS = {
    "seen": v.Seen.asc(),
    "seen desc nulls first": v.Seen.desc().nulls_first(),
    "mark": v.mark,
    "mixed": [v.mark.desc(), v.id],
    "id": v.id,
}


def row(i, draw):
    seen = None if draw.random() < 0.1 else BEGUN + timedelta(hours=draw.randrange(300))
    return {
        "id": i,
        "Site": draw.randrange(2),
        "Seen": seen,
        "mark": draw.choice(["a", "B", "b", "Å", "zz", ""]) + str(draw.randrange(40)),
        "gone": 1 if draw.random() < 0.2 else None,
    }


@pytest.fixture(scope="module")
def visits(server, tmp_path_factory):
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path_factory.mktemp('visits') / 'visits.db'}")
        with server.connect() as connection:
            connection.exec_driver_sql("PRAGMA journal_mode = WAL")
    yield server
    server.dispose()


@pytest.fixture
def table(visits):
    metadata.drop_all(visits)
    metadata.create_all(visits)
    yield visits
    metadata.drop_all(visits)


def listing(order, parted=False, alive=False, **more):
    chosen = select(v.id, v.Seen, v.mark)
    if parted:
        chosen = chosen.where(v.Site == bindparam("site"))
    if alive:
        chosen = chosen.where(v.gone.is_(None))
    return vrelko.Listing(chosen, name="visits", orders=[ORDERS[order]], expose=True, **more)


def write(connection, draw, known):
    """One change of any kind."""
    kind = draw.randrange(7)
    if kind <= 2 or not known:
        new = [row(max(known, default=0) + i + 1, draw) for i in range(draw.randrange(1, 12))]
        connection.execute(insert(Visit), new)
        known |= {one["id"] for one in new}
    elif kind == 3:
        some = draw.sample(sorted(known), min(len(known), draw.randrange(1, 9)))
        connection.execute(delete(Visit).where(v.id.in_(some)))
        known -= set(some)
    else:
        one, new = draw.choice(sorted(known)), row(0, draw)
        name = draw.choice(["Site", "Seen", "mark", "gone"])
        connection.execute(update(Visit).where(v.id == one).values({name: new[name]}))


def check(engine, anchors, made, params, draw):
    """Compare with every row, sorted, in the same snapshot."""
    with snapshot(engine) as connection:
        keys = [key for page in made.walk(connection, params=params, size=500) for key in page.keys]
        lookup = AnchorLookup(anchors, connection, params)
        assert lookup.total() == len(keys)
        for offset in {0, len(keys) - 1, *(draw.randrange(len(keys) or 1) for _ in range(5))}:
            if not 0 <= offset < len(keys):
                continue
            found = lookup.find(offset)
            rows = lookup.rows_behind(found.key, found.skip, 7)
            assert [lookup.rows.key_from(one) for one in rows] == keys[offset : offset + 7]
            assert lookup.rank(keys[offset]) == offset
        assert lookup.key_behind(lookup.find(len(keys)).key, lookup.find(len(keys)).skip) is None


@pytest.mark.parametrize(
    "parted", [False, pytest.param(True, marks=pytest.mark.slow)], ids=["whole", "parted"]
)
@pytest.mark.parametrize(
    "order",
    [
        order if i < 2 else pytest.param(order, marks=pytest.mark.slow)
        for i, order in enumerate(ORDERS)
    ],
)
def test_places_equal_a_full_sort(table, order, parted):
    draw = random.Random(f"{order}{parted}")
    alive = order != "id"
    made = listing(order, parted, alive)
    known = set()
    with table.begin() as connection:
        start = [row(i, draw) for i in range(1, 241)]
        connection.execute(insert(Visit), start)
        known |= {one["id"] for one in start}
    with table.connect() as connection:
        anchors = anchor_set(made.settings, connection, k=12, fan=3)
    params = {"site": 1} if parted else None
    before = set(inspect(table).get_table_names())
    create(table, anchors)
    try:
        build(table, anchors)
        check(table, anchors, made, params, draw)
        for step in range(30):
            with table.connect() as connection, connection.begin() as transaction:
                kept = set(known)
                for _ in range(draw.randrange(1, 5)):
                    write(connection, draw, known)
                if draw.random() < 0.15:
                    transaction.rollback()
                    known = kept
            if draw.random() < 0.5:
                fold(table, anchors, draw.choice([5, 40, 1_000]))
            if step % 3 == 0:
                check(table, anchors, made, params, draw)
        while fold(table, anchors):
            pass
        check(table, anchors, made, params, draw)
        off = verify(table, anchors, params)
        assert len(off) > 5
        assert not any(off)
        stored = anchors.tables.anchors
        for level in (1, 2):  # as a write behind the triggers' back, or a hand, would leave it
            with table.begin() as connection:
                where = stored.c.lvl == level
                one = connection.execute(select(stored.c.id).where(where).limit(1)).scalar()
                changed = update(stored).where(stored.c.id == one)
                connection.execute(changed.values(n=stored.c.n + 5))
        parts = [{"site": 0}, {"site": 1}] if parted else [None]
        assert any(any(verify(table, anchors, one)) for one in parts)
        assert any(verify(table, anchors, None))  # of all parts
        assert repair(table, anchors, None) >= 2
        assert not any(any(verify(table, anchors, one)) for one in parts)
        check(table, anchors, made, params, draw)
    finally:
        drop(table, anchors)
    assert set(inspect(table).get_table_names()) == before


def written_as(way, **more):
    """A listing of one site's visits that are not gone, written by Core, a class or an alias."""
    source = {"class": SiteVisit, "attributes": SiteVisit, "alias": Visit.alias("seen_there")}[way]
    c = source.c if way == "alias" else source
    shown = [c.id, c.Seen, c.mark] if way == "attributes" else [source]
    chosen = select(*shown).where(c.gone.is_(None), bindparam("site") == c.Site)
    return vrelko.Listing(chosen, name="visits", orders=[c.Seen.desc()], expose=True, **more)


@pytest.mark.slow
@pytest.mark.parametrize(
    "order", ["seen", "seen desc nulls first", "mixed", "class", "attributes", "alias"]
)
def test_a_grid_jumps_by_anchors(table, order):
    draw = random.Random(order)
    more = {"jumps": "anchors", "total": "exact", "sizes": vrelko.Sizes(10)}
    made = listing(order, True, True, **more) if order in ORDERS else written_as(order, **more)
    plain = made.changed(jumps="offset")
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 400)])
        asked = {"params": {"site": 1}, "size": 10}
        for spot in (vrelko.Spot.number(5), vrelko.Spot.end()):
            missing = made.read(connection, spot, **asked)
            assert "there are no anchors" in missing.notes[0]
            assert list(missing) == list(plain.read(connection, spot, **asked))
    with table.connect() as connection:
        anchors = anchor_set(made.settings, connection, k=12, fan=3)
    create(table, anchors)
    try:
        build(table, anchors)
        with table.begin() as connection:
            known = set(range(1, 400))
            for _ in range(25):
                write(connection, draw, known)
        with table.connect() as connection:
            last = plain.read(connection, vrelko.Spot.end(), **asked)
            for number in (1, 2, 7, last.number, last.number + 1, last.number + 9):
                expected = plain.read(connection, vrelko.Spot.number(number), **asked)
                found = made.read(table, vrelko.Spot.number(number), **asked)
                assert found.notes == ()
                assert list(found) == list(expected)
                assert (found.number, found.total, str(found.from_to)) == (
                    expected.number,
                    expected.total,
                    str(expected.from_to),
                )
                assert found.number_exact
                assert (found.at_start, found.at_end) == (expected.at_start, expected.at_end)
                for way in ("next", "prev"):
                    cursor, other = getattr(found, way), getattr(expected, way)
                    assert (cursor is None) == (other is None)
                    if cursor:
                        assert list(made.read(table, cursor, **asked)) == list(
                            plain.read(connection, other, **asked)
                        )
            end = made.read(table, vrelko.Spot.end(), **asked)
            assert list(end) == list(last)
            assert end.from_to == last.from_to
            key = last.keys[0]
            assert made.where_is(table, key, params={"site": 1}) == plain.where_is(
                connection, key, params={"site": 1}
            )
    finally:
        drop(table, anchors)


def several(orders, **more):
    chosen = select(v.id, v.Seen, v.mark).where(v.gone.is_(None))
    given = {"jumps": "anchors", "total": "exact", "sizes": vrelko.Sizes(10), **more}
    return vrelko.Listing(chosen, name="visits", orders=list(orders), expose=True, **given)


@pytest.mark.slow
def test_orders_share_one_log(table):
    """Each change is logged once, and folded into the anchors of every order that has some."""
    draw, known = random.Random(11), set(range(1, 300))
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in known])
    made = several(["-Seen", "mark", "id"])
    plain = made.changed(jumps="offset")
    before = tables_and_triggers(table)
    sets = {order: made.counted_anchors(table, order, every=20) for order in ("-Seen", "mark")}
    sets["-Seen"].build()
    sets["mark"].build()
    logs = {one.tables.log.name for one in sets.values()}
    assert len(logs) == len({one.tables.state.name for one in sets.values()}) == 1

    def check_pages():
        for order in ("-Seen", "mark", "id"):
            for number in (1, 3, 9, 16):
                spot = vrelko.Spot.number(number)
                found = made.read(table, spot, order=order)
                expected = plain.read(table, spot, order=order)
                assert (list(found), found.total) == (list(expected), expected.total)
                assert found.notes == () or order == "id"

    try:
        check_pages()
        for step in range(12):
            with table.begin() as connection:
                for _ in range(4):
                    write(connection, draw, known)
            waiting = sets["mark"].stored()[1]
            assert waiting == sets["-Seen"].stored()[1]
            assert list(sets.values())[step % 2].fold() == waiting
            check_pages()
        assert not any(any(one.verify()) for one in sets.values())
        sets["-Seen"].drop()
        with table.begin() as connection:
            write(connection, draw, known)
        while sets["mark"].fold():
            pass
        assert not any(sets["mark"].verify())
        assert "there are no anchors" in made.read(table, vrelko.Spot.number(3)).notes[0]
        sets["-Seen"].build()  # beside the other's, whose log goes on
        check_pages()
        # A worker of a later release, whose listing has one order less, folds for no one else.
        later = several(["mark", "-Seen,-mark", "id"]).counted_anchors(table, "mark")
        assert later.tables.log.name in logs
        with table.begin() as connection:
            write(connection, draw, known)
        later.fold()
        assert "there are no anchors" in made.read(table, vrelko.Spot.number(3)).notes[0]
        assert not any(later.verify())
        sets["-Seen"].build()
        check_pages()
    finally:
        for one in sets.values():
            one.drop()
    assert tables_and_triggers(table) == before


def test_what_an_earlier_description_left_is_found_and_swept(table, tmp_path):
    """Another condition needs another log; the old one costs writers until it is taken away."""
    draw = random.Random(12)
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 100)])
    before = tables_and_triggers(table)
    other = listing("id", jumps="anchors", total="exact").changed(name="visits too")
    kept = other.counted_anchors(table, every=20)
    kept.build()
    beside = tables_and_triggers(table)
    several(["mark", "id"]).counted_anchors(table, "mark", every=20).build()
    several(["mark", "id"]).counted_anchors(table, "id", every=20).build()
    now = several(["-Seen", "id"]).counted_anchors(table, "-Seen", every=20)
    now.build()
    assert len(now.leftovers()) == 1
    assert kept.leftovers() == []  # of another listing's
    assert now.sweep() != []
    assert now.leftovers() == []
    now.drop()
    assert tables_and_triggers(table) == beside
    kept.drop()
    assert tables_and_triggers(table) == before


def test_nobody_goes_by_anchors_before_their_build_has_ended(table):
    """A build that is broken off, while others read and write."""
    draw = random.Random(13)
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 2_500)])
    made = listing("mark", jumps="anchors", total="exact", sizes=vrelko.Sizes(10))
    plain, spot = made.changed(jumps="offset"), vrelko.Spot.number(40)
    anchors = made.counted_anchors(table, every=20)

    def stop(laid):
        if laid:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        anchors.build(stop)
    try:
        assert not anchors.state().built
        found = made.read(table, spot)
        assert "are being built" in found.notes[0]
        assert list(found) == list(plain.read(table, spot))
        with table.begin() as connection:
            connection.execute(delete(Visit).where(v.id % 5 == 0))
        assert anchors.fold() > 0  # which lays anchors along the tail, too
        assert not anchors.state().built
        anchors.build()
        found = made.read(table, spot)
        assert (found.notes, list(found)) == ((), list(plain.read(table, spot)))
        assert not any(anchors.verify())
    finally:
        anchors.drop()


class Stage:
    """Writers, a fold worker and a checker, at once until each of them has done enough."""

    def __init__(self, engine, anchors, made):
        self.engine, self.anchors, self.made = engine, anchors, made
        self.end = time.monotonic() + 300  # where one of them hangs
        self.faults, self.checks, self.folded, self.changes = [], 0, 0, 0

    @property
    def goes_on(self):
        enough = self.checks >= 8 and self.folded >= 200 and self.changes >= 100
        return not (enough or self.faults) and time.monotonic() < self.end

    def run(self, folds=fold):
        jobs = [threading.Thread(target=self.write, args=(i,)) for i in range(3)]
        jobs += [threading.Thread(target=self.fold, args=(folds,))]
        for job in jobs:
            job.start()
        try:
            self.check()
        finally:
            for job in jobs:
                job.join()

    def write(self, number):
        draw, known = random.Random(number), set()
        while self.goes_on:
            try:
                with self.engine.connect() as connection, connection.begin() as transaction:
                    kept = set(known)
                    for _ in range(draw.randrange(1, 6)):
                        self.change(connection, draw, known, number)
                    if draw.random() < 0.1:
                        transaction.rollback()
                        known = kept
                    elif draw.random() < 0.2:
                        time.sleep(draw.random() * 0.05)  # commits late
                self.changes += 1
            except DBAPIError:  # of a deadlock, or a file that is locked
                known = kept
            except BaseException as error:
                self.faults.append(error)
                raise

    def change(self, connection, draw, known, number):
        if draw.random() < 0.6 or not known:
            low = 1_000_000 * (number + 1)
            new = [row(low + len(known) * 7 + draw.randrange(10**5), draw) for _ in range(3)]
            new = [
                one for one in {one["id"]: one for one in new}.values() if one["id"] not in known
            ]
            if new:
                connection.execute(insert(Visit), new)
                known |= {one["id"] for one in new}
        else:
            one = draw.choice(sorted(known))
            if draw.random() < 0.5:
                connection.execute(delete(Visit).where(v.id == one))
                known.discard(one)
            else:
                new = row(0, draw)
                connection.execute(
                    update(Visit).where(v.id == one).values(mark=new["mark"], Site=new["Site"])
                )

    def fold(self, folds):
        draw = random.Random(9)
        while self.goes_on:
            try:
                self.folded += folds(self.engine, self.anchors, draw.choice([20, 300]))
            except (DBAPIError, vrelko.errors.DatabaseError):
                time.sleep(0.02)
            except BaseException as error:
                self.faults.append(error)
                raise

    def check(self):
        draw = random.Random(5)
        while self.goes_on:
            check(self.engine, self.anchors, self.made, {"site": 1}, draw)
            self.checks += 1


@pytest.fixture
def stage(table):
    made = listing("mark", True, True)
    draw = random.Random(1)
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 300)])
    with table.connect() as connection:
        anchors = anchor_set(made.settings, connection, k=12, fan=3)
    create(table, anchors)
    build(table, anchors)
    yield Stage(table, anchors, made)
    drop(table, anchors)


def test_nothing_is_wrong_while_others_write(stage):
    stage.run()
    assert not stage.faults
    assert stage.checks >= 8
    assert stage.folded >= 200
    while fold(stage.engine, stage.anchors):
        pass
    assert not any(verify(stage.engine, stage.anchors, {"site": 1}))


@pytest.mark.engines("postgresql", "mariadb")
def test_a_worker_that_deletes_what_it_has_not_seen_is_caught(stage, server):
    """By the last number, as a worker might: a row that commits late has a number below it."""
    engine, anchors, log = stage.engine, stage.anchors, stage.anchors.tables.log
    new = [
        {**row(9_000 + i, random.Random(i)), "Site": 1, "gone": None, "mark": "a5"} for i in (0, 1)
    ]
    with engine.connect() as late:
        late.execute(insert(Visit), new[:1])
        with engine.begin() as connection:
            connection.execute(insert(Visit), new[1:])
        with engine.connect() as connection:
            top = connection.execute(select(func.max(log.c.seq))).scalar()
        fold(engine, anchors)
        late.commit()
    assert not any(verify(engine, anchors, {"site": 1}))
    with engine.begin() as connection:
        connection.execute(delete(log).where(log.c.seq <= top))
    assert sum(verify(engine, anchors, {"site": 1})) == 1


@pytest.mark.slow
def test_the_commands(table, tmp_path):
    """plan, build, fold, verify, show and drop, as a team runs them; drift is told and mended."""
    with table.begin() as connection:
        draw = random.Random(3)
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 3_100)])
    pages = tmp_path / "pages.toml"
    url = table.url.render_as_string(hide_password=False)
    head = f'[source]\nurl = "{url}"\n[listing.visits]\ntable = "Site Visit"\norders = ["-Seen"]\n'
    pages.write_text(head + 'total = "exact"\n')
    assert "no listing that jumps" in run("plan", pages, code=2)
    assert "does not jump by anchors" in run("plan", pages, "visits", code=2)
    needs = "[listing.visits.needs]\njump_ms = 40\nexact_total = true\n"
    pages.write_text(head + 'total = "exact"\njumps = "anchors"\n' + needs)
    before = tables_and_triggers(table)
    planned = run("plan", pages)
    assert "CREATE TABLE" in planned
    assert "TRIGGER" in planned
    assert tables_and_triggers(table) == before
    assert "none; build them" in run("show", pages)
    assert "3 anchors laid" in run("build", pages)
    assert "right" in run("verify", pages)
    loaded = vrelko.load(pages)
    asked = loaded["visits"].workload.needs
    assert (asked.jump_ms, asked.exact_total) == (40, True)
    try:
        with table.begin() as connection:
            connection.execute(delete(Visit).where(v.id % 3 == 0))
        page = loaded["visits"].read(loaded.engine, vrelko.Spot.number(60))
        assert (page.notes, page.total.value, len(page)) == ((), 2_066, 25)
        assert "1,033 changes in the log" in run("show", pages)
        assert "1,033 changes folded" in run("fold", pages)
        assert "right" in run("verify", pages)
        told = json.loads(run("show", pages, "--json"))
        assert told == [
            {
                "listing": "visits",
                "order": told[0]["order"],
                "anchors": 3,
                "waiting": 0,
                "every": 1_000,
                "static": False,
                "age_s": told[0]["age_s"],
                "built": True,
                "wrong": False,
            }
        ]
        assert 0 <= told[0]["age_s"] < 60
        with table.begin() as connection:
            name = next(
                n for n in inspect(table).get_table_names() if n.startswith("vrelko_anchor")
            )
            quoted = connection.dialect.identifier_preparer.quote_identifier(name)
            connection.exec_driver_sql(f"UPDATE {quoted} SET n = n + 5")
        assert "a segment is off by -5 rows" in run("fold", pages, code=1)
        assert "segments off" in run("verify", pages, code=1)
        assert "segments mended" in run("repair", pages)
        assert "right" in run("verify", pages)
        assert "dropped" in run("drop", pages)
        assert tables_and_triggers(table) == before
        again = (
            loaded["visits"].changed(jumps="anchors").read(loaded.engine, vrelko.Spot.number(60))
        )
        assert list(again) == list(page)
        assert "there are no anchors" in again.notes[0]
        pages.write_text(f'{head}total = "exact"\njumps = "anchors"\nanchor_file = "seen.json"\n')
        assert "into the file" in run("plan", pages)
        assert "2 anchors laid" in run("build", pages)
        told = json.loads(run("show", pages, "--json"))[0]
        assert (told["anchors"], told["static"], told["every"]) == (2, True, 1_000)
        assert (tmp_path / "seen.json").exists()
        assert "right" in run("verify", pages)
        assert "0 changes folded" in run("fold", pages)
        assert "dropped" in run("drop", pages)
        assert not (tmp_path / "seen.json").exists()
        assert "no anchors to fold" in run("fold", pages, code=2)
        client = TestClient(
            make_app({"visits": loaded["visits"].changed(jumps="anchors")}, loaded.engine)
        )
        assert "there are no anchors" in client.get("/visits?page=60").json()["notes"][0]
        assert "notes" not in client.get("/visits").json()
    finally:
        loaded.close()


def run(*arguments, code=0):
    done = CliRunner().invoke(main, ["anchors", *map(str, arguments)])
    assert done.exit_code == code, (done.output, done.stderr)
    return done.output + done.stderr


def tables_and_triggers(engine):
    asked = {
        "sqlite": "SELECT name FROM sqlite_master WHERE name NOT LIKE 'sqlite%'",
        "postgresql": "SELECT tgname FROM pg_trigger UNION ALL SELECT proname FROM pg_proc",
        "mysql": "SELECT trigger_name FROM information_schema.triggers "
        "WHERE trigger_schema = database()",
    }
    name = {"mariadb": "mysql"}.get(engine.dialect.name, engine.dialect.name)
    with engine.connect() as connection:
        found = sorted(str(one[0]) for one in connection.exec_driver_sql(asked[name]).all())
    return sorted(inspect(engine).get_table_names()), found


def test_listings_that_cannot_have_anchors(table):
    other = Visit.alias()
    cases = (
        (select(v.id, other.c.id.label("o")).join(other, other.c.id == v.id), "id", "one table"),
        (select(v.id).where(v.id > bindparam("low")), "id", "not an equality"),
        (select(v.id, func.lower(v.mark).label("low")), func.lower(v.mark), "not a plain column"),
        (select(v.mark).distinct(), "mark", "one table"),
        (select(v.id).where(v.Site.in_(select(other.c.Site))), "id", "another table"),
        (select(v.id).where(select(other.c.id).exists()), "id", "another table"),
        (select(v.id).where(v.Seen < func.now()), "id", "now.. in a condition"),
        (select(v.id).where(func.lower(v.mark) == func.current_user()), "id", "current_user"),
        (select(v.id).where(text("gone IS NULL")), "id", "written as text"),
        (select(v.id).where(literal_column("gone").is_(None)), "id", "written as text"),
        (select(GoneVisit), "id", "conditions of the ORM's own"),
        (select(GoneVisit.id), "id", "conditions of the ORM's own"),
        (
            select(SiteVisit).options(with_loader_criteria(SiteVisit, SiteVisit.gone.is_(None))),
            "id",
            "conditions of the ORM's own",
        ),
    )
    for chosen, order, said in cases:
        made = vrelko.Listing(chosen, orders=[order], expose=True, name="cannot")
        with pytest.raises(vrelko.errors.ListingError, match=said):
            made.counted_anchors(table)
    for wrong in ({"kind": "feed"}, {"strategy": "offset"}):
        with pytest.raises(vrelko.errors.ListingError, match="jumps by anchors are for grids"):
            vrelko.Listing(select(v.id), orders="id", jumps="anchors", **wrong)


def test_a_listing_that_jumps_by_anchors_is_planned_and_walked_by_each_strategy(table, tmp_path):
    """Measuring, drift and `using` serve it by other strategies, which jump by no anchors."""
    with table.begin() as connection:
        draw = random.Random(1)
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 300)])
    made = listing("id", jumps="anchors", total="exact", anchor_file=tmp_path / "visits.json")
    first = [one.id for one in made.read(table)]
    for strategy in STRATEGIES:
        served = made.with_strategy(strategy)
        assert served.settings.jumps == ("anchors" if strategy == "keyset" else "offset")
        assert [one.id for one in served.read(table)][: len(first)] == first
    assert made.with_strategy("keyset", "export").settings.jumps == "offset"
    enough = {"budget_ms": ENOUGH_MS}
    readers = vrelko.Readers(depth=vrelko.Depth(3))
    plan = vrelko.plan(made, engine=table, readers=readers, **enough)
    assert vrelko.measure(table, plan, **enough).pages
    assert vrelko.drift(plan, simulations=5).listing == "visits"
    assert list(made.using(plan).read(table)) == list(made.read(table))


def test_what_has_changed_since_a_build_is_never_paged_wrong(table):
    """Another condition, a table emptied behind their back, a build broken off, anchors gone."""
    draw = random.Random(8)
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 300)])
    made = listing("seen", alive=True, jumps="anchors", total="exact", sizes=vrelko.Sizes(10))
    plain, asked = made.changed(jumps="offset"), vrelko.Spot.number(8)
    anchors = made.counted_anchors(table, every=20)
    for statement in anchors.statements()[:2]:  # as a crash might leave it
        with table.begin() as connection:
            connection.exec_driver_sql(statement.replace("%", "%%"))
    assert "there are no anchors" in made.read(table, asked).notes[0]
    assert anchors.build() > 5
    assert made.read(table, asked).notes == ()
    other = listing("seen", alive=False, jumps="anchors", total="exact", sizes=vrelko.Sizes(10))
    found = other.read(table, asked)
    assert "there are no anchors" in found.notes[0]
    assert list(found) == list(other.changed(jumps="offset").read(table, asked))
    with table.begin() as connection:  # in a way that fires no trigger on MariaDB
        whole = "DELETE FROM" if table.dialect.name == "sqlite" else "TRUNCATE TABLE"
        quoted = connection.dialect.identifier_preparer.quote_identifier("Site Visit")
        connection.exec_driver_sql(f"{whole} {quoted}")
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 40)])
    found, expected = made.read(table, asked), plain.read(table, asked)
    assert (list(found), found.total) == (list(expected), expected.total)
    if table.dialect.name in ("mysql", "mariadb"):
        assert "do not fit the rows" in found.notes[0]
        assert anchors.repair() > 0
    assert not any(anchors.verify())
    made.read(table, asked)
    chosen = select(SiteVisit).where(v.gone.is_(None))
    entities = vrelko.Listing(chosen, **{**made.arguments, "orders": [ORDERS["seen"]]})
    assert entities.settings.variants.orm
    for reader in (made, entities):
        reader.read(table, vrelko.Spot.number(2))
        for statement in anchors.drop_statements():  # by somebody else
            with table.begin() as connection:
                connection.exec_driver_sql(statement.replace("%", "%%"))
        again = reader.read(table, vrelko.Spot.number(2))
        assert "there are no anchors" in again.notes[0]
        expected = plain.read(table, vrelko.Spot.number(2))
        assert list(again.keys) == list(expected.keys)
        anchors.build()
    metadata.drop_all(table)  # and its triggers with it
    metadata.create_all(table)
    with pytest.raises(vrelko.errors.DatabaseError, match="triggers that kept") as told:
        anchors.fold()
    assert told.value.code == "anchors-lost"
    assert "there are no anchors" in made.read(table, asked).notes[0]
    assert anchors.fold() == 0  # said once
    anchors.build()
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 200)])
    assert anchors.fold() > 100
    assert not any(anchors.verify())
    found, expected = made.read(table, asked), plain.read(table, asked)
    assert (list(found), found.total, found.notes) == (list(expected), expected.total, ())
    with table.connect() as connection:  # the caller's own transaction is not ended
        made.read(connection, vrelko.Spot.number(2))
        connection.rollback()  # else the drop would wait for its locks
        for statement in anchors.drop_statements():
            with table.begin() as other:
                other.exec_driver_sql(statement.replace("%", "%%"))
        assert "there are no anchors" in made.read(connection, vrelko.Spot.number(2)).notes[0]


def test_one_listing_jumps_on_several_engines(table, tmp_path):
    """What is remembered of anchors is of one kind of engine: names tell how it writes SQL."""
    other, draw = create_engine(f"sqlite:///{tmp_path / 'other.db'}"), random.Random(5)
    made = written_as("class", jumps="anchors", total="exact", sizes=vrelko.Sizes(10))
    for engine in (other, table):
        metadata.create_all(engine)
        with engine.begin() as connection:
            connection.execute(insert(Visit), [row(i, draw) for i in range(1, 300)])
        made.counted_anchors(engine, every=20).build()
    for engine in (other, table, other):
        found = made.read(engine, vrelko.Spot.number(4), params={"site": 1})
        plain = made.changed(jumps="offset").read(engine, vrelko.Spot.number(4), params={"site": 1})
        assert found.notes == ()
        assert (list(found), found.total) == (list(plain), plain.total)
    made.counted_anchors(table).drop()
    other.dispose()


Catch = Table(
    "Net Catch",
    metadata,
    Column("Net", Integer, primary_key=True, autoincrement=False),
    Column("no", String(12), primary_key=True),
    Column("bag", Integer, nullable=False),
    Column("weight", Float, nullable=False),
    Index("catch_bag", "bag", "Net", "no"),
)


@pytest.mark.slow
@pytest.mark.parametrize("order", ["bag", "-bag", "Net,no", "weight"])
def test_rows_may_be_told_apart_by_several_columns(table, order):
    """Keys are walked, segments counted and pages reached; a wrong number is found and mended."""
    draw, anchors_every = random.Random(8), 30
    with table.begin() as connection:
        connection.execute(insert(Catch), [caught(i, draw) for i in range(1_000)])
    made = vrelko.Listing(
        select(Catch), name="catch", orders=order, jumps="anchors", total="exact",
        sizes=vrelko.Sizes(20), expose=True,
    )  # fmt: skip
    anchors, plain = made.counted_anchors(table, every=anchors_every), made.changed(jumps="offset")
    assert anchors.build() == 1_000 // anchors_every
    try:
        assert not any(anchors.verify())
        with table.begin() as connection:
            connection.execute(delete(Catch).where(Catch.c.no.like("%7")))
            connection.execute(insert(Catch), [caught(i, draw) for i in range(2_000, 2_040)])
        assert not any(anchors.verify())
        for at in (*map(vrelko.Spot.number, (1, 2, 17, 45, 47)), vrelko.Spot.end()):
            found, expected = made.read(table, at), plain.read(table, at)
            assert (list(found), found.total, found.notes) == (list(expected), expected.total, ())
        stored = anchors.tables.anchors
        with table.begin() as connection:
            some = select(func.max(stored.c.id)).where(stored.c.lvl == 1).scalar_subquery()
            wrong = connection.execute(select(some)).scalar()
            change = update(stored).where(stored.c.id == wrong)
            connection.execute(change.values(n=stored.c.n - 3))
        assert sorted(filter(None, anchors.verify())) == [3]
        assert anchors.repair() == 1
        assert not any(anchors.verify())
    finally:
        anchors.drop()


def caught(i, draw):
    return {"Net": i % 7, "no": f"{draw.choice('aAbBz')}{i}", "bag": draw.randrange(9),
            "weight": draw.random()}  # fmt: skip


def test_static_anchors_say_so(table, tmp_path):
    """Without triggers: right for rows that came at the end; what is off is told, and counted."""
    draw = random.Random(4)
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 300)])
    made = listing("id", jumps="anchors", total="exact", sizes=vrelko.Sizes(10))
    plain = made.changed(jumps="offset")
    anchors = made.counted_anchors(table, every=20)
    before = tables_and_triggers(table)
    anchors.build(static=True)
    try:
        assert anchors.state().static
        assert tables_and_triggers(table)[1] == before[1] or table.dialect.name == "sqlite"
        with table.begin() as connection:
            connection.execute(insert(Visit), [row(i, draw) for i in range(300, 341)])
        for number in (1, 9, 30, 34):
            found = made.read(table, vrelko.Spot.number(number))
            assert list(found) == list(plain.read(table, vrelko.Spot.number(number)))
            assert "static anchors" in found.notes[0]
            assert (str(found.total), found.number_exact) == ("~340", False)
        assert anchors.build() > 0  # along the new rows
        assert not any(anchors.check(5))
        with table.begin() as connection:
            connection.execute(delete(Visit).where(v.id <= 20))
        assert any(anchors.verify())
        assert anchors.repair() > 0
        found = made.read(table, vrelko.Spot.number(9))
        assert list(found) == list(plain.read(table, vrelko.Spot.number(9)))
        row_at = found.keys[0]
        assert made.share_of(table, row_at).error is None  # nothing static is told as exact
        again = made.counted_anchors(table)
        assert (again.state().every, again.state().static) == (20, True)
    finally:
        anchors.drop()
    assert tables_and_triggers(table) == before


@pytest.mark.slow
@pytest.mark.parametrize("parted", [False, True], ids=["whole", "parted"])
@pytest.mark.parametrize("order", ORDERS)
def test_anchors_in_a_file_jump_alike(table, order, parted, tmp_path):
    """Nothing is made in the database; rows behind the last anchor are counted live."""
    draw = random.Random(f"{order} {parted}")
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 700)])
    before, file = tables_and_triggers(table), tmp_path / "visits.json"
    more = {"jumps": "anchors", "anchor_file": file, "total": "exact", "sizes": vrelko.Sizes(10)}
    made = listing(order, parted, True, **more)
    plain = made.changed(jumps="offset", anchor_file=None)
    asked = {"params": {"site": 1} if parted else None}
    assert "there are no anchors" in made.read(table, vrelko.Spot.number(5), **asked).notes[0]
    anchors = made.counted_anchors(table, every=5)
    laid = anchors.build()
    assert laid > 50
    assert tables_and_triggers(table) == before

    def compare():
        last = plain.read(table, vrelko.Spot.end(), **asked)
        for spot in [vrelko.Spot.number(n) for n in (1, 2, 9, last.number)] + [vrelko.Spot.end()]:
            found, expected = (one.read(table, spot, **asked) for one in (made, plain))
            assert found.notes == ("numbers are as of the last count: static anchors",)
            assert list(found) == list(expected)
            assert str(found.from_to).replace("~", "") == str(expected.from_to)
            assert found.total == Total(expected.total.value, "about")
            for key in found.keys[:2]:
                assert made.where_is(table, key, **asked) == plain.where_is(table, key, **asked)

    compare()
    assert not any(anchors.verify())
    assert (anchors.state().every, anchors.state().static, anchors.stored()) == (5, True, (laid, 0))
    with table.begin() as connection:
        connection.execute(delete(Visit).where(v.id % 7 == 0))
    assert any(anchors.verify())
    assert anchors.repair() > 0
    compare()
    again = made.counted_anchors(table)
    assert again.build() < laid  # at the distance that they were built with
    again.drop()
    assert not file.exists()
    file.write_text('{"schema": "other"}')
    with pytest.raises(vrelko.errors.PageError, match="cannot be read"):
        made.read(table, vrelko.Spot.number(5), **asked)
    with pytest.raises(vrelko.errors.ListingError, match="for jumps by anchors"):
        made.changed(jumps="offset")


def test_remembered_anchors_are_those_of_the_snapshot(table):
    """Two readers in snapshots of their own, one before a fold and one behind it, take turns."""
    draw = random.Random(6)
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 400)])
    made = listing("id", jumps="anchors", total="exact", sizes=vrelko.Sizes(10))
    anchors = made.counted_anchors(table, every=12)
    anchors.build()
    spot = vrelko.Spot.number(20)
    try:
        with snapshot(table) as old:
            first = made.read(old, spot)
            with table.begin() as connection:
                connection.execute(delete(Visit).where(v.id <= 100))
            assert anchors.fold() == 100
            for _ in range(3):
                now = made.read(table, spot)
                assert [one.id for one in now] == list(range(291, 301))
                assert now.total.value == 299
                assert list(made.read(old, spot)) == list(first)
                assert made.read(old, spot).total.value == 399
    finally:
        anchors.drop()


def test_what_no_trigger_sees_is_warned_of_and_found(table):
    """Foreign keys that cascade on MariaDB, child tables on PostgreSQL, REPLACE on SQLite."""
    engine = table.dialect.name
    ddl = {
        "mysql": "CREATE TABLE tracked (id int PRIMARY KEY, up int, "
        "FOREIGN KEY (up) REFERENCES `Site Visit`(id) ON DELETE CASCADE)",
        "postgresql": "CREATE TABLE tracked (id int PRIMARY KEY, up int); "
        "CREATE TABLE tracked_too () INHERITS (tracked)",
        "sqlite": "CREATE TABLE tracked (id integer PRIMARY KEY, up int)",
    }["mysql" if engine == "mariadb" else engine]
    with table.begin() as connection:
        draw = random.Random(2)
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 200)])
        for statement in ddl.split("; "):
            connection.exec_driver_sql(statement)
    tracked = Table("tracked", MetaData(), Column("id", Integer, primary_key=True),
                    Column("up", Integer))  # fmt: skip
    made = vrelko.Listing(
        select(tracked), orders="id", jumps="anchors", total="exact", expose=True, name="tracked"
    )
    try:
        anchors = made.counted_anchors(table, every=20)
        told = " ".join(anchors.warnings())
        expected = {"sqlite": "REPLACE", "postgresql": "child table"}.get(engine, "foreign key")
        assert expected in told
        with table.begin() as connection:
            connection.execute(insert(tracked), [{"id": i, "up": i} for i in range(1, 200)])
        anchors.build()
        assert not any(anchors.check(10))
        if engine in ("mysql", "mariadb"):
            with table.begin() as connection:
                connection.execute(delete(Visit).where(v.id < 100))
            assert any(anchors.check(20))
            assert anchors.repair() > 0
            assert made.read(table, vrelko.Spot.end()).total.value == 100
        anchors.drop()
    finally:
        with table.begin() as connection:
            if engine == "postgresql":
                connection.exec_driver_sql("DROP TABLE tracked_too")
            connection.exec_driver_sql("DROP TABLE tracked")


@pytest.mark.engines("postgresql")
def test_roles_need_no_more_than_is_said(table):
    """A writer needs no right on the log; a reader without rights on anchors pages by offset."""
    made = listing("id", jumps="anchors", total="exact", sizes=vrelko.Sizes(10))
    with table.begin() as connection:
        draw = random.Random(2)
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 200)])
    anchors = made.counted_anchors(table, every=20)
    anchors.build()
    names = anchors.tables
    quote = table.dialect.identifier_preparer.format_table
    with table.begin() as connection:
        connection.exec_driver_sql('GRANT SELECT, INSERT, DELETE ON "Site Visit" TO pg_monitor')
    try:
        with table.connect() as connection:
            connection.exec_driver_sql("SET ROLE pg_monitor")
            connection.execute(insert(Visit), [row(i, draw) for i in range(200, 220)])
            connection.execute(delete(Visit).where(v.id < 5))
            page = made.read(connection, vrelko.Spot.number(5))
            assert "that the database user may read" in page.notes[0]
            assert page.total.value == 215
            connection.rollback()
            connection.exec_driver_sql("RESET ROLE")
            for name in (names.anchors, names.log, names.state):
                connection.exec_driver_sql(f"GRANT SELECT ON {quote(name)} TO pg_monitor")
            connection.commit()
            connection.exec_driver_sql("SET ROLE pg_monitor")
            assert made.read(connection, vrelko.Spot.number(5)).notes == ()
            connection.rollback()
            connection.exec_driver_sql("RESET ROLE")
    finally:
        anchors.drop()
        with table.begin() as connection:
            connection.exec_driver_sql('REVOKE ALL ON "Site Visit" FROM pg_monitor')


@pytest.mark.engines("postgresql", "mariadb")
def test_a_worker_that_may_not_see_triggers_strikes_nothing(table):
    """A catalog hides triggers from who may not make any: that is not that they are gone."""
    draw, made = random.Random(2), listing("id", jumps="anchors", total="exact")
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 200)])
    anchors = made.counted_anchors(table, every=20)
    anchors.build()
    login = " LOGIN" if table.dialect.name == "postgresql" else ""
    role = f"{table.url.database}_folder"  # roles are the whole server's
    kind = "ROLE" if login else "USER"
    quote, tables = table.dialect.identifier_preparer.format_table, anchors.tables
    with table.begin() as connection:
        connection.exec_driver_sql(f"DROP {kind} IF EXISTS {role}")
        connection.exec_driver_sql(f"CREATE {kind} {role}{login}")
        connection.exec_driver_sql(f"GRANT SELECT ON {quote(Visit)} TO {role}")
        for own in (tables.anchors, tables.log, tables.state):
            connection.exec_driver_sql(f"GRANT ALL ON {quote(own)} TO {role}")
    worker = create_engine(table.url.set(username=role, password=None))
    try:
        with table.begin() as connection:
            connection.execute(insert(Visit), [row(i, draw) for i in range(200, 230)])
        theirs = made.counted_anchors(worker)
        assert theirs.fold() == 30
        assert theirs.fold() == 0
        assert made.read(table, vrelko.Spot.number(3)).notes == ()
        assert not any(theirs.check(3))
        for ending in ("rows", "moves"):
            name = f"vrelko_{tables.group}_{ending}"
            on = f" ON {quote(Visit)}" if login else ""
            with table.begin() as connection:
                mark = table.dialect.identifier_preparer.quote_identifier(name)
                connection.exec_driver_sql(f"DROP TRIGGER IF EXISTS {mark}{on}")
        with pytest.raises(vrelko.errors.DatabaseError, match="triggers that kept"):
            theirs.fold()
        anchors.build()
        with table.begin() as connection:
            connection.execute(delete(Visit).where(v.id < 5))
        assert anchors.fold() == 4
        assert not any(anchors.verify())
    finally:
        worker.dispose()
        anchors.drop()
        with table.begin() as connection:
            if login:
                connection.exec_driver_sql(f"DROP OWNED BY {role}")
            connection.exec_driver_sql(f"DROP {kind} {role}")


@pytest.mark.slow
def test_workers_and_writers_may_be_killed(visits):
    """The soak of bench/, short: each process killed now and then, each answer against a sort."""
    visits.dispose()  # the soak ends backends of this database
    url = visits.url.render_as_string(hide_password=False)
    file = Path(__file__).parent.parent / "bench" / "soak_anchors.py"
    done = subprocess.run(
        # As long as the machine needs for so many checks.
        [sys.executable, str(file), url, "--seconds", "600", "--checks", "21", "--seed", "3"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout + done.stderr
    wrong, checks = re.search(r"(\d+) wrong of ([\d,]+) checks", done.stdout).groups()
    assert (wrong, int(checks.replace(",", "")) > 20) == ("0", True), done.stdout


@pytest.mark.parametrize("driver", ["recipe", "recipe, immediate", "autocommit off"])
def test_engines_that_begin_transactions_themselves(tmp_path, driver):
    """As SQLAlchemy's page on SQLite has it: isolation_level None, and BEGIN by an event."""
    off = driver == "autocommit off" and sys.version_info >= (3, 12)
    more = {"autocommit": False} if off else {}
    engine = create_engine(f"sqlite:///{tmp_path / 'own.db'}", connect_args=more)
    if "recipe" in driver:
        begin = "BEGIN IMMEDIATE" if "immediate" in driver else "BEGIN"
        event.listen(engine, "connect", lambda opened, _: setattr(opened, "isolation_level", None))
        event.listen(engine, "begin", lambda connection: connection.exec_driver_sql(begin))
    columns = Column("id", Integer, primary_key=True), Column("k", Integer, nullable=False)
    numbers = Table("numbers", MetaData(), *columns)
    numbers.create(engine)
    with engine.begin() as connection:
        connection.execute(numbers.insert(), [{"id": i, "k": i % 7} for i in range(300)])
    one = vrelko.Listing(
        select(numbers), orders="-k", sizes=vrelko.Sizes(10), total="exact", jumps="anchors"
    )
    before = one.read(engine, vrelko.Spot.number(9))
    assert "there are no anchors" in before.notes[0]
    anchors = one.counted_anchors(engine, every=20)
    assert anchors.build() == 15
    page = one.read(engine, vrelko.Spot.number(9))
    assert (page.notes, page.rows) == ((), before.rows)
    with engine.begin() as connection:
        connection.execute(numbers.insert().values(id=1_000, k=3))
    assert one.read(engine, vrelko.Spot.end()).total.value == 301
    assert (anchors.fold(), set(anchors.verify()), anchors.repair()) == (1, {0}, 0)
    assert anchors.check() == [0, 0]
    anchors.drop()
    with hold_view(engine) as view:
        assert len(view.execute(select(numbers)).all()) == 301
    engine.dispose()


@pytest.mark.parametrize("found_by", ["check", "verify"])
def test_anchors_that_are_found_wrong_are_not_gone_by_until_repaired(table, found_by):
    made = listing("id", jumps="anchors", total="exact", sizes=vrelko.Sizes(10))
    draw, far = random.Random(2), vrelko.Spot.number(12)
    with table.begin() as connection:
        connection.execute(insert(Visit), [row(i, draw) for i in range(1, 200)])
    anchors = made.counted_anchors(table, every=20)
    anchors.build()
    right = made.read(table, far)
    assert right.notes == ()
    own = anchors.tables.anchors
    for mend in (anchors.repair, anchors.build):
        with table.begin() as connection:  # as rows do that come without a trigger
            first = connection.scalar(select(func.min(own.c.id)).where(own.c.lvl == 1))
            connection.execute(update(own).where(own.c.id == first).values(n=own.c.n + 7))
        assert any(anchors.check(60) if found_by == "check" else anchors.verify())
        state = anchors.state()
        assert (state.built, state.wrong, state.age_s < 60) == (True, True, True)
        for _ in range(2):
            page = made.read(table, far)
            assert (page.rows, page.total.value) == (right.rows, 199)
            assert "were found wrong, and wait to be repaired" in page.notes[0]
            anchors.fold()
        mend()
        assert not anchors.state().wrong
        assert not any(anchors.verify())
        page = made.read(table, far)
        assert (page.rows, page.total, page.notes) == (right.rows, right.total, ())
    anchors.drop()


def test_a_plan_names_the_index_that_no_order_should_be_without(tmp_path):
    engine = create_engine(f"sqlite:///{tmp_path / 'own.db'}")
    columns = Column("id", Integer, primary_key=True), Column("k", Integer), Column("s", Integer)
    Table("numbers", MetaData(), *columns).create(engine)
    pages = tmp_path / "pages.toml"
    pages.write_text(
        f'[source]\nurl = "{engine.url}"\n[listing.numbers]\ntable = "numbers"\n'
        'columns = ["id", "k"]\nwhere = {s = ":s"}\norders = ["-k", "id"]\njumps = "anchors"\n'
    )

    def lines():
        printed = CliRunner().invoke(main, ["anchors", "plan", str(pages)])
        assert printed.exit_code == 0, printed.output
        return [line for line in printed.output.splitlines() if "CREATE INDEX numbers_" in line]

    # The primary key has the other order.
    assert lines() == ["--   CREATE INDEX numbers_by_k_id ON numbers (s, k DESC, id DESC);"]
    with engine.begin() as connection:
        connection.execute(text("CREATE INDEX one ON numbers (s, k)"))
    assert lines() == []
    engine.dispose()


def test_a_plan_of_anchors_over_a_table_named_with_its_schema(server, tmp_path):
    """The schema that the session looks in anyway, written before the name."""
    engine = server
    if server.dialect.name == "sqlite":
        engine = create_engine(f"sqlite:///{tmp_path / 'own.db'}")
    schema = {"sqlite": "main", "postgresql": "public"}.get(
        engine.dialect.name, engine.url.database
    )
    numbers = Table(
        "numbers", MetaData(), Column("id", Integer, primary_key=True), Column("k", Integer)
    )
    numbers.create(engine)
    pages = tmp_path / "pages.toml"
    url = engine.url.render_as_string(hide_password=False)
    pages.write_text(
        f'[source]\nurl = "{url}"\n[listing.numbers]\ntable = "{schema}.numbers"\n'
        'columns = ["id", "k"]\norders = ["-k"]\njumps = "anchors"\n'
    )
    try:
        printed = CliRunner().invoke(main, ["anchors", "plan", str(pages)])
        assert printed.exit_code == 0, printed.output
        if engine.dialect.name == "sqlite":
            assert "Whether an index has the order" in printed.output
            return
        assert f"CREATE INDEX numbers_by_k_id ON {schema}.numbers" in printed.output
        planned = CliRunner().invoke(main, ["plan", str(pages)])
        assert planned.exit_code == 0, planned.output
    finally:
        numbers.drop(engine)
        if engine is not server:
            engine.dispose()
