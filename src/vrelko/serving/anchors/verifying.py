"""Verifying anchors: each segment counted and compared with what they and the log tell."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping
from typing import Any

from sqlalchemy import Engine, func, select, update

from vrelko.engines.registry import database_errors
from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.anchors.fold_worker import is_struck, renew, strike
from vrelko.serving.anchors.in_bulk import differences
from vrelko.serving.anchors.locks import alone
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.remembered import Anchor, Key
from vrelko.sql.anchor_tables import LEVELS


def verify(engine: Engine, anchors: AnchorSet, params: Mapping[str, Any] | None) -> list[int]:
    """Return by how many rows each segment of a part is off; all 0 where the anchors are right.

    Those of level 1 against the rows, those above against the level below. None: of all parts that
    have anchors, each in a transaction of its own.
    """
    found: list[int] = []
    for part in _parts(engine, anchors, params):
        with database_errors("verify"), alone(engine, anchors) as connection:
            lookup = AnchorLookup(anchors, connection, part)
            off = [rows for _, rows in _differences(lookup)]
            # Upper levels hold sums of the one below: adding up tells, and no row is read.
            for level in range(2, LEVELS + 1):
                off += [rows for _, rows in _sums_off(lookup, level)]
            if any(off):
                strike(connection, anchors)
        found += off
    return found


def repair(engine: Engine, anchors: AnchorSet, params: Mapping[str, Any] | None) -> int:
    """Set right the segments of a part that are off; return how many were. None: of all parts.

    Readers use anchors that were found wrong again once all parts have been repaired.
    """
    mended = sum(_repair(engine, anchors, part) for part in _parts(engine, anchors, params))
    if params is None or not anchors.parts:
        with database_errors("repair"), alone(engine, anchors) as connection:
            if is_struck(connection, anchors):
                renew(connection, anchors, static=False)
    return mended


def _parts(
    engine: Engine, anchors: AnchorSet, params: Mapping[str, Any] | None
) -> list[Mapping[str, Any]]:
    """Return the parameters of the parts that are meant."""
    if params is not None or not anchors.parts:
        return [params or {}]
    columns = [anchors.tables.anchors.c[f"p{i}"] for i in range(len(anchors.parts))]
    with database_errors("look at anchors"), engine.connect() as connection:
        # Only parts that have anchors: of others there is nothing to compare.
        rows = connection.execute(select(*columns).distinct().order_by(*columns)).all()
    return [dict(zip(anchors.parts, row, strict=True)) for row in rows]


def _repair(engine: Engine, anchors: AnchorSet, params: Mapping[str, Any]) -> int:
    with database_errors("repair"), alone(engine, anchors) as connection:
        lookup, mended = AnchorLookup(anchors, connection, params), 0
        for level in range(1, LEVELS + 1):  # each from the level below, which is right by then
            differences = _differences(lookup) if level == 1 else _sums_off(lookup, level)
            for anchor, off in [one for one in differences if one[1]]:
                table = anchors.tables.anchors
                changed = update(table).where(table.c.id == anchor.id)
                connection.execute(changed.values(n=table.c.n + off))
                mended += 1
        if mended:
            renew(connection, anchors)
    return mended


def _sums_off(lookup: AnchorLookup, level: int) -> Iterator[tuple[Anchor, int]]:
    """Yield each anchor of a level above the first, and by how much the one below sums to more."""
    uppers = {anchor.key: anchor for anchor in lookup.all(level)}
    rows = 0
    for anchor in lookup.all(level - 1):
        rows += anchor.n
        # An upper anchor stands at the key of one below it.
        above = uppers.get(anchor.key)
        if above is not None:
            yield above, rows - above.n
            rows = 0


def _differences(lookup: AnchorLookup) -> Iterator[tuple[Anchor, int]]:
    """Yield each segment's anchor, and the rows there less those that it and the log tell of."""
    before: Key | None = None
    told = differences(lookup)
    for anchor in lookup.all(1):
        known = None if told is None else told.get(anchor.id)
        yield anchor, difference(lookup, before, anchor) if known is None else known
        before = anchor.key


def difference(lookup: AnchorLookup, before: Key | None, anchor: Anchor) -> int:
    """Return the rows of a segment less those that its anchor and the log tell of."""
    # An anchor counts up to and including its own row, if that is still there.
    live = lookup.between(before, anchor.key) + lookup.is_there(anchor.key)
    return live - anchor.n - lookup.log_between(before, anchor.key)


def check(engine: Engine, anchors: AnchorSet, many: int) -> list[int]:
    """Return by how many rows a few segments, drawn at random, are off.

    Where one is, readers stop using the anchors until they are repaired.
    """
    table, found = anchors.tables.anchors, []
    with database_errors("check"), alone(engine, anchors) as connection:
        of_level_1 = table.c.lvl == 1
        # A number drawn below the highest finds one by its key; sorting at random would read all.
        top: int = connection.execute(select(func.max(table.c.id)).where(of_level_1)).scalar() or 0
        parts = [table.c[f"p{i}"] for i in range(len(anchors.parts))]
        for _ in range(many if top else 0):
            drawn = table.c.id >= secrets.randbelow(top) + 1
            one = select(table.c.id, *parts).where(of_level_1, drawn).order_by(table.c.id).limit(1)
            number, *part = connection.execute(one).one()
            lookup = AnchorLookup(anchors, connection, dict(zip(anchors.parts, part, strict=True)))
            anchor = lookup.one(number)
            before = next(lookup.ahead(1, anchor.key), None)
            found.append(difference(lookup, None if before is None else before.key, anchor))
        if any(found):
            strike(connection, anchors)
    return found
