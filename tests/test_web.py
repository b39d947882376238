"""Pages over HTTP: addresses, requests, answers, problems, exports; through the application."""

import asyncio
import csv
import io
import json
import random
import re
from datetime import date, datetime, timedelta
from decimal import Decimal
from uuid import UUID

import pytest
import schemathesis
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from schemathesis.specs.openapi.checks import (
    negative_data_rejection,
    positive_data_acceptance,
)
from sqlalchemy import JSON, Column, Integer, MetaData, Table, bindparam, create_engine, select
from starlette.applications import Starlette
from starlette.routing import Mount
from starlette.testclient import TestClient

import vrelko
from vrelko import Search, Sizes, Spot
from vrelko.engines.registry import open_database
from vrelko.errors import ListingError, PageError, VrelkoError
from vrelko.larkmere.schema import capture, species
from vrelko.web import (
    Appearance,
    HttpOptions,
    Words,
    exports,
    headings,
    link_header,
    make_app,
    page_urls,
    render_controls,
    request_from,
    to_json,
)
from vrelko.web.application import describe_app

c = capture.c
GRID = vrelko.Listing(
    select(c.id, c.ring, c.caught_at, c.weight_g).where(c.station_id == bindparam("station")),
    name="grid",
    orders=["-caught_at", "caught_at", "-weight_g:nulls-last"],
    total="exact",
    filters={
        "species": c.species_id.in_(bindparam("species", expanding=True)),
        "since": c.caught_at >= bindparam("since"),
    },
    search=Search(["ring"]),
    sizes=Sizes(10, max=50),
    expose=True,
)
FEED = vrelko.Listing(
    select(c.id, c.ring),
    name="feed",
    kind="feed",
    orders="-caught_at",
    sizes=Sizes(20, max=40),
    filters={"status": c.status == bindparam("status")},
    expose=True,
)
CHOICES = vrelko.Listing(
    select(species.c.id, species.c.name), name="species", kind="choices", orders="name", cap=500
)
LISTINGS = {"grid": GRID, "feed": FEED, "species": CHOICES}


@pytest.fixture(scope="module")
def client(larkmere):
    return TestClient(make_app(LISTINGS, larkmere, title="Larkmere"), raise_server_exceptions=False)


def walk(client, url, relation="next"):
    """Follow links to the end."""
    pages = []
    while url:
        answer = client.get(url)
        assert answer.status_code == 200, answer.text
        pages.append(answer)
        link = answer.links.get(relation)
        assert (link["url"] if link else None) == answer.json()["links"][relation]
        url = link and link["url"]
    return pages


def test_every_row_once_by_links_both_ways(client):
    onward = walk(client, "/grid?station=9&species=1,2,3&size=7&sort=-weight_g")
    rows = [row["id"] for page in onward for row in page.json()["rows"]]
    total = onward[0].json()["total"]
    assert total == {"value": len(rows), "kind": "exact"}
    assert len(set(rows)) == len(rows) > 20
    for page in onward:
        assert "species=1%2C2%2C3" in page.json()["links"]["self"] or page.url.query
        assert page.json()["links"]["first"] in (None, onward[0].json()["links"]["self"])
    back = walk(client, onward[-1].json()["links"]["self"], "prev")
    assert [row["id"] for page in reversed(back) for row in page.json()["rows"]] == rows
    assert onward[0].links["last"]["url"] == onward[1].links["last"]["url"]
    strip = onward[0].json()["strip"]
    numbers = [client.get(one["url"]).json()["number"] for one in strip if one["url"]]
    assert numbers == [one["number"] for one in strip if one["url"]]
    assert [one["current"] for one in strip].index(True) == 0


def test_a_feed_ends_once(client):
    pages = walk(client, "/feed?status=4&size=40")
    assert all(len(page.json()["rows"]) == 40 for page in pages[:-1])
    assert pages[-1].json()["links"]["next"] is None
    assert pages[0].json()["number"] is None
    none = client.get("/feed?status=77").json()
    assert (none["rows"], none["links"]["next"], none["links"]["prev"]) == ([], None, None)


