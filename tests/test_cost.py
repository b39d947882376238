"""Cost: the arithmetic of works and rates, by themselves and on three engines."""

import math
import random
from dataclasses import replace
from functools import partial

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import spearmanr
from sqlalchemy import (
    BigInteger,
    Column,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    func,
    insert,
    select,
    text,
)

import vrelko
from clocks import ENOUGH_MS
from exposed import Listing
from servers import missing
from vrelko import Sizes, Spot
from vrelko.core.cost.calibration import Timing, fit_rates
from vrelko.core.cost.rates import Clock, feature_names, shipped_rates
from vrelko.core.cost.work import NO_WORK, Work
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ColumnFacts, ServerFacts
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.core.insert_price import insert_us
from vrelko.core.sample_estimates import (
    common_values,
    correlate,
    judge_neighbours,
    share_bounds,
)
from vrelko.engines.counters import count_reads
from vrelko.engines.paths import Reader
from vrelko.measuring.calibrate import calibrate
from vrelko.measuring.engines import count_work
from vrelko.measuring.trials import Bench
from vrelko.sql.parameters import key_parameters

ROWS = 12_000
meta = MetaData()
key = BigInteger().with_variant(Integer, "sqlite")
t = Table(
    "costed",
    meta,
    Column("id", key, primary_key=True),
    Column("g", Integer, nullable=False),
    Column("k", Integer, nullable=False),
    Column("w", Integer),
    Column("pad", String(80)),
    Index("costed_k", "k", "id"),
    Index("costed_g", "g", "k", "id"),
)


@pytest.fixture(scope="module")
def filled(server):
    with server.connect() as connection:
        meta.create_all(connection)
        rows = [
            {
                "id": i,
                "g": i * i % 997 % 10,
                "k": i * 7919 % ROWS,
                "pad": "x" * 70,
                "w": None if i % 4 == 0 else i % 50,
            }
            for i in range(1, ROWS + 1)
        ]
        connection.execute(insert(t), rows)
        connection.commit()
    name = server.dialect.name
    with server.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        if name == "postgresql":
            connection.execute(text("VACUUM ANALYZE costed"))
        elif name == "mariadb":
            connection.execute(text("ANALYZE TABLE costed")).all()
    yield server
    with server.begin() as connection:
        meta.drop_all(connection)


def grid(**settings):
    usual = {"orders": "k", "sizes": Sizes(20), "total": "capped", "cap": 500, "name": "grid"}
    return Listing(
        select(t.c.id, t.c.k, t.c.pad).where(t.c.g == bindparam("g")), **{**usual, **settings}
    )


def planned(engine, listing, params):
    facts = vrelko.survey(engine, listing, budget_ms=ENOUGH_MS)
    return vrelko.plan(listing, facts, params=params, engine=engine, budget_ms=ENOUGH_MS)


