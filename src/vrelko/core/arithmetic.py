"""Page arithmetic: numbers, offsets, counts and ranges, for those who keep their own SQL too.

Page numbers count from 1, row offsets from 0, sizes are rows per page.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from operator import index

from vrelko.errors import PageError

MOST_NUMBER = 1_000_000_000
"""No listing has a page beyond this number; larger ones are typing errors or attacks."""

MOST_OFFSET = 1_000_000_000_000
"""No row offset beyond this is asked of a server."""


@dataclass(frozen=True, slots=True)
class Sizes:
    """The page sizes a listing allows.

    `default` rows when none is asked for, at least 1 and at most `max`. `max=None` allows any
    size; the planner reports that as a finding.
    """

    default: int = 25
    max: int | None = 200

    def __post_init__(self) -> None:
        for name, value in (("default", self.default), ("max", self.max)):
            # No limit is a choice; no default would leave a page without a size.
            unset = value is None and name == "max"
            if not unset and (type(value) is not int or value < 1):
                raise PageError(
                    f"{name} page size must be a whole number above 0, got {value!r}",
                    "Give sizes such as Sizes(25, max=200)",
                    "size-bounds",
                )
        if self.max is not None and self.default > self.max:
            raise PageError(
                f"default page size must be at most max, got {self.default} and {self.max}",
                "Raise max or lower the default",
                "size-bounds",
            )

    def check(self, size: object) -> int:
        """Return the size to serve; None and "" mean the default. Raises PageError."""
        if size is None or size == "":
            return self.default
        rows = check_whole(size, "page size", "size")
        top = MOST_OFFSET if self.max is None else self.max
        if not 1 <= rows <= top:
            raise PageError(
                f"page size {rows:,} is not allowed", f"Ask for 1 to {top:,} rows", "size-range"
            )
        return rows

    def clamp(self, size: object) -> int:
        """Return the nearest allowed size; what is no number at all gives the default."""
        try:
            return self.check(size)
        except PageError as error:
            # Letters have no nearest number.
            if error.code != "size-range":
                return self.default
        top = MOST_OFFSET if self.max is None else self.max
        return min(max(check_whole(size, "page size", "size"), 1), top)


def check_whole(value: object, what: str, code: str) -> int:
    """Return `value` (a whole number, or text of ASCII digits as in a URL) as an int.

    Raises PageError with code `<code>-number` for anything else: letters, fractions, booleans.
    """
    # True is an int in Python, and no page number.
    if isinstance(value, int) and not isinstance(value, bool):
        return int(value)
    # A Decimal of 1e1000000 would take minutes to become an int.
    small = isinstance(value, Decimal) and value.is_finite() and value.adjusted() <= 30
    if isinstance(value, Decimal) and small and value == value.to_integral_value():
        return int(value)
    if hasattr(value, "__index__") and hasattr(value, "dtype") and value.dtype.kind in "iu":
        return index(value)  # of NumPy
    if isinstance(value, str):
        text = value.strip()
        digits = text[1:] if text[:1] in ("-", "+") else text
        # Digits of other scripts are digits for str.isdigit, and not what a URL of ours holds.
        if digits.isascii() and digits.isdigit() and len(digits) <= 30:
            return int(text)
    raise PageError(
        f"{what} is not a whole number", "Give digits only, such as 3", f"{code}-number"
    )


def check_number(number: object) -> int:
    """Return a page number as an int of at least 1. Raises PageError."""
    n = check_whole(number, "page number", "page")
    if not 1 <= n <= MOST_NUMBER:
        bound = "; pages start at 1" if n < 1 else ""
        raise PageError(
            f"page {n:,} does not exist{bound}",
            f"Ask for 1 to {MOST_NUMBER:,}, or for Spot.end() to see the last page",
            "page-range",
        )
    return n


def check_offset(offset: object) -> int:
    """Return a row offset as an int of at least 0. Raises PageError."""
    rows = check_whole(offset, "row offset", "offset")
    if not 0 <= rows <= MOST_OFFSET:
        raise PageError(
            f"row offset {rows:,} does not exist",
            f"Offsets go from 0 to {MOST_OFFSET:,}",
            "offset-range",
        )
    return rows


def offset_of(number: int, size: int) -> int:
    """Return the row offset at which page `number` begins."""
    return (number - 1) * size


def number_of(offset: int, size: int) -> int:
    """Return the number of the page that holds the row at `offset`."""
    return offset // size + 1


def page_count(total: int, size: int) -> int:
    """Return how many pages `total` rows fill: 0 rows fill none, a full last page is the last."""
    return -(-total // size)


def clamp_number(number: int, last: int) -> int:
    """Return the nearest page number that exists; page 1 exists even with no rows."""
    return min(max(number, 1), max(last, 1))


def neighbours(number: int, last: int) -> tuple[int | None, int | None]:
    """Return the previous and the next page number, None at either end."""
    # One past the end still has the last page before it, farther off there is no neighbour.
    before = number - 1 if 1 < number <= last + 1 else None
    return before, number + 1 if number < last else None


@dataclass(frozen=True, slots=True)
class Total:
    """How many rows a listing has.

    `kind`: exact, capped (more than `value`), about (an estimate), unknown (counting took too
    long) or none (not asked).
    """

    value: int | None
    kind: str

    def __str__(self) -> str:
        return self.text()

    def text(self, number: Callable[[int], str] = "{:,}".format, unknown: str = "unknown") -> str:
        """Return the total in words of your own: `number` writes a whole number."""
        if self.value is None:
            return unknown
        # Not to be read as counted.
        mark = "~" if self.kind == "about" else ""
        return f"{mark}{number(self.value)}{'+' if self.kind == 'capped' else ''}"


NO_TOTAL = Total(None, "none")


@dataclass(frozen=True, slots=True)
class FromTo:
    """Where a page stands: first and last row counted from 1 (None on an empty page)."""

    first: int | None
    last: int | None
    total: Total

    def __str__(self) -> str:
        return self.text()

    def text(
        self,
        rows: str = "{first}–{last}",
        of: str = "{rows} of {total}",
        number: Callable[[int], str] = "{:,}".format,
    ) -> str:
        """Return from–to in words of your own, such as text(of="{rows} von {total}").

        `rows` and `of` are templates, `number` writes a whole number.
        """
        shown = number(0)
        if self.first is not None and self.last is not None:
            shown = rows.format(first=number(self.first), last=number(self.last))
        if self.total.value is None:
            return shown
        return of.format(rows=shown, total=self.total.text(number))


def from_to(offset: int, rows: int, total: Total) -> FromTo:
    """Return from–to for a page of `rows` rows beginning at row `offset`."""
    if rows == 0:
        return FromTo(None, None, total)
    return FromTo(offset + 1, offset + rows, total)


@dataclass(frozen=True, slots=True)
class Link:
    """One place of a page strip: a page number, or a gap (`number` is None)."""

    number: int | None
    current: bool = False

    def __str__(self) -> str:
        return self.text()

    def text(
        self,
        number: Callable[[int], str] = str,
        current: str = "[{number}]",
        gap: str = "…",
    ) -> str:
        """Return the place as text: a page number, the current one marked, or a gap."""
        if self.number is None:
            return gap
        shown = number(self.number)
        return current.format(number=shown) if self.current else shown


def strip_of(number: int, last: int, width: int = 7) -> Sequence[Link]:
    """Return exactly `width` places for a page strip, or one a page where there are fewer.

    First and last page always stand at the ends, the current page is marked (none is where `number`
    is past the last page), and a gap stands for at least two pages. One page or none needs no
    strip: an empty sequence.
    Raises PageError when `width` is below 5 (first, gap, current, gap, last).
    """
    if width < 5:
        raise PageError(
            f"a strip of page numbers needs at least 5 places, got {width}",
            "Ask for at least 5",
            "strip-slots",
        )
    if last <= 1:
        return ()
    here = clamp_number(number, last)
    if last <= width:
        return tuple(Link(n, n == number) for n in range(1, last + 1))
    # First, last and two places that are a page or a gap.
    inner = width - 4
    low = min(max(here - inner // 2, 3), last - inner - 1)
    middle: list[int | None] = list(range(low, low + inner))
    # A gap of one page would take the place of that page.
    left: int | None = 2 if low == 3 else None
    right: int | None = last - 1 if low + inner == last - 1 else None
    places: list[int | None] = [1, left, *middle, right, last]
    return tuple(Link(n, n == number) for n in places)
