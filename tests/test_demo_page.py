"""The demo page in a real browser: what people click, what is asked for, what they see."""

import contextlib
import os
import re
import shutil
import socket
import threading
import time

import pytest
import uvicorn
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import expect, sync_playwright

from vrelko.web.demo.live import Live
from vrelko.web.demo.site import make_demo

CHROMIUM = shutil.which("chromium") or shutil.which("chromium-browser")
REQUIRED = "browser" in os.environ.get("VRELKO_REQUIRE", "").split(",")
pytestmark = [
    pytest.mark.slow,
    pytest.mark.skipif(
        CHROMIUM is None and not REQUIRED, reason="no Chromium is installed: apt install chromium"
    ),
]
PATIENCE_MS = 60_000  # a busy machine's browser is slow, and not wrong
expect.set_options(timeout=PATIENCE_MS)
ROWS = ".rows tbody tr"
SETTLED = """!document.querySelector('[aria-busy=true]') &&
    [...document.querySelectorAll('.rows')].every((one) => getComputedStyle(one).opacity === '1')"""


@pytest.fixture(scope="module")
def browser():
    with sync_playwright() as play:
        launched = play.chromium.launch(
            executable_path=CHROMIUM, args=["--no-sandbox", "--disable-gpu", "--disable-quic"]
        )
        yield launched
        launched.close()


@pytest.fixture(scope="module")
def site(larkmere_file):
    """The address of a running demo, and its database."""
    live = Live(larkmere_file)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    server = uvicorn.Server(uvicorn.Config(make_demo(live), port=port, log_level="error"))
    thread = threading.Thread(target=server.run)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}", live
    server.should_exit = True
    thread.join()
    live.close()


@pytest.fixture
def page(browser):
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    context.set_default_timeout(PATIENCE_MS)
    opened = context.new_page()
    faults = []
    opened.on("pageerror", lambda error: faults.append(str(error)))
    yield opened
    context.close()
    assert faults == []


class Asked:
    """Requests for data: which, and how many at once."""

    def __init__(self, page, part="/data/arrivals"):
        self.urls, self.open, self.most = [], set(), 0
        self._part = part
        page.on("request", self._begin)
        for name in ("requestfinished", "requestfailed"):
            page.on(name, self._end)

    def _begin(self, request):
        if self._part in request.url and "/periods" not in request.url:
            self.urls.append(request.url)
            self.open.add(request)
            self.most = max(self.most, len(self.open))

    def _end(self, request):
        self.open.discard(request)


@contextlib.contextmanager
def held(page, pattern):
    """Hold requests back until told to go on."""
    waiting = []
    page.route(pattern, lambda route: waiting.append(route))
    yield waiting
    page.unroute(pattern)


def grid(page, site, query=""):
    page.goto(f"{site[0]}/?view=grid{query}")
    expect(page.locator(ROWS).first).to_be_visible()
    expect(page.locator(".rows")).not_to_have_class(re.compile("old"))


def place(page):
    return page.locator(".place").inner_text()


def link(page, name):
    return page.locator(".strip").get_by_text(name, exact=True)


def test_a_grid_is_walked_sorted_filtered_and_shared(page, site):
    grid(page, site)
    expect(page.locator(".place")).to_have_text(re.compile(r"^1–25 of 20,0\d\d$"))
    for name in ("First", "Previous"):
        assert link(page, name).get_attribute("aria-disabled") == "true"
    first = page.locator(ROWS).first.inner_text()
    link(page, "Next").click()
    expect(page.locator(".place")).to_have_text(re.compile("^26–50"))
    assert "cursor=" in page.url
    link(page, "Previous").click()
    expect(page.locator(".place")).to_have_text(re.compile("^1–25"))
    assert page.locator(ROWS).first.inner_text() == first
    page.get_by_label("Page number").fill("40")
    page.get_by_role("button", name="Go").click()
    expect(page.locator(".place")).to_have_text(re.compile(r"^976–1,000|^976–1000"))
    expect(page.locator("[aria-current=page]").last).to_have_text("40")
    link(page, "Last").click()
    expect(link(page, "Next")).to_have_attribute("aria-disabled", "true")
    expect(link(page, "Last")).to_have_attribute("aria-disabled", "true")
    page.get_by_role("button", name="Weight, g").click()
    expect(page.locator("th[aria-sort=descending]")).to_contain_text("Weight")
    expect(page.locator(".place")).to_have_text(re.compile("^1–25"))
    page.get_by_label("Species").select_option(index=2)
    expect(page.locator(".rows")).not_to_have_class(re.compile("old"))
    link(page, "Next").click()
    expect(page.locator(".place")).to_have_text(re.compile("^26–50"))
    kept, rows = page.url, page.locator(ROWS).all_inner_texts()
    page.reload()
    expect(page.locator(".place")).to_have_text(re.compile("^26–50"))
    assert page.locator(ROWS).all_inner_texts() == rows
    expect(page.locator("th[aria-sort=descending]")).to_contain_text("Weight")
    page.go_back()
    expect(page.locator(".place")).to_have_text(re.compile("^1–25"))
    page.go_forward()
    expect(page.locator(".place")).to_have_text(re.compile("^26–50"))
    other = page.context.new_page()
    other.goto(kept)
    expect(other.locator(".place")).to_have_text(re.compile("^26–50"))
    assert other.locator(ROWS).all_inner_texts() == rows


