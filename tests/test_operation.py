"""Serving in production: whose requests are taken, how many at once, what is told, how it ends."""

import csv
import io
import logging
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.request
from pathlib import Path

import anyio
import pytest
from sqlalchemy import bindparam, create_engine, select, text
from starlette.testclient import TestClient

import vrelko
from vrelko import Sizes
from vrelko.errors import ListingError, PageError
from vrelko.larkmere.schema import capture
from vrelko.web import HttpOptions, guard, make_app, status_pages
from vrelko.web.demo.live import Live
from vrelko.web.demo.site import make_demo

c = capture.c
GRID = vrelko.Listing(
    select(c.id, c.ring, c.weight_g).where(c.station_id == bindparam("station")),
    name="grid",
    orders=["-caught_at"],
    sizes=Sizes(10, max=50),
    expose=True,
    filters={"since": c.caught_at >= bindparam("since")},
)


@pytest.fixture
def client(larkmere):
    return TestClient(make_app({"grid": GRID}, larkmere))


def test_the_index_leads_to_each_listing(client):
    told = client.get("/").json()["listings"][0]
    assert (told["name"], told["kind"], told["export"]) == ("grid", "grid", "/grid/export")
    assert {one["name"] for one in told["parameters"] if one["required"]} == {"station"}
    page = client.get("/", headers={"accept": "text/html"})
    assert page.headers["content-type"].startswith("text/html")
    assert 'href="/grid"' in page.text
    assert client.get("/", headers={"accept": "image/png"}).status_code == 406


def test_health_tells_whether_the_database_answers(client, tmp_path):
    good = client.get("/healthz")
    assert (good.status_code, good.json()["database"]) == (200, "answers")
    away = create_engine("postgresql+psycopg://nobody@127.0.0.1:9/x")
    bad = TestClient(make_app({"grid": GRID}, away)).get("/healthz")
    assert (bad.status_code, bad.json()["database"]) == (503, "database-away")
    assert bad.headers["retry-after"]


def test_health_does_not_wait_for_a_database_that_hangs(larkmere, monkeypatch):
    monkeypatch.setattr(status_pages, "_HEALTH_S", 0.2)
    released, ended = threading.Event(), []

    def hang():
        released.wait(300)
        ended.append("hanging")
        raise OSError("gone")

    hanging = create_engine("sqlite://", creator=hang)
    try:
        answer = TestClient(make_app({"grid": GRID}, hanging)).get("/healthz")
        assert not ended  # the answer did not wait for it
    finally:
        released.set()
    assert answer.status_code == 503
    assert answer.headers["retry-after"]


def test_a_body_that_does_not_come_is_not_waited_for(monkeypatch):
    monkeypatch.setattr(guard, "BODY_S", 0.2)

    async def never(scope, receive, send):
        await receive()

    async def receive():
        await anyio.sleep(60)

    sent = []

    async def send(message):
        sent.append(message)

    asked = {
        "type": "http",
        "method": "GET",
        "path": "/",
        "headers": [(b"host", b"localhost")],
        "query_string": b"",
        "client": ("127.0.0.1", 1),
    }
    anyio.run(guard.Guard(never), asked, receive, send)
    assert sent[0]["status"] == 408


def test_counters_in_open_metrics(client):
    client.get("/grid?station=3")
    client.get("/grid?station=x")
    told = client.get("/metrics")
    assert told.headers["content-type"].startswith("application/openmetrics-text")
    lines = told.text.splitlines()
    assert 'vrelko_requests_total{listing="grid",status="200"} 1' in lines
    assert 'vrelko_requests_total{listing="grid",status="400"} 1' in lines
    assert 'vrelko_rows_total{listing="grid"} 10' in lines
    assert lines[-1] == "# EOF"


