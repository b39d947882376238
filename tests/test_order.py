"""Orders as text, made total, resolved against selects."""

from datetime import date, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import (
    JSON,
    Column,
    Integer,
    MetaData,
    String,
    Table,
    UniqueConstraint,
    select,
)

from exposed import Listing
from vrelko.core.key_order import KeyOrder
from vrelko.core.order import Term, make_total, parse_order
from vrelko.errors import OrderError
from vrelko.larkmere.schema import capture, station

meta = MetaData()
note = Table("note", meta, Column("text", String), Column("data", JSON), Column("n", Integer))
tag = Table(
    "tag",
    meta,
    Column("a", Integer, nullable=False),
    Column("b", Integer, nullable=False),
    Column("c", Integer),
    UniqueConstraint("a", "b"),
)


def orders_of(statement, **settings):
    return [str(order) for order in Listing(statement, **settings).orders("sqlite")]


@pytest.mark.parametrize("text", ["", ",", "-", "--a", "a:", "a:nulls-lst", "a,a", "a,-a", "a,"])
def test_unreadable_orders(text):
    with pytest.raises(OrderError):
        parse_order(text)


def test_missing_key_takes_the_direction_of_the_last_term():
    assert str(make_total(parse_order("a,-b"), ["id"])) == "a,-b,-id"
    assert str(make_total(parse_order("-b,a"), ["p", "q"])) == "-b,a,p,q"
    assert str(make_total(parse_order("q,a,p,b"), ["p", "q"])) == "q,a,p"


def test_orders_resolve_nulls_as_the_engine_has_them():
    assert orders_of(select(capture), orders=["-weight_g", "weight_g", "caught_at:nulls-last"]) == [
        "-weight_g:nulls-last,-id",
        "weight_g:nulls-first,id",
        "caught_at,id",
    ]


def test_expressions_and_the_selects_own_order():
    c = capture.c
    wanted = ["-weight_g:nulls-first,ring,id"]
    expressions = (c.weight_g.desc().nulls_first(), c.ring.asc())
    assert orders_of(select(capture), orders=[expressions]) == wanted
    assert orders_of(select(capture).order_by(*expressions)) == wanted
    assert orders_of(select(capture)) == ["id"]
    with pytest.raises(OrderError, match="given twice"):
        Listing(select(capture).order_by(c.id), orders="id")


def test_joins_keep_a_proven_key():
    joined = select(capture.c.ring, station.c.name).join_from(capture, station)
    assert orders_of(joined, orders="station.name") == ["name,capture.id"]
    cross = select(capture.c.ring, station.c.name).select_from(
        capture.join(station, capture.c.station_id > station.c.id)
    )
    assert orders_of(cross, orders="ring") == ["ring,capture.id,station.id"]
    outer = select(station.c.name, capture.c.ring).select_from(
        station.outerjoin(capture, capture.c.station_id == station.c.id)
    )
    assert orders_of(outer, orders="name") == ["name,station.id,capture.id:nulls-first"]


def test_unique_constraints_prove_and_unproven_tables_are_refused():
    assert orders_of(select(tag), orders="-c") == ["-c:nulls-last,-a,-b"]
    with pytest.raises(OrderError, match="unique="):
        Listing(select(note), orders="n")
    assert orders_of(select(note), orders="n", unique=["text"]) == [
        "n:nulls-first,text:nulls-first"
    ]


def test_names_unknown_and_ambiguous():
    with pytest.raises(OrderError, match="'caught_at'"):
        Listing(select(capture), orders="caughtat")
    both = select(capture.c.ring).join_from(capture, station)
    with pytest.raises(OrderError, match=r"capture\.id, station\.id"):
        Listing(both, orders="id")
    with pytest.raises(OrderError, match="JSON"):
        Listing(select(note), orders="data", unique=["n"])


DAY = date(2026, 7, 1)
TERMS = st.tuples(st.booleans(), st.sampled_from(["first", "last"]))
KEYS = st.lists(st.tuples(*[st.one_of(st.none(), st.integers(0, 4))] * 2), max_size=12, unique=True)


@given(terms=st.tuples(TERMS, TERMS), keys=KEYS, wanted=st.tuples(*[st.integers(0, 4)] * 2))
def test_keys_compared_in_memory_are_sorted_as_their_order_says(terms, keys, wanted):
    told = [Term(f"k{i}", down, nulls) for i, (down, nulls) in enumerate(terms)]
    order, by_code = KeyOrder(told), KeyOrder(told, [True, True])

    def plain(key):
        found = []
        for (down, nulls), value in zip(terms, key, strict=True):
            found.append((value is None) == (nulls == "last"))
            found.append(0 if value is None else -value if down else value)
        return found

    def as_days(key):
        return tuple(None if one is None else DAY + timedelta(one) for one in key)

    ascending = sorted(keys, key=plain)

    def as_texts(key):
        return tuple(None if one is None else f"2026-07-{one:02}" for one in key)

    for changed in (tuple, as_days, as_texts):
        by = by_code if changed is as_texts else order
        found = [by.sortable(changed(key)) for key in ascending]
        assert found == sorted(found)
        at = by.first_from(found, changed(wanted))
        assert at == sum(plain(key) < plain(wanted) for key in ascending)
    assert order.sorts([wanted, *keys])
    assert not order.sorts([("text", 1)])
    assert not order.sorts([wanted, (DAY, 1)])
    assert by_code.sorts([as_texts(wanted)])
    assert not by_code.sorts([wanted])  # there the text alone tells
    firsts = order.firsts(ascending)
    ahead = [key[0] for key in ascending if key[0] is not None]
    nulls = sum(key[0] is None for key in ascending) if terms[0][1] == "first" else 0
    beyond = sum(one >= wanted[0] if terms[0][0] else one < wanted[0] for one in ahead)
    assert order.before_value(firsts, wanted[0]) == nulls + beyond
