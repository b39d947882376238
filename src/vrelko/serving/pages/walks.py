"""Walks: page after page to the end, resumable, and split into parts."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager, nullcontext
from dataclasses import replace
from datetime import datetime
from typing import Any

from sqlalchemy import Engine

from vrelko.core.advance import LoopAlarm
from vrelko.core.spot import Spot
from vrelko.engines.limits import limit_time
from vrelko.engines.views import hold_history, hold_view
from vrelko.errors import PageError
from vrelko.serving.pages.batch import Batch
from vrelko.serving.pages.page import CursorWriter, Page
from vrelko.serving.pages.request import BoundRequest, lend, note_move, open_variant
from vrelko.serving.pages.rows import PageReader, prove_keys
from vrelko.serving.settings import Settings
from vrelko.serving.variants.moved import CatalogMovedError
from vrelko.serving.variants.row_keys import stuck
from vrelko.serving.variants.runner import Runner
from vrelko.serving.variants.variant import Variant
from vrelko.sql.parameters import UNTIL, key_parameters

_MOST_PARTS = 10_000
_MOST_PAGES = 8
_MOST_ROWS = 8_000
"""What one statement of a walk reads at most, if its pages are not larger themselves."""


def walk_frozen(
    settings: Settings, source: Any, frozen: bool | str | datetime, *given: Any
) -> Iterator[Page]:
    """Yield page after page of rows as they stand at the first; takes what `walk` takes."""
    if not isinstance(source, Engine):
        raise PageError(
            f"a frozen walk takes an Engine, not a {type(source).__name__}",
            "Pass an Engine; on a Connection or Session begin a REPEATABLE READ transaction",
            "walk-frozen",
        )
    return _frozen(settings, source, frozen, given)


def _frozen(
    settings: Settings, source: Engine, frozen: bool | str | datetime, given: tuple[Any, ...]
) -> Iterator[Page]:
    if isinstance(frozen, datetime):
        # As rows were at a moment in the past, which the table's own history tells.
        view = hold_history(source, frozen)
    else:
        view = hold_view(source, frozen if isinstance(frozen, str) else None)
    # Held to the end of the walk, or until its reader stops: a generator closes it.
    with view as connection:
        yield from walk(settings, connection, *given)


def walk(
    settings: Settings,
    source: Any,
    size: int,
    start: Spot | str | None,
    until: Spot | str | None,
    params: Mapping[str, Any] | None,
    order: str | None,
    scope: object,
    fresh: bool = False,
    time_limit_ms: float | None = None,
) -> Iterator[Page]:
    """Yield page after page; see `Listing.walk`."""
    if type(size) is not int or size < 1:
        raise PageError(
            f"a batch must have at least 1 row, got {size!r}", "Give at least 1", "walk-size"
        )
    with lend(source, settings) as lender:
        # Checked now, when the walk is asked for, and not when its first page is.
        opened = open_variant(settings, lender, params, order, scope)
        spot = opened.spot_of(start)
        last = None if until is None else _last_key(opened, until)
    # Rows read ahead are as old as the statement that read them.
    at_once = 1 if fresh else _MOST_PAGES
    return _pages(opened, source, size, spot, last, at_once, time_limit_ms)


def _pages(
    opened: BoundRequest,
    source: Any,
    size: int,
    spot: Spot,
    last: tuple[Any, ...] | None,
    most: int,
    limit_ms: float | None,
) -> Iterator[Page]:
    variant, given = _up_to(opened, last)
    cursors, again = CursorWriter(opened.write, variant, False, False), False
    # The first page comes alone, so that a reader who stops there has paid for no more.
    at_once, alarm = 1, LoopAlarm()
    while True:
        with lend(source, opened.settings) as lender, _limited(lender, limit_ms):
            runner = Runner(lender, given, opened.settings.variants, variant)
            runner.limited = limit_ms is not None
            try:
                batch = PageReader(runner, variant, size * at_once).read(spot, None)
            except CatalogMovedError as moved:
                note_move(opened.settings, moved, again)
                again = True
                asked_for = opened.params, opened.order, opened.scope
                opened = open_variant(opened.settings, lender, *asked_for)
                variant, given = _up_to(opened, last)
                cursors = CursorWriter(opened.write, variant, False, False)
                continue
            again = False
            if variant.doubtful:
                prove_keys(runner, variant, batch.full)
            if last is not None:
                batch = _cut(batch)
        asked = tuple(runner.asked)
        for part in _parts(batch, size):
            if part.rows or spot.kind == "start":
                yield opened.settings.held.note(Page(part, size, spot, cursors, asked=asked))
            if not part.after or not part.rows:
                return
            near = variant.near(part.full, -1, 0, not part.before)
            spot = Spot("after", variant.key_from(part.full[-1]), near=near)
            # A type that compares otherwise than it sorts could send a walk around in a circle.
            if alarm.repeats(spot.key or ()):
                raise stuck(str(variant.order))
            asked = ()
        del batch, part  # before the next ones are read
        # Doubling: a long walk soon reads eight pages a statement, a short one never reads what
        # nobody wants.
        at_once = min(at_once * 2, most, max(_MOST_ROWS // size, 1))


def _up_to(opened: BoundRequest, last: tuple[Any, ...] | None) -> tuple[Variant, Mapping[str, Any]]:
    """Return the variant and values of a walk that ends with a key, None for one to the end."""
    if last is None:
        return opened.variant, opened.given
    return opened.variant.flagging(last), {**opened.given, **key_parameters(last, UNTIL)}


def _limited(lender: Any, ms: float | None) -> AbstractContextManager[None]:
    return nullcontext() if ms is None else limit_time(lender, ms)


def _parts(batch: Batch, size: int) -> Iterator[Batch]:
    """Yield the pages of rows that were read together, the one empty page of none."""
    count = len(batch.rows)
    if count <= size:
        yield batch
        return
    for begin in range(0, count, size):
        end = begin + size
        yield replace(
            batch,
            rows=batch.rows[begin:end],
            full=batch.full[begin:end],
            before=batch.before or begin > 0,
            after=batch.after or end < count,
            offset=None if batch.offset is None else batch.offset + begin,
        )


def _last_key(opened: BoundRequest, until: Spot | str) -> tuple[Any, ...]:
    spot = opened.spot_of(until)
    if spot.key is None or spot.kind != "after":
        raise PageError(
            "a walk cannot end at this spot",
            "Give until= a cursor or spot after a row",
            "walk-until",
        )
    return spot.key


def _cut(batch: Batch) -> Batch:
    """Return the batch without rows that the database flags as behind the last one."""
    beyond = next((i for i, row in enumerate(batch.full) if row[-1]), None)
    if beyond is None:
        return batch
    return replace(batch, rows=batch.rows[:beyond], full=batch.full[:beyond], after=False)


def ranges(
    settings: Settings,
    lender: Any,
    parts: int,
    params: Mapping[str, Any] | None,
    order: str | None,
    scope: object,
) -> list[tuple[str | None, str | None]]:
    """Return cursors that split a walk; see `Listing.ranges`."""
    if type(parts) is not int or not 1 <= parts <= _MOST_PARTS:
        raise PageError(
            f"parts must be a whole number from 1 to {_MOST_PARTS:,}, got {parts!r}",
            "Give as many parts as you have workers",
            "walk-parts",
        )
    opened = open_variant(settings, lender, params, order, scope)
    # Counted once, so that all parts are of one number of rows.
    total = int(opened.runner.value(opened.variant.count(None)))
    # Rounded places may fall together where there are fewer rows than parts.
    bounds = []
    for at in dict.fromkeys(total * part // parts for part in range(1, parts)):
        if at > 0:
            key = opened.variant.key_at(opened.runner, at - 1)
            if key is not None:
                bounds.append(opened.write(Spot("after", key)))
    return list(zip([None, *bounds], [*bounds, None], strict=True))
