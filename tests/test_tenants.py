"""What one user must not learn from another: totals of rows that policies or values hide."""

from __future__ import annotations

from contextvars import ContextVar

import pytest
from sqlalchemy import (
    Column,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    create_engine,
    event,
    func,
    literal_column,
    select,
    text,
)
from sqlalchemy.orm import Session, registry, sessionmaker, with_loader_criteria

from exposed import Listing
from vrelko import FrozenIds, Sizes, Spot, Steady
from vrelko.errors import CursorError, ListingError, PageError
from vrelko.serving.variants import store

TABLE = Table(
    "owned",
    MetaData(),
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("owner", String(40), nullable=False),
    Column("other", String(40), nullable=False),
)
COUNTS = {"east": 30, "west": 12}
c = TABLE.c
now_owner: ContextVar[str] = ContextVar("now_owner")


class Owned:
    """A row as an entity."""


registry().map_imperatively(Owned, TABLE)


@pytest.fixture(scope="module")
def owned(server, tmp_path_factory):
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path_factory.mktemp('owned') / 'owned.db'}")
    TABLE.drop(server, checkfirst=True)
    TABLE.create(server)
    with server.begin() as connection:
        rows = [(owner, i) for owner, count in COUNTS.items() for i in range(count)]
        values = [
            {"id": i, "owner": owner, "other": "both"} for i, (owner, _) in enumerate(rows, 1)
        ]
        connection.execute(TABLE.insert(), values)
    yield server
    TABLE.drop(server)
    if server.dialect.name == "sqlite":
        server.dispose()


def listing(statement, **settings):
    return Listing(statement, name="owned", orders="id", sizes=Sizes(5), total="exact", **settings)


def of(owner):
    """A listing for each owner, all under one name, with the owner written into it."""
    return {
        "a value": select(c.id).where(c.owner == owner),
        "text with a value": select(c.id).where(text("owner = :v").bindparams(v=owner)),
        "a parameter with a default": select(c.id).where(c.owner == bindparam("whose", owner)),
        "a value asked for each time": select(c.id).where(
            c.owner == bindparam("whose", callable_=now_owner.get)
        ),
        "literal text": select(c.id).where(literal_column(f"'{owner}'") == c.owner),
        "text": select(c.id).where(text(f"owner = '{owner}'")),
        "a criterion of the ORM": select(Owned).options(
            with_loader_criteria(Owned, c.owner == owner)
        ),
        "a lambda of the ORM": select(Owned).options(
            with_loader_criteria(Owned, lambda cls: cls.owner == owner)
        ),
        "a subquery": select(c.id).where(
            c.id.in_(select(c.id).where(c.owner == bindparam("whose", owner)))
        ),
    }


@pytest.mark.parametrize("kind", of(""))
def test_no_total_goes_from_one_value_to_another(owned, kind):
    with Session(owned) as session:
        cursors = {}
        for owner, count in COUNTS.items():
            now_owner.set(owner)
            page = listing(of(owner)[kind]).read(session)
            assert page.total.value == count
            cursors[owner] = page.next
        for owner, count in COUNTS.items():
            now_owner.set(owner)
            for cursor in cursors.values():
                try:
                    page = listing(of(owner)[kind]).read(session, cursor)
                except CursorError:  # it is another one's
                    continue
                assert page.total.value == count


def test_a_filter_that_is_another_one_under_its_name(owned):
    filters = [{"mine": column == bindparam("value")} for column in (c.owner, c.other)]
    params = {"value": "east"}
    with owned.connect() as connection:
        first, second = (listing(select(c.id), filters=one) for one in filters)
        page = first.read(connection, params=params)
        assert page.total.value == 30
        with pytest.raises(CursorError, match="belongs to a different listing"):
            second.read(connection, page.next, params=params)


