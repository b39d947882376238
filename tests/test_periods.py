"""Archives: years, months and days, against the same rows grouped in Python."""

from collections import Counter
from datetime import UTC, date, datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import (
    Column,
    Date,
    DateTime,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    create_engine,
    select,
    union_all,
)

import vrelko
from vrelko.core.periods import CalendarPeriod, parse_period, period_of
from vrelko.errors import ListingError, OrderError, PageError

metadata = MetaData()
Notes = Table(
    "Field Notes",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("Site", Integer, nullable=False),
    Column("Seen At", DateTime, nullable=True),
    Column("day", Date, nullable=True),
    Column("text", String(20)),
    Index("notes_seen", "Site", "Seen At", "id"),
    Index("notes_day", "day", "id"),
)
n = Notes.c
OSLO = ZoneInfo("Europe/Oslo")


def moments():
    """Rows at the edges of days, months and years, ties, and rows without a date."""
    at = datetime(2023, 11, 28, 22, 30)
    found = [None, None, None]
    for step in range(260):
        found.append(at)
        at += timedelta(hours=(7, 61, 0, 219)[step % 4], minutes=step % 3)
    for edge in (datetime(2025, 1, 1), datetime(2026, 3, 1), datetime(2025, 12, 31, 23, 59, 59)):
        found += [edge, edge]
    return found


ROWS = [
    {"id": i, "Site": i % 2, "Seen At": at, "day": at and at.date(), "text": f"note {i}"}
    for i, at in enumerate(moments(), 1)
]


@pytest.fixture(scope="module")
def notes(server, tmp_path_factory):
    """The rows on each engine; SQLite's in a file, which several threads may open."""
    if server.dialect.name == "sqlite":
        server = create_engine(f"sqlite:///{tmp_path_factory.mktemp('notes') / 'notes.db'}")
    metadata.create_all(server)
    with server.begin() as connection:
        connection.execute(Notes.insert(), ROWS)
    yield server
    metadata.drop_all(server)
    server.dispose()


def listing(column="Seen At", orders="-Seen At", **more):
    given = {"name": "notes", "expose": True, "total": "exact", "periods": column, **more}
    return vrelko.Listing(select(n.id, n["Seen At"], n.day, n.text), orders=orders, **given)


ORDERS = {"Seen At": (n["Seen At"].desc(), n["Seen At"]), "day": (n.day.desc(), n.day)}


@pytest.mark.parametrize("unit", ["year", "month", "day"])
@pytest.mark.parametrize("column", ORDERS)
@pytest.mark.parametrize("descending", [True, False], ids=["newest", "oldest"])
def test_periods_are_those_of_the_rows(notes, unit, column, descending):
    made = listing(column, ORDERS[column][not descending])
    counted = Counter(period_of(row["day"], unit).label for row in ROWS if row["day"])
    with notes.connect() as connection:
        for newest_first in (True, False):
            found = made.periods(connection, unit, newest_first=newest_first, counts=True)
            labels = sorted(counted, reverse=newest_first)
            assert [(one.label, one.rows) for one in found] == [(x, counted[x]) for x in labels]
        for one in found[:40]:
            assert one.spot is not None
            page = made.read(connection, one.spot, size=5)
            assert period_of(page[0].day, unit).label == one.label
            ahead = made.read(connection, vrelko.Spot.before(page[0]), size=1)
            for row in ahead:
                assert row.day is None or period_of(row.day, unit).label != one.label


@pytest.mark.slow
@pytest.mark.parametrize("column", ORDERS)
@pytest.mark.parametrize("nulls", ["first", "last"])
@pytest.mark.parametrize("descending", [True, False], ids=["newest", "oldest"])
def test_anchors_count_periods(notes, column, descending, nulls):
    """As a count of each, with changes in the log and without; by few rows, not by all."""
    term = n[column].desc() if descending else n[column].asc()
    order = [[term.nulls_first() if nulls == "first" else term.nulls_last(), n.id]]
    plain = listing(column, order)
    made = plain.changed(jumps="anchors")
    anchors = made.counted_anchors(notes, every=10)
    anchors.build()
    new = {"id": 9_000, "Site": 1, "Seen At": datetime(2025, 6, 1), "day": date(2025, 6, 1)}
    try:
        for step in range(3):
            with notes.connect() as connection:
                expected = plain.periods(connection, "month", counts=True)
                assert made.periods(connection, "month", counts=True) == expected
            with notes.begin() as connection:
                if step == 0:
                    connection.execute(Notes.insert(), [new])
                    connection.execute(Notes.delete().where(n.id.between(40, 60)))
            if step == 1:
                assert anchors.fold() == 22
    finally:
        anchors.drop()
        with notes.begin() as connection:
            connection.execute(Notes.delete().where(n.id == 9_000))
            connection.execute(Notes.insert(), [one for one in ROWS if 40 <= one["id"] <= 60])


