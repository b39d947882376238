"""What drift is fed with: commit delays, access logs, recorded changes, writes of a table."""

import itertools
import random
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import (
    Column,
    DateTime,
    Double,
    Integer,
    MetaData,
    String,
    Table,
    create_engine,
    select,
)

import vrelko
from clocks import SleepingClock
from exposed import Listing
from vrelko import Landing
from vrelko.core.access_log import LogQuestion, readers_from_log
from vrelko.core.drift.recorded import read_events
from vrelko.core.drift.settle_delay import Delays, advise_settling, expect_lost, settle_for
from vrelko.core.drift.simulating import simulate_recorded
from vrelko.errors import DatabaseError, PageError
from vrelko.larkmere.schema import capture
from vrelko.measuring.commits import watch_commits
from vrelko.measuring.concurrent import Crowd, run_crowd
from vrelko.surveying.writes import survey_writes

RNG = random.Random(5)
EXPONENTIAL = Delays.of([RNG.expovariate(5) for _ in range(4_000)])


def poll(delays, rate, every, wait, rng, rows=6_000):
    """Rows that a poller loses who goes on from the last key it saw: the slow truth."""
    moment, tail = 0.0, []
    for _ in range(rows):
        moment += rng.expovariate(rate)
        tail.append((moment, moment + rng.choice(delays.seconds)))
    last, lost, seen = 0.0, 0, 0
    look = every
    while look < moment - 3:
        found = [key for key, visible in tail if last < key <= look - wait and visible <= look]
        high = max(found, default=last)
        lost += sum(last < key <= high and visible > look for key, visible in tail)
        seen += len(found)
        tail = [row for row in tail if row[0] > high]
        last, look = high, look + every
    return lost / max(lost + seen, 1)


@pytest.mark.parametrize("wait", [0.0, 0.2])
@pytest.mark.parametrize("every", [0.5, 2.0])
def test_rows_lost_at_a_tail_are_those_a_poller_loses(every, wait):
    form = expect_lost(EXPONENTIAL, 20.0, every, wait)
    found = poll(EXPONENTIAL, 20.0, every, wait, random.Random(3))
    assert found == pytest.approx(form, rel=0.2, abs=0.004)


@given(st.lists(st.floats(-1, 50), min_size=100, max_size=300), st.sampled_from([0.5, 0.1, 0.02]))
@pytest.mark.slow
def test_a_settle_delay_keeps_its_chance(seconds, chance):
    delays = Delays.of(seconds)
    wait = settle_for(delays, chance)
    assert sum(one > wait for one in delays.seconds) <= chance * len(seconds)
    assert expect_lost(delays, 10.0, 1.0, wait) <= chance + 1e-9
    assert 0 <= expect_lost(delays, 10.0, 0.0, wait) <= chance + 1e-9


def test_what_delays_cannot_tell():
    with pytest.raises(PageError, match="1,000 rows have come"):
        settle_for(Delays.of([0.1] * 50), 0.001)
    with pytest.raises(PageError, match="not between"):
        settle_for(EXPONENTIAL, 1.5)
    with pytest.raises(PageError, match="too few"):
        advise_settling(Delays.of([]), 5.0, 1.0)
    advice = advise_settling(EXPONENTIAL, 60.0, 1.0)
    assert [one.chance for one in advice.waits] == [0.1, 0.01, 0.001]
    assert advice.lost > advice.waits[0].lost > advice.waits[1].lost


@pytest.mark.parametrize("kind", [DateTime(), Double()])
def test_commits_are_watched(server, tmp_path, monkeypatch, kind):
    """A row becomes visible 300 ms after its own time, at each look."""
    engine = server
    if server.dialect.name == "sqlite":
        engine = create_engine(f"sqlite:///{tmp_path / 'tail.db'}")
        with engine.connect() as connection:
            connection.exec_driver_sql("PRAGMA journal_mode=WAL")  # readers hinder no writer
    table = Table(
        "tail",
        MetaData(),
        Column("id", Integer, primary_key=True),
        Column("written_at", kind, index=True),
    )
    table.create(engine)
    number = itertools.count(1)

    def write(now):
        value = now - 0.3
        if isinstance(kind, DateTime):
            value = datetime.fromtimestamp(value, UTC).replace(tzinfo=None)
        with engine.begin() as connection:
            connection.execute(table.insert(), {"id": next(number), "written_at": value})

    write(1_800_000_000.0)  # there before the first look: nobody knows since when
    monkeypatch.setattr("vrelko.measuring.commits.time", SleepingClock(write))
    looks = []
    try:
        delays = watch_commits(engine, "tail", "written_at", 2.0, 0.25, looks.append)
        with pytest.raises(DatabaseError, match="no table"):
            watch_commits(engine, "tial", "written_at", 0.1)
    finally:
        table.drop(engine)
    assert looks == list(range(8))
    whole = engine.dialect.name == "mariadb" and isinstance(kind, DateTime)
    for seconds in delays.seconds:  # DATETIME of MariaDB holds whole seconds
        assert seconds == pytest.approx(0.3, abs=1e-3) or (whole and 0.3 <= seconds <= 1.3)


