"""Page arithmetic against slow references."""

import contextlib
import io
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vrelko.arithmetic import (
    Sizes,
    Total,
    check_number,
    from_to,
    neighbours,
    number_of,
    numbered_page,
    offset_of,
    page_count,
    strip_of,
)
from vrelko.errors import PageError
from vrelko.web import page_urls, render_controls

counts = st.integers(0, 2_000)
sizes = st.integers(1, 50)


@given(total=counts, size=sizes)
def test_pages_are_slices(total, size):
    rows = list(range(total))
    pages = [rows[i : i + size] for i in range(0, total, size)]
    assert page_count(total, size) == len(pages)
    for n, page in enumerate(pages, start=1):
        assert offset_of(n, size) == page[0]
        assert {number_of(row, size) for row in page} == {n}
        assert str(from_to(page[0], len(page), Total(total, "exact"))) == (
            f"{page[0] + 1:,}–{page[-1] + 1:,} of {total:,}"
        )
        assert neighbours(n, len(pages)) == (n - 1 or None, n + 1 if n < len(pages) else None)


def test_from_to_without_rows_or_total():
    assert str(from_to(0, 0, Total(0, "exact"))) == "0 of 0"
    assert str(from_to(0, 0, Total(None, "none"))) == "0"
    assert str(from_to(25, 25, Total(None, "none"))) == "26–50"
    assert str(from_to(25, 25, Total(10_000, "capped"))) == "26–50 of 10,000+"


def test_texts_in_other_words():
    def points(value):
        return f"{value:,}".replace(",", ".")

    here = from_to(1_025, 25, Total(12_480, "exact"))
    assert here.text("{first} bis {last}", "{rows} von {total}", points) == (
        "1.026 bis 1.050 von 12.480"
    )
    assert Total(10_000, "capped").text(points) == "10.000+"
    assert Total(9_000, "about").text(points) == "~9.000"
    assert Total(None, "unknown").text(unknown="?") == "?"
    shown = [link.text(current="<b>{number}</b>", gap="...") for link in strip_of(9, 20, 7)]
    assert shown == ["1", "...", "8", "<b>9</b>", "10", "...", "20"]


@given(number=st.integers(-5, 300), last=st.integers(0, 200), slots=st.integers(5, 15))
def test_strip_has_exactly_the_places_asked_for(number, last, slots):
    links = strip_of(number, last, slots)
    numbers = [link.number for link in links if link.number is not None]
    assert len(links) == (0 if last <= 1 else min(last, slots))
    assert numbers == sorted(set(numbers))
    if links:
        assert numbers[0] == 1
        assert numbers[-1] == last
        here = [number] if 1 <= number <= last else []  # none is current past the end
        assert [link.number for link in links if link.current] == here
    for left, gap, right in zip(links, links[1:], links[2:], strict=False):
        if gap.number is None:
            assert right.number - left.number > 2
        elif left.number and gap.number:
            assert gap.number == left.number + 1


@pytest.mark.parametrize(
    "number", [0, -1, "0", "-1", "abc", "1e3", "", 10**12, "9" * 40, 1.5, True]
)
def test_bad_page_numbers_say_what_to_do(number):
    if number == "":
        number = " "
    with pytest.raises(PageError, match=r"\. \w"):
        check_number(number)


@pytest.mark.parametrize(
    ("size", "nearest"), [(0, 1), (-5, 1), (10**9, 200), ("abc", 25), (2.5, 25)]
)
def test_sizes_have_bounds(size, nearest):
    with pytest.raises(PageError):
        Sizes(25, max=200).check(size)
    assert Sizes(25, max=200).clamp(size) == nearest


def test_sizes_take_what_a_url_holds():
    assert [Sizes(25).check(size) for size in (None, "", "50", 50, " 7 ")] == [25, 25, 50, 50, 7]
    assert Sizes(25, max=None).check(10**9) == 10**9


@pytest.mark.parametrize("bounds", [(0, 10), (11, 10), ("a", 10), (5, 0)])
def test_impossible_sizes_are_refused(bounds):
    with pytest.raises(PageError):
        Sizes(bounds[0], max=bounds[1])


@given(total=counts, size=sizes, number=st.integers(1, 60))
def test_numbered_pages_are_slices_with_their_neighbours(total, size, number):
    rows = list(range(total))[(number - 1) * size : number * size]
    page = numbered_page(str(number), str(size), total)
    last = max(-(-total // size), 1)
    assert (len(page), page.offset, page.last_number) == (len(rows), (number - 1) * size, last)
    assert page.next == (number + 1 if total > number * size else None)
    assert page.prev == (None if number == 1 else min(number - 1, last))
    assert page.from_to == from_to(page.offset, len(rows), Total(total, "exact"))
    urls = page_urls(page, f"/things?colour=red&page={number}")
    for at, url in ((page.prev, urls.prev), (page.next, urls.next)):
        wanted = None if at is None else ["colour=red", *([f"page={at}"] if at > 1 else [])]
        assert (None if url is None else url.partition("?")[2].split("&")) == wanted
    assert (urls.last is None) == (number == last)
    html = render_controls(page, f"/things?page={number}")
    assert ("is-off" in html or "aria-disabled" in html) == (None in (urls.prev, urls.next))


def test_numbered_pages_without_a_total():
    for unset in (None, ""):  # `?page=` in an address
        assert numbered_page(unset, 10, 95) == numbered_page(1, 10, 95)
    page = numbered_page(2, 10, more=True)
    assert (page.next, page.prev, page.last_number, page.strip()) == (3, 1, None, ())
    assert str(page.from_to) == "11–20"
    assert numbered_page(2, 10, more=False, rows=3).next is None
    capped = numbered_page(1, 10, Total(100, "capped"), more=True)
    assert str(capped.from_to) == "1–10 of 100+"
    assert numbered_page(10, 10, Total(100, "capped")).next == 11  # more than the cap follow
    for bad in ((0, 10, 5), ("abc", 10, 5), (1, 0, 5), (1, 10, None), (1, 9, -1), (1, 9, "x")):
        with pytest.raises(PageError):
            numbered_page(*bad)


def test_the_docs_show_what_comes_out():
    text = (Path(__file__).parent.parent / "docs" / "arithmetic.md").read_text()
    parts = re.findall(r"```python\n(.*?)```\n\n```\n(.*?)```", text, re.S)
    assert len(parts) == 3
    for code, shown in parts:
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            exec(compile(code, "<arithmetic>", "exec"), {})
        assert out.getvalue() == shown