def test_a_ring_is_searched(page, site):
    grid(page, site)
    ring = page.locator(ROWS).nth(3).locator("td").first.inner_text()
    page.get_by_label("Ring").fill(ring)
    expect(page.locator(ROWS).first).to_contain_text(ring)
    expect(page).to_have_url(re.compile(f"search={ring}"))
    page.get_by_label("Ring").fill("nothing like it")
    expect(page.locator(".empty")).to_have_text("No capture fits")
    expect(page.locator(".place")).to_have_text("0 of 0")
    page.get_by_label("Ring").fill("")
    expect(page.locator(".place")).to_have_text(re.compile("^1–25 of 20,0"))


def test_another_size_keeps_the_first_row(page, site):
    grid(page, site, "&page=5")
    first = page.locator(ROWS).first.inner_text()
    page.get_by_label("Rows per page").select_option("10")
    expect(page.locator(ROWS)).to_have_count(10)
    assert page.locator(ROWS).first.inner_text() == first


def test_impatient_clicks_end_at_the_last_one(page, site):
    grid(page, site)
    with held(page, re.compile(r"captures\?page=4")) as waiting:
        link(page, "4").click()
        expect(page.locator(".rows")).to_have_class(re.compile("old"))
        assert page.locator(ROWS).count() == 25  # the old rows stay
        height = page.locator(".rows").bounding_box()["height"]
        link(page, "5").click()
        expect(page.locator(".place")).to_have_text(re.compile("^101–125"))
        assert page.locator(".rows").bounding_box()["height"] == pytest.approx(height, abs=2)
        for one in waiting:
            with contextlib.suppress(Exception):
                one.continue_()  # late, and given up by the page
        page.wait_for_timeout(300)
        assert place(page).startswith("101–125")
        assert "page=5" in page.url


def test_the_next_page_is_there_before_it_is_wanted(page, site):
    asked = Asked(page, "/data/captures")
    grid(page, site)
    page.wait_for_timeout(300)
    assert len(asked.urls) == 2  # this page, and the next
    link(page, "Next").click()
    expect(page.locator(".place")).to_have_text(re.compile("^26–50"))
    page.wait_for_timeout(300)
    assert len(asked.urls) == 3
    assert len(set(asked.urls)) == 3


@pytest.mark.parametrize("fault", ["abort", "status"])
def test_a_failure_loses_nothing_and_can_be_tried_again(page, site, fault):
    grid(page, site)

    def fail(route):
        if fault == "abort":
            route.abort()
        else:
            route.fulfill(status=503, json={"detail": "the database is away", "todo": "Wait"})

    page.route(re.compile(r"captures\?page=5"), fail)
    link(page, "5").click()
    alert = page.get_by_role("alert")
    said = "cannot be reached" if fault == "abort" else "the database is away. Wait"
    expect(alert).to_contain_text(said)
    assert page.locator(ROWS).count() == 25
    page.unroute(re.compile(r"captures\?page=5"))
    alert.get_by_role("button", name="Try again").click()
    expect(page.locator(".place")).to_have_text(re.compile("^101–125"))
    expect(alert).to_be_hidden()