def test_links_fit_clients_there_are(larkmere):
    http_of = {
        "grid": HttpOptions(
            page="start",
            size="length",
            sort="order",
            offsets=True,
            numbers=True,
            fields={"rows": "data", "from_to": None},
            prefix="g_",
        ),
        "feed": HttpOptions(in_path=True, prefix="f_", unknown="ignore"),
    }
    client = TestClient(make_app(LISTINGS, larkmere, http_of=http_of))
    first = client.get("/grid?g_station=3&g_length=20&f_status=4").json()
    assert "from_to" not in first
    assert len(first["data"]) == 20
    assert first["links"]["next"] == "/grid?g_station=3&g_length=20&f_status=4&g_start=20"
    third = client.get("/grid?g_station=3&g_length=20&g_start=40").json()
    assert (third["number"], third["offset"]) == (3, 40)
    zero = TestClient(make_app(LISTINGS, larkmere, http=HttpOptions(first=0, numbers=True)))
    answer = zero.get("/grid?station=3&page=1").json()
    assert (answer["number"], answer["offset"]) == (1, 10)
    assert answer["links"]["next"].endswith("page=2")
    feed = client.get("/feed?other=1").json()
    assert re.fullmatch(r"/feed/[^/?]+\?other=1", feed["links"]["next"])
    second = client.get(feed["links"]["next"])
    assert second.json()["links"]["first"] == "/feed?other=1"
    assert second.json()["rows"][0]["id"] != feed["rows"][0]["id"]


def test_links_under_a_mount_behind_a_proxy_relative_and_absolute(larkmere):
    inner = make_app(LISTINGS, larkmere)
    mounted = TestClient(Starlette(routes=[Mount("/api/v1", inner)]))
    assert mounted.get("/api/v1/grid?station=3").links["next"]["url"].startswith("/api/v1/grid?")
    proxied = TestClient(inner, root_path="/birds")
    assert proxied.get("/birds/grid?station=3").links["next"]["url"].startswith("/birds/grid?")
    assert proxied.get("/birds/openapi.json").json()["servers"] == [{"url": "/birds"}]
    relative = TestClient(make_app(LISTINGS, larkmere, links="relative"))
    second = relative.get("/grid?station=3").links["next"]["url"]
    assert second.startswith("?station=3&cursor=")
    absolute = TestClient(make_app(LISTINGS, larkmere, links="absolute", hosts=["testserver"]))
    assert (
        absolute.get("/grid?station=3").links["self"]["url"] == "http://testserver/grid?station=3"
    )
    only_first = relative.get("/feed").json()["links"]
    assert only_first["self"] == "?"


def test_plain_functions_for_any_framework(larkmere):
    asked = request_from({"station": "3", "page": "2", "size": "25"}, GRID)
    page = GRID.read(larkmere, **asked)
    assert str(page.from_to).startswith("26–50 of")
    urls = page_urls(page, "https://birds.example/captures?station=3&page=2&size=25&x=%C3%A9")
    assert urls.first == "https://birds.example/captures?station=3&size=25&x=%C3%A9"
    assert "page=2" not in urls.next
    assert [place.number for place in urls.strip][:3] == [1, 2, 3]
    header = link_header(page, "?station=3&page=2&size=25")
    assert re.findall(r'rel="(\w+)"', header) == ["self", "first", "prev", "next", "last"]
    many = request_from([("station", "3"), ("species", "1"), ("species", "2")], GRID)
    assert many["params"] == {"station": 3, "species": [1, 2]}
    assert request_from("?station=3&since=2023-01-01", GRID)["params"]["since"] == datetime(
        2023, 1, 1
    )
    assert request_from("page=", GRID, given={"station": 5})["params"] == {"station": 5}


