"""Tables and sessions as they are met: reflected, of several databases, by other drivers."""

import asyncio
import tracemalloc

import pytest
from sqlalchemy import (
    Column,
    Double,
    Integer,
    String,
    Table,
    bindparam,
    create_engine,
    insert,
    select,
    text,
)
from sqlalchemy.ext.asyncio import create_async_engine
from sqlalchemy.orm import DeclarativeBase, Session, mapped_column

import vrelko
from exposed import Listing
from vrelko import Sizes, Spot, Steady
from vrelko.errors import DatabaseError, TimeLimitError
from vrelko.larkmere.schema import capture
from vrelko.web import HttpOptions, page_urls, request_from, to_json

c = capture.c

FILE = """
[source]
url = "{url}"

[listing.weights]
table   = "Weighed"
columns = ["id", "grams"]
filters = {{ likes = {{ ge = ":least", le = 3 }} }}
orders  = ["-grams", "likes"]
sizes   = {{ default = 7 }}
total   = "exact"
expose  = true
"""


def test_a_pages_file_serves_a_table_as_it_is_reflected(made, tmp_path):
    """A mixed-case name, floats, NULLs, and both bounds of a filter."""
    connection, meta = made
    t = Table(
        "Weighed",
        meta,
        Column("id", Integer, primary_key=True),
        Column("grams", Double),
        Column("likes", Integer),
    )
    meta.create_all(connection)
    rows = [
        {"id": i, "grams": None if i % 9 == 0 else i % 7 / 10, "likes": i % 6} for i in range(1, 61)
    ]
    connection.execute(insert(t), rows)
    connection.commit()
    url = connection.engine.url
    if url.get_backend_name() == "sqlite":
        file = tmp_path / "own.db"
        with create_engine(f"sqlite:///{file}").connect() as own:
            meta.create_all(own)
            own.execute(insert(t), rows)
            own.commit()
        url = f"sqlite:///{file}"
    path = tmp_path / "pages.toml"
    path.write_text(
        FILE.format(url=url if isinstance(url, str) else url.render_as_string(hide_password=False))
    )
    pages = vrelko.load(path)
    listing = pages["weights"]
    with pages.engine.connect() as lender:
        found = [row for page in listing.walk(lender, size=7) for row in page]
        assert sorted(row.id for row in found) == list(range(1, 61))
        weights = [row.grams for row in found if row.grams is not None]
        assert weights == sorted(
            (row["grams"] for row in rows if row["grams"] is not None), reverse=True
        )
        assert {type(one) for one in weights} == {float}
        assert '"0E' not in to_json(listing.read(lender).as_dict())
        some = listing.read(lender, params={"least": 2}, size=60)
        assert {row.id % 6 for row in some} == {2, 3}
    pages.engine.dispose()


class Base(DeclarativeBase):
    pass


class Here(Base):
    __tablename__ = "here"
    id = mapped_column(Integer, primary_key=True)
    name = mapped_column(String(9))


class There(Base):
    __tablename__ = "there"
    id = mapped_column(Integer, primary_key=True)


def test_a_session_of_several_databases_is_asked_for_the_right_one(server):
    other = create_engine("sqlite://")
    Base.metadata.create_all(server, tables=[Here.__table__])
    Base.metadata.create_all(other, tables=[There.__table__])
    with Session(binds={Here: server, There: other}) as session:
        session.add_all(Here(id=i, name=f"n{i % 3}") for i in range(1, 20))
        session.add_all(There(id=i) for i in range(1, 14))
        session.commit()
        for entity, many in ((Here, 19), (There, 13)):
            for select_ in (select(entity), select(entity.id)):
                listing = Listing(select_, sizes=Sizes(4), total="exact")
                page = listing.read(session, Spot.number(2))
                assert page.total.value == many
                assert listing.read(session, page.next, time_limit_ms=9_000).number == 3
    with Session(binds={There: other}) as session, pytest.raises(DatabaseError) as caught:
        Listing(select(Here)).read(session)
    assert caught.value.code == "connection-unbound"
    Base.metadata.drop_all(server, tables=[Here.__table__])
    other.dispose()


def test_a_time_limit_holds_on_an_asynchronous_sqlite_driver(larkmere_file):
    endless = text(
        "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 100000000) "
        "SELECT max(i) AS i FROM n"
    ).columns(i=Integer)
    listing = Listing(select(endless.subquery("n")), orders="i", unique=["i"])

    async def run():
        engine = create_async_engine(f"sqlite+aiosqlite:///{larkmere_file}")
        try:
            with pytest.raises(TimeLimitError):
                await listing.aread(engine, time_limit_ms=50)
            return len(await Listing(select(c.id), sizes=Sizes(3)).aread(engine))
        finally:
            await engine.dispose()

    assert asyncio.run(run()) == 3


def test_large_parameters_are_not_kept(larkmere):
    listing = Listing(select(c.id).where(c.ring != bindparam("ring")), sizes=Sizes(1))
    with larkmere.connect() as connection:
        listing.read(connection, params={"ring": "x"})
        tracemalloc.start()
        for i in range(60):
            listing.read(connection, params={"ring": f"{i}" + "x" * 1_000_000})
        kept, _ = tracemalloc.get_traced_memory()
        tracemalloc.stop()
    assert kept < 10_000_000


def test_links_keep_the_ceiling_of_their_walk(own_larkmere):
    listing = Listing(
        select(c.id).where(c.station_id == bindparam("station")),
        orders="-caught_at",
        strategy="offset",
        steady=Steady(ceiling=True),
        total="exact",
        sizes=Sizes(10),
    )
    with own_larkmere.begin() as connection:
        page = listing.read(connection, params={"station": 3})
        rows = [row.id for one in listing.walk(connection, params={"station": 3}) for row in one]
        urls = page_urls(page, "/c?station=3", HttpOptions(numbers=True))
        newest = connection.execute(select(c.caught_at).order_by(c.caught_at.desc())).scalar()
        row = connection.execute(select(capture).where(c.id == rows[0])).mappings().one()
        for i in range(7):
            connection.execute(
                insert(capture), [{**row, "id": 10**6 + i, "caught_at": newest, "ring": f"Z{i}"}]
            )
        numbered = [one.url for one in urls.strip if one.url and not one.current]
        for number, url in enumerate((urls.next, *numbered[:1])):
            asked = request_from(url.partition("?")[2], listing, HttpOptions(numbers=True))
            found = listing.read(connection, **asked)
            assert found.scalars() == rows[10:20], number
