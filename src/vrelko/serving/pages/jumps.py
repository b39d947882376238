"""Jumps by counted anchors: a page number, the last page and a total without walking there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Select, inspect

from vrelko.core.arithmetic import Total, check_offset, offset_of, page_count
from vrelko.core.spot import Spot
from vrelko.engines.registry import database_errors
from vrelko.errors import DatabaseError, ListingError
from vrelko.serving.anchors.anchor_set import AnchorSet, anchor_set, in_snapshot
from vrelko.serving.anchors.places import Places
from vrelko.serving.pages.batch import Batch
from vrelko.serving.pages.request import BoundRequest
from vrelko.sql.entities import core_connection
from vrelko.sql.statements import LIMIT, OFFSET, integer, key_parameters

_FEW = 50  # rows that are skipped as they are
_NUMBERED = ("number", "offset", "end")


def total_of(opened: BoundRequest) -> Total | None:
    """Return how many rows a request has by its anchors, None where it has none, or other rows."""
    if opened.misfit:
        return None
    notes = opened.notes
    places = places_of(opened)
    opened.notes = notes  # a count says nothing of how a page was reached
    if places is None or places.rows is not opened.variant:
        return None
    with _forgetting(opened), database_errors("count by anchors"):
        return Total(places.total(), "about" if places.static else "exact")


def places_of(opened: BoundRequest) -> Places | None:
    """Return the places of a request's rows by their anchors; None, with a note, without them."""
    connection = core_connection(opened.lender, opened.settings.select)
    with database_errors("look for anchors"):
        found = _set_of(opened, connection)
    if isinstance(found, str):
        opened.notes = (f"jumped by offset: {found}",)
        return None
    filters = opened.settings.variants.filters
    asked = set(filters.active(opened.given)) - {"period"}
    if asked or "period_from" in opened.given:
        opened.notes = ("jumped by offset: anchors count rows without optional filters",)
        return None
    given = {name: opened.given[name] for name in found.parts}
    return Places(found, connection, given)


def jump(
    opened: BoundRequest, spot: Spot, size: int, counted: Total | None
) -> tuple[Batch, Total | None] | None:
    """Return the page at a number, an offset or the end, and the total; None by other means."""
    if spot.kind not in _NUMBERED or spot.top is not None or spot.frozen is not None:
        return None
    places = places_of(opened)
    if places is None:
        return None
    with _forgetting(opened), database_errors("jump"):
        known = counted.value if counted is not None and counted.kind == "exact" else None
        wanted = spot.kind == "end" or opened.settings.total != "none"
        ahead = None if spot.kind == "end" else _offset(spot, size, 0)
        total = places.total(ahead) if known is None and wanted else known
        offset = _offset(spot, size, total or 0)
        want = size if spot.rows is None else min(spot.rows, size)
        found = places.find(offset)
        key, skip, near = found.key, found.skip, False
        if skip > _FEW:  # skipped by keys alone, which an index holds
            (key, near), skip = places.land(key, skip - 1), 0
    asked: tuple[Select[Any], ...] = ()
    if key is not None:
        asked = opened.variant.seek(key, False, near)
    elif offset <= _FEW:
        asked = opened.variant.edge(False)
    rows, full = _rows(opened, asked, key_parameters(key or ()), skip, want + 1)
    if not rows and total is not None and offset < total:  # a table truncated behind their back
        opened.misfit = True
        opened.notes = ("jumped by offset: the anchors do not fit the rows; verify them",)
        return None
    batch = Batch(
        rows=rows[:want],
        full=full[:want],
        before=offset > 0 and (bool(rows) or total != 0),
        after=len(rows) > want,
        offset=offset,
        exact=in_snapshot(places.connection) and not places.static,
    )
    if places.static:
        opened.notes = ("numbers are as of the last count: static anchors",)
    kind = "about" if places.static else "exact"
    return batch, None if total is None else Total(total, kind)


@contextmanager
def _forgetting(opened: BoundRequest) -> Iterator[None]:
    """Look for the anchors anew at the next request where they are gone."""
    try:
        yield
    except DatabaseError:
        opened.settings.anchor_sets.clear()
        raise


def _offset(spot: Spot, size: int, total: int) -> int:
    if spot.kind == "end":
        return offset_of(max(page_count(total, size), 1), size)
    at = spot.at or 0
    return check_offset(offset_of(at, size)) if spot.kind == "number" else at


def _rows(
    opened: BoundRequest,
    statements: Sequence[Select[Any]],
    values: Mapping[str, Any],
    skip: int,
    want: int,
) -> tuple[list[object], list[object]]:
    """Return rows behind a key after so many that are skipped, as the listing shows them."""
    variant, runner = opened.variant, opened.runner
    rows: list[object] = []
    full: list[object] = []
    for statement in statements:
        given = {**values, LIMIT: want - len(rows)}
        asked = statement.offset(integer(OFFSET)) if skip else statement
        if skip:
            given[OFFSET] = skip
        part, part_full = runner.fetch(asked, variant.cutter, given, variant.apart)
        rows, full = [*rows, *part], [*full, *part_full]
        if len(rows) >= want:
            break
        if part:
            skip = 0
        elif skip:
            skip = max(skip - int(runner.value(variant.counted(statement), values)), 0)
    return rows, full


def _set_of(opened: BoundRequest, connection: object) -> AnchorSet | str:
    """Return the anchors of a request's order, or why there are none; kept once they are found."""
    known, order = opened.settings.anchor_sets, str(opened.variant.order)
    found: AnchorSet | None = known.get(order)
    if found is not None:
        return found
    try:
        made = anchor_set(opened.settings, connection, opened.order)
    except ListingError as error:
        return error.what
    inspector = inspect(connection)
    table = made.tables.anchors
    if not inspector.has_table(table.name, schema=table.schema):
        return f"there are no anchors for the order {order}"
    known.keep(order, made)
    return made