def test_values_that_a_request_gives_are_compared_as_ever(owned):
    mine = listing(select(c.id).where(c.owner == bindparam("whose", "east")))
    with owned.connect() as connection:
        page = mine.read(connection, params={"whose": "west"})
        again = mine.read(connection, page.next, params={"whose": "west"})
        assert again.total.value == 12
        assert len(again.statements) == 1  # the total came with the cursor
        with pytest.raises(CursorError, match="belongs to a different listing"):
            mine.read(connection, page.next)


def test_conditions_that_a_session_adds_as_it_runs(owned):
    make = sessionmaker(owned)

    @event.listens_for(make, "do_orm_execute")
    def _only_mine(state):
        if state.is_select:
            mine = with_loader_criteria(Owned, Owned.owner == now_owner.get())
            state.statement = state.statement.options(mine)

    one, cursors = listing(select(Owned)), []
    for owner, count in COUNTS.items():
        now_owner.set(owner)
        with make() as session:
            page = one.read(session)
            assert page.total.value == count
            cursors.append(page.next)
    now_owner.set("west")
    with make() as session:
        assert {one.read(session, cursor).total.value for cursor in cursors} == {12}


@pytest.fixture
def policed(owned):
    """A table with a policy by the session's own setting, and a role that it holds for."""
    role = f"{owned.url.database}_reader"
    with owned.begin() as connection:
        for statement in (
            "ALTER TABLE owned ENABLE ROW LEVEL SECURITY",
            "CREATE POLICY only_mine ON owned USING (owner = current_setting('app.owner', true) "
            "OR owner = split_part(current_user, '__', 2))",
            *(f'CREATE ROLE "{role}__{owner}"' for owner in COUNTS),
            *(f'GRANT SELECT ON owned TO "{role}__{owner}"' for owner in COUNTS),
            "CREATE VIEW owned_view WITH (security_invoker = off) AS SELECT * FROM owned "
            if connection.dialect.server_version_info >= (15,)
            else "CREATE VIEW owned_view AS SELECT * FROM owned",
            *(f'GRANT SELECT ON owned_view TO "{role}__{owner}"' for owner in COUNTS),
        ):
            connection.execute(text(statement))
    yield owned, role
    with owned.begin() as connection:
        connection.execute(text("DROP VIEW owned_view"))
        connection.execute(text("DROP POLICY only_mine ON owned"))
        connection.execute(text("ALTER TABLE owned DISABLE ROW LEVEL SECURITY"))
        for owner in COUNTS:
            connection.execute(text(f'DROP OWNED BY "{role}__{owner}"'))
            connection.execute(text(f'DROP ROLE "{role}__{owner}"'))


def become(connection, role, owner):
    connection.execute(text(f'SET LOCAL ROLE "{role}__{owner}"'))


@pytest.mark.engines("postgresql")
@pytest.mark.parametrize("kind", ["exact", "capped"])
def test_two_roles_under_a_policy(policed, kind):
    engine, role = policed
    one, cursors = listing(select(c.id)).changed(total=kind), []
    for owner, count in COUNTS.items():
        with engine.begin() as connection:
            become(connection, role, owner)
            page = one.read(connection)
            assert page.total.value == count
            cursors.append(page.next)
            assert one.read(connection, Spot.end()).total.value == count
    for owner, count in COUNTS.items():
        with engine.begin() as connection:
            become(connection, role, owner)
            for cursor in cursors:
                page = one.read(connection, cursor)
                assert page.total.value == count
                mine = range(1, 31) if owner == "east" else range(31, 43)
                assert {row.id for row in page} <= set(mine)


@pytest.mark.engines("postgresql")
def test_a_policy_that_comes_while_the_listing_is_served(owned, monkeypatch):
    now = [0.0]
    monkeypatch.setattr(store, "monotonic", lambda: now[0])
    one = listing(select(c.id))
    with owned.begin() as connection:
        cursor = one.read(connection).next
        assert len(one.read(connection, cursor).statements) == 1  # it carries the total
        connection.execute(text("ALTER TABLE owned ENABLE ROW LEVEL SECURITY"))
        now[0] += store.RECHECK_S + 1
        assert len(one.read(connection, cursor).statements) == 2  # counted anew
        connection.execute(text("ALTER TABLE owned DISABLE ROW LEVEL SECURITY"))


