"""Rows that a driver or a model's type cannot read: which column it is, and none of its values."""

from __future__ import annotations

import pytest
from sqlalchemy import Column, Integer, MetaData, String, Table, create_engine, select, text
from sqlalchemy.orm import Session, registry
from sqlalchemy.types import DateTime, TypeDecorator
from starlette.testclient import TestClient

from vrelko import Listing, Sizes, Spot
from vrelko.errors import DatabaseError
from vrelko.web import make_app

RAISED = (ValueError, TypeError, AttributeError, NotImplementedError, KeyError, RuntimeError)


class Refusing(TypeDecorator):
    """Reads any text but one, at which it raises what it was made with."""

    impl = String(40)
    cache_ok = False

    def __init__(self, error=ValueError):
        super().__init__()
        self.error = error

    def process_result_value(self, value, dialect):
        if value == "hidden":
            raise self.error("the value is hidden")
        return value


@pytest.fixture(scope="module")
def unreadable(server):
    table = Table(
        "unreadable",
        MetaData(),
        Column("id", Integer, primary_key=True, autoincrement=False),
        Column("note", String(40)),
    )
    table.create(server)
    with server.begin() as connection:
        rows = [{"id": i, "note": "hidden" if i == 7 else "shown"} for i in range(1, 12)]
        connection.execute(table.insert(), rows)
    yield server
    table.drop(server)


def model(error):
    note = Column("note", Refusing(error))
    return Table("unreadable", MetaData(), Column("id", Integer, primary_key=True), note)


def refused(read):
    with pytest.raises(DatabaseError) as caught:
        read()
    assert caught.value.code == "row-unreadable"
    assert "'note' (Refusing)" in str(caught.value)
    assert "hidden" not in str(caught.value)


@pytest.mark.parametrize("error", RAISED, ids=lambda error: error.__name__)
def test_whatever_a_type_raises_is_told_with_its_column(unreadable, error):
    table = model(error)
    listing = Listing(select(table), orders="id", name="unreadable", sizes=Sizes(5))
    with unreadable.connect() as connection:
        assert len(listing.read(connection)) == 5
        refused(lambda: listing.read(connection, listing.read(connection).next))
        refused(lambda: list(listing.walk(connection, size=5)))
        refused(lambda: listing.read(connection, Spot.number(2)))
        # The connection goes on: the rows behind it are there.
        assert len(listing.read(connection, Spot.after((7,)))) == 4
    row = type("Row", (), {})
    registry().map_imperatively(row, table)
    entities = Listing(select(row), orders="id", name="unreadable", sizes=Sizes(5))
    with Session(unreadable) as session:
        refused(lambda: entities.read(session, Spot.after((5,))))


@pytest.mark.engines("postgresql", "mariadb")  # one in memory belongs to one thread
def test_over_http_it_is_an_error_of_the_server(unreadable):
    listing = Listing(select(model(KeyError)), orders="id", name="rows", sizes=Sizes(5))
    with TestClient(make_app({"rows": listing}, unreadable)) as client:
        assert client.get("/rows").status_code == 200
        answer = client.get("/rows?page=2")
        assert answer.status_code == 500
        assert "hidden" not in answer.text


@pytest.mark.engines("sqlite")
def test_a_text_that_is_none_is_not_shown(tmp_path):
    engine = create_engine(f"sqlite:///{tmp_path / 'torn.db'}")
    with engine.begin() as connection:
        connection.execute(text("CREATE TABLE torn (id INTEGER PRIMARY KEY, note TEXT)"))
        connection.execute(text("INSERT INTO torn VALUES (1, CAST(x'68696464656eff' AS TEXT))"))
    table = Table("torn", MetaData(), autoload_with=engine)
    with pytest.raises(DatabaseError, match=r"'note' \(TEXT\)") as caught:
        Listing(select(table), orders="id", name="torn").read(engine)
    assert caught.value.code == "row-unreadable"
    assert "hidden" not in str(caught.value)


@pytest.mark.engines("postgresql")
def test_a_moment_that_the_driver_cannot_hold(server):
    with server.begin() as connection:
        connection.execute(text("CREATE TABLE endless (id int PRIMARY KEY, till timestamp)"))
        connection.execute(text("INSERT INTO endless VALUES (1, 'infinity')"))
    table = Table("endless", MetaData(), Column("id", Integer, primary_key=True),
                  Column("till", DateTime))  # fmt: skip
    with pytest.raises(DatabaseError, match=r"'till' \(DateTime\)"):
        Listing(select(table), orders="id", name="endless").read(server)
    with server.begin() as connection:
        connection.execute(text("DROP TABLE endless"))
