"""Drift: closed forms against slow truth, counting, and replays on real files."""

import hashlib
import math
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import (
    ARRAY,
    Column,
    Computed,
    DateTime,
    Double,
    Enum,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    Text,
    bindparam,
    create_engine,
    func,
    inspect,
    select,
)

import vrelko
from exposed import Listing
from vrelko import Depth, Landing, Needs, Readers, Sizes, Writers
from vrelko.core.drift.damage import left_by_draining, lost_by_equal_ties, lost_by_ties
from vrelko.core.drift.expectation import expect_drift, overlap_for
from vrelko.core.drift.number_errors import expect_number_error
from vrelko.core.drift.shift_chances import expect_shift
from vrelko.core.drift.simulating import simulate
from vrelko.core.drift.stream import Stream
from vrelko.core.drift.walks import DRIFT_STRATEGIES
from vrelko.engines.views import can_hold_view
from vrelko.errors import DatabaseError, ListingError, PageError
from vrelko.larkmere.schema import capture
from vrelko.pagesfile.tables import reflect_table


def poisson(mean, k):
    return math.exp(-mean + k * math.log(mean) - math.lgamma(k + 1))


@given(came=st.floats(0.01, 12), went=st.floats(0.01, 12))
def test_shift_is_the_mean_of_a_skellam(came, went):
    ahead = behind = 0.0
    for i in range(80):
        for j in range(80):
            weight = poisson(came, i) * poisson(went, j)
            ahead += max(i - j, 0) * weight
            behind += max(j - i, 0) * weight
    assert expect_shift(came, went) == pytest.approx((ahead, behind), rel=1e-6, abs=1e-9)


def test_shift_known_values_and_limits():
    assert expect_shift(1, 1)[0] == pytest.approx(0.5238, abs=1e-4)
    assert expect_shift(2, 1) == pytest.approx((1.2676, 0.2676), abs=1e-4)
    assert expect_shift(3, 0) == (3, 0)
    assert expect_shift(0, 4) == (0, 4)
    assert expect_shift(5000, 10) == pytest.approx((4990, 0), abs=1e-6)


@pytest.mark.parametrize("lands", [Landing("uniform"), Landing("late", 600), Landing("head")])
def test_landing_ranks_invert_their_shares(lands):
    stream = Stream(20_000, 0.5, 0.1, lands)
    shares = [stream.share_ahead(rank) for rank in (1, 10, 100, 1_000, 10_000)]
    assert shares == sorted(shares)
    if lands.kind != "head":
        for share in (0.05, 0.3, 0.7):
            assert stream.share_ahead(stream.rank_of(share)) == pytest.approx(share, abs=1e-6)


@pytest.mark.slow
@pytest.mark.parametrize(
    "stream",
    [
        Stream(1_500, 0.5, 0.0, Landing("head")),
        Stream(1_500, 0.6, 0.6, Landing("uniform")),
        Stream(1_500, 0.4, 2.0, Landing("late", 200)),
        Stream(1_500, 0.0, 1.5, Landing("head")),
        Stream(1_500, 0.3, 0.1, Landing("uniform"), 0.3),
        Stream(1_500, 0.1, 0.4, Landing("head"), 0.3),
        Stream(1_500, 0.1, 0.1, Landing("late", 200), 0.2),
        Stream(1_500, 0.1, 0.1, Landing("tail"), 0.3),
    ],
)
def test_closed_forms_hold_against_the_simulator(stream):
    size, pages, dwell, walks, again = 20, 12, 10, 300, 2
    strategies = ("offset", "ceiling", "overlap", "keyset", "frozen-view")
    for seen in simulate(stream, size, pages, dwell, walks, 7, again, strategies):
        form = expect_drift(seen.strategy, stream, size, pages, dwell, again)
        assert form.holds
        for name in ("repeats", "misses", "dodges", "gone", "stale", "unseen"):
            hoped = getattr(form, name)
            error = max(seen.errors[name], math.sqrt(hoped / walks))
            assert abs(seen.means[name] - hoped) <= 4 * error + 0.03 * hoped + 0.01, name
        if seen.strategy in ("offset", "ceiling", "overlap"):
            assert abs(seen.clean - form.clean) < 0.1


