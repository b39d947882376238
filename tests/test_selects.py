"""Kinds of select: ORM and Core, merged rows, wrapped ones, and those that are refused."""

import pytest
from sqlalchemy import (
    Column,
    Double,
    ForeignKey,
    Index,
    Integer,
    String,
    Table,
    bindparam,
    desc,
    func,
    insert,
    literal_column,
    select,
    text,
    union_all,
)
from sqlalchemy.orm import (
    Bundle,
    DeclarativeBase,
    Session,
    aliased,
    contains_eager,
    joinedload,
    load_only,
    mapped_column,
    relationship,
    selectinload,
)

from exposed import Listing
from servers import NAMES
from vrelko import Sizes, Spot
from vrelko.engines.counters import count_reads
from vrelko.errors import ListingError, OrderError, VrelkoError


class Base(DeclarativeBase):
    pass


class Site(Base):
    __tablename__ = "site"
    id = mapped_column(Integer, primary_key=True)
    title = mapped_column("name", String(20))
    birds = relationship("Bird", back_populates="site", order_by="Bird.id")


class Bird(Base):
    __tablename__ = "bird"
    id = mapped_column(Integer, primary_key=True)
    site_id = mapped_column(ForeignKey("site.id"))
    weight = mapped_column(Double)
    site = relationship(Site, back_populates="birds")


other = aliased(Bird)


@pytest.fixture(scope="module")
def filled(server):
    Base.metadata.create_all(server)
    with Session(server) as session:
        session.add_all(Site(id=i, title=f"n{i % 3}") for i in range(1, 8))
        session.flush()
        session.add_all(
            Bird(id=i, site_id=i % 7 + 1, weight=None if i % 5 == 0 else (i * 7) % 13)
            for i in range(1, 61)
        )
        session.commit()
    yield server
    Base.metadata.drop_all(server)


def walk(listing, session, **request):
    """Every row by next links, and the same by prev links from the end."""
    pages = [listing.read(session, **request)]
    while (cursor := pages[-1].next) is not None:
        pages.append(listing.read(session, cursor, **request))
    back = [listing.read(session, Spot.end(), **request)]
    while (cursor := back[-1].prev) is not None:
        back.append(listing.read(session, cursor, **request))
    rows = [row for page in pages for row in page]
    assert rows == [row for page in reversed(back) for row in page]
    return rows


ranked = select(Bird.id, Bird.weight, func.row_number().over(order_by=Bird.id.desc()).label("rn"))
halves = union_all(
    select(Bird.id, Bird.weight).where(Bird.id < 10),
    select(Bird.id, Bird.weight).where(Bird.id > 50),
)
SELECTS = {
    "entity": (select(Bird), "-weight", {}),
    "filtered": (select(Bird).where(Bird.weight > 3), "-weight,site_id", {}),
    "several": (select(Bird, Site).join(Bird.site), "title,-bird.id", {}),
    "columns": (select(Bird.id, Site.title.label("x")).join(Bird.site), "x,-id", {}),
    "aliased": (select(other).where(other.weight < 9), "weight", {}),
    "bundle": (select(Bundle("b", Bird.id, Bird.weight)), "weight", {}),
    "joinedload": (select(Site).options(joinedload(Site.birds)), "-title", {}),
    "selectinload": (select(Site).options(selectinload(Site.birds)), "title", {}),
    "load_only": (select(Bird).options(load_only(Bird.weight)), "-site_id", {}),
    "own order": (select(Bird).order_by(Bird.weight.desc(), Bird.id), None, {}),
    "distinct": (select(Bird.site_id).distinct(), "-site_id", {}),
    "distinct with key": (select(Site).join(Site.birds).distinct(), "-title", {}),
    "group": (select(Bird.site_id, func.count().label("n")).group_by(Bird.site_id), "-n", {}),
    "group by key": (select(Bird.site_id, func.max(Bird.weight).label("m"))
                     .group_by(Bird.site_id), "site_id", {}),
    "window": (ranked, "-rn", {}),
    "own limit": (select(Bird.id, Bird.weight).order_by(Bird.weight, Bird.id).limit(20), "-id", {}),
    "union": (halves, "-weight", {"unique": ["id"]}),
    "text": (select(text("SELECT id, weight FROM bird").columns(id=Integer, weight=Double)
                    .subquery("t")), "weight", {"unique": ["id"]}),
}  # fmt: skip


@pytest.mark.parametrize("kind", SELECTS)
def test_pages_hold_what_the_select_gives(filled, kind):
    statement, orders, settings = SELECTS[kind]
    listing = Listing(statement, orders=orders, sizes=Sizes(4), total="exact", **settings)
    with Session(filled) as session:
        rows = walk(listing, session)
        result = session.execute(statement)
        wanted = (result.unique() if kind == "joinedload" else result).all()
        assert sorted(map(repr, rows)) == sorted(map(repr, wanted))
        page = listing.read(session)
        assert page.total.value == len(wanted)
        assert page[0]._fields == wanted[0]._fields
        if "load" in kind and kind != "load_only":
            assert sum(len(site.birds) for site in page.scalars()) > 0


