"""Reading pages of a walk that is kept steady: under a ceiling, with an overlap, from a list."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from vrelko.core.spot import Spot
from vrelko.errors import PageError
from vrelko.serving.pages.batch import Batch
from vrelko.serving.pages.digests import add_digests
from vrelko.serving.pages.frozen import freeze, read_frozen
from vrelko.serving.pages.page import WalkState
from vrelko.serving.pages.request import BoundRequest, Request


def read_steadily(
    opened: BoundRequest,
    spot: Spot,
    size: int,
    request: Request,
    read: Callable[[BoundRequest], Batch],
    notes: list[str],
) -> tuple[Batch, WalkState]:
    """Return a page's rows, and what its cursors tell of the walk.

    Pages behind or ahead of a key are read by key, whatever the strategy.
    """
    steady = opened.settings.steady
    if request.ceiling is not None and not steady.ceiling:
        raise PageError(
            f"the listing {opened.settings.name!r} has no ceiling",
            "Leave ceiling= out, or give the listing steady=Steady(ceiling=True)",
            "ceiling-unset",
        )
    # A list knows places, and no keys.
    by_number = spot.kind not in ("after", "before")
    if steady.frozen is not None and opened.variant.private and opened.scope is None:
        raise PageError(
            "a frozen list of rows that not every user may see would show others how many there "
            "are",
            "Name the user or tenant: scope=…",
            "frozen-scope",
        )
    if steady.frozen is not None and by_number:
        frozen, name = steady.frozen, spot.frozen or freeze(opened, steady.frozen)
        batch = _or_last(
            lambda at: read_frozen(opened, frozen, name, at, size), spot, request, notes
        )
        return batch, WalkState(frozen=name, stride=True)
    if steady.ceiling:
        return _read_under(opened, spot, request, read)
    batch = read(opened)
    if steady.overlap is None:
        return batch, WalkState()
    return batch, WalkState(
        digests=add_digests(opened.variant, spot.digests, batch.full), stride=True
    )


def _or_last(
    read: Callable[[Spot], Batch], spot: Spot, request: Request, notes: list[str]
) -> Batch:
    """Return a page of what is stored; behind its end what the request says."""
    batch = read(spot)
    # Nearest to what is behind the end is the last page.
    wanted = "last" if request.on_bad_page == "clamp" else request.past_end
    total = batch.total.value if batch.total is not None else None
    inside = not batch.offset or total is None or batch.offset < total
    if inside or wanted == "empty":
        return batch
    what = f"page {spot.at:,}" if spot.kind == "number" else f"row {spot.at:,}"
    if wanted == "error":
        raise PageError(
            f"{what} is past the end", "Ask for Spot.end() to see the last page", "page-past-end"
        )
    notes.append(f"{what} is past the end; this is the last page")
    return read(Spot.end())


def _read_under(
    opened: BoundRequest, spot: Spot, request: Request, read: Callable[[BoundRequest], Batch]
) -> tuple[Batch, WalkState]:
    top: tuple[Any, ...] | None = spot.top
    if request.ceiling is not None:
        top = opened.spot_of(request.ceiling).key
    # An address without the ceiling: as of now, then.
    if top is None and spot.kind != "start":
        top = opened.variant.key_at(opened.runner, 0)
    if top is not None:
        return read(opened.under(top)), WalkState(top)
    batch = read(opened)
    # The first row of the first page is the ceiling of the walk that begins here.
    first = opened.variant.key_from(batch.full[0]) if batch.full else None
    return batch, WalkState(first)
