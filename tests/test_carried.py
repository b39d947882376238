"""What travels with a position: parameters, fills, long values, rows of pages, links of walks."""

import subprocess
import sys
from datetime import UTC, datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import (
    Column,
    DateTime,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    Text,
    bindparam,
    create_engine,
    func,
    insert,
    select,
    text,
)
from sqlalchemy.orm import Session, registry
from starlette.testclient import TestClient

import vrelko
from exposed import Listing
from vrelko import FrozenIds, Search, Sizes, Spot, Steady
from vrelko.errors import CursorError, ListingError, PageError
from vrelko.larkmere.schema import capture
from vrelko.web import HttpOptions, make_app, page_urls, request_from

c = capture.c
SECRET = b"0123456789abcdef"


def birds(**given):
    statement = select(c.id, c.ring).where(c.station_id == bindparam("station"))
    settings = {"name": "birds", "orders": ["-caught_at", "ring"], "sizes": Sizes(5, max=None)}
    return Listing(statement, **{**settings, **given})


@given(st.lists(st.sampled_from(["next", "prev", "jump"]), max_size=10), st.integers(1, 9))
@settings(max_examples=60)
def test_moves_are_the_same_in_a_process_that_wrote_no_cursor(larkmere, moves, size):
    """A page before a key that reaches the start is a full first page, whoever reads the cursor."""
    near, far = birds(kind="feed"), birds(kind="feed")
    with larkmere.connect() as connection:
        asked = {"params": {"station": 3}, "size": size}
        here = there = near.read(connection, **asked)
        for move in moves:
            link = here.next if move != "prev" else here.prev
            if link is None or move == "jump":
                at = Spot.after(here.keys[0]) if here.rows else None
                here, there = (one.read(connection, at, **asked) for one in (near, near))
                continue
            here = near.read(connection, link, **asked)
            far.settings.book._known.clear()
            there = far.read(connection, link, **asked)
            assert here.rows == there.rows
            assert (here.next, here.prev) == (there.next, there.prev)
            assert not there.at_start or len(there) == size or there.at_end


def test_names_of_anonymous_aliases_are_the_same_in_every_process(larkmere_file):
    code = (
        "from sqlalchemy import *; import vrelko; from vrelko.larkmere.schema import capture as t;"
        "a, s = t.alias(), select(t.c.id, t.c.ring).subquery();"
        f"e = create_engine('sqlite:///{larkmere_file}');"
        "x = select(a.c.ring).join(s, s.c.id == a.c.id);"
        "p = vrelko.Listing(x, orders='-weight_g', expose=True).read(e); print(p.next)"
    )
    found = {
        subprocess.run(
            [sys.executable, "-c", code],
            capture_output=True,
            text=True,
            check=True,
            env={"PYTHONHASHSEED": seed, "PATH": ""},
        ).stdout
        for seed in ("1", "2")
    }
    assert len(found) == 1


def test_cursors_are_bound_to_what_stands_in_the_select(larkmere):
    def of(station, weight=5):
        order = func.coalesce(c.weight_g, weight)
        return Listing(select(c.id).where(c.station_id == station), orders=[[order]])

    with larkmere.connect() as connection:
        cursor = of(3).read(connection).next
        assert of(3).read(connection, cursor).rows
        for other in (of(4), of(3, weight=6)):
            with pytest.raises(CursorError) as caught:
                other.read(connection, cursor)
            assert caught.value.code == "cursor-foreign"


def test_rows_and_entities_of_a_page_have_their_place(larkmere):
    class Catch:
        pass

    registry().map_imperatively(Catch, capture)
    listing = Listing(select(Catch), orders="-caught_at", sizes=Sizes(7))
    plain = birds()
    with Session(larkmere) as session:
        page = listing.read(session, Spot.number(3))
        entity = page.scalars()[2]
        for given_ in (page[2], entity):
            assert listing.where_is(session, given_).offset == 16
            behind = listing.read(session, Spot.after(given_))
            assert behind.scalars()[0] is page.scalars()[3]
        with pytest.raises(PageError) as caught:
            listing.where_is(session, session.get(Catch, 1))
        assert caught.value.code == "spot-row"
        rows = plain.read(session, params={"station": 3})  # the order's column is not shown
        assert plain.where_is(session, rows[3], params={"station": 3}).offset == 3
        kept = rows[3]
        del rows
        with pytest.raises(PageError, match="caught_at"):
            plain.where_is(session, kept, params={"station": 3})


