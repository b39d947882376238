"""Addresses: the links of a page, with every other parameter kept."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING
from urllib.parse import parse_qsl, quote, urlencode

from vrelko.core.arithmetic import Link
from vrelko.core.numbered_page import NumberedPage
from vrelko.core.spot import Spot
from vrelko.web.http_options import USUAL, HttpOptions

if TYPE_CHECKING:
    from vrelko.serving.listing import Listing
    from vrelko.serving.pages.page import Page

RELATIONS = ("self", "first", "prev", "next", "last")
"""Link relations of a page, registered with IANA (RFC 8288)."""


@dataclass(frozen=True, slots=True)
class StripItem:
    """One place of the strip: a numbered link, or a gap (without number and address)."""

    number: int | None
    url: str | None
    current: bool = False


@dataclass(frozen=True, slots=True)
class Urls:
    """The addresses of the pages around one; None where there is no page."""

    self: str
    first: str | None
    prev: str | None
    next: str | None
    last: str | None
    strip: tuple[StripItem, ...] = ()

    def items(self) -> list[tuple[str, str]]:
        """Return relation and address of each link there is."""
        found = [(name, getattr(self, name)) for name in RELATIONS]
        return [(name, url) for name, url in found if url is not None]


@dataclass(frozen=True, slots=True)
class Heading:
    """A column's heading: `state` is ascending, descending, none, or "" where it never sorts."""

    name: str
    label: str
    state: str
    url: str | None


def page_urls(page: Page | NumberedPage, url: str, http: HttpOptions = USUAL) -> Urls:
    """Return the addresses round a page that was asked for at `url`.

    `page` is one that a listing read, or one by its number, size and total alone
    (`vrelko.arithmetic.numbered_page`), whose links are page numbers.

    `url` may be absolute, a path, or a query alone ("?size=50"), and so are the links: behind a
    mount or a proxy give the address that readers see. Where the position is part of the path, give
    the address without it. Parameters other than the position are kept as they are.
    """
    # Such a page was read by other code: there is no cursor and no walk.
    if isinstance(page, NumberedPage):
        return _numbered_urls(page, url, http)
    address = _Address(url, http, page)
    # By cursor first, which every page has.
    prev, following = address.of_cursor(page.prev), address.of_cursor(page.next)
    this, end, last = address.of_cursor(page.self), address.of_cursor(page.last), page.last_number
    offset = page.offset
    if _is_numbered(page, http) and offset is not None:
        # A page that begins less than a size from the start ends where this one begins: a cursor.
        if prev is not None and offset >= page.size:
            prev = address.of_offset(offset - page.size)
            if not len(page):  # past the end: back to the last page there is
                prev = address.of_number(last) if last else address.of_cursor(page.prev)
        # Numbers are shorter than cursors, and the same page has one address however it was
        # reached.
        following = None if following is None else address.of_offset(offset + page.size)
        this = address.of_offset(offset)
        end = address.of_number(last) if end is not None and last else end
    start = address.of_number(1)
    return Urls(
        self=start if page.at_start or this is None else this,
        first=None if page.at_start else start,
        prev=prev,
        next=following,
        last=end,
        strip=tuple(_strip_item(address, link) for link in page.strip(http.strip_width)),
    )


def _numbered_urls(page: NumberedPage, url: str, http: HttpOptions) -> Urls:
    address = _Address(url, http, page)
    last = page.last_number

    def link(number: int | None) -> str | None:
        return None if number is None else address.of_number(number)

    return Urls(
        self=address.of_number(page.number),
        first=link(None if page.number == 1 else 1),
        prev=link(page.prev),
        next=link(page.next),
        last=link(None if last == page.number else last),
        strip=tuple(_strip_item(address, place) for place in page.strip(http.strip_width)),
    )


def _is_numbered(page: Page, http: HttpOptions) -> bool:
    """Tell whether links may hold numbers: the page stands where its number says.

    Cursors alone carry what keeps a walk steady.
    """
    # A number that may be off would lead to rows that were seen already.
    if not http.numbers or page.number is None or not page.number_exact or page.walk.kept:
        return False
    return http.offsets or (page.offset or 0) % page.size == 0


def _strip_item(address: _Address, link: Link) -> StripItem:
    if link.number is None:
        return StripItem(None, None)
    return StripItem(link.number, address.of_number(link.number), link.current)


