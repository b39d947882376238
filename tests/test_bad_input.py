"""Whatever is given instead of what fits: an error of ours with a next step, or a page."""

import asyncio
import copy
import itertools
import pickle
from contextlib import suppress
from decimal import Decimal

import numpy as np
import pytest
from sqlalchemy import (
    Column,
    Integer,
    String,
    Table,
    bindparam,
    create_engine,
    insert,
    select,
    text,
)
from sqlalchemy.orm import Session, scoped_session, sessionmaker

import vrelko
from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.errors import DatabaseError, PageError, VrelkoError

BAD = [
    None, "", 0, -1, 1, "x", 1.5, float("nan"), float("inf"), b"x", [], {}, (), [1], {"a": 1},
    object(), "é" * 3, "\x00", "a" * 100_000, 10**30, True, Decimal("5"), np.int64(5),
    Decimal("nan"), Decimal("1e1000000"), int, {1}, iter([1]), Spot.start(), Spot.end(),
    Spot.number(2), Spot.after(None), Spot.after((None, None)), Spot.after((1, 2)),
    Spot.after(((1,), 2)), Spot.after("x"), Spot.after({}), Spot.before(("x", "y")),
    Spot.after((1, 2, 3)), Spot.after((object(), object())), Spot.after((10**30, 10**30)),
    Spot("bogus"), Spot("after"), Spot("number"), Spot("number", at="x"), Spot("offset", at=-5),
    Spot("after", key=5),
]  # fmt: skip


@pytest.fixture
def served(made):
    connection, meta = made
    t = Table(
        "bad",
        meta,
        Column("id", Integer, primary_key=True),
        Column("a", Integer),
        Column("n", String(20), nullable=False),
    )
    meta.create_all(connection)
    rows = [{"id": i, "a": None if i % 4 == 0 else i % 5, "n": f"n{i % 3}"} for i in range(1, 20)]
    connection.execute(insert(t), rows)
    connection.commit()
    return connection, t


def listing(t, **given):
    filters = {
        "f": t.c.a == bindparam("a"),
        "ids": t.c.id.in_(bindparam("ids", expanding=True)),
        "between": t.c.a.between(bindparam("lo"), bindparam("hi")),
    }
    settings = {"orders": ["-a", "n"], "sizes": Sizes(3), "total": "exact", "filters": filters}
    return Listing(select(t), **{**settings, **given})


READ = ("at", "params", "size", "order", "scope", "on_bad_page", "past_end", "time_limit_ms",
        "ceiling", "total")  # fmt: skip
CALLS = {
    "read": ({}, READ),
    "where_is": ({"key": (1, 2)}, ("key", "size", "params", "order")),
    "count_ahead": ({"cursor": Spot.after((1, 2))},
                    ("cursor", "most", "params", "order", "scope")),
    "walk": ({}, ("size", "start", "until", "params", "order", "scope", "frozen", "fresh")),
    "ranges": ({}, ("parts", "params", "order", "scope")),
}  # fmt: skip
OWN = {
    "statements": ({}, ("at", "dialect", "params", "size", "order")),
    "page_of": ({"results": []}, ("results", "at", "dialect", "params", "size", "order")),
}
MADE = ("name", "kind", "orders", "filters", "search", "sizes", "total", "cap", "count",
        "count_ms", "over_cap", "secrets", "expires_s", "expose", "unique", "strategy",
        "max_offset", "workload", "steady")  # fmt: skip


def survives(call):
    """Run a call: it works, or raises an error of ours that travels and says what to do."""
    error = None
    try:
        found = call()
        if hasattr(found, "__next__"):
            list(itertools.islice(found, 5))
    except VrelkoError as raised:
        error = raised
    assert error is None or error.todo
    assert error is None or str(pickle.loads(pickle.dumps(error))) == str(error)


def test_calls_survive_whatever_they_are_given(served):
    connection, t = served
    one = listing(t)
    for value in BAD:
        for name, (usual, arguments) in {**CALLS, **OWN}.items():
            lent = (connection,) if name in CALLS else ()
            for argument in arguments:
                call = getattr(one, name)
                survives(lambda: call(*lent, **{**usual, argument: value}))  # noqa: B023
                connection.rollback()
        for name in ("a", "ids", "lo", "zz"):
            survives(lambda: one.read(connection, params={name: value}))  # noqa: B023
            connection.rollback()
        for kind in (Spot.number, Spot.offset, Spot.after):
            survives(lambda: one.read(connection, kind(value)))  # noqa: B023
            connection.rollback()
        survives(lambda: one.read(value))  # noqa: B023