OWN_ORDERS = {
    "limit": select(Bird.id).order_by(Bird.id.desc()).limit(26),
    "fetch": select(Bird.id).order_by(Bird.id.desc()).fetch(26),
    "not shown": select(Bird.id).order_by(Bird.weight.desc(), Bird.id).limit(26),
    "computed": select(Bird.id).order_by(Bird.site_id % 3, -Bird.id).limit(26),
    "label": select(Bird.id, (Bird.site_id + 1).label("m")).order_by(desc("m"), "id").limit(26),
    "window": ranked.order_by(Bird.site_id.desc(), Bird.id),
    "union": halves.order_by(desc("id")),
    "union, limited": halves.order_by(desc("id")).limit(13),
}
"""Selects that are wrapped, with an order of their own."""


@pytest.mark.parametrize(
    ("server", "kind"),
    [(name, one) for one in OWN_ORDERS for name in NAMES if (name, one) != ("sqlite", "fetch")],
    indirect=["server"],
    scope="session",
)
def test_a_select_keeps_its_own_order_where_it_is_wrapped(filled, kind):
    chosen = OWN_ORDERS[kind]
    unique = {"unique": ["id"]} if "union" in kind else {}
    listing = Listing(chosen, sizes=Sizes(4, 100), total="exact", **unique)
    with Session(filled) as session:
        truth = [tuple(row) for row in session.execute(chosen)]
        assert [tuple(row) for row in walk(listing, session)] == truth
        assert [tuple(row) for page in listing.walk(session, size=5) for row in page] == truth
        assert listing.read(session).total.value == len(truth)


def test_orders_that_are_given_sort_what_an_own_order_chose(filled):
    chosen = select(Bird.id, Bird.weight).order_by(Bird.id.desc()).limit(20)
    with Session(filled) as session:
        truth = sorted(row.id for row in session.execute(chosen))
        assert [row.id for row in walk(Listing(chosen, orders="id", sizes=Sizes(7)), session)] == (
            truth
        )
    merged = select(func.max(Bird.id).label("id")).order_by(func.min(Bird.weight))
    with pytest.raises(OrderError, match=r"min.*rows do not show"):
        Listing(merged, unique=["id"])


def test_a_page_of_a_union_is_read_from_its_members(made):
    """Each member gives about a page; the union is never read whole."""
    connection, meta = made
    tables = [
        Table(
            name,
            meta,
            Column("id", Integer, primary_key=True),
            Column("n", Integer, nullable=False),
            Index(f"{name}_by_n", "n", "id"),
        )
        for name in ("halves_a", "halves_b")
    ]
    union = union_all(
        *(
            select(one.c.n, one.c.id, literal_column(f"{i}", Integer).label("half"))
            for i, one in enumerate(tables)
        )
    )
    listing = Listing(union, orders=["-n", "n"], unique=["id", "half"], total="none")
    meta.create_all(connection)
    for i, one in enumerate(tables):
        rows = [{"id": n, "n": n * 7 % 1_000 + i} for n in range(1, 3_001)]
        connection.execute(insert(one), rows)
    connection.commit()
    if connection.dialect.name == "postgresql":
        connection.execute(text("ANALYZE"))
    for order in ("-n", "n"):
        jump = listing.read(connection, Spot.offset(3_000), order=order)
        for cursor in (None, jump.next, jump.prev):
            reads = count_reads(
                connection,
                lambda cursor=cursor, order=order: listing.read(connection, cursor, order=order),
            )
            assert reads.entries < (3_000 if connection.dialect.name == "sqlite" else 500)
    truth = sorted(tuple(row) for row in connection.execute(union))
    whole = Listing(union, orders="n", unique=["id", "half"], sizes=Sizes(700, 700))
    assert [tuple(row) for row in walk(whole, connection)] == truth


def test_filters_go_inside_what_is_wrapped(filled):
    listing = Listing(
        ranked, orders="rn", sizes=Sizes(5), filters={"site": Bird.site_id == bindparam("site")}
    )
    with Session(filled) as session:
        rows = walk(listing, session, params={"site": 3})
        assert [row.rn for row in rows] == list(range(1, len(rows) + 1))
        assert len(rows) == 9


def test_a_column_fixed_by_equality_needs_no_place_in_the_key(filled):
    two = select(Bird.id, Site.title).select_from(Bird).join(Site, Site.id > 0)
    assert str(Listing(two, orders="id").orders()[0]) == "id,site.id"
    one = two.where(Site.id == 3)
    assert str(Listing(one, orders="-weight").orders()[0]) == "-weight:nulls-last,-id"


@pytest.mark.parametrize(
    ("statement", "orders", "said"),
    [
        (text("SELECT 1"), "x", "columns"),
        (select(literal_column("1")), "x", "no table"),
        (Bird, "id", "select"),
        (select(Bird).order_by(func.random()), None, "random"),
        (select(Bird).order_by(text("weight")), None, "raw text"),
        (select(Bird.site_id).distinct(), "weight", "DISTINCT"),
        (select(Bird.site_id).group_by(Bird.site_id), "weight", "GROUP BY"),
        (select(Bird).limit(5), "id", "entities"),
        (select(Bird, func.rank().over(order_by=Bird.id)), "id", "entities"),
        (select(Site).join(Site.birds).options(contains_eager(Site.birds)), "id", "selectinload"),
        (halves, "weight", "unique="),
    ],
)
def test_what_cannot_be_paged_is_refused_with_the_rewrite(statement, orders, said):
    with pytest.raises((ListingError, OrderError), match=said) as caught:
        Listing(statement, orders=orders)
    assert caught.value.todo


def test_filters_on_a_union_are_refused():
    with pytest.raises(VrelkoError, match="set operation"):
        Listing(halves, orders="id", unique=["id"], filters={"a": Bird.id == bindparam("a")})