class _Address:
    """One address, with its position exchanged."""

    def __init__(
        self, url: str, http: HttpOptions, page: Page | NumberedPage | None = None
    ) -> None:
        head, _, query = url.partition("#")[0].partition("?")
        # An empty parameter may mean something to whoever else reads the address.
        kept = parse_qsl(query, keep_blank_values=True) if query else []
        self._head, self._http = head, http
        self._kept = [pair for pair in kept if pair[0] not in http.positions]
        self._query = urlencode(self._kept)
        self._size = 1 if page is None else page.size
        # A walk under a ceiling or with a frozen list goes on only where its cursor tells of it.
        walked = None if page is None or isinstance(page, NumberedPage) else page
        self._page = walked if walked is not None and walked.walk.kept else None

    def bare(self) -> str:
        return self._join(self._head, self._query)

    def of_number(self, number: int) -> str:
        if self._page is not None:  # in its walk, which a cursor tells of
            spot = Spot.start() if number == 1 else Spot.number(number)
            return self._at(self._http.cursor, self._page.cursor_to(spot))
        if number == 1:
            return self.bare()
        return self._at(self._http.page, self._http.number_text(number, self._size))

    def of_offset(self, offset: int) -> str:
        # The first page is the bare address, so that it is not cached twice.
        if offset == 0:
            return self.bare()
        http = self._http
        text = str(offset) if http.offsets else str(offset // self._size + http.first)
        return self._at(http.page, text)

    def of_cursor(self, cursor: str | None) -> str | None:
        return None if cursor is None else self._at(self._http.cursor, cursor)

    def sorted_by(self, order: str) -> str:
        # In another order the old position means nothing, so it is left out.
        name = self._http.named(self._http.sort)
        kept = [pair for pair in self._kept if pair[0] != name]
        return self._join(self._head, urlencode([*kept, (name, order)]))

    def _at(self, name: str, value: str) -> str:
        text = quote(value, safe="")
        # A slash at its end would make the position a part of nothing.
        if self._http.in_path:
            return self._join(f"{self._head.rstrip('/')}/{text}", self._query)
        more = f"{quote(self._http.named(name), safe='')}={text}"
        return self._join(self._head, f"{self._query}&{more}" if self._query else more)

    def _join(self, head: str, query: str) -> str:
        return f"{head}?{query}" if query or not head else head


def period_url(url: str, label: str, http: HttpOptions = USUAL) -> str:
    """Return the address of a period's first page: `url` with its label, without a position."""
    head, _, query = url.partition("#")[0].partition("?")
    name = http.named(http.period)
    # A position belongs to the rows before, and those three to the list of periods.
    left = {*http.positions, name, *(http.named(one) for one in ("unit", "within", "counts"))}
    kept = [pair for pair in parse_qsl(query, keep_blank_values=True) if pair[0] not in left]
    return f"{head}?{urlencode([*kept, (name, label)])}"


def link_header(page: Page | NumberedPage, url: str, http: HttpOptions = USUAL) -> str:
    """Return the value of a Link header (RFC 8288) for a page that was asked for at `url`."""
    return header_of(page_urls(page, url, http), http.prefetch)


def header_of(urls: Urls, prefetch: bool = False) -> str:
    """Return the value of a Link header for addresses; `prefetch`: the next page's as a hint."""
    links = [
        (url, f"{name} prefetch" if prefetch and name == "next" else name)
        for name, url in urls.items()
    ]
    return ", ".join(f'<{quote(url, _SAFE)}>; rel="{relation}"' for url, relation in links)


_SAFE = "!#$%&'()*+,/:;=?@[]~"


def headings(
    names: Iterable[str], listing: Listing, order: str | None, url: str, http: HttpOptions = USUAL
) -> tuple[Heading, ...]:
    """Return a heading for each column: whether the page is sorted by it, and how to sort by it.

    `order`: the order that the page was read in, None for the listing's first one. A column that
    sorts both ways turns round; one that sorts by an order already stays.
    """
    address = _Address(url, http)
    allowed = {str(one): one.terms[0] for one in listing.given_orders if one.terms}
    # Without a word the first of them is in use.
    now = allowed.get(order or next(iter(allowed), ""))
    found = []
    for name in names:
        orders = {text: term for text, term in allowed.items() if term.name == name}
        # As aria-sort has it, so that templates can pass it on.
        state = "" if not orders else "none"
        if now is not None and now.name == name:
            state = "descending" if now.descending else "ascending"
        # Of the orders by this column, those that run the other way; by any where none is in use.
        turned = [
            t
            for t, term in orders.items()
            if state == "none" or term.descending != (state == "descending")
        ]
        target = next(iter(turned or orders), None)
        label = name.replace("_", " ")
        found.append(
            Heading(name, label, state, None if target is None else address.sorted_by(target))
        )
    return tuple(found)
