"""Listings written by tables, aliases or mapped classes are planned, measured, replayed alike."""

import pytest
from sqlalchemy import (
    Column,
    DateTime,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    create_engine,
    insert,
    select,
)
from sqlalchemy.orm import registry

import vrelko
from vrelko import Depth, Landing, Readers, Sizes, Writers
from vrelko.measuring.memory import measure_memory

metadata = MetaData()
Round = Table(
    "Trap Round", metadata,
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("Net", Integer, nullable=False), Column("day", Integer, nullable=False),
    Column("seen", DateTime), Column("note", String(60), nullable=False),
    Index("round_net_day", "Net", "day", "id"),
)  # fmt: skip
WAYS = ("tables", "alias", "class", "class alias", "attributes")
SIZE = 20


class TrapRound:
    """A row of the table as an entity."""


registry().map_imperatively(TrapRound, Round, properties={"day_number": Round.c.day})


def fill(server):
    metadata.drop_all(server)
    metadata.create_all(server)
    with server.begin() as connection:
        rows = [
            {"id": i, "Net": i % 3, "day": i // 7, "seen": None, "note": f"round {i} " * 4}
            for i in range(1, 3_001)
        ]
        connection.execute(insert(Round), rows)
        if server.dialect.name != "sqlite":
            quoted = connection.dialect.identifier_preparer.quote_identifier("Trap Round")
            verb = "ANALYZE" if server.dialect.name == "postgresql" else "ANALYZE TABLE"
            connection.exec_driver_sql(f"{verb} {quoted}")


@pytest.fixture(scope="module")
def rounds(server, tmp_path_factory):
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path_factory.mktemp('rounds') / 'rounds.db'}")
    fill(server)
    yield server
    metadata.drop_all(server)
    server.dispose()


def written_as(way):
    """Returns the listing, and what reads the number of a row."""
    from sqlalchemy.orm import aliased

    source = {"tables": Round, "alias": Round.alias("r"), "class alias": aliased(TrapRound)}
    made = source.get(way, TrapRound)
    c = made.c if hasattr(made, "c") else made
    day = c.day if hasattr(made, "c") else c.day_number
    shown = [c.id, c.Net, day, c.seen, c.note] if way == "attributes" else [made]
    chosen = select(*shown).where(c.Net == bindparam("net"))
    workload = vrelko.Workload(
        readers=Readers(depth=Depth(4), dwell_s=10),
        writers=Writers(120, 30, Landing("uniform")),
        params={"net": 1},
    )
    return vrelko.Listing(
        chosen, name="rounds", orders=[day.desc()], sizes=Sizes(SIZE), expose=True,
        workload=workload,
    )  # fmt: skip


@pytest.mark.slow
def test_pages_that_a_plan_runs_are_those_that_are_served(rounds):
    """By each way the same pages are run, read the same, and agree with what was predicted."""
    found = {}
    for way in WAYS:
        plan = vrelko.plan(written_as(way), engine=rounds, budget_ms=60_000)
        (keyset,) = (one for one in plan.judgement.checks if one.strategy == "keyset")
        assert keyset.believed, (way, keyset)
        measured = vrelko.measure(rounds, plan, budget_ms=60_000)
        pages = {(one.strategy, one.page): (one.rows, one.counted) for one in measured.pages}
        inside = [
            rows for (name, page), (rows, _) in pages.items() if name == "keyset" and page < 40
        ]
        assert set(inside) == {SIZE + 1}, (way, pages)
        found[way] = {key: value for key, value in pages.items() if key[0] == "keyset"}
        held = list(measure_memory(rounds, plan, 1, True, []))
        assert [one.rows for one in held] == [SIZE, 1_000]
    for way in WAYS[1:]:
        assert found[way].keys() == found["tables"].keys()
        for key, (rows, counted) in found[way].items():
            assert rows == found["tables"][key][0]
            assert counted == pytest.approx(found["tables"][key][1], rel=0.2, abs=8), (way, key)


@pytest.mark.slow
def test_replayed_walks_suffer_what_simulated_ones_do(rounds, tmp_path):
    """Rows of a file, walked where they are or on a server that they are copied to."""
    source = create_engine(f"sqlite:///{tmp_path / 'rounds.db'}")
    fill(source)
    metadata.drop_all(rounds)  # the replay makes its own
    copy = None if rounds.dialect.name == "sqlite" else rounds
    for way in WAYS:
        plan = vrelko.plan(written_as(way), engine=source, run=False)
        drift = vrelko.drift(plan, source, walks=2, copy=copy, simulations=5)
        assert all(one.alike for one in drift.replayed), way
        assert {one.served for one in drift.replayed if one.strategy == "offset"} == {2 * 4 * SIZE}
    source.dispose()
