"""Selects as experts write them: each walk equals what one plain statement gives."""

import pytest
from sqlalchemy import (
    JSON,
    Column,
    Double,
    ForeignKey,
    Integer,
    String,
    Table,
    case,
    func,
    insert,
    lateral,
    literal_column,
    select,
    text,
    true,
    union_all,
)
from sqlalchemy.ext.hybrid import hybrid_property
from sqlalchemy.orm import (
    Bundle,
    DeclarativeBase,
    Session,
    aliased,
    column_property,
    joinedload,
    mapped_column,
    relationship,
    selectin_polymorphic,
    selectinload,
    with_loader_criteria,
    with_polymorphic,
)

from exposed import Listing
from servers import NAMES
from vrelko import Sizes
from vrelko.errors import ListingError, OrderError
from walks import everyway, shown


class Base(DeclarativeBase):
    pass


shelved = Table(
    "shelved",
    Base.metadata,
    Column("book_id", ForeignKey("book.id"), primary_key=True),
    Column("tag_id", ForeignKey("tag.id"), primary_key=True),
)


class Author(Base):
    __tablename__ = "author"
    id = mapped_column(Integer, primary_key=True)
    name = mapped_column(String(20), nullable=False)
    books = relationship("Book", order_by="Book.id")


class Tag(Base):
    __tablename__ = "tag"
    id = mapped_column(Integer, primary_key=True)
    word = mapped_column(String(20))


class Book(Base):
    __tablename__ = "book"
    id = mapped_column(Integer, primary_key=True)
    author_id = mapped_column(ForeignKey("author.id"))
    title = mapped_column(String(20))
    price = mapped_column(Double)
    data = mapped_column(JSON)
    tags = relationship(Tag, secondary=shelved, order_by=Tag.id)

    @hybrid_property
    def cheap(self):
        return self.price < 4

    @cheap.inplace.expression
    @classmethod
    def _cheap(cls):
        return case((cls.price < 4, 1), else_=0)


Book.doubled = column_property(Book.price * 2)


class Person(Base):
    __tablename__ = "person"
    id = mapped_column(Integer, primary_key=True)
    kind = mapped_column(String(10), nullable=False)
    name = mapped_column(String(20), nullable=False)
    __mapper_args__ = {"polymorphic_on": "kind", "polymorphic_identity": "person"}  # noqa: RUF012


class Warden(Person):
    __tablename__ = "warden"
    id = mapped_column(ForeignKey("person.id"), primary_key=True)
    rank = mapped_column(Integer)
    __mapper_args__ = {"polymorphic_identity": "warden"}  # noqa: RUF012


@pytest.fixture(scope="module")
def filled(server):
    Base.metadata.create_all(server)
    with Session(server) as session:
        session.add_all(Author(id=i, name=f"n{i % 3}") for i in range(1, 9))
        session.add_all(Tag(id=i, word=[None, "a", "b"][i % 3]) for i in range(1, 5))
        session.flush()
        session.add_all(
            Book(
                id=i,
                author_id=None if i % 7 == 0 else i % 6 + 1,
                title=["B", "a", "c", None][i % 4],
                price=None if i % 5 == 0 else i * 7 % 13 / 2,
                data={"n": i},
                tags=[],
            )
            for i in range(1, 41)
        )
        session.flush()
        rows = [{"book_id": i, "tag_id": j} for i in range(1, 41) for j in range(1, 5) if i % j]
        session.execute(insert(shelved), rows)
        session.add_all(Person(id=i, name=f"p{i % 4}") for i in range(1, 9))
        session.add_all(Warden(id=i, name=f"w{i % 3}", rank=i % 2 or None) for i in range(9, 20))
        session.commit()
    yield server
    Base.metadata.drop_all(server)


other = aliased(Book, name="other")
numbered = func.row_number().over(order_by=[Book.id, Author.id])  # without ties: every plan agrees
ranked = select(Author.name, Book.id, Book.price, numbered.label("n")).outerjoin(
    Book, Book.author_id == Author.id
)
outer = select(Author.id.label("author"), Book.id.label("book"), Book.price).outerjoin(
    Book, Book.author_id == Author.id
)
titles = union_all(select(Author.name.label("t"), Author.id), select(Book.title, Book.id + 100))
priced = select(Book.id, Book.price, Book.title).where(Book.price > 1).cte("priced")
anonymous = select(Book.id, Book.price).where(Book.id < 30).subquery()
latest = lateral(
    select(Book.id.label("book"), Book.price)
    .where(Book.author_id == Author.id)
    .order_by(Book.id.desc())
    .limit(2),
    "latest",
)
everyone = with_polymorphic(Person, [Warden])

