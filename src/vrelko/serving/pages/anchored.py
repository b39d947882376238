"""Pages between anchors: all rows of a segment as they stand."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from typing import Any

from vrelko.core.arithmetic import Total
from vrelko.core.spot import Spot
from vrelko.errors import PageError
from vrelko.serving.pages.batch import Batch
from vrelko.serving.pages.request import BoundRequest, open_variant
from vrelko.serving.pages.rows import PageReader
from vrelko.serving.settings import Settings
from vrelko.serving.steady.anchors import Anchors, Segments
from vrelko.sql.statements import UNTIL, key_parameters

_FETCHED = 1_000


def build_anchors(
    settings: Settings,
    lender: Any,
    anchors: Anchors,
    params: Mapping[str, Any] | None,
    order: str | None,
) -> Segments:
    """Read the keys of a variant in order, and keep every `size`-th; see `Listing.anchor`."""
    opened = open_variant(settings, lender, params, order, None)
    bounds, rows = [], 0
    last: tuple[Any, ...] | None = None
    for key in _keys(opened, lender):
        if rows and rows % anchors.size == 0 and last is not None:
            bounds.append(last)
        rows, last = rows + 1, key
    found = Segments(tuple(bounds), rows, time.time())
    anchors.segments[_name(opened)] = found
    return found


def _keys(opened: BoundRequest, lender: Any) -> Iterator[tuple[Any, ...]]:
    result = lender.execute(
        opened.variant.keys().execution_options(yield_per=_FETCHED), opened.given
    )
    for row in result:
        yield opened.variant.converted(row)


def read_segment(opened: BoundRequest, anchors: Anchors, spot: Spot) -> Batch:
    """Return all rows of the segment that a spot names. Raises PageError where none is stored."""
    found = anchors.segments.get(_name(opened))
    if found is None:
        raise PageError(
            f"no anchors are stored for this order and these filters of {opened.settings.name!r}",
            "Build them with listing.anchor(connection, …) or `vrelko anchors segments`",
            "anchors-missing",
        )
    page = _page_of(spot, anchors.size, found)
    offset = page * anchors.size
    total = Total(found.rows, "about")
    if page >= found.pages:
        return Batch(
            rows=[], full=[], before=True, after=False, offset=offset, exact=False, total=total
        )
    begin = found.bounds[page - 1] if page else None
    end = found.bounds[page] if page < len(found.bounds) else None
    rows, full = _rows_between(opened, anchors.size, begin, end)
    return Batch(
        rows=rows,
        full=full,
        before=page > 0,
        after=end is not None,
        offset=offset,
        exact=False,
        total=total,
    )


def _page_of(spot: Spot, size: int, found: Segments) -> int:
    """Return the number from 0 of the segment that a spot names."""
    if spot.kind == "start":
        return 0
    if spot.kind == "end":
        return found.pages - 1
    at = spot.at or 0
    return at - 1 if spot.kind == "number" else at // size


def _rows_between(
    opened: BoundRequest, size: int, begin: tuple[Any, ...] | None, end: tuple[Any, ...] | None
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


def _name(opened: BoundRequest) -> str:
    return opened.fingerprint.hex()
