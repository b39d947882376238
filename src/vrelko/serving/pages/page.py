"""A page: its rows, where they stand, and its links."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any, overload

from vrelko.core.arithmetic import (
    FromTo,
    Link,
    Total,
    from_to,
    number_of,
    page_count,
    strip_of,
)
from vrelko.core.spot import Spot
from vrelko.errors import PageError
from vrelko.serving.pages.batch import Batch
from vrelko.serving.variants.runner import Asked
from vrelko.serving.variants.variant import Variant

SCHEMA = "vrelko.page/1"


@dataclass(frozen=True, slots=True)
class WalkState:
    """What cursors tell of a walk so far: see `Spot.top`, `Spot.digests` and `Spot.frozen`.

    `stride`: pages begin a whole page size apart, whatever the number of their rows.
    """

    top: tuple[Any, ...] | None = None
    digests: bytes | None = None
    frozen: str | None = None
    stride: bool = False

    @property
    def kept(self) -> bool:
        """Whether the walk's cursors hold what keeps its pages steady: a ceiling or a list."""
        return self.top is not None or self.frozen is not None


NO_WALK = WalkState()


@dataclass(slots=True)
class CursorWriter:
    """How a page writes its cursors: by offsets or by keys, in whole pages or onward only."""

    write: Callable[[Spot], str]
    variant: Variant
    by_offset: bool
    numbered: bool
    total: int | None = None
    walk: WalkState = NO_WALK


@dataclass(frozen=True, slots=True)
class PageOfPeriod:
    """The period that a page lies in, and the labels of the nearest ones that have rows."""

    label: str
    earlier: str | None
    later: str | None