@pytest.mark.parametrize("expose", [True, False])
def test_long_texts_stay_out_of_cursors(made, expose):
    """A cursor that is written can be read: the row is looked up, and told when it is gone."""
    connection, meta = made
    t = Table("long", meta, Column("id", Integer, primary_key=True), Column("note", Text))
    meta.create_all(connection)
    letters = "日本語x" * 2_000
    rows = [{"id": i, "note": f"{i % 3}{letters}{i % 2}" if i % 4 else None} for i in range(1, 31)]
    connection.execute(insert(t), rows)
    connection.commit()

    def make():
        return vrelko.Listing(
            select(t.c.id),
            name="long",
            orders="note",
            sizes=Sizes(4),
            expose=expose,
            secrets=[SECRET],
            total="exact",
        )

    ids, page = [], make().read(connection)
    while True:
        ids += page.scalars()
        assert page.next is None or len(page.next) < 3_000
        if page.next is None:
            break
        last = page
        page = make().read(connection, page.next)
    assert sorted(ids) == list(range(1, 31))
    assert make().read(connection, page.prev).scalars() == last.scalars()
    first = make().read(connection, Spot.offset(10))  # behind NULLs, where those come first
    connection.execute(t.delete().where(t.c.id == first.scalars()[-1]))
    with pytest.raises(CursorError) as caught:
        make().read(connection, first.next)
    assert caught.value.code == "cursor-lost"


def test_what_cannot_be_carried_is_not_written(made):
    connection, meta = made
    t = Table("longer", meta, Column("note", Text), Column("id", Integer, primary_key=True))
    meta.create_all(connection)
    connection.execute(insert(t), [{"id": i, "note": "x" * 20_000 + str(i)} for i in range(1, 5)])
    listing = Listing(select(t.c.note).distinct(), orders="note", sizes=Sizes(2))
    if connection.dialect.name == "mariadb":  # which sorts by the beginning, the same in all
        with pytest.raises(ListingError) as tied:
            listing.read(connection)
        assert tied.value.code == "key-tied"
        return
    page = listing.read(connection)
    with pytest.raises(PageError) as caught:
        page.next  # noqa: B018
    assert caught.value.code == "cursor-long"
    assert sum(len(one) for one in listing.walk(connection, size=2)) == 4


SETS = {
    "texts for numbers": ["1", "01", 2],
    "numbers": [1, 1, 2, 2],
    "whole and not": [1, 1.0, 2],
    "true": [1, True, 2],
    "a generator": (n for n in (1, 2)),
    "a set": {1, 2},
}


@pytest.mark.parametrize("kind", SETS)
def test_set_filters_show_each_row_once(made, kind):
    connection, meta = made
    t = Table(
        "among",
        meta,
        Column("id", Integer, primary_key=True),
        Column("s", Integer),
        Index("among_s", "s", "id"),
    )
    meta.create_all(connection)
    connection.execute(insert(t), [{"id": i, "s": i % 4} for i in range(1, 41)])
    connection.commit()
    listing = Listing(
        select(t.c.id).where(t.c.s.in_(bindparam("s", expanding=True))),
        sizes=Sizes(3),
        total="none",
    )
    values = list(SETS[kind]) if kind != "a generator" else (n for n in (1, 2))
    pages = listing.walk(connection, size=3, params={"s": values})
    ids = [row.id for page in pages for row in page]
    assert ids == [i for i in range(1, 41) if i % 4 in (1, 2)]


def test_a_filter_takes_all_of_its_parameters_or_none(larkmere):
    between = c.weight_g.between(bindparam("least"), bindparam("most"))
    heavy = c.weight_g >= bindparam("least")
    listing = birds(filters={"between": between})
    both = birds(filters={"between": between, "heavy": heavy})
    with larkmere.connect() as connection:
        with pytest.raises(PageError, match="'most' too"):
            listing.read(connection, params={"station": 3, "least": 4})
        assert both.read(connection, params={"station": 3, "least": 4}).rows  # "heavy" has it all
        with pytest.raises(PageError, match="'least' too"):
            both.read(connection, params={"station": 3, "most": 4})


def test_a_fixed_parameter_without_value_shows_nothing(larkmere):
    optional = Listing(select(c.id), filters={"station": c.station_id == bindparam("station")})
    with pytest.raises(ListingError) as caught:
        request_from("", optional, given={"station": None})
    assert caught.value.code == "web-fixed"
    app = make_app({"all": optional}, larkmere, params={"": {"station": lambda request: None}})
    answer = TestClient(app, raise_server_exceptions=False).get("/all")
    assert answer.status_code == 500
    assert "rows" not in answer.json()


def test_moments_with_a_zone_are_refused_for_columns_without(made):
    connection, meta = made
    t = Table("moments", meta, Column("id", Integer, primary_key=True), Column("at", DateTime))
    meta.create_all(connection)
    since = Listing(select(t), filters={"since": t.c.at >= bindparam("since")})
    for zoned in (datetime(2026, 1, 1, tzinfo=UTC),):
        with pytest.raises(PageError) as caught:
            since.read(connection, params={"since": zoned})
        assert caught.value.code == "parameter-zone"
    for asked in ("2026-01-01T00:00:00Z", "2026-01-01T00:00:00+12:00"):
        with pytest.raises(PageError):
            since.read(connection, **request_from({"since": asked}, since))


