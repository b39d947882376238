"""Answering one request for a page: where it begins, how its rows are read, what is told of it."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from vrelko.core.arithmetic import MOST_NUMBER, NO_TOTAL, Total, check_whole, offset_of
from vrelko.core.outline import check_choice
from vrelko.core.spot import Spot
from vrelko.engines.estimates import estimate_rows
from vrelko.engines.limits import limit_time
from vrelko.engines.registry import database_errors
from vrelko.errors import CursorError, PageError, TimeLimitError
from vrelko.serving.pages.batch import Batch
from vrelko.serving.pages.jumps import jump, total_of
from vrelko.serving.pages.page import NO_WALK, CursorWriter, Page, WalkState
from vrelko.serving.pages.request import BoundRequest, Request, open_variant
from vrelko.serving.pages.rows import (
    PageReader,
    prove_keys,
    read_behind,
    settle_total,
)
from vrelko.serving.pages.steady import read_steadily
from vrelko.serving.settings import Settings
from vrelko.serving.steady.settings import UNSTEADY
from vrelko.sql.entities import core_connection

SPOTS = {
    "grid": ("start", "end", "after", "before", "number", "offset"),
    "feed": ("start", "after", "before"),
    "choices": ("start",),
    "export": ("start", "after", "before"),
}
"""Which spots each kind of listing takes."""


def check_ends(on_bad_page: str, past_end: str) -> None:
    """Raise ListingError unless both say what a page that is not there gives."""
    check_choice(on_bad_page, ("error", "clamp"), "on_bad_page")
    check_choice(past_end, ("empty", "last", "error"), "past_end")


def answer(settings: Settings, lender: Any, request: Request) -> Page:
    """Return the page a request asks for."""
    opened = open_variant(settings, lender, request.params, request.order, request.scope)
    # Notes tell the reader what was changed of what they asked for; without clamping there are
    # none.
    clamps = request.on_bad_page == "clamp"
    notes: list[str] = []
    size = settings.sizes.default
    if request.size is not None:
        size = _size_of(settings, request.size, clamps, notes)
    at = request.at
    spot = _nearest_spot(opened, at, notes) if clamps else opened.spot_of(at)
    # Most requests are of a kind that fits; the words for those that do not are made apart.
    if spot.kind not in SPOTS[settings.kind] or settings.strategy == "whole":
        _check_kind(settings, spot, isinstance(at, str))
    if settings.max_offset is not None:
        spot = _within(settings.max_offset, spot, size, clamps, notes)
    # Only pages that are kept steady, or that are by offset, tell anything of the walk.
    walk = NO_WALK
    if request.time_limit_ms is not None:
        with limit_time(core_connection(lender, settings.select), request.time_limit_ms):
            opened.runner.limited = True
            batch, walk = _read_walking(opened, spot, size, request, notes)
    elif settings.steady is UNSTEADY and request.ceiling is None:
        batch = _read(opened, spot, size, request, notes)
    else:
        batch, walk = _read_walking(opened, spot, size, request, notes)
    # Once for each variant: a type never tried may compare otherwise than it sorts.
    if opened.variant.doubtful:
        prove_keys(opened.runner, opened.variant, batch.full)
    # Carried on by the cursors, so that the walk counts once.
    counted = settings.count == "once" and batch.total is not NO_TOTAL and opened.shares
    total = _to_carry(batch) if counted else None
    by_offset, numbered = settings.by_offset, settings.kind == "grid"
    cursors = CursorWriter(
        write=opened.write,
        variant=opened.variant,
        by_offset=by_offset,
        numbered=numbered,
        total=total,
        walk=walk,
    )
    clamped = "; ".join(notes) if notes else None
    page = Page(batch, size, spot, cursors, asked=opened.runner.asked, clamped=clamped)
    page.notes = opened.notes
    return settings.held.note(page)


def _read_walking(
    opened: BoundRequest, spot: Spot, size: int, request: Request, notes: list[str]
) -> tuple[Batch, WalkState]:
    """Return a page's rows, and what its cursors tell of the walk it belongs to."""
    if opened.settings.steady is UNSTEADY and request.ceiling is None:
        return _read(opened, spot, size, request, notes), NO_WALK

    def read(opened: BoundRequest) -> Batch:
        return _read(opened, spot, size, request, notes)

    return read_steadily(opened, spot, size, request, read, notes)


def _size_of(settings: Settings, size: object, clamps: bool, notes: list[str]) -> int:
    if not clamps:
        return settings.sizes.check(size)
    # Equal in meaning is no change: "25" from an address is the 25 that is served.
    rows = settings.sizes.clamp(size)
    if size not in (None, "", rows, str(rows)):
        notes.append(f"the page size asked for is not allowed; it is {rows:,}")
    return rows


