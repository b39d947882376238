"""Jumps by counted anchors: a page number, the last page and a total without walking there."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeVar

from sqlalchemy import Select, literal_column, select
from sqlalchemy.exc import SQLAlchemyError

from vrelko.core.arithmetic import Total, check_offset, offset_of, page_count
from vrelko.core.spot import Spot
from vrelko.engines.registry import database_errors, record_of
from vrelko.errors import DatabaseError, ListingError
from vrelko.serving.anchors.anchor_file import FileAnchorLookup, read_file
from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.anchors.in_bulk import page_behind
from vrelko.serving.anchors.lookup import AnchorLookup, AnchorsGone
from vrelko.serving.anchors.of_listing import anchor_set
from vrelko.serving.anchors.remembered import Key
from vrelko.serving.anchors.snapshots import begun_here, in_snapshot
from vrelko.serving.pages.batch import Batch
from vrelko.serving.pages.request import BoundRequest
from vrelko.sql.anchor_tables import AnchorNames
from vrelko.sql.entities import core_connection
from vrelko.sql.parameters import LIMIT, OFFSET, integer, key_parameters

_Told = TypeVar("_Told")
_FEW = 50  # rows that are skipped as they are
_NUMBERED = ("number", "offset", "end")


def total_of(opened: BoundRequest) -> Total | None:
    """Return how many rows a request has by its anchors, None where it has none, or other rows."""
    # Anchors that promised rows which were not there are not asked again in this request.
    if opened.misfit:
        return None

    def ask(lookup: AnchorLookup) -> Total | None:
        if lookup.rows is not opened.variant:
            return None
        return Total(lookup.total(), "about" if lookup.static else "exact")

    notes = opened.notes
    found = by_anchors(opened, ask)
    opened.notes = notes  # a count says nothing of how a page was reached
    return found


def by_anchors(opened: BoundRequest, ask: Callable[[AnchorLookup], _Told | None]) -> _Told | None:
    """Return what a request's anchors tell; None, with a note, where it has none.

    Where they are gone since they were found, they are looked for anew at the next request.
    """
    known = opened.settings.anchor_sets
    for _ in range(2):
        lookup = lookup_of(opened)
        if lookup is None:
            return None
        try:
            with _guarded(lookup.connection), database_errors("count by anchors"):
                return ask(lookup)
        except AnchorsGone:
            # Looked for once more: the table may only have been written anew.
            known.clear()
        except DatabaseError as error:
            known.clear()
            if error.code == "database-rights":
                if begun_here(lookup.connection):
                    opened.lender.rollback()
                opened.notes = (f"jumped by offset: {_hidden(opened)}",)
                return None
            if _are_there(opened, lookup):
                raise
            break
    opened.notes = (f"jumped by offset: {_none(opened)}",)
    return None


def _guarded(connection: Any) -> AbstractContextManager[Any]:
    """Keep an error from ending the caller's transaction, where the engine would end it."""
    parts = record_of(connection.dialect).anchors
    return (
        nullcontext() if begun_here(connection) or not parts.aborts else connection.begin_nested()
    )


def _are_there(opened: BoundRequest, lookup: AnchorLookup) -> bool:
    """Tell whether anchors are there after an error; where nobody can ask any more, too."""
    try:
        return not isinstance(_set_of(opened, lookup.connection), str)
    except SQLAlchemyError:
        # PostgreSQL takes no statement more in that transaction. The caller's own may hold writes;
        # one that was begun for this request has read nothing yet that a page shows.
        if not begun_here(lookup.connection):
            return True
    opened.lender.rollback()
    return not isinstance(
        _set_of(opened, core_connection(opened.lender, opened.settings.select)), str
    )


def lookup_of(opened: BoundRequest) -> AnchorLookup | None:
    """Return the anchor lookup of a request's rows; None, with a note, without them."""
    if opened.variant.private:
        opened.notes = ("jumped by offset: anchors count rows that a policy may hide",)
        return None
    connection = core_connection(opened.lender, opened.settings.select)
    with database_errors("look for anchors"):
        found = _set_of(opened, connection)
    if isinstance(found, str):
        opened.notes = (f"jumped by offset: {found}",)
        return None
    filters = opened.settings.variants.filters
    asked = set(filters.active(opened.given)) - {"period"}
    # Anchors count the listing's rows; a filter that a reader adds leaves some of them out.
    if asked or "period_from" in opened.given:
        opened.notes = ("jumped by offset: anchors count rows without optional filters",)
        return None
    given = {name: opened.given[name] for name in found.parts}
    by = AnchorLookup if found.stored is None else FileAnchorLookup
    return by(found, connection, given)