@pytest.mark.parametrize(
    ("query", "code"),
    [
        ("station=3&page=0", "page-range"),
        ("station=3&page=-1", "page-range"),
        ("station=3&page=two", "page-number"),
        ("station=3&page=9" + "9" * 40, "page-number"),
        ("station=3&size=0", "size-range"),
        ("station=3&size=51", "size-range"),
        ("station=3&size=x", "size-number"),
        ("station=3&sort=ring", "order-not-allowed"),
        ("station=3&sort=--", "order-syntax"),
        ("station=3&cursor=abc", "cursor-altered"),
        ("station=3&cursor=abc&page=2", "web-position"),
        ("station=3&page=1&page=2", "web-repeated"),
        ("station=three", "web-value"),
        ("station=9999999999999999999", "web-value"),
        ("station=3&since=soon", "web-value"),
        ("station=3&nonsense=1", "web-parameter"),
        ("station=1_0", "web-value"),
        ("station=3&search=%00", "web-value"),
        ("", "parameter-missing"),
    ],
)
def test_bad_requests_are_problems_with_what_to_do(client, query, code):
    answer = client.get(f"/grid?{query}")
    assert answer.status_code == 400
    assert answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert (problem["code"], problem["status"], problem["title"]) == (code, 400, "Bad Request")
    assert problem["todo"]
    assert problem["instance"] == "/grid"


def test_other_faults_are_problems_too(client, larkmere, tmp_path):
    for method, url, status in (
        ("get", "/nowhere", 404),
        ("post", "/grid", 405),
        ("get", "/species/export", 404),
        ("get", "/grid/4", 404),
    ):
        answer = getattr(client, method)(url)
        assert (answer.status_code, answer.headers["content-type"]) == (
            status,
            "application/problem+json",
        )
    assert "Did you mean 'grid'" in client.get("/gird").json()["detail"]
    picky = client.get("/grid?station=3", headers={"accept": "image/png"})
    assert picky.status_code == 406
    from sqlalchemy import create_engine

    empty = create_engine(f"sqlite:///{tmp_path / 'empty.db'}")
    broken = TestClient(make_app(LISTINGS, empty)).get("/grid?station=3")
    assert broken.status_code == 500  # a table that is not there does not come by waiting
    assert "capture" not in broken.text
    assert "retry-after" not in broken.headers
    empty.dispose()


def test_what_is_clamped_says_so(larkmere):
    client = TestClient(make_app(LISTINGS, larkmere, http=HttpOptions(on_bad_page="clamp")))
    answer = client.get("/grid?station=3&page=minus&size=900").json()
    assert (answer["size"], answer["number"]) == (50, 1)
    assert "not allowed" in answer["clamped"]
    for page in ("0", "-1", "-99999999999999999999"):
        answer = client.get(f"/grid?station=3&page={page}").json()
        assert answer["number"] == 1, answer
        assert "this is the nearest page" in answer["clamped"]
    last = client.get("/grid?station=3&page=9999999999999").json()
    assert last["clamped"], last
    from_0 = TestClient(
        make_app(LISTINGS, larkmere, http=HttpOptions(on_bad_page="clamp", first=0))
    )
    assert (
        from_0.get("/grid?station=3&page=-1").json()["rows"]
        == (from_0.get("/grid?station=3&page=0").json()["rows"])
    )


def test_a_number_that_is_none_is_told_as_it_was_asked(larkmere):
    client = TestClient(make_app(LISTINGS, larkmere, http=HttpOptions(first=0)))
    problem = client.get("/grid?station=3&page=-1").json()
    assert "page -1 does not exist; pages start at 0" in problem["detail"]
    at = request_from("station=3&page=-1", GRID, HttpOptions(first=0))["at"]
    with pytest.raises(PageError, match="Ask for 0 to 999,999,999"):
        GRID.read(larkmere, at, params={"station": 3})