def test_rows_are_made_and_deleted_under_the_reader(page, site):
    _, live = site
    for _ in range(11):
        live.add(ring="ZZ77")
    grid(page, site, "&search=ZZ77&size=10&page=2")
    expect(page.locator(".place")).to_have_text("11–11 of 11")
    page.get_by_label("Delete ZZ77").click()
    expect(page.locator(".place")).to_have_text("1–10 of 10")  # its page is empty: the last one
    grid(page, site)
    page.get_by_role("button", name="Add one by hand").click()
    expect(page.locator("#tally")).to_have_text(re.compile(r"N\d+ added"))
    added = page.locator("#tally").inner_text().split()[0]
    expect(page.locator(".rows")).to_contain_text(added)


def feed(page, site, query=""):
    page.goto(f"{site[0]}/?view=feed{query}")
    expect(page.locator(".feed li").first).to_be_visible()


def settled(page):
    page.wait_for_function("document.querySelector('.feed').getAttribute('aria-busy') === 'false'")
    page.wait_for_timeout(150)


def test_a_feed_loads_on_scroll_one_request_at_a_time(page, site):
    asked = Asked(page)
    feed(page, site)
    settled(page)
    before = page.locator(".feed li").count()
    assert before >= 20
    for _ in range(3):
        page.evaluate(
            "scrollTo(0, document.body.scrollHeight); dispatchEvent(new Event('scroll'));"
            "dispatchEvent(new Event('scroll'))"
        )
        page.wait_for_timeout(250)
    settled(page)
    ids = page.locator(".feed li").evaluate_all("all => all.map(one => one.dataset.id)")
    assert len(ids) > before
    assert len(set(ids)) == len(ids)
    assert asked.most == 1
    assert len(set(asked.urls)) == len(asked.urls)
    page.get_by_role("button", name="More").click()
    settled(page)
    assert page.locator(".feed li").count() > len(ids)


def test_the_end_is_found_once_and_nothing_is_asked_after_it(page, site):
    _, live = site
    for _ in range(40):
        live.add(species_id=64, status=4, station_id=48)
    asked = Asked(page)
    query = "&species=64&station=48&status=4"
    feed(page, site, query)
    page.evaluate("scrollTo(0, document.body.scrollHeight)")
    expect(page.locator(".end")).to_be_visible()
    assert page.locator(".feed li").count() == 40
    assert len(asked.urls) == 2  # two full pages, and no third to find that there is none
    for _ in range(3):
        page.evaluate("scrollTo(0, 0); scrollTo(0, document.body.scrollHeight)")
        page.wait_for_timeout(100)
    assert len(asked.urls) == 2
    expect(page.get_by_role("button", name="More")).to_be_hidden()


def test_an_empty_feed_asks_once(page, site):
    asked = Asked(page)
    page.goto(f"{site[0]}/?view=feed&species=999")
    expect(page.locator(".end")).to_have_text("No capture fits")
    page.evaluate("dispatchEvent(new Event('scroll'))")
    page.wait_for_timeout(300)
    assert len(asked.urls) == 1


def test_a_first_page_that_does_not_fill_the_screen_loads_on(page, site):
    page.set_viewport_size({"width": 1280, "height": 2400})
    asked = Asked(page)
    feed(page, site)
    settled(page)
    assert page.locator(".feed li").count() >= 40
    assert asked.most == 1


def test_a_filter_changed_while_a_request_runs_is_right(page, site):
    feed(page, site)
    settled(page)
    with held(page, re.compile(r"arrivals\?cursor")) as waiting:
        page.evaluate("scrollTo(0, document.body.scrollHeight)")
        page.wait_for_timeout(200)
        assert waiting
        page.get_by_label("Status").select_option(label="checked")
        expect(page.locator(".feed li .state").first).to_have_text("checked")
        for one in waiting:
            with contextlib.suppress(Exception):
                one.continue_()
    settled(page)
    assert set(page.locator(".feed li .state").all_inner_texts()) == {"checked"}
    assert "status=3" in page.url