def jump(
    opened: BoundRequest, spot: Spot, size: int, counted: Total | None
) -> tuple[Batch, Total | None] | None:
    """Return the page at a number, an offset or the end, and the total; None by other means."""
    # Pages by key need no anchors, and those of a ceiling or a frozen list count other rows.
    if spot.kind not in _NUMBERED or spot.top is not None or spot.frozen is not None:
        return None
    landing = by_anchors(opened, lambda lookup: _land(opened, lookup, spot, size, counted))
    if landing is None:
        return None
    lookup, total, offset = landing.lookup, landing.total, landing.offset
    # A page ahead of the first whole one is bounded by the rows that there are.
    want = size if spot.rows is None else min(spot.rows, size)
    given = key_parameters(landing.key or ())
    asked: tuple[Select[Any], ...] = ()
    skip = landing.skip
    at_once = page_behind(lookup, opened.variant, landing.key) if skip > _FEW else None
    if at_once is not None:
        asked, given, skip = (at_once,), {**given, OFFSET: skip - 1}, 0
    elif landing.key is not None:
        asked = opened.variant.seek(landing.key, False, landing.near)
    elif offset <= _FEW:
        asked = opened.variant.edge(False)
    rows, full = _rows(opened, asked, given, skip, want + 1)
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
        exact=in_snapshot(lookup.connection) and not lookup.static,
    )
    if lookup.static:
        opened.notes = ("numbers are as of the last count: static anchors",)
    kind = "about" if lookup.static else "exact"
    return batch, None if total is None else Total(total, kind)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Landing:
    """Where a page begins: `skip` rows behind a key, few of which tie with it where it is near."""

    lookup: AnchorLookup
    total: int | None
    offset: int
    key: Key | None
    skip: int
    near: bool


def _land(
    opened: BoundRequest, lookup: AnchorLookup, spot: Spot, size: int, counted: Total | None
) -> _Landing:
    # A total that the cursor carries spares the count, as for any page.
    known = counted.value if counted is not None and counted.kind == "exact" else None
    wanted = spot.kind == "end" or opened.settings.total != "none"
    ahead = None if spot.kind == "end" else _offset(spot, size, 0)
    total = lookup.total(ahead) if known is None and wanted else known
    offset = _offset(spot, size, total or 0)
    found = lookup.find(offset)
    key, skip, near = found.key, found.skip, False
    # Skipped by keys alone, which an index holds; by the page's own statement where that can.
    if skip > _FEW and page_behind(lookup, opened.variant, key) is None:
        (key, near), skip = lookup.land(key, skip - 1), 0
    return _Landing(lookup=lookup, total=total, offset=offset, key=key, skip=skip, near=near)


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


def _set_of(opened: BoundRequest, connection: Any) -> AnchorSet | str:
    """Return the anchors of a request's order, or why there are none; kept once they are found."""
    known, order = opened.settings.anchor_sets, str(opened.variant.order)
    # One listing may be read from several engines, which write its condition each in their own way.
    # And each database and schema has anchors of its own, or none.
    record = record_of(connection.dialect)
    where = opened.settings.variants.where(connection.dialect, opened.lender)
    which = where, order
    found: AnchorSet | None = known.get(which)
    file = opened.settings.anchor_file
    if found is not None and (file is None or found.stored in read_file(Path(file)).values()):
        return found
    try:
        made = anchor_set(opened.settings, connection, opened.order)
    except ListingError as error:
        return error.what
    if file is not None:
        stored = read_file(Path(file)).get(made.tables.mark_of_all)
        return _none(opened) if stored is None else known.keep(which, replace(made, stored=stored))
    names, state = AnchorNames(made.tables, connection.dialect), made.tables.state
    readable = record.anchors.may_read(connection, names)
    if not readable:
        return _none(opened) if readable is None else _hidden(opened)
    own = state.c.mark == made.tables.mark
    version, folded = connection.execute(
        select(state.c.version, state.c.folded).where(own)
    ).first() or (None, 0)
    if version == 0 and folded < 0:
        return f"the anchors of the order {order} were found wrong, and wait to be repaired"
    if version == 0:
        return f"the anchors of the order {order} are being built"
    if version is None:
        return _none(opened)
    if version > 0 and not record.anchors.has_triggers(connection, names):
        return "the anchors are those of a table that another one has replaced: build them anew"
    asked = record.anchors.identity(names)
    identity = str(connection.execute(select(literal_column(asked))).scalar())
    made = replace(made, identity=(asked, identity))
    known.keep(which, made)
    return made


def _none(opened: BoundRequest) -> str:
    return f"there are no anchors for the order {opened.variant.order}"


def _hidden(opened: BoundRequest) -> str:
    return f"{_none(opened)} that the database user may read"