def test_failures_are_told_and_counted(tmp_path, caplog):
    empty = create_engine(f"sqlite:///{tmp_path / 'empty.db'}")
    client = TestClient(make_app({"grid": GRID}, empty))
    with caplog.at_level(logging.ERROR, "vrelko.web"):
        answers = [client.get("/grid?station=31415") for _ in range(5)]
    assert {one.status_code for one in answers} == {500}
    told = [record.getMessage() for record in caplog.records]
    assert len(told) == 1
    assert told[0].startswith("grid: ")
    assert "31415" not in told[0]
    code = answers[0].json()["code"]
    assert f'vrelko_failures_total{{listing="grid",code="{code}"}} 5' in client.get("/metrics").text
    empty.dispose()


def test_requests_are_logged_without_their_values(larkmere, caplog):
    quiet = TestClient(make_app({"grid": GRID}, larkmere, log_requests=True))
    with caplog.at_level(logging.INFO, "vrelko.web"):
        quiet.get("/grid?station=3&size=20")
        quiet.get("/grid%0aforged?station=3")
    line, forged = [record.getMessage() for record in caplog.records]
    assert "/grid?station,size 200, 20 rows" in line
    assert "statements" in line
    assert "\n" not in forged
    assert "\\n" in forged
    caplog.clear()
    loud = TestClient(make_app({"grid": GRID}, larkmere, log_requests=True, log_values=True))
    with caplog.at_level(logging.INFO, "vrelko.web"):
        loud.get("/grid?station=3")
    assert "/grid?station=3 200" in caplog.text


@pytest.mark.parametrize("host", ["evil.example", "127.0.0.1.evil.example", "", "[", "a" * 500])
def test_other_hosts_are_refused(larkmere, host):
    client = TestClient(make_app({"grid": GRID}, larkmere, hosts=["localhost", "pages.example"]))
    assert client.get("/grid?station=3", headers={"host": host}).status_code == 421
    for good in ("localhost", "LOCALHOST:8080", "pages.example:99"):
        assert client.get("/grid?station=3", headers={"host": good}).status_code == 200


def test_absolute_links_name_no_foreign_host(larkmere):
    with pytest.raises(ListingError, match="whatever host"):
        make_app({"grid": GRID}, larkmere, links="absolute")
    app = make_app({"grid": GRID}, larkmere, hosts=["localhost"], links="absolute")
    client = TestClient(app, base_url="http://localhost")
    assert client.get("/grid?station=3").json()["links"]["next"].startswith("http://localhost/")
    assert client.get("/grid?station=3", headers={"host": "evil.example"}).status_code == 421


@pytest.fixture
def demo(larkmere_file):
    live = Live(larkmere_file)
    yield TestClient(make_demo(live, ["testserver"])), live
    live.close()


FOREIGN = [
    {"origin": "http://evil.example"}, {"origin": "null"}, {"sec-fetch-site": "cross-site"},
    {"sec-fetch-site": "same-site"}, {"host": "evil.example"},
]  # fmt: skip


@pytest.mark.parametrize("headers", FOREIGN)
def test_pages_of_other_sites_change_nothing(demo, headers):
    client, live = demo
    before = live.last
    for method, url, body in (
        ("POST", "/captures", {}),
        ("POST", "/live", {"rate": 5}),
        ("DELETE", "/captures/1", None),
    ):
        answer = client.request(method, url, json=body, headers=headers)
        assert answer.status_code in (403, 421)
    assert (live.last, live.rate, live.deleted) == (before, 0, 0)
    own = {"origin": "http://testserver", "sec-fetch-site": "same-origin"}
    assert client.post("/captures", json={}, headers=own).status_code == 201


@pytest.mark.parametrize(
    "body",
    [
        '{"species_id":1e400}',
        '{"species_id":100000000000000000000}',
        '{"species_id":0}',
        "[1]",
        '{"species_id":999999}',
        '{"station_id":-1}',
        '{"station_id":[]}',
        "x",
        '{"species_id":NaN}',
    ],
)
def test_bodies_that_cannot_be(demo, body):
    client, live = demo
    before = live.last
    answer = client.post("/captures", content=body, headers={"content-type": "application/json"})
    assert answer.status_code == 400, answer.text
    assert live.last == before
    assert client.delete(f"/captures/{10**22}").status_code == 404
    assert client.post("/live", content=f'{{"rate":{10**400}}}').status_code == 400