def test_new_rows_come_on_top_without_moving_what_is_read(page, site):
    _, live = site
    feed(page, site)
    settled(page)
    page.evaluate("scrollTo(0, 300)")
    top = page.locator(".feed li").nth(8)
    name, at = top.get_attribute("data-id"), top.bounding_box()["y"]
    for _ in range(3):
        live.add(caught_at=live._newest.replace(year=2031))
    expect(page.locator(".news")).to_have_text("3 new")
    row = page.locator(f".feed li[data-id='{name}']")
    assert row.bounding_box()["y"] == pytest.approx(at, abs=1)
    page.locator(".news").click()
    expect(page.locator(".feed .fresh")).to_have_count(3)
    assert row.bounding_box()["y"] == pytest.approx(at, abs=2)
    expect(page.locator(".news")).to_be_hidden()


def test_more_new_rows_than_a_page_come_once_each(page, site):
    _, live = site
    feed(page, site)
    settled(page)
    for _ in range(70):
        live.add(caught_at=live._newest.replace(year=2031))
    expect(page.locator(".news")).to_have_text("70 new")
    page.locator(".news").click()
    expect(page.locator(".feed .fresh")).to_have_count(70)
    ids = page.locator(".feed li").evaluate_all("all => all.map((one) => one.dataset.id)")
    assert len(ids) == len(set(ids))


def test_back_returns_to_the_same_place(page, site):
    feed(page, site)
    for _ in range(2):
        settled(page)
        page.evaluate("scrollTo(0, document.body.scrollHeight)")
        page.wait_for_timeout(200)
    settled(page)
    page.evaluate("scrollTo(0, 900)")
    seen = page.locator(".feed li").nth(17)
    name, at = seen.get_attribute("data-id"), seen.bounding_box()["y"]
    row = page.locator(f".feed li[data-id='{name}']")

    def leave_by_address():
        page.goto("about:blank")

    def leave_for_the_grid():
        page.locator("[data-view=grid]").evaluate("one => one.click()")  # without scrolling
        expect(page.locator(ROWS).first).to_be_visible()
        for _ in range(3):
            live.add()

    def leave_by_a_ring():
        page.locator(".feed li a").first.evaluate("one => one.click()")
        expect(page.locator(ROWS).first).to_be_visible()

    _, live = site
    for leave in (leave_by_address, leave_for_the_grid, leave_by_a_ring):
        leave()
        page.go_back()
        expect(row).to_be_visible()
        page.wait_for_function("scrollY > 500")
        assert row.bounding_box()["y"] == pytest.approx(at, abs=3)
    page.evaluate("scrollTo(0, document.body.scrollHeight)")
    page.wait_for_timeout(200)
    settled(page)
    ids = page.locator(".feed li").evaluate_all("all => all.map((one) => one.dataset.id)")
    assert len(ids) == len(set(ids))


def test_nothing_serious_bars_who_reads_by_ear_or_keyboard(page, site):
    """By the rules of WCAG that a programme can check, in every view and server-made page."""
    address, _ = site
    for path, wait in (
        ("/?view=grid&station=3", ROWS),
        ("/?view=grid&page=8001&size=10", ROWS),
        ("/?view=feed", ".feed li"),
        ("/?view=compare", "main button"),
        ("/data/captures?station=3", "table"),
        ("/data/", "main"),
        ("/data/captures?page=0", "main"),
    ):
        page.goto(address + path)
        expect(page.locator(wait).first).to_be_visible()
        page.wait_for_function(SETTLED)  # rows are pale while others are asked for
        found = Axe().run(page).response["violations"]
        bad = [one for one in found if one["impact"] in ("serious", "critical")]
        assert [(one["id"], one["nodes"][0]["html"]) for one in bad] == [], path


def test_a_feed_that_failed_goes_on_when_told(page, site):
    feed(page, site)
    settled(page)
    count = page.locator(".feed li").count()
    page.route(re.compile("arrivals.*cursor"), lambda route: route.abort())
    page.evaluate("scrollTo(0, document.body.scrollHeight)")
    alert = page.get_by_role("alert")
    expect(alert).to_contain_text("cannot be reached")
    assert page.locator(".feed li").count() == count
    page.unroute(re.compile("arrivals.*cursor"))
    alert.get_by_role("button", name="Try again").click()
    settled(page)
    assert page.locator(".feed li").count() > count