@pytest.mark.parametrize("lands", [Landing("head"), Landing("uniform"), Landing("tail")])
def test_how_far_numbers_of_static_anchors_are_off(lands):
    """Against rows that are inserted and deleted one by one."""
    rows, age_s, rank = 2_000, 100.0, 800
    stream = Stream(rows, 1.5, 0.8, lands)
    said, rng, moved = expect_number_error(stream, rank, age_s), random.Random(4), []
    for _ in range(400):
        ahead, behind = rank, rows - rank
        for _ in range(round(rng.gauss(230, math.sqrt(230)))):
            inserted = rng.random() < 1.5 / 2.3
            if inserted:
                first = {"head": 1.0, "tail": 0.0}.get(lands.kind, ahead / (ahead + behind))
            else:
                first = ahead / (ahead + behind)
            if rng.random() < first:
                ahead += 1 if inserted else -1
            else:
                behind += 1 if inserted else -1
        moved.append(ahead - rank)
    mean = sum(moved) / len(moved)
    assert abs(mean - said.mean) < 3 + 0.1 * abs(said.mean)
    assert 0.85 < sum(abs(one) <= said.most for one in moved) / len(moved) <= 1


def test_overload_is_said_not_hidden():
    stream = Stream(10_000, 10.0, 0.0, Landing("head"))
    assert not expect_drift("offset", stream, 20, 5, 10).holds
    assert not expect_drift("offset", stream, 110, 5, 10).holds
    assert expect_drift("offset", stream, 200, 5, 10).holds


def planned(engine, deletes=3.0, params=None, **settings):
    listing = Listing(
        select(capture.c.ring).where(capture.c.station_id == bindparam("station")),
        name="grid",
        orders="-caught_at",
        sizes=Sizes(20),
        **settings,
    )
    return vrelko.plan(
        listing,
        vrelko.survey(engine, listing),
        readers=Readers(dwell_s=20, depth=Depth(mean=6)),
        writers=Writers(12, deletes, Landing("late", 1800)),
        needs=Needs(repeats=0, misses=0),
        params={"station": 2} if params is None else params,
    )


STEADY = ("keyset", "frozen-ids", "frozen-view")


def by_strategy(result):
    return {one.strategy: one for one in result.replayed}


@pytest.mark.slow
def test_replay_counts_what_the_forms_expect(own_larkmere):
    def digest():
        with open(own_larkmere.url.database, "rb") as file:
            return hashlib.sha256(file.read()).hexdigest()

    before = digest()
    plan = planned(own_larkmere)
    seen = []
    result = vrelko.drift(
        plan, own_larkmere, walks=40, seed=3, progress=seen.append, simulations=30
    )
    assert sum(seen) == 40
    strategies = by_strategy(result)
    offset, keyset = strategies["offset"], strategies["keyset"]
    expected = {one.strategy: one for one in result.expected}
    assert (keyset.repeats, keyset.misses) == (0, 0)
    assert keyset.unseen > 0
    assert keyset.served == keyset.walks * keyset.pages * 20
    mean = offset.repeats / offset.walks
    assert abs(mean - expected["offset"].repeats) < 4 * offset.repeats_error + 0.5
    assert all(one.alike for one in result.replayed)
    assert set(strategies) == set(DRIFT_STRATEGIES)
    assert vrelko.drift(plan, own_larkmere, walks=40, seed=3, simulations=30) == result
    assert digest() == before


@pytest.mark.slow
def test_deletes_alone_make_offset_miss(own_larkmere):
    plan = planned(own_larkmere, deletes=400.0)
    found = by_strategy(vrelko.drift(plan, own_larkmere, walks=20, simulations=5))
    assert found["ceiling"].misses >= found["offset"].misses > 0
    for strategy in ("keyset", "frozen-ids", "frozen-view"):
        assert (found[strategy].repeats, found[strategy].misses) == (0, 0)