@pytest.mark.engines("postgresql")
def test_with_a_scope_totals_are_counted_once_a_walk(policed):
    engine, role = policed
    one = listing(select(c.id))
    with engine.begin() as connection:
        become(connection, role, "east")
        page = one.read(connection, scope="east")
        assert len(one.read(connection, page.next, scope="east").statements) == 1
        alone = one.read(connection, one.read(connection).next)
        assert len(alone.statements) == 2  # the rows, and their number anew
    with engine.begin() as connection:
        become(connection, role, "west")
        with pytest.raises(CursorError):
            one.read(connection, page.next, scope="west")


@pytest.mark.engines("postgresql")
def test_frozen_lists_and_anchors_under_a_policy(policed, tmp_path):
    engine, role = policed
    lists = FrozenIds(create_engine(f"sqlite:///{tmp_path / 'lists.db'}"))
    lists.create()
    frozen = listing(select(c.id), strategy="frozen-ids", steady=Steady(frozen=lists))
    jumping = listing(select(c.id), jumps="anchors")
    with pytest.raises(ListingError, match="has policies"):
        jumping.counted_anchors(engine, every=5).build()
    with engine.begin() as connection:  # a policy that comes after the build
        connection.execute(text("ALTER TABLE owned DISABLE ROW LEVEL SECURITY"))
    jumping.counted_anchors(engine, every=5).build()
    with engine.begin() as connection:
        connection.execute(text("ALTER TABLE owned ENABLE ROW LEVEL SECURITY"))
    state = jumping.counted_anchors(engine).tables.state.name
    with engine.begin() as connection:
        for owner in COUNTS:
            connection.execute(text(f'GRANT SELECT ON {state} TO "{role}__{owner}"'))
    for owner, count in COUNTS.items():
        with engine.begin() as connection:
            become(connection, role, owner)
            with pytest.raises(PageError, match="scope="):
                frozen.read(connection)
            assert frozen.read(connection, scope=owner).total.value == count
            page = jumping.read(connection, Spot.number(2))
            assert page.total.value == count
            assert "a policy may hide" in page.notes[0]
    jumping.counted_anchors(engine).drop()


@pytest.mark.engines("postgresql", "mariadb")
def test_a_view_tells_nobody_anothers_total(owned):
    """A view may ask who reads it; here a setting of the session says so."""
    ask = {
        "postgresql": "current_setting('app.owner', true)",
        "mariadb": "(SELECT owner_of_session())",
    }[owned.dialect.name]
    with owned.begin() as connection:
        if owned.dialect.name == "mariadb":
            connection.execute(text("DROP FUNCTION IF EXISTS owner_of_session"))
            connection.execute(
                text("CREATE FUNCTION owner_of_session() RETURNS VARCHAR(40) RETURN @owner")
            )
        connection.execute(
            text(f"CREATE OR REPLACE VIEW owned_mine AS SELECT id FROM owned WHERE owner = {ask}")
        )
    view = Table("owned_mine", MetaData(), Column("id", Integer, primary_key=True))
    one, cursors = listing(select(view)), []
    say = {"postgresql": "SET app.owner = ", "mariadb": "SET @owner = "}[owned.dialect.name]
    with owned.connect() as connection:
        for _ in range(2):
            for owner, count in COUNTS.items():
                connection.execute(text(f"{say}'{owner}'"))
                page = one.read(connection)
                assert page.total.value == count
                cursors.append(page.next)
                for cursor in cursors:
                    assert one.read(connection, cursor).total.value == count
        assert connection.scalar(select(func.count()).select_from(view)) == 12
    with owned.begin() as connection:
        connection.execute(text("DROP VIEW owned_mine"))
        if owned.dialect.name == "mariadb":
            connection.execute(text("DROP FUNCTION owner_of_session"))