def test_watching_an_unknown_column(larkmere):
    with pytest.raises(DatabaseError, match=r"(?s)no column 'looked'.*looked_at"):
        watch_commits(larkmere, "capture", "looked", 0.1)


def line(host, second, target, status=200, agent='"-" "browser"'):
    moment = datetime(2031, 5, 3, 7, 0, tzinfo=UTC) + timedelta(seconds=second)
    when = f"{moment:%d/%b/%Y:%H:%M:%S %z}"
    return f'{host} - - [{when}] "GET {target} HTTP/1.1" {status} 512 {agent}'


def test_readers_from_an_access_log():
    lines = [
        line("a", 0, "/captures"),
        line("a", 10, "/captures?page=2"),
        line("a", 24, "/captures?page=3&size=25"),
        line("b", 30, "/captures?page=1", agent=""),
        line("b", 42, "/captures?page=40", agent=""),
        "nonsense",
        "",
        line("c", 1, "/other"),
        line("c", 2, "/captures?page=2", 404),
        line("c", 3, "/captures?page=minus"),
        line("a", 5_000, "/captures?page=1"),
        'x - - [yesterday] "GET / HTTP/1.1" 200 1',
    ]
    found = readers_from_log(lines, LogQuestion(path="/captures"))
    assert (found.visits, found.requests) == (3, 6)
    assert (found.malformed, found.other, found.odd) == (2, 2, 1)
    readers = found.readers
    assert readers.dwell_s == pytest.approx(12)
    assert readers.depth.jumps == pytest.approx(1 / 6)
    assert readers.depth.mean == pytest.approx(2)
    assert readers.depth.shares == (3 / 5, 1 / 5, 1 / 5)
    assert readers.pages_per_minute == pytest.approx(6 / (5_000 / 60))


@pytest.mark.parametrize(
    ("means", "values"),
    [("offset", ["0", "25", "50"]), ("page", ["0", "1", "2"]), ("cursor", ["", "x1", "x2"])],
)
def test_what_a_parameter_means(means, values):
    lines = [line("a", 10 * i, f"/feed?at={value}") for i, value in enumerate(values)]
    asked = LogQuestion("at", means, "/feed/", first=0)
    readers = readers_from_log(lines, asked).readers
    assert readers.depth.shares == (1 / 3, 1 / 3, 1 / 3)
    assert readers.dwell_s == 10
    assert readers.depth.jumps == 0


def test_logs_that_tell_nothing():
    with pytest.raises(PageError, match="1 malformed, 1 others"):
        readers_from_log(["?", line("a", 0, "/x")], LogQuestion(path="/captures"))
    with pytest.raises(PageError, match="'depth' is not one of"):
        LogQuestion(means="depth")
    with pytest.raises(PageError, match="at least 1, got 0"):
        LogQuestion(size=0)


RECORDED = """time_s,change,row,to
1,insert,new,0
1.5,insert,newer,0
2,delete,7,
12,move,9,2
13,delete,newer,
"""


def test_recorded_changes_are_walked_over():
    recording = read_events(RECORDED.splitlines(), 40)
    assert (recording.rows, recording.seconds) == (40, 13)
    (course,) = recording.courses(5, 3, 10.0, 10)
    found = {one.strategy: one for one in simulate_recorded([course])}
    assert found["offset"].means["repeats"] == 2
    assert found["keyset"].means["repeats"] == 0
    assert found["keyset"].means["dodges"] == 0  # row 9 had been served when it moved
    assert found["offset"].by_page[1] == (2, 0)
    assert len(recording.courses(5, 2, 1.0, 10)) == 10


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "line 1.*first line is not time_s"),
        ("time_s,change,row,to\n", "line 2.*no change at all"),
        ("time_s,change,row,to\n1,insert,x\n", "line 2.*3 cells"),
        ("time_s,change,row,to\n1,grow,x,2\n", "'grow' is not a kind"),
        ("time_s,change,row,to\n-1,insert,x,2\n", "'-1' is not a time"),
        ("time_s,change,row,to\n1,insert,x,99\n", "'99' is not a place"),
        ("time_s,change,row,to\n1,insert,3,2\n", "'3' is there already"),
        ("time_s,change,row,to\n1,delete,40,\n", "row '40' is not known"),
        ("time_s,change,row,to\n2,delete,4,\n1,delete,5,\n", "line 3.*before the line above"),
    ],
)
def test_recordings_that_are_none(text, said):
    with pytest.raises(PageError, match=said):
        read_events(text.splitlines(), 40)