def test_entity_tags(client):
    first = client.get("/grid?station=3")
    again = client.get(
        "/grid?station=3", headers={"if-none-match": f'"x", {first.headers["etag"]}'}
    )
    assert (again.status_code, again.content) == (304, b"")
    assert again.headers["etag"] == first.headers["etag"]
    other = client.get("/grid?station=4", headers={"if-none-match": first.headers["etag"]})
    assert other.status_code == 200
    assert client.head("/grid?station=3").headers["etag"] == first.headers["etag"]


def test_values_are_exact():
    values = {
        "day": date(2026, 3, 1),
        "at": datetime(2026, 3, 1, 7, 0, 0, 5),
        "d": Decimal("1.10"),
        "u": UUID(int=5),
        "b": b"\x00\xff",
        "i": 2**70,
        "f": 0.1,
        "n": None,
        "t": timedelta(days=1, seconds=2, microseconds=500_000),
        "s": "é</script>",
    }
    assert json.loads(to_json(values)) == {
        "day": "2026-03-01",
        "at": "2026-03-01T07:00:00.000005",
        "d": "1.10",
        "u": "00000000-0000-0000-0000-000000000005",
        "b": "AP8=",
        "i": 2**70,
        "f": 0.1,
        "n": None,
        "t": "P1DT2.5S",
        "s": "é</script>",
    }
    assert json.loads(to_json([float("nan"), -float("inf"), {"x": float("inf")}])) == [
        "NaN",
        "-Infinity",
        {"x": "Infinity"},
    ]


def test_cells_show_what_people_expect(client):
    cell = Appearance().cell
    shown = {
        Decimal("1E+3"): "1000",
        Decimal("0E-4"): "0.0000",
        None: "",
        True: "True",
        b"\x00\xff": "00 ff",
        bytes(20): "00 " * 15 + "00 … (20 bytes)",
        (1, None, "b"): "1, , b",
        frozenset({"b", "a"}): "a, b",
        datetime(2026, 3, 1, 7): "2026-03-01 07:00:00",
    }
    assert {value: cell("x", value) for value in shown} == shown
    assert cell("x", {"a": [1, Decimal("0.5")]}) == '{"a":[1,"0.5"]}'
    assert cell("x", [[1], [2]]) == "[[1],[2]]"


def test_numbers_in_json_columns_stay_exact(server, tmp_path):
    """On an engine that Vrelko opens, however long they are."""
    written = (
        '{"big": 12345678901234567890123, "fine": 0.1234567890123456789, "far": 1e400, "n": 1.5}'
    )
    place = server if server.url.database else create_engine(f"sqlite:///{tmp_path / 'json.db'}")
    meta = MetaData()
    kept = Table("exact_json", meta, Column("id", Integer, primary_key=True), Column("data", JSON))
    meta.create_all(place)
    with place.begin() as connection:
        connection.exec_driver_sql(f"INSERT INTO exact_json VALUES (1, '{written}')")
    engine = open_database(place.url.render_as_string(hide_password=False))
    data = vrelko.Listing(select(kept), orders="id", name="kept").read(engine).rows[0].data
    engine.dispose()
    meta.drop_all(place)
    place.dispose()
    assert json.loads(to_json(data)) == {
        "big": 12345678901234567890123,
        "fine": "0.1234567890123456789",
        "far": "1E+400",
        "n": 1.5,
    }


def test_half_a_surrogate_pair_in_a_json_column(tmp_path):
    """JSON may hold one, and no encoding has bytes for it."""
    engine = create_engine(f"sqlite:///{tmp_path / 'half.db'}")
    half = Table("half", MetaData(), Column("id", Integer, primary_key=True), Column("data", JSON))
    half.create(engine)
    with engine.begin() as connection:
        written = '{"name": "\\ud83d", "tag": "é"}'
        connection.exec_driver_sql("INSERT INTO half VALUES (1, ?)", (written,))
    listing = vrelko.Listing(select(half), orders="id", name="half")
    client = TestClient(make_app({"half": listing}, engine))
    data = {"name": "\ud83d", "tag": "é"}
    assert client.get("/half").json()["rows"] == [{"id": 1, "data": data}]
    page = client.get("/half", headers={"Accept": "text/html"})
    assert page.status_code == 200
    assert "ud83d" in page.text
    exported = client.get("/half/export").text.splitlines()
    assert json.loads(exported[0])["data"] == data
    assert "é" in client.get("/half/export?format=csv").text
    engine.dispose()


