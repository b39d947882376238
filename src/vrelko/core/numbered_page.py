"""A numbered page by its number, size and total alone: for those who run their own SQL."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vrelko.core.arithmetic import (
    NO_TOTAL,
    FromTo,
    Link,
    Total,
    check_number,
    check_whole,
    from_to,
    offset_of,
    page_count,
    strip_of,
)
from vrelko.errors import PageError


@dataclass(frozen=True, slots=True)
class NumberedPage:
    """Where a numbered page stands. `number` counts from 1; `rows` are on it; `more` follow it."""

    number: int
    size: int
    total: Total
    rows: int
    more: bool

    def __len__(self) -> int:
        return self.rows

    @property
    def offset(self) -> int:
        """Rows ahead of the page: what OFFSET takes."""
        return offset_of(self.number, self.size)

    @property
    def from_to(self) -> FromTo:
        """First and last row, counted from 1, and the total."""
        return from_to(self.offset, self.rows, self.total)

    @property
    def last_number(self) -> int | None:
        """The last page's number, 1 without rows; None if the total is not exact."""
        if self.total.kind != "exact":
            return None
        return max(page_count(self.total.value or 0, self.size), 1)

    @property
    def prev(self) -> int | None:
        """The page before, None on the first; behind the end the last one there is."""
        if self.number == 1:
            return None
        last = self.last_number
        return self.number - 1 if last is None else min(self.number - 1, last)

    @property
    def next(self) -> int | None:
        """The page after, None where no rows follow."""
        return self.number + 1 if self.more else None

    def strip(self, width: int = 7) -> Sequence[Link]:
        """Return the places of a page strip; empty if the total is not exact."""
        last = self.last_number
        return () if last is None else strip_of(self.number, last, width)


def numbered_page(
    number: object,
    size: object,
    total: int | Total | None = None,
    *,
    rows: int | None = None,
    more: bool | None = None,
) -> NumberedPage:
    """Return a page by its number (from 1, a number or text as in a URL), size and total.

    `total`: the rows of all pages, None where nobody counted them. `rows` are on this page; left
    out, as many as the total leaves, or a full page. `more`: whether rows follow; left out, the
    total tells. Raises PageError for a number, size or total that cannot be, and where neither a
    total nor `more` tells whether rows follow.
    """
    # `?page=` in an address means that nobody filled it in: the first page, as for a Spot.
    at = 1 if number is None or number == "" else check_number(number)
    many = check_whole(size, "page size", "size")
    if many < 1:
        raise PageError(
            f"page size must be at least 1, got {many:,}",
            "Ask for at least one row per page",
            "size-range",
        )
    told = _total(total)
    left = None
    if told.kind == "exact":
        left = max((told.value or 0) - offset_of(at, many), 0)
        more = left > many if more is None else more
    # Beyond the cap nobody counted, but up to it rows are certain.
    elif told.kind == "capped" and more is None and (told.value or 0) >= offset_of(at + 1, many):
        more = True
    if more is None:
        raise PageError(
            "it is not known whether rows follow this page: total and more are both missing",
            "Give the total, or more=True if one row more than the page's was found",
            "page-more",
        )
    if rows is None:
        rows = many if left is None else min(left, many)
    return NumberedPage(at, many, told, rows, more)


def _total(given: int | Total | None) -> Total:
    if given is None or isinstance(given, Total):
        return given or NO_TOTAL
    rows = check_whole(given, "total", "total")
    if rows < 0:
        raise PageError(f"total must be at least 0, got {rows:,}", "Give 0 or more", "total-range")
    return Total(rows, "exact")
