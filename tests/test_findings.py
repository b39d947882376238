"""Every finding, seen and not seen, on facts written by hand: no database is needed."""

import json
from dataclasses import replace

import pytest
from sqlalchemy import (
    BigInteger,
    Column,
    DateTime,
    Double,
    Integer,
    MetaData,
    Numeric,
    String,
    Table,
    bindparam,
    create_engine,
    func,
    select,
)

import vrelko
from exposed import Listing
from vrelko import Depth, Facts, Landing, Needs, Readers, Sizes, Writers
from vrelko.core.cost.checks import Count, make_check
from vrelko.core.findings import CODES

visit = Table(
    "visit",
    MetaData(),
    Column("id", BigInteger, primary_key=True),
    Column("site", Integer, nullable=False),
    Column("kind", Integer, nullable=False),
    Column("seen_at", DateTime, nullable=False),
    Column("changed_at", DateTime, nullable=False),
    Column("weight", Double),
    Column("fee", Numeric(8, 2), nullable=False),
    Column("label", String(40), nullable=False),
)
c = visit.c


def facts(engine="postgresql", settings=None, **table):
    """Facts as a person writes them down."""
    columns = [
        {"name": "id", "type": "bigint", "distinct": 1e6, "nullable": False},
        {"name": "site", "type": "integer", "distinct": 50},
        {"name": "kind", "type": "integer", "distinct": 500},
        {"name": "seen_at", "type": "timestamp", "distinct": 9e5},
        {"name": "changed_at", "type": "timestamp", "distinct": 9e5},
        {"name": "weight", "type": "double precision", "distinct": 1e3, "null_share": 0.2},
        {"name": "fee", "type": "numeric(8,2)", "distinct": 1e3},
        {"name": "label", "type": "character varying(40)", "distinct": 9e5},
    ]
    given = {
        "name": "visit",
        "rows": 1_000_000,
        "columns": columns,
        "primary_key": ["id"],
        "indexes": [
            {"name": "visit_pkey", "columns": ["id"], "unique": True},
            {"name": "by_seen", "columns": ["seen_at", "id"]},
            {"name": "by_changed", "columns": ["changed_at", "id"]},
            {"name": "by_fee", "columns": ["fee", "id"]},
            {"name": "by_label", "columns": ["label", "id"]},
        ],
        **table,
    }
    server = {"engine": engine, "settings": settings or {}}
    return Facts.from_dict({"schema": "vrelko.facts/1", "server": server, "tables": [given]})


def listing(orders="seen_at,id", where=None, **settings):
    chosen = select(c.id, c.seen_at)
    if where is not None:
        chosen = chosen.where(where)
    return Listing(chosen, orders=orders, total="none", sizes=Sizes(25), **settings)


def codes(given, known=None, **plan):
    return {finding.code for finding in vrelko.plan(given, known or facts(), **plan).findings}


def misread():
    """The findings of a plan whose first page was counted otherwise than predicted."""
    plan = vrelko.plan(listing(), facts())
    check = make_check(
        "offset",
        [Count(offset=0, size=25, predicted=30, counted=9_000, ms=3.0, rows=25)],
        "",
        plan.facts.server.engine,
    )
    (use,) = plan.uses
    counted = plan.verified((replace(use, checks=(check,)),), plan.judgement.rates, 5.0)
    return {finding.code for finding in counted.findings}


def without_anchors():
    """The findings of a plan on a database where nobody built the anchors."""
    engine = create_engine("sqlite://")
    visit.create(engine)
    return codes(listing(jumps="anchors"), engine=engine)