@pytest.mark.slow
def test_replay_of_other_orders(own_larkmere):
    """NULLs, ties and mixed directions: by key nothing repeats, nothing is missed."""
    for order in ("weight_g", "-status,ring", "station_id,-caught_at,id"):
        listing = Listing(select(capture.c.id), name=order, orders=order, sizes=Sizes(15))
        plan = vrelko.plan(
            listing,
            vrelko.survey(own_larkmere, listing),
            Readers(dwell_s=10, depth=Depth(mean=8)),
            Writers(60, 60, Landing("uniform")),
        )
        found = by_strategy(vrelko.drift(plan, own_larkmere, walks=5, simulations=5))
        assert (found["keyset"].repeats, found["keyset"].misses) == (0, 0)
        assert all(one.alike for one in found.values())


@pytest.mark.slow
@pytest.mark.parametrize("lands", [Landing("uniform"), Landing("head"), Landing("late", 90)])
def test_replays_on_each_server_equal_the_simulator(larkmere, server, lands):
    """Every count of every walk: moves, dead rows, late rows, overload, short last pages."""
    listing = Listing(
        select(capture.c.id).where(capture.c.station_id == 9),
        name="few",
        orders="-wing_mm:nulls-last,-id",
        sizes=Sizes(12),
    )
    facts = vrelko.survey(larkmere, listing)
    for rates in ((120, 40, 60), (900, 10, 0), (5, 600, 400)):
        writers = Writers(rates[0], rates[1], lands, moves_per_minute=rates[2])
        plan = vrelko.plan(listing, facts, Readers(dwell_s=4, depth=Depth(mean=9)), writers)
        found = vrelko.drift(
            plan, larkmere, walks=2, seed=rates[0], copy=server, simulations=5
        ).replayed
        assert all(one.alike for one in found)
        held = can_hold_view(server)  # not of the one connection to a database in memory
        assert {one.strategy for one in found} == set(DRIFT_STRATEGIES) - (
            set() if held else {"frozen-view"}
        )
        assert all(one.misses == 0 for one in found if one.strategy in STEADY)
    assert not inspect(server).has_table("capture")
    with pytest.raises(DatabaseError, match="already has a table"):
        vrelko.drift(plan, larkmere, walks=1, copy=larkmere)


def replayed(listing, source, copy):
    """What readers of a listing meet on a copy of its rows."""
    plan = vrelko.plan(listing, vrelko.survey(source, listing), Readers(dwell_s=5), Writers(30, 30))
    found = vrelko.drift(plan, source, walks=1, copy=copy, simulations=2).replayed
    assert all(one.alike for one in found)
    return found


def test_rows_are_replayed_on_another_engine_and_back(tmp_path, server):
    """With what tables do by themselves: keys from 0, defaults, computed columns, indexes."""
    table = Table(
        "remark",
        MetaData(),
        Column("id", Integer, primary_key=True),
        Column("said", Text, index=True, server_default="nothing"),
        Column("at", DateTime, server_default=func.current_timestamp()),
        Column("loud", Text, Computed("upper(said)", persisted=True)),
        Column("share of all", Double, key="share"),
        Column("kind", Enum("call", "song", name="remark_kind")),
    )
    file, plain = (create_engine(f"sqlite:///{tmp_path / name}") for name in ("own.db", "copy.db"))
    listing = Listing(select(table), name="remarks", orders="-at,-id", sizes=Sizes(10))
    for source in (file, server):
        table.metadata.create_all(source)
        rows = [{"id": n, "said": f"remark {n}", "share": n / 7, "kind": "song"} for n in range(90)]
        rows = rows[source is server :]  # MariaDB itself gives a key of 0 the next number
        with source.begin() as connection:
            connection.execute(table.insert(), rows)
    replayed(listing, file, None)
    replayed(listing, server, plain)
    table.metadata.drop_all(server)
    found = replayed(listing, file, server)
    assert ("frozen-view" in {one.strategy for one in found}) == can_hold_view(server)
    # Not in WAL mode, where a view that is held keeps others from writing.
    found = replayed(listing, file, plain)
    assert "frozen-view" not in {one.strategy for one in found}
    for copy in (server, plain):
        assert not inspect(copy).has_table("remark")