SELECTS = {
    "entity": (lambda: select(Book), ["-price"], {}),
    "entity by attribute": (lambda: select(Book), [[Book.price, Book.id.desc()]], {}),
    "hybrid": (lambda: select(Book), [[Book.cheap.desc(), Book.title]], {}),
    "column property": (lambda: select(Book), [[Book.doubled.desc()]], {}),
    "expression": (lambda: select(Book.id), [[func.lower(Book.title), Book.price]], {}),
    "coalesce": (lambda: select(Book.id), [[func.coalesce(Book.price, 3.5).desc()]], {}),
    "own expressions": (lambda: select(Book).order_by(func.lower(Book.title).desc()), None, {}),
    "bundle": (lambda: select(Bundle("b", Book.id, Book.price), Author)
               .join(Author, Author.id == Book.author_id), ["-price"], {}),
    "entity and JSON": (lambda: select(Book, Book.data, Author).join(Author), ["-price"], {}),
    "eager": (lambda: select(Book).options(joinedload(Book.tags)), ["title"], {}),
    "yield per": (lambda: select(Book).options(selectinload(Book.tags))
                  .execution_options(yield_per=3), ["title"], {}),
    "joined tags": (lambda: select(Book.id, Tag.word).join(Book.tags), ["-tag.word"], {}),
    "outer tags": (lambda: select(Book.id, Tag.word).outerjoin(Book.tags), ["-tag.word"], {}),
    "outer join": (lambda: outer, ["-price", "price"], {}),
    "window over outer join": (lambda: ranked, ["-price"], {"unique": ["n"]}),
    "limit over outer join": (lambda: outer.order_by(Author.id, Book.id).limit(35),
                              ["price", "-price"], {}),
    "own fetch": (lambda: select(Book.id, Book.price).order_by(Book.id).fetch(20), ["-price"], {}),
    "union with NULLs": (lambda: titles, ["t", "-t"], {"unique": ["id"]}),
    "union of aggregates": (
        lambda: union_all(select(func.count().label("n"), literal_column("1").label("i")),
                          select(func.count(), literal_column("2")).select_from(Tag)),
        ["n"], {"unique": ["i"]}),
    "cte": (lambda: select(priced), ["-price"], {}),
    "joined cte": (lambda: select(priced.c.title, Author.name)
                   .join(Book, Book.id == priced.c.id)
                   .join(Author, Author.id == Book.author_id), ["-priced.price"], {}),
    "anonymous subquery": (lambda: select(anonymous.c.price), ["-price"], {}),
    "lateral": (lambda: select(Author.name, latest.c.price).join(latest, true()),
                ["-latest.price"], {}),
    "self join": (lambda: select(Book.id, other.id.label("next"))
                  .join(other, other.author_id == Book.author_id), ["-book.price"], {}),
    "distinct of nullable": (lambda: select(Book.title, Book.price).distinct(), ["-price"], {}),
    "group by nullable": (lambda: select(Book.title, func.sum(Book.price).label("s"))
                          .group_by(Book.title), ["title", "-s"], {}),
    "group by expression": (lambda: select(func.lower(Book.title).label("l"), func.count())
                            .group_by(func.lower(Book.title)), ["-l"], {}),
    "criteria": (lambda: select(Book).options(with_loader_criteria(Book, Book.price > 2)),
                 ["title"], {}),
    "wardens": (lambda: select(Warden), ["-rank", "name"], {}),
    "persons": (lambda: select(Person).options(selectin_polymorphic(Person, [Warden])),
                ["-name"], {}),
    "everyone": (lambda: select(everyone), ["-name"], {}),
}  # fmt: skip


def order_clauses(listing, connection):
    """The ORDER BY that the first order means, for one plain statement."""
    variant = listing.lent_variant(connection, None)
    source = variant.source
    clauses = []
    for term, key in zip(source.order.terms, source.keys, strict=True):
        element = key.element
        clause = element.desc() if term.descending else element.asc()
        if term.nullable and connection.get_bind().dialect.name != "mariadb":
            clause = clause.nulls_first() if term.nulls == "first" else clause.nulls_last()
        elif term.nullable:
            empty = element.is_(None)
            clauses.append(empty.desc() if term.nulls == "first" else empty.asc())
        clauses.append(clause)
    return clauses


ENGINES = {"own fetch": ("postgresql", "mariadb"), "lateral": ("postgresql",)}
"""The engines that know what a select asks for, where not all do."""