def test_facts_of_each_engine(filled):
    facts = vrelko.survey(filled, "costed", budget_ms=ENOUGH_MS)
    table = facts.table("costed")
    assert table.rows == pytest.approx(ROWS, rel=0.05)
    assert 80 < table.row_bytes < 200
    shown = {index.name: index.text for index in table.indexes}
    assert shown["costed_k"] == "k, id"
    assert table.primary_key == ("id",)
    assert table.column("g").distinct == pytest.approx(10)
    assert table.column("w").null_share == pytest.approx(0.25, abs=0.06)
    assert table.column("k").share_below(ROWS // 4) == pytest.approx(0.25, abs=0.08)
    assert facts.server.settings
    if filled.dialect.name != "mariadb":  # where rows are sought by key, wherever they lie
        by_k = next(index for index in table.indexes if index.name == "costed_k")
        place = by_k.switches if filled.dialect.name == "postgresql" else 1 - by_k.consecutive
        assert place > 0.9
    assert vrelko.Facts.from_json(facts.to_json()) == facts


def test_estimates_hold_on_each_engine(filled):
    """Near the counts of the engine's own counter, for each strategy, near and deep."""
    plan = planned(filled, grid(), {"g": 4})
    assert plan.judgement.paths_explained
    measured = vrelko.measure(filled, plan, readers=2, budget_ms=ENOUGH_MS)
    assert len(measured.memory) == (2 if filled.dialect.name == "sqlite" else 4)
    assert {page.strategy for page in measured.pages} >= {"offset", "keyset", "whole"}
    last = plan.judgement.pages  # whose rows the estimate of all rows decides
    for page in measured.pages:
        if page.page < last - 1:
            assert page.ratio == pytest.approx(1, abs=0.45), page


def test_a_server_tells_where_it_leaves_the_index(filled):
    """The depth at which EXPLAIN changes, found in few questions, is where it does change."""
    listing = Listing(select(t), orders="k", total="none", name="all", sizes=Sizes(20))
    plan = planned(filled, listing, {})
    switch = plan.judgement.switch
    if filled.dialect.name == "sqlite":
        assert switch is None
        return
    if switch is None:
        return
    with filled.connect() as connection:
        bench = Bench(connection, plan)
        for offset, path in ((switch * 0.95 - 20, bench.model.path), (switch * 1.05, None)):
            work = bench.model.offset(offset, 20)
            assert bool(work.sorted_rows) == (path is None)
            trial = bench.page("offset", int(offset), 20)
            assert count_work(connection, trial) == pytest.approx(
                count_expected(filled, trial), rel=0.3
            )


@pytest.mark.engines("postgresql")
def test_the_levels_of_indexes_are_the_blocks_of_a_seek(filled):
    table = vrelko.survey(filled, "costed").table("costed")
    levels = {index.name: index.levels for index in table.indexes}
    with filled.connect() as connection:
        for name, column in (("costed_pkey", t.c.id), ("costed_k", t.c.k)):
            one = select(t.c.pad).where(column == 77)
            connection.execute(one).all()
            reads = count_reads(connection, lambda one=one: connection.execute(one).all())
            assert reads.blocks == levels[name] + 1


def test_a_server_tells_where_it_leaves_the_index_behind_a_key(filled):
    """By keys from its own statistics: what the plan says is what EXPLAIN of such a page says."""
    listing = grid(sizes=Sizes(300, max=None))
    model = planned(filled, listing, {"g": 0}).usual_model()
    routes = model.routes
    if filled.dialect.name != "postgresql":
        assert routes.seek_deep == ()
        return
    (turn,) = routes.seek_deep
    assert turn.path.signature != routes.seek.signature
    assert 0 < turn.row < model.matching
    with filled.connect() as connection:
        variant = listing.lent_variant(connection, None, {"g": 0})
        for offset, path in ((0.05, routes.seek), (0.99, turn.path)):
            key = (int(offset * ROWS), 1)
            (statement,) = variant.seek(key, False, True)
            limited = variant.limited(statement, 301)
            given = {"g": 0, **key_parameters(key)}
            seen = Reader.of(connection, "costed").path(limited, given)
            assert (seen.scan, seen.sorts == "all") == (path.scan, path.kind == "sorted")
    deep, near = (model.keyset(301, at=at) for at in (turn.unsure[1] + 1, 10.0))
    assert deep.sorted_rows > 0 == near.sorted_rows


@pytest.mark.engines("postgresql")
def test_keys_of_mixed_directions_take_a_statement_a_range(server):
    """As many as are run, where ties are few and where they fill a page; with their blocks."""
    mixed = Table(
        "mixed",
        MetaData(),
        Column("id", key, primary_key=True),
        Column("few", Integer, nullable=False),
        Column("many", Integer, nullable=False),
        Column("pad", String(60)),
        Index("mixed_few", text("few DESC"), "id"),
        Index("mixed_many", text("many DESC"), "id"),
    )
    rows = [{"id": i, "few": i // 4, "many": i // 2_000, "pad": "x" * 50} for i in range(1, 8_001)]
    with server.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        mixed.create(connection)
        connection.execute(insert(mixed), rows)
        connection.execute(text("VACUUM ANALYZE mixed"))
    with server.connect() as connection:
        for name, group, statements in (("few", 4, 2), ("many", 2_000, 1)):
            listing = Listing(select(mixed), orders=[f"-{name},id"], sizes=Sizes(20), name=name)
            expected = planned(server, listing, {}).usual_model().keyset(21, at=1_000)
            assert expected.statements == pytest.approx(statements, abs=0.1)
            read = partial(
                listing.read, connection, Spot.after((7_000 // group, 7_001)), total=False
            )
            assert len(read().statements) == statements
            assert count_reads(connection, read).blocks == pytest.approx(expected.blocks, abs=3)
    with server.begin() as connection:
        mixed.drop(connection)


def test_pages_from_the_nearer_end_skip_the_fewest_rows(filled):
    listing = Listing(select(t.c.id), orders="id", sizes=Sizes(100), strategy="two-ended")
    with filled.connect() as connection:
        for offset in (5_900, 5_950, 5_951, 6_000, 11_000, ROWS - 1):
            page = listing.read(connection, Spot.offset(offset))
            assert page.scalars() == list(range(offset + 1, min(offset + 101, ROWS + 1)))
            skipped = page.statements[-1].values["vrelko_offset"]
            assert skipped == min(offset, max(ROWS - offset - 100, 0))


def test_values_of_a_set_are_counted(filled):
    """The shares of a listing's own values are exact where an index leads to them."""
    among = Listing(
        select(t.c.id, t.c.k).where(t.c.g.in_([0, 4, 77])),
        name="among",
        orders="k",
        sizes=Sizes(20),
    )
    column = vrelko.survey(filled, among).table("costed").column("g")
    with filled.connect() as connection:
        for value in (0, 4, 77):
            rows = connection.scalar(select(func.count()).where(t.c.g == value))
            assert column.share_of(value) == pytest.approx(rows / ROWS, rel=0.06)


@given(few=st.integers(2, 90), many=st.integers(200, 900), seed=st.integers(0, 9))
def test_common_values_stand_out_by_more_than_chance(few, many, seed):
    rng = random.Random(seed)
    listed = common_values([rng.randrange(few) for _ in range(2_000)])
    assert sum(share for _, share in listed) == pytest.approx(1)
    alike = [rng.randrange(many) for _ in range(2_000)]
    assert len(common_values(alike)) <= 3
    assert common_values([*alike, *[-1] * 60])[0][0] == "-1"


def count_expected(engine, trial):
    from vrelko.core.cost.counted import counted_as

    return counted_as(engine.dialect.name, trial.estimate)


def test_calibration_times_a_few_pages(filled):
    plan = planned(filled, grid(), {"g": 4})
    rates = calibrate(filled, plan)
    assert rates.calibrated
    assert set(rates.us) == set(TRAITS[filled.dialect.name].prices.us)
    again = plan.with_rates(rates)
    assert again.judgement.rates.us == rates.us  # bounds are wider where statistics are stale
    assert again.candidates[0].sql == plan.candidates[0].sql
    without = grid(name="nothing given")
    assert not calibrate(filled, planned(filled, without, {})).calibrated


SERVER = ServerFacts("postgresql", "15", 8192)


@given(seed=st.integers(0, 10**6), speed=st.floats(0.2, 5))
def test_calibration_finds_the_speed_of_a_machine(seed, speed):
    """Timings made from scaled rates are foretold for works that were not timed."""
    rng = random.Random(seed)
    clock = Clock(shipped_rates("postgresql"), SERVER)

    def some_work():
        return Work(
            **{
                name: rng.choice([0, rng.uniform(1, 3_000)])
                for name in feature_names("postgresql")
                if name not in ("statements", "gathered")
            }
        )

    works = [some_work() for _ in range(5)]
    timings = [Timing(work, clock.ms(work) * speed, "index") for work in works]
    fitted = Clock(fit_rates(clock, timings), SERVER)
    held_out = some_work()
    # What is known of other machines holds the speed back: by 2.1 % at most in 800 trials.
    assert fitted.ms(held_out) == pytest.approx(clock.ms(held_out) * speed, rel=0.04)
    time = fitted.time(held_out, path="index")
    assert time.low < time.ms < time.high
    unseen = fitted.time(held_out, path="bitmap sort")
    assert unseen.high > time.high
    rare = fitted.time(Work(rows=10, entries=1_000), passing=0.01, path="index")
    assert rare.high / rare.ms > time.high / time.ms


def test_works_add_up():
    one = Work(entries=3, rows=2)
    assert (one + NO_WORK) == one
    assert one.times(2).entries == 6
    assert (one + one).statements == 2
    cold = Clock(shipped_rates("sqlite"), SERVER).when_cold()
    assert cold.ms(Work(misses=1_000)) > Clock(shipped_rates("sqlite"), SERVER).ms(Work(misses=9))


@given(st.lists(st.integers(0, 1_000), min_size=300, max_size=600), st.integers(0, 1_000))
def test_bounds_tell_the_share_below(values, point):
    column = ColumnFacts("x", "integer", False, bounds=share_bounds(values, ()))
    truth = sum(value < point for value in values) / len(values)
    assert column.share_below(point) == pytest.approx(truth, abs=0.12)


def test_neighbours():
    near = judge_neighbours([[1, 1, 1, 2, 2], [7, 7, 8, 8, 8]], 10_000)
    assert (near.switches, near.far) == (0.25, 0.0)
    ids = judge_neighbours([list(range(5, 60))], 10_000)
    assert ids.consecutive == 1.0
    rng = random.Random(1)
    apart = judge_neighbours([[rng.randrange(10_000) for _ in range(64)] for _ in range(8)], 10_000)
    assert apart.switches > 0.99
    assert apart.far == pytest.approx(1, abs=0.05)
    assert judge_neighbours([], 10) is None
    assert math.isfinite(judge_neighbours([[1, 2]], 1).far)


@pytest.mark.engines("postgresql")
def test_indexes_are_tried_as_hypothetical_ones(filled):
    with filled.begin() as connection:
        known = text("SELECT 1 FROM pg_available_extensions WHERE name = 'hypopg'")
        if connection.scalar(known) is None:
            missing("hypopg", "hypopg is not installed: apt install postgresql-15-hypopg")
        connection.execute(text("CREATE EXTENSION hypopg"))
    plan = planned(filled, grid(orders="-w:nulls-last"), {"g": 4})
    assert len(plan.indexes) == 1
    assert "w NULLS FIRST" in plan.indexes[0].sql  # read backward
    (tried,) = vrelko.try_indexes(filled, plan).indexes
    assert tried.judged == "hypothetical index, which the server takes"
    assert tried.after.sorted_rows == 0 < tried.before.sorted_rows
    with filled.connect() as connection:
        found = text("SELECT count(*) FROM pg_class WHERE relname LIKE '%by_g_w%'")
        assert connection.scalar(found) == 0


@pytest.mark.slow
def test_selects_that_cannot_be_read_are_costed_whole(filled):
    """GROUP BY, DISTINCT, a limit of its own: rows as the server estimates, work at most that."""
    limited = select(t.c.id, t.c.k).where(t.c.g == 3).order_by(t.c.id).limit(200)
    grouped = select(t.c.g, func.count().label("rows")).group_by(t.c.g)
    for name, one, orders in (("limited", limited, "k,id"), ("grouped", grouped, "g")):
        listing = Listing(one, name=name, orders=orders, sizes=Sizes(5), total="none")
        plan = planned(filled, listing, {})
        assert {finding.code for finding in plan.findings} >= {"select-opaque"}
        assert plan.indexes == ()
        found = vrelko.measure(filled, plan, budget_ms=ENOUGH_MS)
        assert all(page.rows >= 0 for page in found.pages)
        if filled.dialect.name == "postgresql":
            assert plan.judgement.rows == pytest.approx(200 if name == "limited" else 10, rel=0.5)


@pytest.mark.slow
def test_conditions_that_cannot_be_read_are_estimated_by_the_server(filled):
    condition = t.c.k + t.c.g > ROWS - 500
    listing = Listing(select(t.c.id), orders="id", name="sum", total="none")
    narrowed = Listing(select(t.c.id).where(condition), orders="id", name="sum", total="none")
    assert "condition-unread" not in {f.code for f in planned(filled, listing, {}).findings}
    plan = planned(filled, narrowed, {})
    assert "condition-unread" in {finding.code for finding in plan.findings}
    assert plan.judgement.rows <= ROWS * 1.05


def test_ways_that_are_costed_before_they_are_served(filled):
    """A page of a list of ids costs a page of seeks."""
    plan = planned(filled, grid(), {"g": 4})
    with filled.connect() as connection:
        model = Bench(connection, plan).model
    # Fitted rates hang on the machine.
    clock = Clock(shipped_rates(plan.facts.server.engine), plan.facts.server)
    page = clock.ms(model.keyset(21))
    assert clock.ms(model.frozen_ids(20)) < 4 * page
    assert clock.ms(model.freeze()) > clock.ms(model.frozen_ids(20))
    assert model.whole().rows == pytest.approx(model.matching)


@given(
    st.lists(st.tuples(st.integers(0, 50), st.none() | st.integers(0, 50)), max_size=80),
)
def test_correlations_are_those_of_ranks(pairs):
    places, values = [p for p, _ in pairs], [v for _, v in pairs]
    found = correlate(places, values)
    full = [(p, v) for p, v in pairs if v is not None]
    if len(full) < 30 or any(len({pair[i] for pair in full}) == 1 for i in (0, 1)):
        assert found is None
    else:
        assert found == pytest.approx(spearmanr(*zip(*full, strict=True))[0], abs=1e-3)
    assert correlate(range(40), [i if i % 2 else str(i) for i in range(40)]) is None


def test_inserts_pay_for_the_leaves_they_are_spread_over(filled):
    facts = vrelko.survey(filled, "costed")
    table = facts.table("costed")
    assert table.column("id").correlation == pytest.approx(1, abs=0.01)
    kinds = {"g": ("integer", 20.0), "k": ("integer", 1e6), "pad": ("varchar(80)", 1e6)}
    columns = (
        table.column("id"),
        *(ColumnFacts(n, k, False, distinct=d) for n, (k, d) in kinds.items()),
    )
    big = replace(table, rows=3_000_000.0, columns=columns)

    def price(*names, of=big, server=facts.server):
        columns = tuple(IndexColumn(name) for name in names)
        return insert_us(IndexFacts("i", columns, entry_bytes=30.0), of, server)

    growing, groups, spread, texts = (price(*n) for n in (("id",), ("g", "id"), ("k",), ("pad",)))
    assert growing < groups < spread < texts
    assert price("k", of=replace(big, rows=1.0)) == growing  # one leaf is one place
    small = replace(facts.server, cache_bytes=1 << 20)
    assert price("id", server=small) == growing
    assert price("k", server=small) > spread
