"""Anchors: the stored key of the last row of every page, so that numbered pages need no offset."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vrelko.core.arithmetic import Total
from vrelko.core.spot import Spot
from vrelko.errors import CursorError, PageError
from vrelko.serving.cursors.values import decode_values, encode_value
from vrelko.serving.pages.request import Opened, open_variant
from vrelko.serving.pages.rows import Batch, PageReader
from vrelko.sql.statements import UNTIL, key_parameters

if TYPE_CHECKING:
    from vrelko.serving.listing import Listing

SCHEMA = "vrelko.anchors/1"
_FETCHED = 1_000


@dataclass(frozen=True, slots=True)
class Segments:
    """The pages of one variant: the key of the last row of each but the last one.

    `rows` there were when it was built, at `built_at` (seconds since 1970).
    """

    bounds: tuple[tuple[Any, ...], ...]
    rows: int
    built_at: float

    @property
    def pages(self) -> int:
        """Pages that the segments make, at least 1."""
        return len(self.bounds) + 1


@dataclass
class Anchors:
    """Segments of `size` rows for any number of variants of a listing, kept in a JSON file.

    A page is all rows of its segment as they stand, so pages grow and shrink a little as rows come
    and go, and no row is on two pages or on none. Build them anew when they have grown uneven.
    """

    size: int
    segments: dict[str, Segments] = field(default_factory=dict)

    def to_json(self) -> str:
        """Return the anchors as JSON text (schema `vrelko.anchors/1`)."""
        segments = {
            name: {
                "rows": one.rows,
                "built_at": one.built_at,
                "bounds": [[encode_value(value) for value in key] for key in one.bounds],
            }
            for name, one in self.segments.items()
        }
        return json.dumps({"schema": SCHEMA, "size": self.size, "segments": segments})

    @classmethod
    def from_json(cls, text: str) -> Anchors:
        """Return the anchors that `to_json` wrote. Raises PageError."""
        try:
            data = json.loads(text)
            if data["schema"] != SCHEMA:
                raise KeyError(data["schema"])
            segments = {
                name: Segments(
                    tuple(decode_values(key) for key in one["bounds"]),
                    int(one["rows"]), float(one["built_at"]),
                )
                for name, one in data["segments"].items()
            }  # fmt: skip
            return cls(int(data["size"]), segments)
        except (ValueError, KeyError, TypeError, AttributeError, CursorError) as error:
            raise PageError(
                "the text holds no anchors", "Build them with `vrelko anchors`", "anchors-read"
            ) from error

    @classmethod
    def load(cls, path: str | Path) -> Anchors:
        """Return the anchors of a file. Raises PageError."""
        try:
            return cls.from_json(Path(path).read_text(encoding="utf-8"))
        except (OSError, UnicodeDecodeError) as error:
            raise PageError(
                f"the anchors file {str(path)!r} cannot be read: {error}",
                "Build it with `vrelko anchors`",
                "anchors-read",
            ) from error


def build_anchors(
    listing: Listing,
    lender: Any,
    anchors: Anchors,
    params: Mapping[str, Any] | None,
    order: str | None,
) -> Segments:
    """Read the keys of a variant in order, and keep every `size`-th; see `Listing.anchor`."""
    opened = open_variant(listing, lender, params, order, None)
    bounds, rows = [], 0
    last: tuple[Any, ...] | None = None
    for key in _keys(opened, lender):
        if rows and rows % anchors.size == 0 and last is not None:
            bounds.append(last)
        rows, last = rows + 1, key
    found = Segments(tuple(bounds), rows, time.time())
    anchors.segments[_name(opened)] = found
    return found


def _keys(opened: Opened, lender: Any) -> Iterator[tuple[Any, ...]]:
    result = lender.execute(
        opened.variant.keys().execution_options(yield_per=_FETCHED), opened.given
    )
    for row in result:
        yield opened.variant.converted(row)


def read_segment(opened: Opened, anchors: Anchors, spot: Spot) -> Batch:
    """Return all rows of the segment that a spot names. Raises PageError where none is stored."""
    found = anchors.segments.get(_name(opened))
    if found is None:
        raise PageError(
            f"no anchors are stored for this order and these filters of {opened.listing.name!r}",
            "Build them with listing.anchor(connection, …) or `vrelko anchors`",
            "anchors-missing",
        )
    page = _page_of(spot, anchors.size, found)
    offset = page * anchors.size
    total = Total(found.rows, "about")
    if page >= found.pages:
        return Batch([], [], True, False, offset, False, total)
    begin = found.bounds[page - 1] if page else None
    end = found.bounds[page] if page < len(found.bounds) else None
    rows, full = _rows_between(opened, anchors.size, begin, end)
    return Batch(rows, full, page > 0, end is not None, offset, False, total)


def _page_of(spot: Spot, size: int, found: Segments) -> int:
    """Return the number from 0 of the segment that a spot names."""
    if spot.kind == "start":
        return 0
    if spot.kind == "end":
        return found.pages - 1
    at = spot.at or 0
    return at - 1 if spot.kind == "number" else at // size


def _rows_between(
    opened: Opened, size: int, begin: tuple[Any, ...] | None, end: tuple[Any, ...] | None
) -> tuple[list[Any], list[Any]]:
    """Return the rows behind one key up to another one, however many there are by now."""
    variant = opened.variant if end is None else opened.variant.flagging(end)
    runner = opened.runner
    if end is not None:
        runner.params = {**runner.params, **key_parameters(end, UNTIL)}
    spot = Spot.start() if begin is None else Spot("after", begin)
    rows: list[Any] = []
    full: list[Any] = []
    while True:
        batch = PageReader(runner, variant, 2 * size).read(spot, None)
        inside = len(batch.full)
        if end is not None:
            inside = next((i for i, row in enumerate(batch.full) if row[-1]), inside)
        rows += batch.rows[:inside]
        full += batch.full[:inside]
        if inside < len(batch.full) or not batch.after:
            return rows, full
        spot = Spot("after", variant.key_from(batch.full[-1]))


def _name(opened: Opened) -> str:
    return opened.fingerprint.hex()
