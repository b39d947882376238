"""The command `anchors`: bounds of pages, built and shown."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

from vrelko.cli.files import write_own
from vrelko.cli.tables import console, make_table
from vrelko.errors import PagesFileError
from vrelko.pagesfile.load import Pages, load
from vrelko.serving.listing import Listing


def build(pages: str, listings: Sequence[str]) -> list[dict[str, Any]]:
    """Build the anchors of listings, and write their files."""
    found = []
    with closing(load(pages)) as loaded:
        for listing, file in _anchored(loaded, listings):
            anchors = listing.steady.anchors
            assert anchors is not None
            for order, params in _variants(listing):
                with loaded.engine.connect() as connection:
                    made = listing.anchor(connection, anchors, params=params, order=order)
                found.append(_row(listing, order or str(listing.orders()[0]), anchors.size, made))
            _write(file, anchors.to_json())
    return found


def stored(pages: str, listings: Sequence[str]) -> list[dict[str, Any]]:
    """Return what is stored."""
    found = []
    with closing(load(pages)) as loaded:
        for listing, _ in _anchored(loaded, listings):
            anchors = listing.steady.anchors
            assert anchors is not None
            found += [_row(listing, "", anchors.size, one) for one in anchors.segments.values()]
    return found


def show_anchors(found: Sequence[dict[str, Any]]) -> None:
    """Print what was built or is stored."""
    table = make_table(
        "listing", "order", ">rows per page", ">pages", ">rows", ">built, minutes ago"
    )
    for one in found:
        table.add_row(
            one["listing"],
            one["order"],
            f"{one['size']:,}",
            f"{one['pages']:,}",
            f"{one['rows']:,}",
            f"{(time.time() - one['built_at']) / 60:,.0f}",
        )
    console().print(table)


def _anchored(loaded: Pages, listings: Sequence[str]) -> Iterator[tuple[Listing, Path]]:
    files = loaded.anchor_files
    for name in listings or files:
        if name not in files:
            loaded[name]  # a name that is not there at all says so itself
            raise PagesFileError(
                f"the listing {name!r} has no place for anchors",
                f'Add strategy = "anchored", and anchors = "{name}.anchors.json" under '
                f"[listing.{name}.steady]",
                "pages-anchors",
            )
        yield loaded[name], files[name]
    if not files:
        raise PagesFileError(
            f"{loaded.path} has no anchored listing",
            'Add strategy = "anchored" and steady = { anchors = "….json" } to one',
            "pages-anchors",
        )


def _variants(listing: Listing) -> Iterator[tuple[str | None, dict[str, Any]]]:
    usual = dict(listing.workload.params)
    if listing.workload.uses:
        for use in listing.workload.uses:
            yield use.order, {**usual, **use.params}
    else:  # every order is in use then, as the planner takes it
        described = listing.described
        for order in described.given[: len(described.given) - described.search_orders]:
            yield str(order), usual


def _row(listing: Listing, order: str, size: int, one: Any) -> dict[str, Any]:
    return {
        "listing": listing.name,
        "order": order,
        "size": size,
        "pages": one.pages,
        "rows": one.rows,
        "built_at": one.built_at,
    }


def _write(file: Path, text: str) -> None:
    try:
        write_own(file, text)
    except OSError as error:
        raise PagesFileError(
            f"{str(file)!r} cannot be written: {error.strerror}",
            "Choose another place",
            "pages-anchors",
        ) from error