def test_static_anchors_count_no_periods(notes):
    """They are as of their last count, and a count of rows is told as exact."""
    plain = listing()
    made = plain.changed(jumps="anchors")
    anchors = made.counted_anchors(notes, every=10)
    anchors.build(static=True)
    try:
        with notes.connect() as connection, connection.begin() as transaction:
            connection.execute(Notes.delete().where(n.id.between(40, 60)))
            expected = plain.periods(connection, "month", counts=True)
            assert made.periods(connection, "month", counts=True) == expected
            transaction.rollback()
    finally:
        anchors.drop()


def test_a_period_is_paged_by_itself(notes):
    made = listing()
    for engine_lends in (True, False):
        source = notes if engine_lends else notes.connect()
        page = made.read(source, period="2025-12", size=7)
        wanted = [
            row["id"]
            for row in sorted(ROWS, key=lambda row: (row["Seen At"] or datetime.min, row["id"]))[
                ::-1
            ]
            if row["Seen At"] and row["Seen At"].strftime("%Y-%m") == "2025-12"
        ]
        seen = []
        while True:
            seen += [row.id for row in page]
            assert page.total.value == len(wanted)
            assert str(page.from_to).endswith(f"of {len(wanted)}")
            assert (page.period.label, page.period.earlier, page.period.later) == (
                "2025-12",
                "2025-11",
                "2026-01",
            )
            if page.next is None:
                break
            page = made.read(source, page.next, period="2025-12", size=7)
        assert seen == wanted
        assert page.number == -(-len(wanted) // 7)
        assert page.as_dict()["period"]["earlier"] == "2025-11"
        if not engine_lends:
            source.close()


def test_a_cursor_of_one_period_is_none_of_another(notes):
    made = listing()
    with notes.connect() as connection:
        page = made.read(connection, period="2025", size=3)
        with pytest.raises(vrelko.errors.CursorError, match="belongs to a different"):
            made.read(connection, page.next, period="2024", size=3)
        with pytest.raises(vrelko.errors.CursorError):
            made.read(connection, page.next, size=3)
        empty = made.read(connection, period="2019-02")
        assert (len(empty), empty.total.value) == (0, 0)
        assert (empty.period.earlier, empty.period.later) == (None, "2023-11")
        later = made.read(connection, period="2031")
        assert (later.period.earlier, later.period.later) == (str(max(years())), None)


def years():
    return {row["day"].year for row in ROWS if row["day"]}


def test_gaps_and_bounds(notes):
    made = listing("day", "-day")
    with notes.connect() as connection:
        with_gaps = made.periods(connection, "day", within="2024-02", gaps=True)
        found = [one.label for one in with_gaps]
        assert found == sorted(found, reverse=True)
        days = [parse_period(one).begin for one in found]
        assert all(one - two == timedelta(days=1) for one, two in pairwise(days))
        assert {one.rows for one in with_gaps if one.spot is None} == {0}
        assert [one.label for one in made.periods(connection, "day", within="2024-02")] == [
            one.label for one in with_gaps if one.spot is not None
        ]
        assert len(made.periods(connection, "month", most=3)) == 3
        assert [one.label for one in made.periods(connection, "month", within="2025", most=2)] == [
            "2025-12",
            "2025-11",
        ]
        assert made.periods(connection, "month", within="1999") == ()


def test_days_begin_at_midnight_where_the_reader_is(notes):
    made = listing(periods=vrelko.Periods("Seen At", stored="UTC"))

    def day(row):
        return row["Seen At"].replace(tzinfo=UTC).astimezone(OSLO).date()

    counted = Counter(day(row).strftime("%Y-%m") for row in ROWS if row["Seen At"])
    plain = Counter(row["day"].strftime("%Y-%m") for row in ROWS if row["Seen At"])
    assert counted != plain
    with notes.connect() as connection:
        found = made.periods(connection, "month", counts=True, time_zone="Europe/Oslo")
        assert {one.label: one.rows for one in found} == counted
        page = made.read(connection, period="2026-01", time_zone="Europe/Oslo", size=200)
        assert len(page) == counted["2026-01"]


def test_filters_hold_in_periods(notes):
    made = listing(filters={"site": n.Site == bindparam("site")})
    counted = Counter(row["day"].year for row in ROWS if row["day"] and row["Site"] == 1)
    with notes.connect() as connection:
        found = made.periods(connection, "year", counts=True, params={"site": 1})
        assert {int(one.label): one.rows for one in found} == counted
        page = made.read(connection, params={"site": 1}, period="2025", size=4)
        assert page.total.value == counted[2025]
        between = {"period_from": datetime(2025, 2, 3), "period_until": datetime(2025, 2, 20)}
        some = made.read(connection, params=between, size=200)
        assert len(some) == sum(
            1
            for row in ROWS
            if row["Seen At"] and between["period_from"] <= row["Seen At"] < between["period_until"]
        )


@pytest.mark.parametrize("nulls", ["first", "last"])
@pytest.mark.parametrize("descending", [True, False], ids=["desc", "asc"])
def test_at_a_value(notes, nulls, descending):
    column = n["Seen At"].desc() if descending else n["Seen At"].asc()
    made = listing(orders=column.nulls_first() if nulls == "first" else column.nulls_last())
    with notes.connect() as connection:
        whole = [row for page in made.walk(connection) for row in page]
        values = [row[1] for row in whole if row[1] is not None]
        tries = [values[0], values[-1], values[100], datetime(1990, 1, 1), datetime(2090, 1, 1)]
        for value in [*tries, values[50] + timedelta(seconds=1), values[51] - timedelta(seconds=1)]:
            page = made.read(connection, vrelko.Spot.at_value(value), size=4)
            behind = [
                row.id
                for row in whole
                if (row[1] is None and nulls == "last")
                or (row[1] is not None and (row[1] <= value if descending else row[1] >= value))
            ]
            assert [row.id for row in page] == behind[:4], value
            if page.next:
                following = made.read(connection, page.next, size=4)
                assert [row.id for row in following] == behind[4:8]


def test_what_has_no_periods(notes):
    with pytest.raises(OrderError, match="not a column of this listing"):
        listing("Sen At")
    with pytest.raises(ListingError, match="not a date/time column"):
        listing("text")
    with pytest.raises(ListingError, match="'period_from' is used"):
        listing(filters={"mine": n.id > bindparam("period_from")})
    both = union_all(select(n.id, n.day), select(n.id, n.day))
    with pytest.raises(ListingError, match="merged or computed"):
        vrelko.Listing(
            select(both.subquery()).distinct(), orders="day", unique=["id"], periods="day"
        )
    made = listing()
    with notes.connect() as connection:
        for text in (
            "2025-13",
            "2025-02-30",
            "25",
            "2025-1",
            "abc",
            "",
            "2025-01-01T00",
            7,
            "２０２５",
        ):
            with pytest.raises(PageError, match="is not a year, month or day"):
                made.read(connection, period=text)
        for wrong, said in (
            ({"time_zone": "Mars/Olympus"}, "not a known time zone"),
            ({"unit": "week"}, "unit 'week' is not known"),
            ({"most": 0}, "most must be"),
            ({"within": "x"}, "not a year, month or day"),
        ):
            with pytest.raises((PageError, ListingError), match=said):
                made.periods(connection, **wrong)
        with pytest.raises(PageError, match="which have no time zone"):
            listing("day", "-day").periods(connection, time_zone="UTC")
        with pytest.raises(PageError, match="has no periods"):
            listing(None).periods(connection)
        with pytest.raises(PageError, match="needs a value"):
            made.read(connection, vrelko.Spot.at_value(None))


@given(
    st.dates(min_value=date(1, 1, 1), max_value=date(9999, 12, 31)),
    st.sampled_from(["year", "month", "day"]),
)
@settings(max_examples=300)
def test_periods_tile_the_calendar(day, unit):
    one = period_of(day, unit)
    assert parse_period(one.label) == one
    assert one.begin <= day
    after, before = one.next, one.previous
    assert after is None or (after.begin > day and after.previous == one)
    assert before is None or before.next == one
    begin, end = one.bounds(OSLO)
    assert end is None or begin < end
    assert CalendarPeriod("year", date(day.year, 1, 1)).holds(one)


@pytest.fixture(scope="module")
def client(notes):
    from starlette.testclient import TestClient

    from vrelko.web import make_app

    made = listing(filters={"site": n.Site == bindparam("site")}, name="notes")
    with TestClient(make_app({"notes": made}, notes)) as found:
        yield found


def test_periods_over_http(client):
    listed = client.get("/notes/periods?unit=month&within=2025&counts=1&site=1").json()["periods"]
    counted = Counter(
        row["day"].strftime("%Y-%m")
        for row in ROWS
        if row["day"] and row["Site"] == 1 and row["day"].year == 2025
    )
    assert {one["label"]: one["rows"] for one in listed} == counted
    page = client.get(listed[3]["url"] + "&size=2").json()
    label = listed[3]["label"]
    assert page["period"]["label"] == label
    assert page["total"]["value"] == counted[label]
    assert page["period"]["later"]["label"] == listed[2]["label"]
    assert (
        client.get(page["period"]["earlier"]["url"]).json()["period"]["label"]
        == (listed[4]["label"])
    )
    following = client.get(page["links"]["next"]).json()
    assert following["period"]["label"] == label
    assert following["number"] == 2
    html = client.get(listed[3]["url"], headers={"Accept": "text/html"}).text
    assert f"<h2>{label}</h2>" in html
    assert f"Earlier: {listed[4]['label']}" in html
    lines = client.get(f"/notes/export?period={label}&site=1").text.strip().splitlines()
    assert sum('"id"' in line for line in lines) == counted[label]
    zoned = client.get("/notes?period=2026-01&zone=Europe/Oslo&size=200").json()
    assert zoned["period"]["label"] == "2026-01"


@pytest.mark.parametrize(
    ("query", "code"),
    [
        ("/notes?period=2025-13", "period-text"),
        ("/notes?period=2025&zone=Mars", "period-zone"),
        ("/notes/periods?unit=week", "web-value"),
        ("/notes/periods?counts=2", "web-value"),
        ("/notes/periods?page=2", "web-parameter"),
        ("/notes?rows=9-2", "web-value"),
        ("/notes?rows=a-b", "web-value"),
        ("/notes?rows=-5", "web-value"),
        ("/notes?rows=0-9&page=2", "web-position"),
        ("/notes?rows=0-9&size=5", "web-position"),
        ("/notes?rows=0-9999", "size-range"),
    ],
)
def test_bad_periods_and_ranges_over_http(client, query, code):
    answer = client.get(query)
    assert (answer.status_code, answer.json()["code"]) == (400, code)


def test_any_range_of_rows(notes, client):
    made = listing()
    with notes.connect() as connection:
        whole = [row.id for page in made.walk(connection) for row in page]
        for first, count in ((0, 10), (7, 13), (250, 60), (len(whole) - 3, 10), (len(whole), 5)):
            page = made.read_rows(connection, first, count)
            assert [row.id for row in page] == whole[first : first + count]
            assert page.total.value == len(whole)
            if page:
                last = first + len(page)
                assert str(page.from_to) == f"{first + 1:,}–{last:,} of {len(whole):,}"
        before = made.read(connection, size=5)
        again = made.read_rows(connection, 40, 20, walk=before.next)
        assert again.total == before.total
        assert len(again.statements) == 1  # the total came with the cursor
        with pytest.raises(vrelko.errors.CursorError):
            made.read_rows(connection, 40, 20, walk=before.next, scope="b")
        for first, count in ((-1, 5), ("x", 5), (0, 0), (0, 10**6)):
            with pytest.raises(PageError):
                made.read_rows(connection, first, count)
    found = client.get("/notes?rows=7-19").json()
    assert [row["id"] for row in found["rows"]] == whole[7:20]
    assert client.get(found["links"]["next"]).json()["rows"][0]["id"] == whole[20]


def test_neighbouring_pages_are_read_together(notes):
    made = listing()
    with notes.connect() as connection:
        for numbers in ([1, 2, 3], [2, 3], [4], [3, 1, 2], [28, 29, 30, 31], [60, 61]):
            spots = [vrelko.Spot.number(one) for one in numbers]
            together = made.read_many(connection, spots, size=9)
            for number, page in zip(numbers, together, strict=True):
                alone = made.read(connection, vrelko.Spot.number(number), size=9)
                assert list(page) == list(alone)
                assert (page.number, page.total) == (alone.number, alone.total)
                assert (page.at_start, page.at_end) == (alone.at_start, alone.at_end)
                assert (page.next is None, page.prev is None) == (
                    alone.next is None,
                    alone.prev is None,
                )
                if page.next:
                    assert list(made.read(connection, page.next, size=9)) == list(
                        made.read(connection, alone.next, size=9)
                    )
                if page.prev:
                    assert list(made.read(connection, page.prev, size=9)) == list(
                        made.read(connection, alone.prev, size=9)
                    )
        wide = made.read_many(connection, [vrelko.Spot.number(i) for i in range(1, 6)], size=50)
        assert [row.id for page in wide for row in page] == [
            row.id for page in made.walk(connection, size=100) for row in page
        ][:250]  # more rows together than one page may have
        three = made.read_many(connection, [vrelko.Spot.number(i) for i in (2, 3, 4)], size=9)
        assert len(three[0].statements) <= 2  # one for the rows, one for the total
        first = three[0]
        mixed = made.read_many(connection, [None, first.next, vrelko.Spot.end()], size=9)
        assert list(mixed[1]) == list(three[1])
        assert mixed[2].at_end
        for wrong in ([], "abc", [None] * 21):
            with pytest.raises(PageError, match="spots can be read at once"):
                made.read_many(connection, wrong)
        with pytest.raises(PageError):
            made.read_many(connection, [vrelko.Spot.number("x"), vrelko.Spot.number(2)])


def test_periods_of_moments_with_a_zone(server):
    """On PostgreSQL they come back with it; elsewhere what was stored is taken for UTC."""
    other = MetaData()
    table = Table(
        "zoned_notes",
        other,
        Column("id", Integer, primary_key=True),
        Column("at", DateTime(timezone=True), index=True),
    )
    other.create_all(server)
    try:
        given = [datetime(2026, 6, 30, 22, 30, tzinfo=UTC), datetime(2026, 7, 1, 5, tzinfo=UTC)]
        with server.begin() as connection:
            connection.execute(
                table.insert(), [{"id": i, "at": at} for i, at in enumerate(given, 1)]
            )
            made = vrelko.Listing(select(table), orders="at", periods="at")
            plain = made.periods(connection, "month", counts=True)
            assert [(one.label, one.rows) for one in plain] == [("2026-07", 1), ("2026-06", 1)]
            oslo = made.periods(connection, "month", counts=True, time_zone="Europe/Oslo")
            assert [(one.label, one.rows) for one in oslo] == [("2026-07", 2)]
            page = made.read(connection, period="2026-07", time_zone="Europe/Oslo")
            assert len(page) == 2
    finally:
        other.drop_all(server)


def test_periods_in_a_pages_file(notes, tmp_path):
    url = notes.url.render_as_string(hide_password=False)
    pages = tmp_path / "pages.toml"
    head = (
        f'[source]\nurl = "{url}"\n[listing.notes]\ntable = "Field Notes"\norders = ["-Seen At"]\n'
    )
    pages.write_text(head + 'total = "exact"\nperiods = "Seen At"\nstored_zone = "Europe/Oslo"\n')
    loaded = vrelko.load(pages)
    try:
        found = loaded["notes"].periods(loaded.engine, "month", time_zone="UTC", counts=True)
        shifted = Counter(
            row["Seen At"].replace(tzinfo=OSLO).astimezone(UTC).strftime("%Y-%m")
            for row in ROWS
            if row["Seen At"]
        )
        assert {one.label: one.rows for one in found} == shifted
    finally:
        loaded.close()
    for wrong, said in (('"id"', "not a date/time column"), ('"Seen"', "not a column")):
        pages.write_text(head + f"periods = {wrong}\n")
        with pytest.raises(vrelko.errors.VrelkoError, match=said):
            vrelko.load(pages)
    pages.write_text(head + 'periods = "Seen At"\nstored_zone = "Mars"\n')
    with pytest.raises(vrelko.errors.VrelkoError, match=r"pages\.toml.*not a known time zone"):
        vrelko.load(pages)


@pytest.mark.parametrize("text", ["2026-03-01 00:00:00", "2026-03-01T00:00:00", "2026-03-01"])
def test_moments_that_others_wrote_into_sqlite(text, tmp_path):
    """Without a fraction of a second, with a T, or a day alone; columns as the catalog has them."""
    engine = create_engine(f"sqlite:///{tmp_path / 'others.db'}")
    with engine.begin() as connection:
        connection.exec_driver_sql('CREATE TABLE "Log" (id INTEGER PRIMARY KEY, "At" DATETIME)')
        empty = Table("Log", MetaData(), autoload_with=connection)
        made = vrelko.Listing(select(empty), orders="-At", periods="At", total="exact")
        assert made.periods(connection) == ()
        assert made.read(connection, period="2026-03").period.earlier is None
        for at in (text.replace("03-01", "02-28"), text, text.replace("03-01", "03-02"), None):
            connection.exec_driver_sql('INSERT INTO "Log" ("At") VALUES (?)', (at,))
        found = made.periods(connection, "month", counts=True)
        assert [(one.label, one.rows) for one in found] == [("2026-03", 2), ("2026-02", 1)]
        assert len(made.read(connection, period="2026-03-01")) == 1
        oldest = made.changed(orders="At")
        page = oldest.read(connection, vrelko.Spot.at_value(datetime(2026, 3, 1)))
        assert [row.id for row in page] == [2, 3]
    engine.dispose()