def test_side_by_side_offset_repeats_and_keyset_does_not(page, site):
    _, live = site
    page.goto(f"{site[0]}/?view=compare")
    for turn in range(4):
        expect(page.locator(".side.keyset .costs tbody tr")).to_have_count(turn + 1)
        expect(page.get_by_role("button", name="Next page")).to_be_enabled()
        for _ in range(4):
            live.add(caught_at=live._newest.replace(year=2032))
        page.get_by_role("button", name="Next page").click()
    for side in ("offset", "keyset"):  # each is drawn when its own page has come
        expect(page.locator(f".side.{side} .costs tbody tr")).to_have_count(5)

    def number(side, what):
        return int(page.locator(f".side.{side} [data-count={what}]").inner_text())

    assert number("offset", "repeats") == 16
    assert (number("keyset", "repeats"), number("keyset", "skipped")) == (0, 0)
    assert number("keyset", "shown") == 50
    expect(page.locator(".side.offset .again")).to_have_count(16)
    assert "OFFSET" in page.locator(".side.offset pre").text_content()
    assert "OFFSET" not in page.locator(".side.keyset pre").text_content()
    page.get_by_role("button", name="Begin anew").click()
    expect(page.locator(".side.offset .costs tbody tr")).to_have_count(1)
    for _ in range(3):
        first = page.locator(".side.offset .served li:not(.mark)").nth(2).get_attribute("data-id")
        live.remove(int(first) if _ == 0 else 0)
        page.get_by_role("button", name="Next page").click()
        expect(page.get_by_role("button", name="Next page")).to_be_enabled()
    assert number("offset", "skipped") == 1
    assert number("keyset", "skipped") == 0


def test_the_writer_is_set_and_slow_networks_are_tried(page, site):
    _, live = site
    grid(page, site)
    page.get_by_label("Captures arrive").select_option("1200")
    expect(page.locator("#tally")).to_have_text(re.compile("arrived"))
    deadline = time.monotonic() + 120
    came = live.inserted
    while live.inserted < came + 5 and time.monotonic() < deadline:
        page.wait_for_timeout(100)
    assert live.inserted >= came + 5
    page.get_by_label("Captures arrive").select_option("0")
    page.get_by_label("Slow network").check()
    link(page, "Last").click()
    page.wait_for_timeout(400)
    expect(page.locator(".rows")).to_have_class(re.compile("old"))
    expect(page.locator(".rows")).not_to_have_class(re.compile("old"))


def test_keyboard_and_phone(page, site):
    page.set_viewport_size({"width": 380, "height": 780})
    grid(page, site)
    for view in ("grid", "feed", "compare"):
        page.goto(f"{site[0]}/?view={view}")
        page.wait_for_timeout(400)
        assert page.evaluate("document.documentElement.scrollWidth") <= 380, view
    grid(page, site)
    link(page, "Next").focus()
    page.keyboard.press("Enter")
    expect(page.locator(".place")).to_have_text(re.compile("^26–50"))
    expect(page.get_by_role("link", name="Next")).to_be_focused()
    page.get_by_role("link", name="Side by side").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="By keyset")).to_be_visible()


def test_without_script_the_rows_are_plain_links(browser, site):
    context = browser.new_context(java_script_enabled=False)
    page = context.new_page()
    page.goto(f"{site[0]}/data/captures?size=10")
    for _ in range(2):
        page.get_by_role("link", name="Next").click()
    expect(page.get_by_role("status")).to_have_text(re.compile("^21–30 of 20,"))
    page.get_by_role("link", name="weight g").click()
    expect(page.locator("th[aria-sort=descending]")).to_contain_text("weight g")
    context.close()


def test_what_the_demo_refuses(site):
    import json
    import urllib.error
    import urllib.request

    def send(method, path, body=None):
        request = urllib.request.Request(
            site[0] + path, method=method, data=None if body is None else body.encode()
        )
        try:
            with urllib.request.urlopen(request) as answer:
                return answer.status
        except urllib.error.HTTPError as refused:
            answer = refused
        assert answer.headers["content-type"] == "application/problem+json"
        return answer.status, json.load(answer)["code"]

    assert send("POST", "/live", '{"rate": -1}') == (400, "demo-rate")
    assert send("POST", "/live", '{"rate": "x"}') == (400, "demo-body")
    assert send("POST", "/live", "[]") == (400, "demo-body")
    assert send("POST", "/live", "{") == (400, "demo-body")
    assert send("DELETE", "/captures/999999999") == (404, "http-404")
    assert send("GET", "/walks/none/offset?size=10") == (400, "demo-walk")
    assert send("GET", "/new") == (400, "demo-place")
    assert send("POST", "/captures", '{"species_id": "x"}') == (400, "demo-body")