NUMBERS = list(range(100))
SEEN = {
    "no-order": lambda: codes(Listing(select(c.id), total="none")),
    "unique-false": lambda: codes(listing("site,kind", unique=["site", "kind"])),
    "plan-misread": misread,
    "order-ties": lambda: codes(listing("seen_at")),
    "no-fitting-index": lambda: codes(listing("site,id")),
    "size-unbounded": lambda: codes(
        Listing(select(c.id), orders="id", total="none", sizes=Sizes(25, max=None))
    ),
    "count-each-request": lambda: codes(
        Listing(select(c.id), orders="id", total="exact", count="each")
    ),
    "deep-offset": lambda: codes(listing(strategy="offset")),
    "slow-jumps": lambda: codes(listing(), readers=Readers(depth=Depth(jumps=0.1))),
    "anchors-outrun": lambda: codes(
        listing(jumps="anchors"), needs=Needs(jump=True),
        writers=Writers(inserts_per_minute=900_000),
    ),
    "anchors-missing": without_anchors,
    "whole-table": lambda: codes(Listing(select(c.id), orders="id", kind="choices")),
    "mixed-directions": lambda: codes(listing("-site,id")),
    "nulls-in-order": lambda: codes(listing("weight:nulls-first,id")),
    "filter-outside-index": lambda: codes(listing(where=c.site == 3)),
    "low-selectivity": lambda: codes(listing(where=c.kind == 3)),
    "set-too-large": lambda: codes(listing(where=c.site.in_(NUMBERS))),
    "path-switch": lambda: codes(
        Listing(select(visit), orders="seen_at,id", total="none"), facts("mariadb"),
        readers=Readers(depth=Depth(jumps=0.1)),
    ),
    "generic-plan": lambda: codes(listing(where=c.kind == bindparam("kind"))),
    "moving-key": lambda: codes(
        listing("changed_at,id"), writers=Writers(moves_per_minute=5, moving=("changed_at",))
    ),
    "draining-filter": lambda: codes(
        listing(where=c.kind == 3), writers=Writers(moves_per_minute=5, moving=("kind",))
    ),
    "lagging-replica": lambda: codes(
        listing(), facts(settings={"replica": "yes", "replica_lag_s": "8.5"})
    ),
    "periods-unindexed": lambda: codes(
        listing(periods="changed_at"), facts(indexes=[{"name": "by_seen", "columns": ["seen_at"]}])
    ),
    "computed-order": lambda: codes(
        Listing(
            select(c.id, func.abs(c.site).label("far")), orders="far,id", total="none", expose=True
        )
    ),
    "text-order": lambda: codes(listing("label,id")),
    "float-key": lambda: codes(listing("weight,id")),
    "row-security": lambda: codes(listing("fee,id"), facts(row_security=True)),
    "statistics-stale": lambda: codes(listing(), facts(changed_rows=300_000)),
    "dead-rows": lambda: codes(listing(), facts(dead_rows=300_000)),
    "select-opaque": lambda: codes(
        Listing(select(c.site).distinct(), orders="site", total="none")
    ),
    "condition-unread": lambda: codes(listing(where=func.abs(c.site) > 3)),
    "not-vacuumed": lambda: codes(listing(), facts(visible_share=0.1)),
}  # fmt: skip


def test_every_code_has_a_case():
    assert set(SEEN) == set(CODES)


@pytest.mark.parametrize("code", sorted(SEEN))
def test_every_finding_is_seen(code):
    assert code in SEEN[code]()


def test_a_sound_listing_has_none():
    settings = {"plan_cache_mode": "force_custom_plan"}
    readers = Readers(depth=Depth(jumps=0.1))
    clean = codes(listing(jumps="anchors"), facts(settings=settings), readers=readers)
    assert clean == set()


def test_slow_jumps_are_told_where_anchors_help():
    """Not of few rows, where nobody jumps, of conditions that anchors cannot have, or in floods."""
    jumping = {"readers": Readers(depth=Depth(jumps=0.1))}
    assert "slow-jumps" in codes(listing(), **jumping)
    assert "slow-jumps" in codes(listing(where=c.site == bindparam("site")), **jumping)
    assert "slow-jumps" not in codes(listing())
    assert "slow-jumps" not in codes(listing(), facts(rows=20_000), **jumping)
    assert "slow-jumps" not in codes(listing(where=c.fee > bindparam("fee")), **jumping)
    flood = Writers(inserts_per_minute=900_000)
    assert "slow-jumps" not in codes(listing(), writers=flood, **jumping)
    plan = vrelko.plan(listing(), facts(), **jumping)
    then = vrelko.plan(listing(jumps="anchors"), facts(), **jumping)
    assert "jumps by counted anchors" in plan.judgement.outlook.done
    assert any("by counted anchors" in reason for reason in then.verdict.reasons)
    now, later = (
        next(one.burden.jump_ms for one in each.candidates if one.strategy == "keyset")
        for each in (plan, then)
    )
    assert 3 * later < now
    needs = Needs(jump_ms=2 * later, exact_total=True)
    asked = vrelko.plan(listing(), facts(), needs=needs)
    assert not asked.verdict.meets_needs
    assert any("a jump takes up to" in why for why in asked.verdict.reasons)
    assert any("you want an exact one" in why for why in asked.verdict.reasons)


def test_what_a_mild_case_does_not_say():
    assert "path-switch" not in codes(
        Listing(select(visit), orders="seen_at,id", total="none"), facts("mariadb")
    )
    assert "row-security" not in codes(listing(), facts(row_security=True))
    assert "text-order" not in codes(listing("label,id"), facts("mariadb"))
    by_code = json.loads(facts().to_json())
    by_code["tables"][0]["columns"][-1]["collation"] = "C"
    assert "text-order" not in codes(listing("label,id"), Facts.from_dict(by_code))
    assert "set-too-large" not in codes(listing(where=c.site.in_([1, 2, 3])))
    assert "draining-filter" not in codes(listing(where=c.kind == 3))
    prompt = facts(settings={"replica": "yes", "replica_lag_s": "0.1"})
    assert "lagging-replica" not in codes(listing(), prompt)
    assert "nulls-in-order" not in codes(listing("weight:nulls-first,id"), facts("sqlite"))


def evidence(code, given, known=None, **plan):
    found = vrelko.plan(given, known or facts(), **plan).findings
    return next(one.evidence for one in found if one.code == code)


