"""Survey: facts against what full scans say, and what it never does."""

import hashlib
import math
from datetime import datetime

import pytest
from sqlalchemy import create_engine, text

import vrelko
from exposed import Listing
from vrelko.core.facts import Facts, read_moment
from vrelko.engines.sqlite.capabilities import count_steps
from vrelko.errors import DatabaseError, FactsError
from vrelko.larkmere.schema import capture, station


def make(tmp_path, *statements):
    engine = create_engine(f"sqlite:///{tmp_path / 'made.db'}")
    with engine.begin() as connection:
        for statement in statements:
            connection.exec_driver_sql(statement)
    return engine


SERIES = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9000) "


def test_facts_agree_with_full_scans(larkmere):
    facts = vrelko.survey(larkmere, "capture").table("capture")
    with larkmere.connect() as connection:
        assert facts.rows == connection.scalar(text("SELECT count(*) FROM capture"))
        for column in facts.columns:
            distinct, nulls = connection.execute(
                text(
                    f"SELECT count(DISTINCT {column.name}), sum({column.name} IS NULL) FROM capture"
                )
            ).one()
            assert column.null_share == pytest.approx(nulls / facts.rows, abs=0.05), column.name
            assert 0.5 < column.distinct / distinct < 2, column.name
            assert column.nullable == capture.c[column.name].nullable
    assert facts.column("id").correlation == 1
    assert facts.column("caught_at").correlation > 0.9
    assert abs(facts.column("station_id").correlation) < 0.3
    assert facts.row_id == "id"
    assert facts.primary_key == ("id",)
    assert [(index.name, index.text, index.unique) for index in facts.indexes] == [
        ("capture_by_ring", "ring", False),
        ("capture_by_round", "caught_at, id", False),
        ("capture_by_station", "station_id, caught_at, id", False),
    ]
    size = facts.blocks * 4096 + sum(index.entry_bytes * facts.rows for index in facts.indexes)
    with larkmere.connect() as connection:
        file = connection.exec_driver_sql("PRAGMA page_count").scalar() * 4096
    assert 0.7 < size / file < 1.3


def test_it_neither_writes_nor_scans(own_larkmere, larkmere_file):
    path = own_larkmere.url.database

    def digest():
        with open(path, "rb") as file:
            return hashlib.sha256(file.read()).hexdigest()

    before = digest()
    everything = vrelko.survey(own_larkmere)
    assert digest() == before
    assert {table.name for table in everything.tables} == {
        "capture",
        "follow",
        "species",
        "station",
    }
    with own_larkmere.connect() as connection:
        assert not connection.scalar(
            text("SELECT count(*) FROM sqlite_master WHERE name LIKE 'sqlite_stat%'")
        )
    # Eight times the rows, about the same work: nothing is scanned.
    small, large = (steps_of_survey(own_larkmere, factor) for factor in (1, 8))
    assert large < small * 1.3


def steps_of_survey(engine, factor):
    with engine.begin() as connection:
        for _ in range(int(math.log2(factor))):
            names = ", ".join(c.name for c in capture.c if c.name != "id")
            connection.execute(
                text(f"INSERT INTO capture ({names}) SELECT {names} FROM capture ORDER BY id")
            )
    held = engine.connect()
    try:
        with count_steps(held) as steps:
            vrelko.survey(_Lender(engine, held), "capture")
        return steps.count
    finally:
        held.close()


class _Lender:
    """An engine that lends one connection again and again."""

    def __init__(self, engine, connection):
        self.dialect = engine.dialect
        self._connection = connection

    def connect(self):
        return self

    def __enter__(self):
        return self._connection

    def __exit__(self, *_):
        return None


def test_odd_tables(tmp_path):
    engine = make(
        tmp_path,
        'CREATE TABLE "odd ""name"" :x" ("a :b" TEXT, "select" INTEGER, UNIQUE ("a :b"))',
        SERIES + 'INSERT INTO "odd ""name"" :x" SELECT \'v\' || i, i % 3 FROM n',
        'CREATE INDEX some ON "odd ""name"" :x" ("select" DESC, lower("a :b")) WHERE "select" > 1',
        "CREATE TABLE pairs (p INTEGER, q TEXT, n REAL, PRIMARY KEY (p, q)) WITHOUT ROWID",
        SERIES + "INSERT INTO pairs SELECT i / 10, i % 10, i FROM n",
        "ANALYZE pairs",
        "CREATE TABLE blank (id INTEGER PRIMARY KEY, n REAL)",
        "CREATE TABLE gaps (id INTEGER PRIMARY KEY, n REAL)",
        SERIES + "INSERT INTO gaps SELECT i * i, i FROM n",
    )
    facts = vrelko.survey(engine)
    odd = facts.table('odd "name" :x')
    assert odd.rows == 9000
    assert odd.row_id is None
    assert {c.name: c.distinct for c in odd.columns}["select"] == pytest.approx(3)
    assert [(i.text, i.unique, i.partial) for i in odd.indexes] == [
        ("select DESC, (expression)", False, True),
        ("a :b", True, False),
    ]
    pairs = facts.table("pairs")
    assert (pairs.rows, pairs.rows_from, pairs.clustered) == (9000, "stored statistics", True)
    assert pairs.primary_key == ("p", "q")
    assert facts.table("blank").rows == 0
    assert 6000 < facts.table("gaps").rows < 12_000
    assert any("first rows" in note for note in facts.notes)
    engine.dispose()


def test_what_it_may_look_at(larkmere):
    listing = Listing(
        capture.select().join(station).with_only_columns(capture.c.id, station.c.name),
        name="joined",
        orders="capture.caught_at",
    )
    assert [t.name for t in vrelko.survey(larkmere, listing).tables] == ["capture", "station"]
    assert [t.name for t in vrelko.survey(larkmere, station).tables] == ["station"]
    with pytest.raises(DatabaseError, match="'station'"):
        vrelko.survey(larkmere, "statoin")


def test_json_in_json_out(larkmere):
    facts = vrelko.survey(larkmere, "capture")
    assert Facts.from_json(facts.to_json()) == facts
    with pytest.raises(FactsError, match="Did you mean 'capture'"):
        facts.table("captures")
    with pytest.raises(FactsError, match="Did you mean 'ring'"):
        facts.table("capture").column("rings")
    for wrong in (
        "",
        "[]",
        "{}",
        '{"schema": "vrelko.facts/1"}',
        '{"schema": "vrelko.facts/1", "server": {}, "tables": []}',
    ):
        with pytest.raises(FactsError):
            Facts.from_json(wrong)


@pytest.mark.parametrize(
    ("written", "moment"),
    [
        ("infinity", datetime.max),
        ("-infinity", datetime.min),
        ("0044-03-15 BC", datetime.min),
        ("12024-01-01 00:00:00", datetime.max),
        ("20240501", datetime(2024, 5, 1)),
        (" 2024-05-01 12:30:00 ", datetime(2024, 5, 1, 12, 30)),
    ],
)
def test_moments_as_databases_write_them(written, moment):
    assert read_moment(written) == moment