def test_a_reflected_table_is_replayed_on_another_engine(server, tmp_path):
    own = {"postgresql": ("double precision", "numeric"), "mariadb": ("set('a', 'b')", "year")}
    first, second = own.get(server.dialect.name, ("DOUBLE(53)", "NUMERIC"))
    with server.begin() as connection:
        connection.exec_driver_sql(f"CREATE TABLE odd (id INT PRIMARY KEY, a {first}, b {second})")
        for n in range(1, 40):
            connection.exec_driver_sql(f"INSERT INTO odd (id) VALUES ({n})")
    copy = create_engine(f"sqlite:///{tmp_path / 'copy.db'}")
    # In Python, and as pages files and commands do; twice, as reports and a second run do.
    for table in (
        Table("odd", MetaData(), autoload_with=server),
        reflect_table(tmp_path, server, "odd", "odd"),
    ):
        listing = Listing(select(table), name="odd", orders="-id", sizes=Sizes(10))
        for _ in range(2):
            replayed(listing, server, copy)
    table.drop(server)


def test_rows_are_put_back_as_they_were_stored(tmp_path):
    """SQLite keeps what other programs wrote: times without a fraction, as keys too."""
    source = create_engine(f"sqlite:///{tmp_path / 'own.db'}")
    with source.begin() as connection:
        connection.exec_driver_sql(
            "CREATE TABLE log (at TIMESTAMP PRIMARY KEY, seen DATETIME, kilos DECIMAL(8, 2), "
            "twice REAL GENERATED ALWAYS AS (kilos * 2) STORED)"
        )
        for minute in range(60):
            connection.exec_driver_sql(
                f"INSERT INTO log VALUES ('2026-07-01 10:{minute:02}:00', '2026-07-01', '{minute}')"
            )
    table = Table("log", MetaData(), autoload_with=source)
    for order in ("-at", "-seen,-at", "kilos", "-twice"):
        found = replayed(
            Listing(select(table), name="log", orders=order, sizes=Sizes(10)), source, None
        )
        assert {one.strategy for one in found} >= {"offset", "keyset", "frozen-ids", "frozen-view"}


def test_a_copy_that_sorts_otherwise_is_refused_and_leaves_nothing(tmp_path, server):
    word = Column("word", String(20, collation="NOCASE"), primary_key=True)
    table = Table("word", MetaData(), word)
    source = create_engine(f"sqlite:///{tmp_path / 'words.db'}")
    table.metadata.create_all(source)
    with source.begin() as connection:
        connection.execute(table.insert(), [{"word": one} for one in ("b", "C", "a", "D")])
    listing = Listing(select(table), name="words", orders="word")
    if server.dialect.name == "sqlite":
        replayed(listing, source, server)
    else:
        with pytest.raises(DatabaseError, match="sorts them otherwise"):
            replayed(listing, source, server)
    assert not inspect(server).has_table("word")


