"""First and last pages, empty results, starts that move, tails."""

import pytest
from sqlalchemy import bindparam, delete, insert, select

from exposed import Listing
from vrelko import Sizes, Spot
from vrelko.errors import DatabaseError, OrderError, PageError
from vrelko.larkmere.schema import capture, species, station
from vrelko.web import body_of, render_controls, render_fragment

STRATEGIES = ["keyset", "offset"]


def stations(strategy="keyset", **settings):
    return Listing(
        select(station.c.id), name="s", orders="id", sizes=Sizes(12), strategy=strategy, **settings
    )


@pytest.mark.parametrize("strategy", STRATEGIES)
def test_a_full_last_page_has_no_next(larkmere, strategy):
    with larkmere.connect() as connection:  # 48 stations: 4 full pages of 12
        page = stations(strategy).read(connection, Spot.number("4"))
        assert page.scalars() == list(range(37, 49))
        assert page.next is page.last is None
        assert page.number == page.last_number == 4
        assert str(page.from_to) == "37–48 of 48"
        assert len(page.statements) == 1  # the end tells the total: nothing is counted


@pytest.mark.parametrize("strategy", STRATEGIES)
@pytest.mark.parametrize(
    "at", [None, "", Spot.start(), Spot.end(), Spot.number(1), Spot.number("")]
)
def test_an_empty_result_is_one_empty_page(larkmere, strategy, at):
    nothing = Listing(select(station.c.id).where(station.c.id < 0), orders="-id", strategy=strategy)
    with larkmere.connect() as connection:
        page = nothing.read(connection, at)
        assert list(page) == []
        assert page.next is page.prev is page.first is page.last is None
        assert (page.number, page.last_number, page.total.value) == (1, 1, 0)
        assert str(page.from_to) == "0 of 0"
        assert nothing.read(connection, page.after).rows == []
        assert nothing.read(connection, page.before).rows == []


@pytest.mark.parametrize("strategy", STRATEGIES)
def test_past_the_end_leads_back(larkmere, strategy):
    with larkmere.connect() as connection:
        page = stations(strategy).read(connection, Spot.number(9))
        assert not page.rows
        assert page.next is None
        back = stations(strategy).read(connection, page.prev)
        assert back.scalars() == list(range(37, 49))


def test_back_past_a_start_that_moved_gives_a_full_first_page(own_larkmere):
    feed = Listing(
        select(species.c.id), name="f", kind="feed", orders="id", sizes=Sizes(10), total="none"
    )
    with own_larkmere.connect() as connection:
        second = feed.read(connection, feed.read(connection).next)
        connection.execute(delete(species).where(species.c.id <= 6))
        first = feed.read(connection, second.prev)
        assert first.scalars() == list(range(7, 17))
        assert first.prev is None
        assert first.next is not None
        connection.execute(delete(species).where(species.c.id > 16))
        assert feed.read(connection, feed.read(connection).before).rows == []
        assert feed.read(connection, second.prev).next is None


def test_tails_and_new_on_top(own_larkmere):
    newest = Listing(
        select(species.c.id), name="f", kind="feed", orders="-id", sizes=Sizes(10), total="none"
    )
    tail = Listing(select(species.c.id), name="t", kind="feed", orders="id", sizes=Sizes(64))
    with own_larkmere.connect() as connection:
        top = newest.read(connection)
        end = tail.read(connection)
        assert end.next is None
        assert newest.read(connection, top.before).rows == []
        assert tail.read(connection, end.after).rows == []
        new = [{"id": i, "code": f"N{i}", "name": "new"} for i in (65, 66, 67)]
        connection.execute(insert(species), new)
        assert newest.read(connection, top.before).scalars() == [67, 66, 65]
        assert tail.read(connection, end.after).scalars() == [65, 66, 67]
        connection.execute(delete(species))
        gone = tail.read(connection, end.after)
        assert gone.next is gone.prev is None


def test_previous_of_an_unaligned_offset_is_shorter_not_overlapping(larkmere):
    with larkmere.connect() as connection:
        page = stations("offset").read(connection, Spot.offset(7))
        before = stations("offset").read(connection, page.prev)
        assert before.scalars() == list(range(1, 8))
        assert before.prev is None
        assert stations("offset").read(connection, before.next).scalars() == page.scalars()


def test_totals(larkmere):
    everything = select(capture.c.id)
    with larkmere.connect() as connection:
        capped = Listing(everything, orders="id").read(connection)
        assert str(capped.from_to) == "1–25 of 10,000+"
        assert capped.last_number is None
        assert capped.strip() == ()
        exact = Listing(everything, orders="id", total="exact").read(connection)
        assert (exact.total.value, exact.last_number) == (20_000, 800)
        assert [str(link) for link in exact.strip()] == ["[1]", "2", "3", "4", "5", "…", "800"]
        silent = Listing(everything, orders="id", total="exact").read(connection, total=False)
        assert str(silent.from_to) == "1–25"
        assert len(silent.statements) == 1


def test_rows_and_keys_as_spots(larkmere):
    whole = Listing(select(capture), orders="-caught_at", sizes=Sizes(5))
    narrow = Listing(select(capture.c.ring), orders="-caught_at", sizes=Sizes(5))
    with larkmere.connect() as connection:
        page = whole.read(connection)
        behind = whole.read(connection, page.next).rows
        assert whole.read(connection, Spot.after(page[-1])).rows == behind
        assert whole.read(connection, Spot.after(page.keys[-1])).rows == behind
        assert whole.read(connection, page.cursor(-1)).rows == behind
        assert [row.ring for row in behind] == narrow.read(
            connection, Spot.after(page.keys[-1])
        ).scalars()
        assert narrow.read(connection)[0]._fields == ("ring",)
        with pytest.raises(PageError, match="caught_at, id"):
            narrow.read(connection, Spot.after(narrow.read(connection)[0]))
        with pytest.raises(PageError, match="2 values"):
            whole.read(connection, Spot.after(17))


