"""Shares for a scroll bar: which rows stand at 63 % of the way, and how far down a row stands."""

import random
from datetime import date, datetime, timedelta
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import (
    BigInteger,
    Column,
    DateTime,
    Index,
    Integer,
    MetaData,
    Numeric,
    String,
    Table,
    insert,
    select,
    text,
)
from sqlalchemy.types import NullType

import vrelko
from vrelko.core.distribution import Distribution
from vrelko.serving.pages.shares import Share

Log = Table(
    "Tide Log",
    MetaData(),
    Column("id", BigInteger().with_variant(Integer, "sqlite"), primary_key=True),
    Column("At", DateTime, nullable=True),
    Column("level", Numeric(8, 2), nullable=False),
    Column("gauge", Integer, nullable=False),
    Column("note", String(20), nullable=False),
    Index("tide_at", "At", "id"),
)
c = Log.c
Untyped = Table("Tide Log", MetaData(), Column("id", Integer, primary_key=True),
                Column("gauge", NullType()))  # fmt: skip
"""As a reflection leaves a type that it does not know."""
ROWS, BEGUN = 6_000, datetime(2026, 1, 1)


@pytest.fixture(scope="module")
def tides(server):
    draw = random.Random(3)
    rows = [
        {
            "id": i * 2,
            "At": None
            if draw.random() < 0.1
            else BEGUN + timedelta(minutes=draw.expovariate(0.01)),
            "level": Decimal(draw.randrange(-500, 900)) / 100,
            "gauge": draw.choice([1, 1, 1, 2, 3, 40]),
            "note": f"n{i}",
        }
        for i in range(1, ROWS + 1)
    ]
    Log.drop(server, checkfirst=True)
    Log.create(server)
    with server.begin() as connection:
        connection.execute(insert(Log), rows)
        quoted = connection.dialect.identifier_preparer.quote("Tide Log")
        analyze = "ANALYZE TABLE" if server.dialect.name in ("mysql", "mariadb") else "ANALYZE"
        connection.execute(text(f"{analyze} {quoted}"))
    yield server
    Log.drop(server)


def listing(order="id", **more):
    return vrelko.Listing(select(Log), name="tides", orders=order, expose=True, **more)


ORDERS = ["id", "-id", "At", "-At:nulls-last", "At:nulls-first", "-level", "gauge"]


@pytest.mark.parametrize("order", ORDERS)
def test_estimates_are_within_their_error(tides, order):
    made = listing(order)
    told_here = {"postgresql": ORDERS, "sqlite": ["id", "-id"]}.get(tides.dialect.name, [])
    if order not in told_here:
        with pytest.raises(vrelko.errors.PageError, match="no share can be told"):
            made.spot_at_share(tides, 0.5)
        return
    keys = [key for page in made.walk(tides) for key in page.keys]
    for share in (0.02, 0.3, 0.63, 0.9, 0.995):
        page = made.read(tides, made.spot_at_share(tides, share))
        found = keys.index(page.keys[0]) / ROWS
        told = made.share_of(tides, page.keys[0])
        nulls = 0.11 if "At" in order else 0.0  # rows without a value stand together
        assert abs(found - share) <= told.error + nulls + 0.01
        assert abs(told.value - found) <= told.error + nulls + 0.01
    assert made.spot_at_share(tides, 0) == vrelko.Spot.start()
    assert made.spot_at_share(tides, 1) == vrelko.Spot.end()


def test_shares_are_exact_by_anchors(tides):
    for order in ("note", "-At:nulls-last"):
        made = listing(order, jumps="anchors", total="exact")
        anchors = made.counted_anchors(tides, every=100)
        anchors.build()
        try:
            page = made.read(tides, made.spot_at_share(tides, 0.63))
            assert (page.offset, page.share) == (int(0.63 * ROWS), 0.63)
            assert made.share_of(tides, page.keys[0]) == Share(0.63, 0.0)
        finally:
            anchors.drop()


def test_what_cannot_be_told(tides):
    for share in (-0.1, 1.5, "0.5", True, None, float("nan")):
        with pytest.raises(vrelko.errors.PageError, match="a share must be a number from 0 to 1"):
            listing().spot_at_share(tides, share)
    for made in (
        listing("note"),
        vrelko.Listing(select(Log).where(c.gauge == 1), orders="id", expose=True),
        vrelko.Listing(select(c.gauge).distinct(), orders="gauge", expose=True),
        vrelko.Listing(select(Untyped), orders="gauge,id", unique=["id"], expose=True),
    ):
        with pytest.raises(vrelko.errors.PageError, match="no share can be told"):
            made.spot_at_share(tides, 0.5)


def test_an_empty_table_and_one_row(server):
    empty = Table("tide_none", MetaData(), Column("id", Integer, primary_key=True))
    empty.create(server)
    try:
        made = vrelko.Listing(select(empty), orders="id", expose=True)
        with pytest.raises(vrelko.errors.PageError, match="no share can be told"):
            made.spot_at_share(server, 0.5)
    finally:
        empty.drop(server)


VALUES = st.lists(st.integers(-50, 50), min_size=2, max_size=60)


@given(values=VALUES, share=st.floats(0, 1), bounds=st.integers(2, 8), common=st.booleans())
def test_a_distribution_tells_shares_within_its_error(values, share, bounds, common):
    """Against all values, sorted: from every so many of them, the commonest apart."""
    values.sort()
    most = max(values, key=values.count)
    apart = {most: values.count(most) / len(values)} if common else {}
    rest = [one for one in values if one not in apart] or []
    last = max(len(rest) - 1, 0)
    told = [rest[round(i * last / (bounds - 1))] for i in range(bounds)] if rest else []
    found = Distribution(tuple(sorted(set(told))), apart)
    if len(set(told)) < len(told):
        return  # a histogram's bounds differ; what they share is common
    value = found.value_at(share)
    ahead = sum(one < value for one in values) / len(values)
    up_to = sum(one <= value for one in values) / len(values)
    slack = found.error + 1 / bounds + 2 / len(values)
    assert ahead - slack <= share <= up_to + slack
    assert ahead - slack <= found.share_of(value) <= up_to + slack


def test_shares_of_each_type():
    days = Distribution((date(2026, 1, 1), date(2026, 1, 11)))
    assert days.value_at(0.5) == date(2026, 1, 6)
    moments = Distribution((BEGUN, BEGUN + timedelta(hours=2)))
    assert moments.value_at(0.25) == BEGUN + timedelta(minutes=30)
    assert moments.share_of(BEGUN + timedelta(hours=1)) == 0.5
    money = Distribution((Decimal(0), Decimal(10)), {Decimal(4): 0.5})
    assert money.value_at(0.5) == Decimal(4)
    assert money.error == 0.5
    assert Distribution(()).value_at(0.5) is None