def test_a_number_is_a_text_where_a_text_is_compared(made):
    """MariaDB would compare numbers: "5", "05" and "5a" are one then."""
    connection, meta = made
    t = Table("codes", meta, Column("code", String(5), primary_key=True), Column("n", Integer))
    meta.create_all(connection)
    connection.execute(insert(t), [{"code": one, "n": 1} for one in ("5", "05", "5a")])
    listing = Listing(select(t).where(t.c.code == bindparam("code")), orders="n")
    assert listing.read(connection, params={"code": 5}).scalars() == ["5"]
    whole = Listing(select(t), orders="code")
    if connection.dialect.name == "mariadb":  # elsewhere a text is compared with texts alone
        with pytest.raises(PageError):
            whole.read(connection, Spot.after((5,)))


def test_prefixes_are_found_as_the_collation_has_letters():
    engine = create_engine("sqlite://")
    with engine.begin() as connection:
        for collation in ("BINARY", "NOCASE"):
            connection.exec_driver_sql(
                f"CREATE TABLE w_{collation} (id INTEGER PRIMARY KEY, "
                f"word TEXT COLLATE {collation})"
            )
            words = ["Zebra", "zoo", "[x", "@x", "Z", "a"]
            for word in words:
                connection.execute(
                    text(f"INSERT INTO w_{collation} (word) VALUES (:w)"), {"w": word}
                )
            t = Table(f"w_{collation}", MetaData(), autoload_with=connection)
            listing = Listing(select(t.c.word), orders="word", search=Search(["word"]))

            def found(text_, listing=listing, connection=connection):
                return set(listing.read(connection, params={"search": text_}).scalars())

            assert found("@") == {"@x"}
            assert found("Z") == {"Zebra", "Z"} | ({"zoo"} if collation == "NOCASE" else set())
    engine.dispose()


WIRES = [
    HttpOptions(),
    HttpOptions(numbers=True),
    HttpOptions(numbers=True, first=0),
    HttpOptions(offsets=True),
    HttpOptions(offsets=True, numbers=True),
]


@pytest.mark.parametrize("http", WIRES)
@pytest.mark.parametrize("start", ["", "offset"])
def test_links_lead_to_each_row_once(larkmere, http, start):
    """From any place, on and back: no row twice, none left out."""
    listing = birds(total="exact", sizes=Sizes(20, max=50))
    with larkmere.connect() as connection:
        params = {"station": 3}
        whole = listing.read(connection, size=50, params=params)
        at = {"": None, "offset": Spot.offset(33)}[start]
        everything = [row.id for page in listing.walk(connection, params=params) for row in page]
        assert whole.scalars() == everything[:50]
        for link in ("next", "prev"):
            page = listing.read(connection, at, size=20, params=params)
            begin = page.offset
            seen = list(page.scalars())
            for _ in range(4):
                urls = page_urls(page, "?station=3&size=20", http)
                again = follow(listing, connection, urls.self, http)
                assert again.rows == page.rows
                url = getattr(urls, link)
                if url is None:
                    break
                following = follow(listing, connection, url, http)
                if link == "prev" and page.offset < 20:  # the first page is always a full one
                    assert following.scalars() == everything[:20]
                    break
                page = following
                seen = [*seen, *page.scalars()] if link == "next" else [*page.scalars(), *seen]
            first = begin if link == "next" else page.offset
            assert seen == everything[first : first + len(seen)]


def follow(listing, connection, url, http):
    return listing.read(connection, **request_from(url.partition("?")[2], listing, http))


def test_one_list_is_stored_for_a_walk_by_links(larkmere, tmp_path):
    store = create_engine(f"sqlite:///{tmp_path / 'lists.db'}")
    frozen = FrozenIds(store)
    frozen.create()
    listing = birds(
        strategy="frozen-ids", steady=Steady(frozen=frozen), total="exact", sizes=Sizes(20, max=50)
    )
    app = make_app({"birds": listing}, larkmere, http=HttpOptions(numbers=True))
    client = TestClient(app)
    answer = client.get("/birds?station=3").json()
    for name in ("next", "next", "prev", "first", "self", "last", "first", "next"):
        answer = client.get(answer["links"][name]).json()
    numbered = [one["url"] for one in answer["strip"] if one["url"]]
    for url in numbered:
        assert client.get(url).status_code == 200
    with store.connect() as connection:
        lists = connection.execute(text("SELECT COUNT(DISTINCT name) FROM vrelko_frozen")).scalar()
    assert lists == 1
    store.dispose()


def test_a_count_locks_no_row(made):
    connection, meta = made
    t = Table("jobs", meta, Column("id", Integer, primary_key=True))
    meta.create_all(connection)
    connection.execute(insert(t), [{"id": i} for i in range(1, 11)])
    connection.commit()
    listing = Listing(select(t).with_for_update(skip_locked=True), total="exact", sizes=Sizes(2))
    page = listing.read(connection)
    asked = [str(one.select.compile(connection)) for one in page.statements]
    assert sum("FOR UPDATE" in one for one in asked) == (connection.dialect.name != "sqlite")
    assert page.total.value == 10