def test_what_unsound_orders_cost_is_told_in_rows():
    feed = Readers(depth=Depth(mean=11), dwell_s=60)
    assert "loses about 100 rows" in evidence(
        "order-ties",
        listing("site"),
        facts(
            columns=[
                {"name": "site", "type": "integer", "distinct": 50_000, "nullable": False},
                {"name": "id", "type": "bigint", "distinct": 1e6, "nullable": False},
                {"name": "seen_at", "type": "timestamp", "distinct": 9e5},
            ]
        ),
        readers=feed,
    )
    moving = Writers(moves_per_minute=600, moving=("changed_at",), lands=Landing("head"))
    told = evidence("moving-key", listing("-changed_at,id"), writers=moving, readers=feed)
    assert "0 rows are seen twice and 0.83 are missed" in told
    handled = Writers(moving=("kind",))
    assert "1,000 of 2,000 rows by offset" in evidence(
        "draining-filter", listing(where=c.kind == 3), writers=handled
    )
    lag = facts(settings={"replica": "yes", "replica_lag_s": "30.0"})
    busy = Writers(inserts_per_minute=120, lands=Landing("head"))
    assert "misses 60 rows" in evidence("lagging-replica", listing(), lag, writers=busy)
    unknown = facts(settings={"replica": "yes"})
    assert "how far it lags is unknown" in evidence("lagging-replica", listing(), unknown)


def test_facts_by_hand_fill_themselves_in():
    table = facts().table("visit")
    assert table.blocks > 5_000
    assert table.row_bytes > 60
    assert [index.text for index in table.indexes][1] == "seen_at, id"
    plan = vrelko.plan(listing(), facts())
    assert plan.verdict.strategy == "keyset"
    assert not plan.judgement.paths_explained
    assert not plan.judgement.rates.calibrated
    for engine in ("sqlite", "postgresql", "mariadb"):
        deep = vrelko.plan(listing(), facts(engine)).candidates
        by_name = {one.strategy: one.ladder[-1] for one in deep}
        assert by_name["offset"].time.ms > 50 * by_name["keyset"].time.ms
        assert by_name["keyset"].work.entries < 60


def test_bounds_are_wider_where_facts_are_rough():
    def width(known):
        time = vrelko.plan(listing(), known).candidates[0].ladder[0].time
        return time.high / time.low

    usual = width(facts())
    bare = [{"name": one.name, "type": one.type} for one in facts().table("visit").columns]
    assert width(facts(columns=bare)) > 1.2 * usual
    assert width(facts(changed_rows=600_000)) > 1.2 * usual
    assert width(facts(rows_from="guessed from its blocks")) > 1.2 * usual


def test_an_index_takes_in_columns_where_jumps_gain():
    readers = Readers(depth=Depth(jumps=0.5))
    by_site = Listing(
        select(c.id, c.kind).where(c.site == 3), orders="seen_at,id", total="none", expose=True
    )
    known = facts(indexes=[{"name": "visit_pkey", "columns": ["id"], "unique": True}])
    (advice,) = vrelko.plan(by_site, known, readers=readers).indexes
    assert advice.sql.endswith("(site, seen_at, id) INCLUDE (kind)")
    (plain,) = vrelko.plan(by_site, known).indexes
    assert "INCLUDE" not in plain.sql


def test_an_order_by_an_expression_names_the_index_that_serves_it(larkmere):
    from vrelko.larkmere.schema import capture

    listing = Listing(
        select(capture.c.id).where(capture.c.station_id == bindparam("station")),
        orders=[[func.coalesce(capture.c.weight_g, 0.5)]],
        expose=True,
    )
    plan = vrelko.plan(listing, vrelko.survey(larkmere, listing), params={"station": 3})
    (fix,) = [one.fix for one in plan.findings if one.code == "computed-order"]
    assert fix.endswith(" ON capture (station_id, (coalesce(weight_g, 0.5)), id)")


@pytest.mark.parametrize("kind", ["text", "longtext", "enum('a','b')", "varchar(900)"])
def test_mariadb_is_advised_no_index_that_it_could_not_use(kind):
    """It indexes a beginning of texts alone, compares ENUM by text, and keys end at 3,072 bytes."""

    def advised(name):
        known = facts("mariadb")
        (table,) = known.tables
        columns = [replace(c, type=name) if c.name == "site" else c for c in table.columns]
        changed = replace(known, tables=(replace(table, columns=tuple(columns)),))
        return vrelko.plan(listing("site,id"), changed).indexes

    assert not advised(kind)
    assert advised("varchar(40)")


def test_tables_of_one_name_in_two_schemas_are_told_apart():
    known = facts()
    (table,) = known.tables
    other = replace(table, name="side.visit", schema="side", rows=7.0)
    both = replace(known, tables=(other, table))
    assert both.table("visit") is table
    assert both.table("side.visit") is other
    assert replace(known, tables=(other,)).table("visit") is other