def test_bounds_of_requests(client):
    assert client.get(f"/grid?station=3&since={'9' * 20_000}").status_code == 414
    assert client.get("/grid?" + "&".join(f"a{i}=1" for i in range(300))).status_code == 400
    assert client.post("/grid", content=b"x" * 100_000).status_code == 413

    def parts():
        for _ in range(100):
            yield b"x" * 1_000

    assert client.post("/grid", content=parts()).status_code in (405, 413)


@pytest.mark.slow
def test_one_listing_does_not_starve_another(larkmere_file):
    """While all turns of one are taken, another answers at once; the first says so in time."""
    engine = create_engine(f"sqlite:///{larkmere_file}")
    hold, begun = threading.Event(), threading.Semaphore(0)

    def wait():
        begun.release()
        hold.wait(300)
        return 1

    slow = vrelko.Listing(select(c.id), name="slow", orders="id", sizes=Sizes(5))
    from sqlalchemy import event

    @event.listens_for(engine, "before_cursor_execute")
    def _stall(connection, cursor, statement, parameters, context, many):
        if "LIMIT" in statement and "station_id" not in statement:
            wait()

    client = TestClient(make_app({"slow": slow, "grid": GRID}, engine, at_once=2, wait_s=0.3))
    threads = [threading.Thread(target=client.get, args=("/slow",)) for _ in range(2)]
    for one in threads:
        one.start()
    for _ in threads:
        assert begun.acquire(timeout=200)
    busy = client.get("/slow")
    assert (busy.status_code, busy.json()["code"]) == (503, "listing-busy")
    assert busy.headers["retry-after"]
    assert client.get("/grid?station=3").status_code == 200
    hold.set()
    for one in threads:
        one.join()
    engine.dispose()


def test_problems_are_pages_for_browsers(client):
    page = client.get("/grid?station=3&page=x", headers={"accept": "text/html,*/*;q=0.5"})
    assert page.status_code == 400
    assert page.headers["content-type"].startswith("text/html")
    assert "<h1>Bad Request" in page.text
    assert page.headers["cache-control"] == "no-store"
    plain = client.get("/grid?station=3&page=x")
    assert plain.headers["content-type"] == "application/problem+json"


def test_exports_in_detail(larkmere):
    odd = vrelko.Listing(
        select(c.id, c.ring, c.note).where(c.id < bindparam("below")), name="odd", orders="id"
    )
    client = TestClient(make_app({"odd": odd}, larkmere))
    empty = client.get("/odd/export?below=0&format=csv")
    assert empty.text == "id,ring,note\r\n"
    assert empty.headers["cache-control"] == "private, no-store"
    head = client.head("/odd/export?below=9999999")
    assert (head.status_code, head.content) == (200, b"")
    assert head.headers["content-type"] == "application/x-ndjson"
    rows = list(csv.reader(io.StringIO(client.get("/odd/export?below=4&format=csv").text)))
    assert [row[0] for row in rows] == ["id", "1", "2", "3"]


def test_formulas_are_defused_by_choice():
    from vrelko.web.exports import _cell

    for text_ in ("=1+1", "+1", "-1", "@x", "\tx"):
        assert _cell(text_, True) == f"'{text_}"
        assert _cell(text_, False) == text_
    assert [_cell(one, True) for one in (True, False, -5, None, 1.5)] == [
        "true",
        "false",
        -5,
        None,
        "1.5",
    ]


def test_names_that_mean_two_things_are_refused_at_start(larkmere):
    formatted = vrelko.Listing(
        select(c.id), name="x", orders="id", filters={"f": c.ring == bindparam("format")}
    )
    sized = vrelko.Listing(
        select(c.id), name="x", orders="id", filters={"f": c.wing_mm == bindparam("size")}
    )
    for name, one in (("x", formatted), ("x", sized), ("healthz", GRID), ("a/b", GRID)):
        with pytest.raises(ListingError):
            make_app({name: one}, larkmere)
    make_app({"x": formatted}, larkmere, exports=False)
    with pytest.raises(ListingError, match="two fields"):
        HttpOptions(fields={"rows": "x", "total": "x"})