def test_positions_in_the_path_are_described(larkmere):
    app = make_app(LISTINGS, larkmere, http_of={"feed": HttpOptions(in_path=True)})
    paths = describe_app(app)["paths"]
    names = [one["name"] for one in paths["/feed/{position}"]["get"]["parameters"]]
    assert names[0] == "position"
    assert "cursor" not in names
    assert "/grid/{position}" not in paths
    assert len({one["get"]["operationId"] for one in paths.values()}) == len(paths)


def test_choices(client):
    answer = client.get("/species").json()
    assert answer["complete"] is True
    labels = [one["label"] for one in answer["choices"]]
    assert labels == sorted(labels)
    assert set(answer["choices"][0]) == {"value", "label"}
    assert client.get("/species?page=2").status_code == 400


def test_an_export_is_whole_and_resumes(client, larkmere):
    lines = [json.loads(line) for line in client.get("/feed/export?status=3").text.splitlines()]
    rows = [line["id"] for line in lines if "id" in line]
    with larkmere.connect() as connection:
        wanted = connection.execute(
            select(c.id).where(c.status == 3).order_by(c.caught_at.desc(), c.id.desc())
        )
        assert rows == wanted.scalars().all()
    assert lines[-1] == {"end": True}
    marks = [i for i, line in enumerate(lines) if "resume" in line]
    cut = marks[0]
    rest = client.get(f"/feed/export?status=3&cursor={lines[cut]['resume']}").text.splitlines()
    assert [json.loads(line) for line in rest] == lines[cut + 1 :]
    table = list(csv.reader(io.StringIO(client.get("/feed/export?status=3&format=csv").text)))
    assert table[0] == ["id", "ring"]
    assert [int(row[0]) for row in table[1:]] == rows
    for wrong in ("format=xml", "page=2", "size=5", "cursor=abc"):
        assert client.get(f"/feed/export?{wrong}").status_code == 400