@pytest.mark.parametrize(
    ("call", "error"),
    [
        ({"size": 0}, PageError),
        ({"size": "-5"}, PageError),
        ({"size": 10**9}, PageError),
        ({"size": "many"}, PageError),
        ({"order": "ring"}, OrderError),
        ({"order": "-nothing"}, OrderError),
        ({"params": None}, PageError),
        ({"params": {"station": None}}, PageError),
        ({"params": {"station": 3, "staton": 4}}, PageError),
        ({"at": 3}, PageError),
        ({"at": Spot.after(("x", 10**40))}, PageError),
    ],
)
def test_bad_requests(larkmere, call, error):
    grid = Listing(
        select(capture).where(capture.c.station_id == bindparam("station")), orders="-caught_at"
    )
    with larkmere.connect() as connection, pytest.raises(error) as caught:
        grid.read(connection, **{"params": {"station": 3}, **call})
    assert caught.value.todo


def test_kinds_take_their_own_spots(larkmere):
    feed = Listing(select(station), kind="feed", orders="id")
    choices = Listing(select(station.c.id, station.c.name), kind="choices", orders="name")
    with larkmere.connect() as connection:
        with pytest.raises(PageError, match="feed"):
            feed.read(connection, Spot.number(2))
        page = choices.read(connection)
        assert len(page) == 48
        assert page.next is None
        with pytest.raises(PageError):
            choices.read(connection, Spot.end())
        small = Listing(select(station), kind="choices", orders="name", cap=10)
        with pytest.raises(PageError, match="more than 10"):
            small.read(connection)


def test_a_missing_table_is_a_database_error(tmp_path):
    from sqlalchemy import create_engine

    engine = create_engine(f"sqlite:///{tmp_path / 'empty.db'}")
    with engine.connect() as connection, pytest.raises(DatabaseError, match="no such table"):
        stations().read(connection)
    engine.dispose()


def test_optional_filters_are_absent_from_sql_until_given(larkmere):
    grid = Listing(
        select(capture.c.id),
        orders="id",
        filters={"status": capture.c.status == bindparam("status")},
        total="none",
    )
    with larkmere.connect() as connection:
        without = grid.read(connection, params={"status": None})
        given = grid.read(connection, params={"status": 4})
    assert "WHERE" not in str(without.statements[0])
    assert "status = :status" in str(given.statements[0])


@pytest.mark.parametrize("strategy", [*STRATEGIES, "deferred-join"])
@pytest.mark.parametrize("total", ["exact", "capped", "none"])
def test_a_last_page_whose_rows_are_deleted(own_larkmere, strategy, total):
    """Somebody deletes the only row of the last page, and reloads it by its cursor."""
    listing = stations(strategy, total=total, cap=20)
    with own_larkmere.connect() as connection:
        for row in (capture, station):  # 48 stations become 37: a last page of one row
            left = row.c.station_id if row is capture else row.c.id
            connection.execute(delete(row).where(left > 37))
        third = listing.read(connection, Spot.number(3))
        reloads = [third.next, listing.read(connection, third.next).self]
        if strategy != "keyset":
            reloads.append(Spot.number(4))
        connection.execute(delete(capture).where(capture.c.station_id > 36))
        connection.execute(delete(station).where(station.c.id > 36))
        for at in reloads:
            empty = listing.read(connection, at)
            assert not empty.rows
            assert empty.next is None
            if total == "exact":
                assert empty.total.value == 36  # not the 37 of the cursor
                assert [link.number for link in empty.strip() if link.current] == []
            assert listing.read(connection, empty.prev).scalars() == list(range(25, 37))
            last = listing.read(connection, at, past_end="last")
            assert last.scalars() == list(range(25, 37))
            assert "past the end; this is the last page" in last.clamped
            with pytest.raises(PageError, match="past the end"):
                listing.read(connection, at, past_end="error")
            words = render_controls(empty, "/stations")
            assert "Nothing matches" not in words
            assert ("past the end" in words) == (empty.number is not None)
            assert 'aria-current="page"' not in words


def test_the_empty_tail_of_a_feed_is_no_page_past_the_end(larkmere):
    feed = Listing(select(station.c.id), name="f", kind="feed", orders="id", sizes=Sizes(100))
    with larkmere.connect() as connection:
        tail = feed.read(connection).after
        for past_end in ("empty", "last", "error"):
            assert feed.read(connection, tail, past_end=past_end).rows == []
        assert "End of the list" in render_controls(feed.read(connection, tail), "/stations")


def test_a_page_knows_its_order(larkmere):
    grid = Listing(select(station.c.id, station.c.name), name="g", orders=["id", "-name"])
    with larkmere.connect() as connection:
        for order, column, state in (
            ("-name", "name", "descending"),
            (None, "id", "ascending"),
            (" -name,-id ", "name", "descending"),
        ):
            page = grid.read(connection, order=order)
            assert page.order == ("id" if order is None else "-name")
            assert body_of(page, "/stations")["sort"] == page.order
            found = render_fragment(page, "/stations", grid)
            assert f'aria-sort="{state}"><a href="/stations?sort=' in found
            assert found.index(f'aria-sort="{state}"') < found.index(f">{column}<")
            assert found.count('aria-sort="none"') == 1
            for walked in grid.walk(connection, size=40, order=order):
                assert walked.order == page.order
