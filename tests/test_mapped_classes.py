"""Mapped classes that are no plain table: concrete inheritance, composite attributes, synonyms."""

from __future__ import annotations

from contextlib import suppress

import pytest
from sqlalchemy import create_engine, literal_column, select, union_all
from sqlalchemy.ext.declarative import ConcreteBase
from sqlalchemy.ext.horizontal_shard import ShardedSession, set_shard_id
from sqlalchemy.orm import (
    DeclarativeBase,
    Mapped,
    Session,
    composite,
    mapped_column,
    synonym,
)
from sqlalchemy.types import String

from vrelko import Listing, Sizes
from vrelko.errors import ListingError, OrderError
from walks import everyway, shown


class Base(DeclarativeBase):
    """The models of this module."""


class Ringer(ConcreteBase, Base):
    __tablename__ = "mapped_ringer"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    name: Mapped[str] = mapped_column(String(20))
    __mapper_args__ = {"polymorphic_identity": "ringer", "concrete": True}  # noqa: RUF012


class Trainer(Ringer):
    __tablename__ = "mapped_trainer"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    name: Mapped[str] = mapped_column(String(20))
    scheme: Mapped[str] = mapped_column(String(20))
    __mapper_args__ = {"polymorphic_identity": "trainer", "concrete": True}  # noqa: RUF012


class Place:
    """A composite value."""

    def __init__(self, east, north):
        self.east, self.north = east, north

    def __composite_values__(self):
        return self.east, self.north


class Site(Base):
    __tablename__ = "mapped_site"
    id: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    east: Mapped[int]
    north: Mapped[int]
    place = composite(Place, "east", "north")
    latitude = synonym("north")


@pytest.fixture(scope="module")
def session(server):
    Base.metadata.drop_all(server)
    Base.metadata.create_all(server)
    with Session(server) as session:
        session.add_all(Ringer(id=i, name=f"r{i % 3}") for i in range(1, 9))
        session.add_all(Trainer(id=i, name=f"r{i % 3}", scheme="x") for i in range(5, 14))
        session.add_all(Site(id=i, east=i % 3, north=i % 5) for i in range(1, 20))
        session.commit()
        yield session
    Base.metadata.drop_all(server)


CASES = {
    "class of several tables": (
        select(Ringer),
        "name",
        lambda row: (row.name, row.id, type(row).__name__),
    ),
    "concrete subclass": (select(Trainer), "-name", lambda row: (-ord(row.name[1]), -row.id)),
    "composite by its name": (select(Site), "place", lambda row: (row.east, row.north, row.id)),
    "composite as an order": (
        select(Site),
        [Site.place],
        lambda row: (row.east, row.north, row.id),
    ),
    "composite of the select": (
        select(Site).order_by(Site.place),
        None,
        lambda row: (row.east, row.north, row.id),
    ),
    "synonym by its name": (select(Site), "-latitude", lambda row: (-row.north, -row.id)),
    "synonym as an order": (
        select(Site),
        [Site.latitude.desc()],
        lambda row: (-row.north, -row.id),
    ),
}


# SQLAlchemy turns a composite round from version 2.1 on.
with suppress(NotImplementedError):
    CASES["composite downwards"] = (
        select(Site),
        [Site.place.desc()],
        lambda row: (-row.east, -row.north, -row.id),
    )


@pytest.mark.parametrize("case", CASES)
def test_every_way_through_a_mapped_class(session, case):
    statement, orders, key = CASES[case]

    def make():
        return Listing(statement, name="mapped", orders=orders, sizes=Sizes(4))

    entities = session.scalars(statement.order_by(None)).all()
    keys = {make().orders(session.get_bind().dialect.name)[0].names}
    names = keys.pop()
    # Rows of one name and number are told apart by the table that they are of.
    if "type" in names:
        assert names.index("type") < names.index("id")
        key = _by_type_first
    truth = [shown((row,)) for row in sorted(entities, key=key)]
    everyway(make, session, truth, 4)


def _by_type_first(row):
    return row.name, type(row).__name__.lower(), row.id


def test_rows_of_a_union_are_told_apart_by_a_constant_of_each_member():
    def union(one, other, merged=union_all):
        parts = [
            select(model.id, model.name, literal_column(text).label("kind"))
            for model, text in ((Ringer.__table__.c, one), (Trainer.__table__.c, other))
        ]
        return select(merged(*parts).subquery("people"))

    listing = Listing(union("'ringer'", "'trainer'"), orders="name", sizes=Sizes(4))
    assert listing.orders()[0].names == ("name", "kind", "id")
    for alike in ("'Ringer'", "'ringér'", "'ringer '", "name"):
        # A collation may take these for one constant: then two rows could share a key.
        with pytest.raises(OrderError, match="primary key or unique"):
            Listing(union("'ringer'", alike), orders="name", sizes=Sizes(4))


def test_a_session_over_several_databases_is_refused_but_for_one_of_them(tmp_path):
    engines = {name: create_engine(f"sqlite:///{tmp_path / name}.db") for name in ("east", "west")}
    for name, engine in engines.items():
        Base.metadata.create_all(engine)
        with Session(engine) as session:
            east = name == "east"
            session.add_all(Site(id=i, east=int(east), north=i) for i in range(1, 11))
            session.commit()
    sharded = ShardedSession(
        shards=engines,
        shard_chooser=lambda *_, **__: "east",
        identity_chooser=lambda *_, **__: list(engines),
        execute_chooser=lambda _: list(engines),
    )
    with sharded:
        for statement in (select(Site), select(Site.id)):
            for read in ("read", "walk", "ranges"):
                listing = Listing(statement, name="sites", orders="id", sizes=Sizes(4))
                with pytest.raises(ListingError, match="set_shard_id") as caught:
                    getattr(listing, read)(sharded)
                assert caught.value.code == "session-shards"
        for name, east in (("east", 1), ("west", 0)):
            alone = select(Site.id, Site.east).options(set_shard_id(name))

            def make(alone=alone):
                return Listing(alone, name="sites", orders="id", sizes=Sizes(4), total="exact")

            everyway(make, sharded, [(i, east) for i in range(1, 11)], 4)
            entities = Listing(
                select(Site).options(set_shard_id(name)), name="sites", orders="id", sizes=Sizes(4)
            )
            assert {row[0].east for row in entities.read(sharded)} == {east}


def test_more_rows_than_were_asked_for_are_not_cut_to_a_page(session):
    """Whatever runs a statement several times: the rows are not one order."""

    class Twice:
        """A Session whose every statement is run on two databases."""

        def __getattr__(self, name):
            return getattr(session, name)

        def execute(self, statement, *given, **more):
            first = session.execute(statement, *given, **more)
            if "LIMIT" not in str(statement):
                return first
            return first.freeze()().merge(session.execute(statement, *given, **more).freeze()())

    listing = Listing(select(Site.id), name="sites", orders="id", sizes=Sizes(4))
    with pytest.raises(ListingError, match="on each of its databases"):
        listing.read(Twice())