class Page(Sequence[Any]):
    """The rows of one page, as a sequence, with its place and its links.

    All data is computed before the page is returned; only cursor texts are written when asked for.
    `next`, `prev`, `first` and `last` are cursors, None where there is nothing there; `after` and
    `before` are cursors round any page, for tails and for "new on top". `clamped` says in words
    what was asked for and could not be had, None where all is as asked. `notes`: what those who run
    it should know, such as that a jump went by offset. `period`: the year, month or day that was
    asked for, with its neighbours that have rows.
    """

    __slots__ = (
        "__weakref__",
        "_batch",
        "_cursors",
        "_spot",
        "_written",
        "clamped",
        "notes",
        "period",
        "rows",
        "size",
        "statements",
    )

    def __init__(
        self,
        batch: Batch,
        size: int,
        spot: Spot,
        cursors: CursorWriter,
        *,
        asked: Sequence[Asked],
        clamped: str | None = None,
    ) -> None:
        self._batch = batch
        self._spot = spot
        self._cursors = cursors
        self._written: dict[Any, str] = {}  # the next page's and the tail's are mostly one
        self.rows: Sequence[Any] = batch.rows
        self.size = size
        self.statements = tuple(asked)
        self.clamped = clamped
        self.notes: tuple[str, ...] = ()
        self.period: PageOfPeriod | None = None

    def __copy__(self) -> Page:
        return self

    def __deepcopy__(self, memo: Any) -> Page:
        return self

    def __reduce__(self) -> Any:
        raise PageError(
            "a page cannot be pickled",
            "Send page.as_dict(), its rows or its cursors",
            "page-pickled",
        )

    @overload
    def __getitem__(self, index: int) -> Any: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Any]: ...
    def __getitem__(self, index: int | slice) -> Any:
        return self.rows[index]

    def __len__(self) -> int:
        return len(self.rows)

    def __iter__(self) -> Iterator[Any]:
        return iter(self.rows)

    def __repr__(self) -> str:
        return f"<Page of {len(self.rows)} rows, {self.from_to or 'place unknown'}>"

    def scalars(self) -> list[Any]:
        """Return the first value of each row."""
        return [row[0] for row in self.rows]

    @property
    def offset(self) -> int | None:
        """Row offset of the first row, None where it is unknown."""
        return self._batch.offset

    @property
    def number(self) -> int | None:
        """Page number from 1, None where it is unknown (a feed, a page reached by key alone)."""
        if not self._cursors.numbered or self.offset is None:
            return None
        return number_of(self.offset, self.size)

    @property
    def number_exact(self) -> bool:
        """Whether the number is right; after moves by key it may be off by rows that changed."""
        return self._batch.exact

    @property
    def total(self) -> Total:
        """How many rows the listing has: exact, capped, about or unknown."""
        return self._batch.total or Total(None, "none")

    @property
    def share(self) -> float | None:
        """How far down the page begins, from 0 to 1; None without a total or an offset."""
        if self.offset is None or not self.total.value:
            return None
        return min(self.offset / self.total.value, 1.0)

    @property
    def last_number(self) -> int | None:
        """Number of the last page, None where the total is not exact; an empty listing has 1."""
        if self.total.value is None or self.total.kind != "exact" or not self._cursors.numbered:
            return None
        return max(page_count(self.total.value, self.size), 1)

    @property
    def from_to(self) -> FromTo | None:
        """Where the page stands, as "26–50 of 12,480"; None where the offset is unknown."""
        return None if self.offset is None else from_to(self.offset, len(self.rows), self.total)

    @property
    def order(self) -> str:
        """The order that the page was read in, one of the listing's allowed ones."""
        return self._cursors.variant.source.given

    @property
    def keys(self) -> Sequence[tuple[Any, ...]]:
        """The key of each row: the values of the total order's terms, unique in the listing."""
        return [self._cursors.variant.key_from(row) for row in self._batch.full]

    def key_of_row(self, row: Any, variant: Variant) -> tuple[Any, ...] | None:
        """Return the key of a row, or of the entity that is all of a row; None if not of here.

        `variant`: the order that the key is wanted for.
        """
        if self._cursors.variant is not variant:
            return None
        for one, full in zip(self.rows, self._batch.full, strict=True):
            # By identity: two equal rows have two places.
            if one is row or (len(one) == 1 and one[0] is row):
                return variant.key_from(full)
        return None

    @property
    def at_start(self) -> bool:
        """Whether nothing comes ahead of this page."""
        return not self._batch.before

    @property
    def at_end(self) -> bool:
        """Whether nothing follows this page."""
        return not self._batch.after

    @property
    def self(self) -> str:
        """The cursor of this very page; with another size it still begins at the same row."""
        # By its row, not its number: with another size the same rows still come first.
        if self._spot.kind == "number" and self.offset is not None:
            return self._write(Spot("offset", at=self.offset))
        return self._write(self._spot)

    @property
    def next(self) -> str | None:
        """The cursor of the next page, None at the end."""
        if not self._batch.after:
            return None
        if not self.rows:
            return self._write(Spot.start())
        return self._write(self._spot_after())

    @property
    def prev(self) -> str | None:
        """The cursor of the previous page, None at the start."""
        if not self._batch.before:
            return None
        if not self.rows:
            return self._write(Spot.end() if self._cursors.numbered else self._spot_before())
        if self._cursors.by_offset and self.offset is not None:
            # By offset the page before is told by numbers alone, whatever its rows are.
            start = max(self.offset - self.size, 0)
            # A page before the first full one is as short as the rows ahead of it.
            rows = self.offset if self.offset < self.size else None
            return self._write(Spot("offset", at=start, rows=rows))
        # A short first page would shift every page number behind it.
        return self._write(self._spot_before()._replace(fill=True))

    @property
    def first(self) -> str | None:
        """The cursor of the first page, None on the first page."""
        return self._write(Spot.start()) if self._batch.before else None

    @property
    def last(self) -> str | None:
        """The cursor of the last page; None on the last page, and without page numbers."""
        if not self._cursors.numbered or (not self._batch.after and self.rows):
            return None
        return self._write(Spot.end()) if self._batch.before or self._batch.after else None

    @property
    def after(self) -> str:
        """The cursor behind the last row, there at the end too: for polling a tail."""
        if self.rows:
            return self._write(self._spot_after(by_key=True))
        return self._write(Spot.start() if self._spot.kind in ("before", "end") else self._spot)

    @property
    def before(self) -> str:
        """The cursor ahead of the first row, there on the first page too: for "new on top"."""
        return self._write(self._spot_before())

    @property
    def walk(self) -> WalkState:
        """What the page's cursors carry of the walk that it belongs to."""
        return self._cursors.walk

    @property
    def ceiling(self) -> str | None:
        """The place where the walk's first page began, None without a ceiling or without rows.

        For `read(…, ceiling=)` of a page by its number, and for `count_ahead`: "12 new".
        """
        top = self._cursors.walk.top
        return None if top is None else self._cursors.write(Spot("before", top))

    def cursor(self, index: int) -> str:
        """Return the cursor that begins a page right behind row `index` of this page."""
        return self._write(self._spot_behind(range(len(self.rows))[index]))

    def cursor_to(self, spot: Spot) -> str:
        """Return the cursor of any spot of this page's walk, which keeps its ceiling or list."""
        return self._write(spot)

    def strip(self, width: int = 7) -> Sequence[Link]:
        """Return numbered links with gaps: see `vrelko.arithmetic.strip_of`.

        Empty where there is one page, or where number or total are unknown.
        """
        if self.number is None or self.last_number is None:
            return ()
        return strip_of(self.number, self.last_number, width)

    def part(self, first: int, size: int, spot: Spot) -> Page:
        """Return `size` of this page's rows from row `first` of it on, as a page of their own."""
        batch, last = self._batch, first + size
        rows = batch.rows[first:last]
        offset = None if batch.offset is None else batch.offset + first
        made = replace(
            batch,
            rows=rows,
            full=batch.full[first:last],
            before=batch.before or (first > 0 and bool(batch.rows)),
            after=batch.after or len(batch.rows) > last,
            offset=offset,
        )
        # Nothing follows what already lies behind the last row.
        if not rows and batch.rows:
            made.after = False
        return Page(made, size, spot, self._cursors, asked=self.statements, clamped=self.clamped)

    def as_dict(self) -> dict[str, Any]:
        """Return the page as plain data (schema `vrelko.page/1`, see docs/schemas.md)."""
        return {
            "schema": SCHEMA,
            "rows": [dict(row._mapping) for row in self.rows],
            "size": self.size,
            "offset": self.offset,
            "number": self.number,
            "number_exact": self.number_exact,
            "last_number": self.last_number,
            "total": {"value": self.total.value, "kind": self.total.kind},
            "from_to": None if self.from_to is None else str(self.from_to),
            "clamped": self.clamped,
            "notes": list(self.notes),
            "period": None if self.period is None else asdict(self.period),
            "links": {
                name: getattr(self, name) for name in ("self", "next", "prev", "first", "last")
            },
        }

    def _write(self, spot: Spot) -> str:
        if self._cursors.total is not None:
            spot = spot._replace(total=self._cursors.total)
        # What was seen matters to pages that follow alone.
        walk = self._cursors.walk
        if walk is not NO_WALK:
            # A reader who turns back sees rows again on purpose: what was seen matters forward
            # alone.
            onward = spot.kind in ("offset", "after")
            spot = spot._replace(
                top=walk.top, frozen=walk.frozen, digests=walk.digests if onward else None
            )
        # Two moments of an hour that comes twice are equal in Python, and two cursors.
        known: Any = spot
        if self._cursors.variant.may_fold and spot.key is not None:
            known = spot, tuple([getattr(one, "fold", 0) for one in spot.key])
        # Signing takes longer than all else here, and templates ask for a link twice.
        text = self._written.get(known)
        if text is None:
            text = self._written[known] = self._cursors.write(spot)
        return text

    def _spot_after(self, by_key: bool = False) -> Spot:
        if self._cursors.by_offset and self.offset is not None and not by_key:
            # Rows left out as seen still count: the next page begins a whole page further.
            onward = self.size if self._cursors.walk.stride else len(self.rows)
            return Spot("offset", at=self.offset + onward)
        return self._spot_behind(len(self.rows) - 1)

    def _spot_behind(self, index: int) -> Spot:
        # Where the number of the page is unknown, a guessed one in the cursor would be believed.
        at = None
        if self._cursors.numbered and self.offset is not None:
            at = self.offset + index + 1
        variant, full = self._cursors.variant, self._batch.full
        near = variant.near(full, index, 0, not self._batch.before)
        return Spot("after", variant.key_from(full[index]), at, near=near)

    def _spot_before(self) -> Spot:
        if not self.rows:
            return self._spot if self._spot.kind == "before" else Spot.end()
        variant, full = self._cursors.variant, self._batch.full
        near = variant.near(full, 0, -1, not self._batch.after)
        # A feed's cursors carry no number: nobody would see it.
        at = self.offset if self._cursors.numbered else None
        return Spot("before", variant.key_from(full[0]), at, near=near)
