"""HTTP options: how a listing is asked for and answered, so that it fits clients there are."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from vrelko.errors import ListingError

Unknown = Literal["refuse", "ignore"]

FIELDS = (
    "rows", "size", "number", "last_number", "offset", "from_to", "total", "sort", "links",
    "strip", "before", "after", "clamped", "period", "notes",
)  # fmt: skip
"""Fields of an answer, in this order."""


@dataclass(frozen=True, kw_only=True)
class HttpOptions:
    """The names and habits of one listing's requests and answers.

    `page`, `size`, `cursor`, `sort`: names of the query parameters; filters and the search have the
    names of the listing's own. `rows`: a range of rows for virtual scrolling, "120-179" from 0.
    `period` and `zone`: a year, month or day, and the reader's time zone, of listings with periods.
    `prefetch`: Link headers tell browsers to fetch the next page ahead. `prefix` stands before each
    of them, so that several listings share one address. `first`: the number of the first page, 0 or
    1. `offsets`: the page parameter holds a row offset. `numbers`: next, previous and last links
    hold page numbers (or offsets) where these are known, instead of cursors. `in_path`: the
    position is the last part of the path.

    `fields`: other names for fields of the answer (FIELDS), None to leave one out. `unknown`:
    whether parameters that the listing does not know are refused or ignored. `on_bad_page` and
    `past_end` are those of `Listing.read`. `strip_width`: places in the strip of page numbers.
    `export_rows_s`: the most rows a second that an export sends, None without a bound.
    `defuse`: in CSV an apostrophe stands before text that a spreadsheet would run as a formula.
    """

    page: str = "page"
    size: str = "size"
    cursor: str = "cursor"
    sort: str = "sort"
    rows: str = "rows"
    period: str = "period"
    zone: str = "zone"
    prefetch: bool = False
    prefix: str = ""
    first: int = 1
    offsets: bool = False
    numbers: bool = False
    in_path: bool = False
    fields: Mapping[str, str | None] = field(default_factory=dict)
    unknown: Unknown = "refuse"
    on_bad_page: str = "error"
    past_end: str = "empty"
    strip_width: int = 7
    export_rows_s: float | None = None
    defuse: bool = True

    def __post_init__(self) -> None:
        if self.first not in (0, 1):
            raise ListingError(f"the first page cannot be {self.first}", "Give 0 or 1", "web-wire")
        # A misspelt field would keep its own name, and a client would miss it in silence.
        wrong = [name for name in self.fields if name not in FIELDS]
        if wrong:
            raise ListingError(
                f"an answer cannot have the field {wrong[0]!r}",
                f"Known: {', '.join(FIELDS)}",
                "web-wire",
            )
        # Five places are the least that show first, last, the page itself and both gaps.
        if self.strip_width < 5 or (self.export_rows_s is not None and self.export_rows_s <= 0):
            raise ListingError(
                "strip_width must be at least 5 and export_rows_s above 0, got "
                f"{self.strip_width} and {self.export_rows_s}",
                "Correct strip_width or export_rows_s",
                "web-wire",
            )
        # A new name may be another field's own.
        told = [self.fields.get(name, name) for name in FIELDS]
        kept = [name for name in told if name is not None]
        if len(set(kept)) < len(kept):
            raise ListingError(
                f"two fields of the answer share a name: {', '.join(kept)}",
                "Name each field apart",
                "web-wire",
            )
        names = self.own
        if len(set(names)) < len(names):
            raise ListingError(
                f"two parameters share a name: {', '.join(names)}",
                "Name page, size, cursor, sort, rows, period and zone apart",
                "web-wire",
            )

    def named(self, name: str) -> str:
        """Return a parameter's name in an address."""
        return self.prefix + name

    @property
    def positions(self) -> frozenset[str]:
        """The parameters that hold a position."""
        return frozenset(self.named(one) for one in (self.page, self.cursor, self.rows))

    @property
    def own(self) -> tuple[str, ...]:
        """The names of its own parameters, without the prefix."""
        return (
            *(self.page, self.size, self.cursor, self.sort),
            *(self.rows, self.period, self.zone),
        )

    def number_text(self, number: int, size: int) -> str:
        """Return a page number (from 1) as it stands in an address."""
        return str((number - 1) * size if self.offsets else number - 1 + self.first)


USUAL = HttpOptions()