@pytest.mark.parametrize("view", ["grid", "feed"])
def test_addresses_with_what_nobody_knows(page, site, view):
    """What a mail program adds is left out; a position that is no more leads back to the start."""
    address, _ = site
    rows = ROWS if view == "grid" else ".feed li"
    page.goto(f"{address}/?view={view}&utm_source=mail&fbclid=1")
    expect(page.locator(rows).first).to_be_visible()
    page.goto(f"{address}/?view=grid&cursor=nonsense&station=3")
    page.get_by_role("button", name="Start again").click()
    expect(page.locator(ROWS).first).to_be_visible()
    expect(page.get_by_role("alert")).to_be_hidden()
    page.goto(f"{address}/?view={view}&station=nonsense")
    page.get_by_role("button", name="Start again").click()
    expect(page.locator(rows).first).to_be_visible()


def test_a_view_that_is_none_is_the_grid(page, site):
    address, _ = site
    for name in ("constructor", "__proto__", "toString", "x"):
        page.goto(f"{address}/?view={name}")
        expect(page.locator(ROWS).first).to_be_visible()


def test_deleting_what_is_gone_takes_the_row_away(page, site):
    address, live = site
    page.goto(f"{address}/?view=grid&station=5")
    row = page.locator(ROWS).nth(2)
    number = int(row.get_attribute("data-id"))
    assert live.remove(number)
    row.get_by_role("button").click()
    expect(page.locator(f'{ROWS}[data-id="{number}"]')).to_have_count(0)
    expect(page.get_by_role("alert")).to_be_hidden()


def test_focus_stays_through_sorting_and_deleting(page, site):
    address, _ = site
    page.goto(f"{address}/?view=grid&station=4")
    page.get_by_role("button", name="Weight, g").focus()
    page.keyboard.press("Enter")
    expect(page.locator("th[aria-sort=descending]")).to_have_text("Weight, g")
    expect(page.get_by_role("button", name="Weight, g")).to_be_focused()
    first = page.locator(ROWS).nth(1)
    gone = first.get_attribute("data-id")
    first.get_by_role("button").focus()
    page.keyboard.press("Enter")
    expect(page.locator(f'{ROWS}[data-id="{gone}"]')).to_have_count(0)
    expect(page.locator(ROWS).nth(1).get_by_role("button")).to_be_focused()


def test_no_repeats_are_no_fault(page, site):
    address, _ = site
    page.goto(f"{address}/?view=compare")
    expect(page.locator(".side").first).to_be_visible()
    expect(page.locator(".side.hit")).to_have_count(0)


def test_a_grid_is_read_month_by_month(page, site):
    grid(page, site)
    month = page.get_by_label("Month")
    expect(month.locator("option").nth(3)).to_be_attached()
    labels = month.locator("option").all_inner_texts()[1:]
    assert labels == sorted(labels, reverse=True)
    month.select_option(labels[2])
    around = page.locator(".around")
    expect(around).to_contain_text(f"Earlier: {labels[3]}")
    expect(around).to_contain_text(f"Later: {labels[1]}")
    total = int(place(page).rpartition(" of ")[2].replace(",", ""))
    assert 0 < total < 20_000
    caught = page.locator(f"{ROWS} td:nth-child(4)").all_inner_texts()
    assert {text[:7] for text in caught} == {labels[2]}
    link(page, "Next").click()
    expect(page.locator(".place")).to_have_text(re.compile("^26–50"))
    assert f"period={labels[2]}" in page.url
    around.get_by_text(f"Earlier: {labels[3]}").click()
    expect(around).to_contain_text(f"Later: {labels[2]}")
    expect(page.locator(".place")).to_have_text(re.compile("^1–25"))
    page.reload()
    expect(month).to_have_value(labels[3])
    page.get_by_label("Species").select_option(index=3)
    expect(page.locator(".rows")).not_to_have_class(re.compile("old"))
    expect(month).to_have_value(labels[3])
    month.select_option("")
    expect(around).to_be_hidden()