def test_listings_survive_whatever_they_are_made_of():
    t = Table(
        "bad",
        vrelko_meta(),
        Column("id", Integer, primary_key=True),
        Column("a", Integer),
        Column("n", String(20), nullable=False),
    )
    for value in BAD:
        for argument in MADE:
            survives(lambda: listing(t, **{argument: value}))  # noqa: B023
        survives(lambda: Listing(value))  # noqa: B023
        for call in (
            Sizes,
            lambda v: Sizes(5, v),
            vrelko.Search,
            lambda v: vrelko.Search(["n"], how=v),
            lambda v: listing(t, search=vrelko.Search(["n"], orders=v)),
        ):
            survives(lambda: call(value))  # noqa: B023


def vrelko_meta():
    from sqlalchemy import MetaData

    return MetaData()


def test_whole_numbers_may_be_of_other_types(served):
    connection, t = served
    one = listing(t)
    for five in (np.int64(5), Decimal("5"), Decimal("5.0"), "5"):
        assert len(one.read(connection, size=five)) == 5
        assert one.read(connection, Spot.number(five)).number == 5
    assert len(one.read(connection, params={"a": np.int64(1)})) > 0


def test_pages_and_listings_are_copied_as_they_are_but_not_pickled(served):
    connection, t = served
    page = listing(t).read(connection)
    for thing in (page, listing(t)):
        assert copy.deepcopy(thing) is thing
        assert copy.copy(thing) is thing
        with pytest.raises(VrelkoError, match="cannot be pickled"):
            pickle.dumps(thing)


def test_connections_that_cannot_be_read_from_say_so(served):
    connection, t = served
    one = listing(t)
    closed = connection.engine.connect()
    closed.close()
    scope = scoped_session(sessionmaker(connection.engine))
    assert len(one.read(scope)) == 3
    scope.remove()
    with Session() as unbound, pytest.raises(DatabaseError):
        one.read(unbound)
    for lender in (closed, None, 5):
        with pytest.raises(DatabaseError):
            one.read(lender)
    for lender in (connection, connection.engine, scope, None):
        with pytest.raises(DatabaseError, match="asynchronous"):
            asyncio.run(one.aread(lender))
    if connection.dialect.name == "postgresql":
        with connection.engine.connect() as failed:
            one.read(failed)
            with pytest.raises(Exception, match="nonsense"):
                failed.execute(text("SELECT nonsense"))
            with pytest.raises(DatabaseError) as caught:
                one.read(failed)
            assert caught.value.code == "transaction-aborted"


def test_a_failed_flush_shows_no_row(own_larkmere):
    from vrelko.larkmere.schema import species

    class Kind:
        pass

    from sqlalchemy.orm import registry

    registry().map_imperatively(Kind, species)
    with Session(own_larkmere) as session:
        twin = Kind()
        twin.id, twin.name = session.execute(select(species.c.id, species.c.name)).first()
        session.add(twin)
        with pytest.raises(DatabaseError) as caught:
            Listing(select(Kind), orders="id").read(session)
    assert caught.value.code == "session-flush"
    assert twin.name not in str(caught.value)


@pytest.mark.engines("postgresql")
def test_time_limits_leave_nothing_behind(made):
    connection, meta = made
    t = Table("late", meta, Column("id", Integer, primary_key=True))
    meta.create_all(connection)
    connection.commit()
    one = Listing(select(t), sizes=Sizes(3))
    limit = text("SHOW statement_timeout")
    before = connection.execute(limit).scalar()
    for request in (
        {"at": Spot.number(9), "past_end": "error"},
        {"at": Spot.after((object(),))},
        {},
    ):
        with suppress(PageError):
            one.read(connection, time_limit_ms=777, **request)
        assert connection.execute(limit).scalar() == before
    alone = create_engine(connection.engine.url, isolation_level="AUTOCOMMIT")
    slow = select(t).where(text("pg_sleep(0.4) IS NOT NULL"))
    connection.execute(insert(t), [{"id": 1}])
    connection.commit()
    with alone.connect() as lender:
        with pytest.raises(DatabaseError) as caught:
            Listing(slow, orders="id").read(lender, time_limit_ms=20)
        assert caught.value.code == "time-limit-reached"
        assert lender.execute(limit).scalar() == before
    alone.dispose()