def _nearest_spot(opened: BoundRequest, at: Any, notes: list[str]) -> Spot:
    """Return where a request begins, or the nearest place to it."""
    try:
        return opened.spot_of(at)
    except CursorError:
        # A cursor of another filter or order names no place in this one, near or far.
        notes.append("the cursor could not be read; this is the first page")
    except PageError as error:
        # Clamping is for numbers that are too small, too large or none; anything else is a fault of
        # the caller.
        if not isinstance(at, Spot) or at.fault is None:
            raise
        notes.append(f"{error.what}; this is the nearest page")
        return _nearest(at)
    return Spot.start()


def _nearest(spot: Spot) -> Spot:
    """Return the nearest page or offset to a number that is none."""
    try:
        # Minus one and 10^30 have a nearest page; "abc" has none but the first.
        number = check_whole(spot.asked, "", "page")
    except PageError:
        return Spot.start()
    if spot.kind == "number":
        return Spot("number", at=min(max(number, 1), MOST_NUMBER))
    return Spot("offset", at=min(max(number, 0), MOST_NUMBER))


def _check_kind(settings: Settings, spot: Spot, from_cursor: bool) -> None:
    taken: tuple[str, ...] = SPOTS[settings.kind]
    if spot.kind in taken and settings.strategy != "whole":
        return
    if settings.strategy == "whole":
        taken = ("start",)
    elif from_cursor:
        taken = (*taken, "offset")  # a listing's own cursors, whatever its kind
    if spot.kind not in taken:
        raise PageError(
            f"a {settings.kind} served by {settings.strategy} has no page at {spot.kind!r}",
            f"It takes: {', '.join(taken)}",
            "spot-kind",
        )