def test_an_export_keeps_to_its_rate(larkmere, monkeypatch):
    waits = []

    async def sleep(seconds):
        waits.append(seconds)

    monkeypatch.setattr(exports.asyncio, "sleep", sleep)
    http_of = {"feed": HttpOptions(export_rows_s=10)}
    client = TestClient(make_app(LISTINGS, larkmere, http_of=http_of))
    lines = client.get("/feed/export?status=3").text.splitlines()
    rows = sum("ring" in line for line in lines)
    assert len(waits) == -(-rows // exports.BATCH)
    assert rows / 10 - 60 < waits[-1] <= rows / 10


def test_tenants_are_no_readers_choice(larkmere):
    app = make_app(
        LISTINGS,
        larkmere,
        scope=lambda request: request.headers.get("x-reader"),
        params={"grid": {"station": lambda request: int(request.headers["x-station"])}},
    )
    client = TestClient(app)
    mine = client.get("/grid", headers={"x-station": "3", "x-reader": "a"})
    following = mine.links["next"]["url"]
    assert client.get(following, headers={"x-station": "3", "x-reader": "a"}).status_code == 200
    for station, reader in (("4", "a"), ("3", "b")):
        other = client.get(following, headers={"x-station": station, "x-reader": reader})
        assert other.json()["code"] == "cursor-foreign"
    asked = client.get("/grid?station=4", headers={"x-station": "3"})
    assert asked.json()["code"] == "web-parameter"
    assert "station" not in str(client.get("/openapi.json").json()["paths"]["/grid"])


def test_one_address_three_answers(client):
    page = {"accept": "text/html,application/xhtml+xml;q=0.9"}
    document = client.get("/grid?station=3&page=2", headers=page)
    fragment = client.get("/grid?station=3&page=2", headers={**page, "page-part": "fragment"})
    body = client.get("/grid?station=3&page=2")
    assert document.headers["vary"] == "Accept, Page-Part"
    assert document.text.startswith("<!doctype html>")
    assert fragment.text.startswith("<section")
    assert fragment.text.strip() in document.text
    assert body.json()["rows"][0]["ring"] in fragment.text
    for text in (
        'aria-current="page"',
        'rel="next"',
        'rel="prev"',
        "11–20 of",
        'aria-sort="descend',
    ):
        assert text in fragment.text, text
    end = client.get(body.json()["links"]["last"], headers={**page, "page-part": "fragment"}).text
    assert "End of the list" in end
    assert re.search(r'aria-disabled="true">Next', end)


def test_controls_take_words_classes_and_templates(larkmere, tmp_path):
    words = Words(
        next="weiter",
        prev="zurück",
        of="{rows} von {total}",
        number=lambda n: f"{n:,}".replace(",", "."),
    )
    page = GRID.read(larkmere, Spot.number(2), params={"station": 1})
    appearance = Appearance(words=words, classes={"link": "btn & <b>"})
    html = render_controls(page, "/x?a=<script>&b=%22", appearance=appearance)
    assert 'class="btn &amp; &lt;b&gt;"' in html
    assert "<script>" not in html
    assert "11–20 von 1." in html
    assert "weiter" in html
    (tmp_path / "controls.html").write_text("<i>{{ words.next }} {{ urls.next }}</i>")
    own = render_controls(page, "?a=1", appearance=Appearance(templates=tmp_path))
    assert re.fullmatch(r"<i>Next \?a=1&amp;cursor=[^<]+</i>", own)
    one, *_ = headings(["caught_at", "ring", "weight_g"], GRID, "caught_at", "?size=5")
    assert (one.state, one.url) == ("ascending", "?size=5&sort=-caught_at")
    _, ring, weight = headings(["caught_at", "ring", "weight_g"], GRID, None, "?sort=x&page=3")
    assert (ring.state, ring.url) == ("", None)
    assert (weight.state, weight.url) == ("none", "?sort=-weight_g%3Anulls-last")


def test_options_that_cannot_be_say_which():
    for wrong, said in (
        ({"first": 2}, "the first page cannot be 2"),
        ({"fields": {"row": "x"}}, "an answer cannot have the field 'row'"),
        ({"fields": {"rows": "total"}}, "two fields of the answer share a name"),
        ({"page": "size"}, "two parameters share a name"),
        ({"strip_width": 3}, "at least 5"),
        ({"export_rows_s": 0}, "export_rows_s"),
    ):
        with pytest.raises(ListingError) as told:
            HttpOptions(**wrong)
        assert said in str(told.value), wrong
    with pytest.raises(ListingError, match="used twice: by a filter and by the page"):
        request_from("station=3", GRID, HttpOptions(cursor="station"))


CHARS = st.text(st.characters(codec="utf-8"), max_size=12)
NAMES = st.sampled_from(["page", "size", "cursor", "sort", "station", "species", "since", "search"])
VALUES = st.one_of(CHARS, st.integers().map(str), st.sampled_from(["3", "-caught_at", "1,2", ""]))


@pytest.mark.slow
@settings(max_examples=300)
@given(pairs=st.lists(st.tuples(st.one_of(NAMES, CHARS), VALUES), max_size=5))
def test_any_query_is_answered_or_refused(larkmere, pairs):
    """No request whatever is a fault of the server's."""
    client = ANY.setdefault("client", TestClient(make_app(LISTINGS, larkmere)))
    for name in ("grid", "feed"):
        answer = client.get(f"/{name}", params=pairs)
        assert answer.status_code in (200, 400), answer.text
        kind = "application/json" if answer.status_code == 200 else "application/problem+json"
        assert answer.headers["content-type"] == kind
        assert json.loads(answer.text)


ANY: dict[str, TestClient] = {}


@pytest.mark.slow
@given(data=st.data())
def test_any_query_text_keeps_its_other_parameters(larkmere, data):
    """Links differ from the address in their position alone."""
    from urllib.parse import parse_qsl, urlencode, urlsplit

    others = data.draw(st.lists(st.tuples(CHARS.filter(lambda n: n not in POSITIONS), CHARS)))
    page = PAGES.setdefault("page", GRID.read(larkmere, Spot.number(3), params={"station": 1}))
    url = "/grid?" + urlencode([*others, ("page", "3")])
    for relation, link in page_urls(page, url).items():
        kept = parse_qsl(urlsplit(link).query, keep_blank_values=True)
        assert [pair for pair in kept if pair[0] not in POSITIONS] == others, relation
        assert sum(pair[0] in POSITIONS for pair in kept) == (relation != "first")


POSITIONS = ("page", "cursor")
PAGES: dict[str, vrelko.Page] = {}


@pytest.mark.slow
def test_random_query_strings(larkmere):
    rng = random.Random(4)
    app = make_app(LISTINGS, larkmere)

    async def ask_all():
        for _ in range(10_000):
            text = "".join(chr(rng.randrange(33, 127)) for _ in range(rng.randrange(30)))
            status, body = await ask(app, "/grid", text.replace("#", ""))
            assert status == 400
            assert b"Traceback" not in body

    asyncio.run(ask_all())


async def ask(app, path, query):
    """Return the status and the body of one GET, asked of the application itself: no client."""
    scope = {
        "type": "http",
        "method": "GET",
        "path": path,
        "raw_path": path.encode(),
        "query_string": query.encode(),
        "root_path": "",
        "scheme": "http",
        "headers": [(b"host", b"testserver")],
        "server": ("testserver", 80),
        "client": ("127.0.0.1", 1),
    }
    sent = []

    async def receive():
        return {"type": "http.request", "body": b"", "more_body": False}

    async def send(message):
        sent.append(message)

    await app(scope, receive, send)
    return sent[0]["status"], b"".join(message.get("body", b"") for message in sent[1:])


# Texts that are no cursors fit the schema of one; an empty value means none is given.
OPAQUE = [positive_data_acceptance, negative_data_rejection]


@pytest.mark.slow
@pytest.mark.parametrize("mode", list(schemathesis.GenerationMode))
def test_the_description_is_valid_and_true(larkmere, mode):
    """Requests made from the description, good and bad ones, are answered as it says."""
    schema = schemathesis.openapi.from_asgi("/openapi.json", make_app(LISTINGS, larkmere))
    operations = [found.ok() for found in schema.get_all_operations()]
    assert {one.label for one in operations} == {
        "GET /grid",
        "GET /grid/export",
        "GET /feed",
        "GET /feed/export",
        "GET /species",
    }
    for operation in operations:

        @settings(max_examples=40, suppress_health_check=list(HealthCheck))
        @given(case=operation.as_strategy(generation_mode=mode))
        def ask(case):
            case.call_and_validate(excluded_checks=OPAQUE)

        ask()


def test_async_engines_are_read(larkmere_file):
    from sqlalchemy.ext.asyncio import create_async_engine

    engine = create_async_engine(f"sqlite+aiosqlite:///{larkmere_file}")
    with TestClient(make_app(LISTINGS, engine)) as client:
        assert len(client.get("/grid?station=3").json()["rows"]) == 10
        assert client.get("/feed/export").json()["code"] == "web-async"
        client.portal.call(engine.dispose)


def test_html_says_what_to_install(monkeypatch, larkmere):
    import builtins

    from vrelko.web import html

    html._environment_of.cache_clear()
    real = builtins.__import__

    def without(name, *rest, **more):
        if name == "jinja2":
            raise ImportError(name, name=name)
        return real(name, *rest, **more)

    page = GRID.read(larkmere, params={"station": 1})
    monkeypatch.setattr(builtins, "__import__", without)
    with pytest.raises(VrelkoError, match=r"vrelko\[web\]"):
        render_controls(page, "?")