def test_lines_of_a_log_are_no_text():
    from vrelko.core.access_log import LogQuestion, readers_from_log

    with pytest.raises(PageError, match="one text"):
        readers_from_log("access.log", LogQuestion("/grid"))


@pytest.fixture
def served(larkmere_file, tmp_path):
    """A real server on a pages file: its process and address."""
    pages = tmp_path / "pages.toml"
    pages.write_text(
        f'[source]\nurl = "sqlite:///{larkmere_file}"\npool = 4\nstatement_ms = 5000\n'
        '[listing.all]\nkind = "export"\ntable = "capture"\norders = ["id"]\n'
        '[listing.some]\nkind = "grid"\ntable = "capture"\norders = ["id"]\n'
        'where = { caught_at = { ge = ":since" } }\nparams = { since = ["2021-09-01T00:00:00"] }\n'
    )
    process = subprocess.Popen(
        [sys.executable, "-m", "vrelko", "serve", str(pages), "--port", "0", "--grace-s", "2"],
        stderr=subprocess.PIPE,
        text=True,
    )
    line = process.stderr.readline()
    yield process, line.split()[0]
    if process.poll() is None:
        process.kill()
    process.wait()
    process.stderr.close()


def _connect(address):
    host, port = address.removeprefix("http://").rstrip("/").split(":")
    return socket.create_connection((host, int(port)), timeout=200)


@pytest.mark.slow
@pytest.mark.parametrize("ending", [signal.SIGINT, signal.SIGTERM])
def test_the_address_is_told_once_it_listens_and_signals_end_it(served, ending):
    """Even while a client holds an export open and reads nothing of it."""
    process, address = served
    with urllib.request.urlopen(address + "some?since=2021-09-01T00:00:00") as answer:
        assert answer.status == 200
    stuck = _connect(address)
    stuck.sendall(b"GET /all/export HTTP/1.1\r\nHost: localhost\r\n\r\n")
    assert stuck.recv(1) == b"H"  # the export has begun
    process.send_signal(ending)
    assert process.wait(timeout=200) == 0  # the client would hold it open for ever
    stuck.close()
    assert "Traceback" not in process.stderr.read()


@pytest.mark.slow
def test_half_a_request_is_not_waited_for(served, monkeypatch):
    _, address = served
    half = _connect(address)
    half.sendall(b"GET / HTTP/1.1\r\nHost: local")
    began = time.monotonic()
    assert half.recv(100) == b""
    assert time.monotonic() - began > 5  # and not until the client gives up
    half.close()


def test_frozen_lists_are_bounded_in_all(larkmere, tmp_path):
    """However many walks begin: alike ones share a list, and all lists together stay bounded."""
    store = create_engine(f"sqlite:///{tmp_path / 'lists.db'}")
    frozen = vrelko.FrozenIds(store, most=100, most_in_all=250, reuse_s=60)
    frozen.create()
    some = vrelko.Listing(
        select(c.id).where(c.id <= bindparam("below")),
        name="some",
        orders="id",
        strategy="frozen-ids",
        steady=vrelko.Steady(frozen=frozen),
        sizes=Sizes(10),
    )

    def stored():
        with store.connect() as connection:
            return connection.scalar(text("SELECT sum(size) FROM vrelko_frozen WHERE part = 0"))

    for _ in range(50):
        assert len(some.read(larkmere, params={"below": 100})) == 10
    assert stored() == 100
    some.read(larkmere, params={"below": 99})
    with pytest.raises(vrelko.errors.UnavailableError) as caught:
        some.read(larkmere, params={"below": 98})
    assert caught.value.code == "frozen-full"
    assert stored() == 199
    store.dispose()