def _within(max_offset: int, spot: Spot, size: int, clamps: bool, notes: list[str]) -> Spot:
    """Return the spot, no deeper by offset than the listing allows."""
    if spot.kind not in _JUMPS:
        return spot
    at = spot.at or 0
    # A page number is bounded by the rows that it would walk, not by itself.
    offset = offset_of(at, size) if spot.kind == "number" else at
    if offset <= max_offset:
        return spot
    if not clamps:
        raise PageError(
            f"row {offset:,} is deeper than offsets go here ({max_offset:,} rows)",
            "Go on from a cursor: next and prev of a page have no such bound, nor has Spot.end()",
            "offset-deep",
        )
    notes.append(f"offsets go {max_offset:,} rows deep; this is the deepest page")
    # At the edge of a whole page, so that "previous" meets page numbers again.
    return Spot("offset", at=max_offset // size * size)


def _read(opened: BoundRequest, spot: Spot, size: int, request: Request, notes: list[str]) -> Batch:
    settings = opened.settings
    kind = settings.total if request.total else "none"
    # A total in the cursor was counted when the walk began; a listing that counts each page
    # ignores it.
    counted = None if spot.total is None else _carried(settings, spot, kind)
    batch = None
    if spot.kind == "after":
        # The usual page, by the shortest way; None where the variant needs more than one
        # statement.
        batch = read_behind(opened.runner, opened.variant, spot, size)
    if batch is None:
        batch, counted = _read_any(opened, spot, size, request, counted, notes)
    if not batch.rows and _is_past_end(settings, spot, batch):
        batch, counted = _past_end(opened, spot, size, batch, request, counted, notes)
    # All rows of a listing served whole are on the page: it told its total when it was read.
    if kind == "none" or settings.strategy == "whole":
        return batch
    batch = settle_total(batch, kind, counted)
    if batch.total is None:
        batch = settle_total(batch, kind, _count(opened, kind))
    return batch


def _read_any(
    opened: BoundRequest,
    spot: Spot,
    size: int,
    request: Request,
    counted: Total | None,
    notes: list[str],
) -> tuple[Batch, Total | None]:
    """Return the rows at any spot, and the total where it was counted for that."""
    settings = opened.settings
    overlap = settings.steady.overlap
    reader = PageReader(
        opened.runner,
        opened.variant,
        size,
        strategy=settings.strategy,
        overlap=overlap,
        digests=spot.digests,
    )
    if settings.strategy == "whole":
        return _read_whole(settings, reader), None
    ahead = settings.kind == "grid" and (
        spot.kind == "end" or (settings.strategy == "two-ended" and spot.kind in _JUMPS)
    )
    jumped = jump(opened, spot, size, counted) if settings.jumps == "anchors" else None
    if jumped is not None:
        batch, told = jumped
        counted = told or counted
    else:
        if counted is None and ahead:
            kind = settings.total if request.total else "none"
            # The last page and two-ended pages are placed from the end, so the total comes
            # first.
            counted = _count(opened, "exact" if settings.strategy == "two-ended" else kind)
        batch = reader.read(spot, counted)
    return batch, counted


_JUMPS = ("number", "offset")


def _is_past_end(settings: Settings, spot: Spot, batch: Batch) -> bool:
    """Tell whether an empty page stands behind the last row of a numbered listing."""
    if spot.kind in _JUMPS:
        return bool(batch.offset)
    # An empty page behind a cursor is what a feed's tail gives until more rows come.
    return settings.kind == "grid" and spot.kind == "after" and batch.before


def _past_end(
    opened: BoundRequest,
    spot: Spot,
    size: int,
    batch: Batch,
    request: Request,
    counted: Total | None,
    notes: list[str],
) -> tuple[Batch, Total | None]:
    """Return what is shown behind the last row: nothing, the last page, or an error."""
    wanted = "last" if request.on_bad_page == "clamp" else request.past_end
    what = f"page {spot.at:,}" if spot.kind == "number" else "the cursor"
    if spot.kind == "offset":
        what = f"row {spot.at:,}"
    if wanted == "error":
        raise PageError(
            f"{what} is past the end", "Ask for Spot.end() to see the last page", "page-past-end"
        )
    # The shape of a page, so that a client's loop ends without an error.
    if wanted == "empty":
        # The total in a cursor was counted when there were rows here.
        return batch, None if spot.total is not None else counted
    notes.append(f"{what} is past the end; this is the last page")
    # No more rows than the offset that was asked for; a cursor may stand behind any number.
    cheap = spot.kind in _JUMPS or opened.settings.total == "exact"
    total = _count(opened, "exact") if cheap else None
    reader = PageReader(opened.runner, opened.variant, size, strategy=opened.settings.strategy)
    return reader.read(Spot.end(), total), total


def _read_whole(settings: Settings, reader: PageReader) -> Batch:
    batch = reader.read_all(settings.cap)
    if not batch.after:
        return settle_total(batch, "exact", None)
    # Said in the total: more than these rows there may be, and they are not shown.
    if settings.over_cap == "truncate":
        return replace(batch, after=False, total=Total(settings.cap, "capped"))
    raise PageError(
        f"the listing {settings.name!r} has more than {settings.cap:,} rows, too many for one page",
        "Serve it in pages, raise cap=, or show the first ones and say so with over_cap='truncate'",
        "whole-over-cap",
    )


def _to_carry(batch: Batch) -> int | None:
    """Return the total as a cursor carries it: one more than the cap where it is over."""
    total = batch.total
    if total is None or total.value is None:
        return None
    return total.value + (total.kind == "capped")


def _carried(settings: Settings, spot: Spot, kind: str) -> Total | None:
    """Return the total that a cursor carries, where the listing counts once a walk."""
    if settings.count != "once" or spot.total is None or kind not in ("exact", "capped"):
        return None
    # A cursor carries cap + 1 for "more than the cap": see _to_carry.
    if kind == "capped" and spot.total > settings.cap:
        return Total(settings.cap, "capped")
    return Total(spot.total, "exact")


def _count(opened: BoundRequest, kind: str) -> Total:
    settings, variant, runner = opened.settings, opened.variant, opened.runner
    if kind == "none":
        return NO_TOTAL
    if kind == "about":
        with database_errors("estimate"):
            estimate = estimate_rows(
                core_connection(opened.lender, settings.select),
                variant.rows(),
                opened.given,
                settings.paged_table,
            )
        # Where the engine has no estimate a capped count stands in.
        if estimate is not None:
            return Total(estimate, "about")
        kind = "capped"
    # Anchors tell the whole total for less than a capped count costs.
    cap = settings.cap if kind == "capped" else None
    if settings.jumps == "anchors":
        told = total_of(opened)
        if told is not None:
            return told if cap is None or (told.value or 0) <= cap else Total(cap, "capped")
    # A count may run into its own limit without the page failing: the total is unknown then.
    limited = runner.limited
    try:
        if settings.count_ms is None:
            value = int(runner.value(variant.count(cap)))
        else:
            connection = core_connection(opened.lender, settings.select)
            with limit_time(connection, settings.count_ms):
                runner.limited = True
                value = int(runner.value(variant.count(cap)))
    except TimeLimitError:
        if settings.count_ms is None:
            raise
        return Total(None, "unknown")
    finally:
        runner.limited = limited
    if cap is not None and value > cap:
        return Total(cap, "capped")
    return Total(value, "exact")