@pytest.mark.slow
@pytest.mark.parametrize(
    ("server", "kind"),
    [(engine, kind) for kind in SELECTS for engine in ENGINES.get(kind, NAMES)],
    indirect=["server"],
    scope="session",
)
@pytest.mark.parametrize("strategy", ["keyset", "offset", "two-ended", "deferred-join"])
def test_walks_equal_one_statement(filled, kind, strategy):
    make_select, orders, settings = SELECTS[kind]
    for order in orders or [None]:

        def make(order=order):
            given = {"orders": None if order is None else [order], "strategy": strategy, **settings}
            return Listing(make_select(), name="x", sizes=Sizes(5), total="exact", **given)

        with Session(filled) as session:
            listing = make()
            base = listing.described.select
            plain = base.order_by(None).order_by(*order_clauses(listing, session))
            plain = plain.execution_options(yield_per=None)
            found = session.execute(plain)
            truth = [shown(row) for row in (found.unique() if kind == "eager" else found).all()]
            everything = session.execute(make_select().execution_options(yield_per=None))
            assert kind == "eager" or len(truth) == len(everything.all())
            everyway(make, session, truth, 5, jumps=strategy == "keyset")
            page = make().read(session)
            assert page.total.value == len(truth)
            middle = make().read(session, page.next) if page.next else page
            place = make().where_is(session, middle.keys[-1])
            assert place.offset == (middle.offset or 0) + len(middle) - 1
        if strategy == "keyset":
            everyway(make, filled, truth, 5, jumps=False)
            with filled.connect() as connection:
                everyway(make, connection, truth, 5, jumps=False)


REFUSED = {
    "star": (lambda: select(literal_column("*")).select_from(Book), "id", "columns"),
    "text star": (lambda: select(text("*")).select_from(Book), "id", "columns"),
    "own offset": (lambda: select(Book.id).limit(5).offset(10), "id", "OFFSET"),
    "aggregate": (lambda: select(func.count(Book.id).label("n")), "n", "unique="),
    "random": (lambda: select(Book.id), [[func.random()]], "random"),
    "clock": (lambda: select(Book.id), [[func.now() - Book.price]], "now"),
    "any": (lambda: select(Book.id, other.id.label("o"))
            .join(other, other.id == func.abs(Book.author_id)), "book.id", None),
}  # fmt: skip


@pytest.mark.parametrize("kind", REFUSED)
def test_what_cannot_be_paged_says_the_rewrite(kind):
    make_select, order, said = REFUSED[kind]
    if said is None:
        assert set(Listing(make_select(), orders=order).orders()[0].names) == {"id", "o"}
        return
    with pytest.raises((ListingError, OrderError), match=said) as caught:
        Listing(make_select(), orders=order)
    assert caught.value.todo


@pytest.mark.engines("postgresql")
def test_sets_in_columns_prove_nothing(filled):
    several = select(Author.id, func.unnest(literal_column("ARRAY[1,2,3]")).label("u"))
    with pytest.raises(OrderError, match="unique="):
        Listing(several, orders="id")
    with Session(filled) as session:
        session.execute(
            text(
                "CREATE OR REPLACE FUNCTION pg_temp.twice(i int) RETURNS SETOF int "
                "LANGUAGE sql AS 'SELECT i UNION ALL SELECT i'"
            )
        )
        own = Listing(select(Author.id, func.twice(Author.id).label("u")), orders="id")
        with pytest.raises(OrderError, match="several rows"):
            own.read(session)
        session.execute(
            text(
                "CREATE FUNCTION pg_temp.dice(i int) RETURNS float8 LANGUAGE sql "
                "VOLATILE AS 'SELECT i * random()'"
            )
        )
        with pytest.raises(OrderError, match="differs at each call"):
            Listing(select(Author.id), orders=[[func.dice(Author.id)]]).read(session)


@pytest.mark.engines("postgresql")
def test_distinct_on_is_paged_as_it_stands(filled):
    statement = select(Book.author_id, Book.id, Book.price).order_by(Book.author_id, Book.id.desc())
    try:
        from sqlalchemy.dialects.postgresql import distinct_on

        newest = statement.ext(distinct_on(Book.author_id))
    except ImportError:  # before SQLAlchemy 2.1
        newest = statement.distinct(Book.author_id)

    def make():
        return Listing(newest, orders="-price", sizes=Sizes(2))

    with Session(filled) as session:
        rows = [shown(row) for row in session.execute(newest).all()]
        truth = sorted(rows, key=lambda row: (row[2] is not None, -(row[2] or 0), -(row[0] or 99)))
        walked = [shown(row) for page in make().walk(session, size=2) for row in page]
        assert sorted(map(str, walked)) == sorted(map(str, truth))
        assert [row[2] for row in walked] == [row[2] for row in truth]