def test_lists_of_one_reader_leave_room_for_others(larkmere, tmp_path):
    """One reader's oldest list ends, another's lives; too many in a minute answer 429."""
    store = create_engine(f"sqlite:///{tmp_path / 'lists.db'}")
    frozen = vrelko.FrozenIds(store, most=100, lists_per_reader=2)
    frozen.create()
    some = vrelko.Listing(
        select(c.id).where(c.id <= 50),
        name="some",
        orders="id",
        strategy="frozen-ids",
        steady=vrelko.Steady(frozen=frozen),
        sizes=Sizes(10),
    )
    app = vrelko.web.make_app(
        {"some": some},
        larkmere,
        walks_per_minute=5,
        scope=lambda request: request.headers.get("reader"),
    )
    with TestClient(app) as client:

        def follow(answer, reader="one"):
            return client.get(answer.links["next"]["url"], headers={"reader": reader}).status_code

        first, other = (client.get("/some", headers={"reader": who}) for who in ("one", "two"))
        assert follow(first) == follow(first) == follow(other, "two") == 200
        for _ in range(2):
            last = client.get("/some", headers={"reader": "one"})
        assert (follow(first), follow(other, "two"), follow(last)) == (400, 200, 200)
        answers = [client.get("/some", headers={"reader": "one"}) for _ in range(3)]
        assert [one.status_code for one in answers] == [200, 200, 429]
        assert answers[-1].headers["retry-after"] == "30"
        assert answers[-1].json()["code"] == "walks-too-many"
        assert follow(answers[1]) == 200  # going on begins no walk
        assert client.get("/some", headers={"reader": "two"}).status_code == 200
    with store.connect() as connection:
        lists = connection.scalar(text("SELECT count(*) FROM vrelko_frozen WHERE part = 0"))
    assert lists == 4
    store.dispose()


@pytest.mark.slow
def test_requests_that_nobody_should_send():
    """A few thousand of `bench/fuzz.py`; none ends in a plain failure."""
    done = subprocess.run(
        [
            sys.executable,
            str(Path(__file__).parent.parent / "bench" / "fuzz.py"),
            "--tries",
            "4000",
            "--seed",
            "7",
        ],
        capture_output=True,
        text=True,
        timeout=300,
        check=False,
    )
    assert done.returncode == 0, done.stdout[-2_000:] + done.stderr[-2_000:]
    assert "4,000 tries, 0 failures" in done.stdout


def test_what_is_accepted_by_its_most_exact_name(client):
    for accept, status, kind in (
        ("application/json;q=0, */*", 200, "text/html"),
        ("text/html;q=0,*/*", 200, "application/json"),
        ("*/*;q=0", 406, "application/problem"),
        ("text/html;q=0.2,application/json;q=0.1", 200, "text"),
        ("text/*", 200, "text/html"),
        ("", 200, "application/json"),
    ):
        answer = client.get("/grid?station=3", headers={"accept": accept})
        assert answer.status_code == status, accept
        assert answer.headers["content-type"].startswith(kind), accept


def test_what_is_misspelt_is_refused_at_start(larkmere):
    with pytest.raises(ListingError, match=r"takes no 'time_limit'.*time_limit_ms"):
        make_app({"grid": GRID}, larkmere, time_limit=5)
    with pytest.raises(ListingError, match=r"takes no 'gird'.*grid"):
        make_app({"grid": GRID}, larkmere, http_of={"gird": HttpOptions()})


def test_errors_speak_of_the_request(larkmere):
    for first, http in (
        (1, HttpOptions(past_end="error")),
        (0, HttpOptions(first=0, past_end="error")),
    ):
        client = TestClient(make_app({"grid": GRID}, larkmere, http=http))
        below, beyond = first - 1, 2_000
        answer = client.get(f"/grid?station=3&page={below}").json()
        assert answer["detail"] == f"page {below} does not exist; pages start at {first}"
        answer = client.get(f"/grid?station=3&page={beyond}").json()
        assert answer["detail"] == "page 2,000 is past the end"
        for query in ("page=x", "page=-7", "size=0", "", "bogus=1", f"station=3&page={beyond}"):
            told = client.get(f"/grid?{query}").text
            assert "Spot." not in told
            assert "params=" not in told


def test_a_page_past_the_end_leads_back_to_the_last(larkmere):
    client = TestClient(make_app({"grid": GRID}, larkmere, http=HttpOptions(numbers=True)))
    links = client.get("/grid?station=3&page=2000").json()["links"]
    assert links["prev"] == links["last"] or len(client.get(links["prev"]).json()["rows"])
