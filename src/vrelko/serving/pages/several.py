"""Ranges of rows for virtual scrolling, and neighbouring pages read together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from vrelko.core.arithmetic import Sizes, check_offset, offset_of
from vrelko.core.spot import Spot, check_spot
from vrelko.errors import PageError
from vrelko.serving.pages.page import Page
from vrelko.serving.pages.read import answer
from vrelko.serving.pages.request import Request, open_variant
from vrelko.serving.settings import Settings
from vrelko.serving.steady.settings import UNSTEADY

MOST_SPOTS = 20
"""Pages that one call reads at most."""


def rows_spot(settings: Settings, lender: Any, first: object, walk: object, asked: Request) -> Spot:
    """Return where a range of rows begins; it keeps what a walk's cursor carries.

    Raises PageError, and CursorError for a cursor of another listing, order or filter.
    """
    at = Spot("offset", at=check_offset(first))
    if walk is None:
        return at
    opened = open_variant(settings, lender, asked.params, asked.order, asked.scope)
    kept = opened.spot_of(walk)
    return at._replace(total=kept.total, top=kept.top, frozen=kept.frozen)


def read_several(
    settings: Settings, lender: Any, spots: Sequence[Any], asked: Request
) -> list[Page]:
    """Return a page for each spot; see `Listing.read_many`."""
    if isinstance(spots, (str, bytes)) or not 0 < len(spots) <= MOST_SPOTS:
        raise PageError(
            f"between 1 and {MOST_SPOTS} spots can be read at once, got {_shown(spots)}",
            "Give a list such as [Spot.number(4), Spot.number(5)]",
            "spots-many",
        )
    size = settings.sizes.default if asked.size is None else settings.sizes.check(asked.size)
    # A steady walk's cursors carry what each page served: they must be read one by one.
    alone = settings.steady is not UNSTEADY or settings.strategy == "whole"
    pages: list[Page] = []
    for run in _runs(spots):
        # A spot that is no number has no neighbour by number either.
        first = _number(run[0])
        if len(run) == 1 or first is None or alone:
            pages += [answer(settings, lender, replace(asked, at=one)) for one in run]
            continue
        for spot in run:
            check_spot(spot)
        # Several pages are one wide page, cut up afterwards; the size's limit is that of each.
        wide = replace(settings, sizes=Sizes(size * len(run), max=None))
        at = Spot.offset(offset_of(first, size)) if first > 1 else Spot.start()
        whole = answer(wide, lender, replace(asked, at=at, size=None))
        pages += [
            settings.held.note(whole.part(i * size, size, Spot("number", at=first + i)))
            for i in range(len(run))
        ]
    return pages


def _shown(spots: Any) -> str:
    return "a text" if isinstance(spots, (str, bytes)) else f"{len(spots):,}"


def _number(spot: Any) -> int | None:
    """Return the number of a page that is asked for by it, None for any other spot."""
    # The first page is page 1, and may lead a run.
    if spot is None or spot == "":
        return 1
    if isinstance(spot, Spot) and spot.fault is None and spot.rows is None:
        # A cursor carries more than its number, and what it carries is kept.
        plain = spot.total is None and spot.top is None and spot.frozen is None
        if plain and spot.kind == "number":
            return spot.at
        if plain and spot.kind == "start":
            return 1
    return None


def _runs(spots: Sequence[Any]) -> Iterator[list[Any]]:
    """Yield spots in turn, those together whose numbers follow one another."""
    run: list[Any] = []
    for spot in spots:
        number, last = _number(spot), _number(run[-1]) if run else None
        if run and (number is None or last is None or number != last + 1):
            yield run
            run = []
        run.append(spot)
    yield run