def test_writes_of_a_table(server, made):
    connection, meta = made
    table = Table(
        "ringing",
        meta,
        Column("id", Integer, primary_key=True),
        Column("caught_at", DateTime, index=True),
        Column("ring", String(9)),
    )
    meta.create_all(connection)
    begin, rng = datetime(2031, 5, 3, 6), random.Random(8)
    rows = []
    for i in range(2_400):
        late = rng.expovariate(1 / 600) if i % 4 == 0 else 0.0
        caught = begin + timedelta(seconds=30 * i) - timedelta(seconds=round(late))
        rows.append({"id": i + 1, "caught_at": caught, "ring": f"R{i}"})
    connection.execute(table.insert(), rows)
    connection.commit()
    writes = survey_writes(server, "ringing")
    assert (writes.column, writes.sample) == ("caught_at", 2_400)
    assert writes.inserts_per_minute == pytest.approx(2, rel=0.05)
    assert 0.15 < writes.late_share < 0.3
    assert 100 < writes.lateness_s[0] < 200
    assert writes.by_hour[12] == pytest.approx(2, rel=0.1)
    assert writes.by_hour[3] == 0
    assert writes.lands == Landing("late", writes.lateness_s[0])
    assert writes.as_dict()["schema"] == "vrelko.writes/1"
    assert (writes.deletes_per_minute is None) == (server.dialect.name != "postgresql")
    for wrong, said in (("ring", "is not a date/time column"), ("cought_at", "caught_at")):
        with pytest.raises(DatabaseError, match=said):
            survey_writes(server, "ringing", wrong)


def test_tables_whose_writes_tell_nothing(made):
    connection, meta = made
    Table("keyless", meta, Column("at", DateTime))
    Table("timeless", meta, Column("id", Integer, primary_key=True))
    Table("empty", meta, Column("id", Integer, primary_key=True), Column("at", DateTime))
    meta.create_all(connection)
    connection.commit()
    for name, said in (
        ("keyless", "no primary key"),
        ("timeless", "no column of dates"),
        ("empty", "too few rows"),
        ("nowhere", "nowhere"),
    ):
        with pytest.raises(DatabaseError, match=said):
            survey_writes(connection.engine, name)


def test_readers_beside_writers(server, larkmere):
    listing = Listing(
        select(capture.c.id).where(capture.c.station_id == 9),
        name="few",
        orders="-wing_mm:nulls-last,-id",
        sizes=vrelko.Sizes(10),
    )
    plan = vrelko.plan(listing, vrelko.survey(larkmere, listing))
    copy = None if server.dialect.name == "sqlite" else server
    crowd = Crowd(seconds=60, walks=6, strategies=("offset", "keyset"), pages=8)
    found = {one.strategy: one for one in run_crowd(larkmere, plan, crowd, copy)}
    assert (found["keyset"].repeats, found["keyset"].misses) == (0, 0)
    assert found["keyset"].walks >= 6
    assert found["keyset"].writes > 0
    assert found["keyset"].untouched > 0


def test_walks_on_which_nothing_can_be_said(larkmere):
    listing = Listing(
        select(capture.c.id).where(capture.c.station_id == 9),
        name="few",
        orders="id",
        sizes=vrelko.Sizes(25),
    )
    facts = vrelko.survey(larkmere, listing)
    writers = vrelko.Writers(30)
    idle = vrelko.plan(listing, facts, vrelko.Readers(dwell_s=0), writers)
    with pytest.raises(PageError, match="dwell of 0 s leaves no time"):
        vrelko.drift(idle)
    deep = vrelko.plan(listing, facts, vrelko.Readers(depth=vrelko.Depth(mean=9_000)), writers)
    with pytest.raises(PageError, match="go past the"):
        vrelko.drift(deep)
    with pytest.raises(PageError, match="negative"):
        vrelko.Writers(-1)
    with pytest.raises(PageError, match="must be a whole number above 0"):
        vrelko.Sizes(0)


def test_a_plan_prices_each_way(larkmere):
    listing = Listing(
        select(capture.c.id).where(capture.c.station_id == 2),
        name="some",
        orders="-caught_at",
    )
    plan = vrelko.plan(
        listing,
        vrelko.survey(larkmere, listing),
        vrelko.Readers(depth=vrelko.Depth(mean=8)),
        vrelko.Writers(30, 60, Landing("late", 600)),
    )
    strategies = {one.strategy: one for one in plan.strategy_costs}
    assert plan.overlap > 0
    assert (
        strategies["overlap"].page_ms
        >= strategies["offset"].page_ms
        == strategies["ceiling"].page_ms
    )
    assert strategies["frozen-ids"].begin_ms > 0 == strategies["keyset"].begin_ms
    assert strategies["frozen-ids"].stored_bytes > 10 * plan.judgement.rows
    assert [strategy["strategy"] for strategy in plan.as_dict()["strategy_costs"]] == list(
        strategies
    )
    found = vrelko.drift(plan, simulations=20)
    assert found.costs == plan.strategy_costs
    assert found.walks_per_day == pytest.approx(plan.given.readers.pages_per_minute * 1_440 / 8)