def test_a_table_that_a_copy_cannot_have_is_refused_and_leaves_nothing(server, tmp_path):
    kind = ARRAY(Integer) if server.dialect.name == "postgresql" else Text()
    table = Table("odd", MetaData(), Column("id", Integer, primary_key=True), Column("kind", kind))
    table.metadata.create_all(server)
    with server.begin() as connection:
        connection.execute(table.insert(), [{"id": n} for n in range(1, 30)])
    copy = create_engine(f"sqlite:///{tmp_path / 'copy.db'}")
    if server.dialect.name != "postgresql":
        # Of the same engine a copy keeps indexes: MariaDB has the table by then, and no such index.
        Index("by_odd", table.c.kind, mariadb_prefix="SPATIAL")
        with copy.begin() as connection:
            connection.exec_driver_sql("CREATE TABLE other (id INTEGER)")
            connection.exec_driver_sql("CREATE INDEX by_odd ON other (id)")
    if server.dialect.name == "mariadb":
        with server.begin() as connection:
            connection.exec_driver_sql(f"CREATE DATABASE IF NOT EXISTS {server.url.database}_other")
        copy = create_engine(server.url.set(database=f"{server.url.database}_other"))
    with pytest.raises(DatabaseError, match=r"copied to \w+, which refuses"):
        replayed(Listing(select(table), name="odd", orders="-id"), server, copy)
    assert not inspect(copy).has_table("odd")
    copy.dispose()
    table.indexes.clear()
    table.metadata.drop_all(server)
    if server.dialect.name == "mariadb":
        with server.begin() as connection:
            connection.exec_driver_sql(f"DROP DATABASE {server.url.database}_other")


@pytest.mark.slow
def test_what_cannot_be_replayed_says_why(larkmere, tmp_path):
    with pytest.raises(PageError, match="'station' is missing"):
        vrelko.drift(planned(larkmere, params={}), larkmere)
    assert vrelko.drift(planned(larkmere, params={}), simulations=5).replayed == ()
    with pytest.raises(DatabaseError, match="SQLite file"):
        vrelko.drift(planned(larkmere), create_engine("sqlite://"))
    keyless = Table("t", MetaData(), Column("n", Integer))
    engine = create_engine(f"sqlite:///{tmp_path / 'keyless.db'}")
    keyless.create(engine)
    listing = Listing(select(keyless), orders="n", unique=["n"])
    with pytest.raises(ListingError, match="primary key"):
        vrelko.drift(vrelko.plan(listing, vrelko.survey(engine, listing)), engine)
    engine.dispose()


@given(came=st.floats(0, 30), went=st.floats(0.1, 30), chance=st.floats(0.001, 0.3))
def test_an_overlap_is_the_least_that_keeps_to_its_chance(came, went, chance):
    """Held against the sum over the difference of two Poisson variables, on one boundary."""
    rows, size = 1e9, 1_000_000
    hazard = -math.log1p(-went / size)
    stream = Stream(rows, came, hazard * rows, Landing("head"))
    k = overlap_for(stream, size, 2, 1.0, chance)

    def behind(k):
        mean = size * -math.expm1(-hazard)
        return sum(
            poisson_or_one(came, i) * poisson(mean, j)
            for i in range(90)
            for j in range(i + k + 1, 160)
        )

    assert behind(k) <= chance * (1 + 1e-6)
    assert k == 0 or behind(k - 1) > chance * (1 - 1e-6)


def poisson_or_one(mean, k):
    return float(k == 0) if mean == 0 else poisson(mean, k)


def lost_by_hand(groups, size, pages):
    """Rows that pages lose a boundary which go on behind the last value, ties or not."""
    rows = [value for value, group in enumerate(groups) for _ in range(group)]
    lost, last = 0, -1
    for _ in range(pages):
        left = [value for value in rows if value > last]
        last = left[size - 1]
        lost += left[size:].count(last)
    return lost / pages


@given(group=st.integers(1, 12), size=st.integers(1, 30))
def test_rows_lost_by_equal_ties(group, size):
    assert lost_by_hand([group] * 400, size, 9) == lost_by_equal_ties(group, size)


def test_rows_lost_by_scattered_ties():
    rng = random.Random(4)
    groups = [sum(rng.random() < 0.006 for _ in range(1_000)) for _ in range(2_000)]
    assert lost_by_hand(groups, 25, 300) == pytest.approx(lost_by_ties(6), rel=0.1)


@given(rows=st.integers(0, 300), size=st.integers(1, 30))
def test_rows_left_by_a_worker_who_drains_its_filter(rows, size):
    waiting, page = list(range(rows)), 0
    while part := waiting[page * size : (page + 1) * size]:
        waiting = [row for row in waiting if row not in part]
        page += 1
    assert len(waiting) == left_by_draining(rows, size)
