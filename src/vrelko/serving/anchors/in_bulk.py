"""Many anchors with one statement: keys walked, and segments counted, inside the server.

A statement an anchor costs a round trip each, more than the thousand keys that it reads. Where keys
may be NULL a seek depends on the key, and where the engine knows no LATERAL none can follow another
one: there `Ranges` goes from anchor to anchor.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import Select, bindparam, func, select

from vrelko.serving.anchors.places import Places
from vrelko.serving.anchors.remembered import Key
from vrelko.serving.variants.variant import Variant
from vrelko.sql.anchor_statements import build_differences, build_landed, build_walk, up_to
from vrelko.sql.statements import LIMIT, OFFSET, UNTIL, key_parameters


def keys_behind(places: Places, key: Key | None, step: int, most: int) -> list[Key]:
    """Return the keys of each `step`-th row behind a key, at most so many."""
    rows = places.rows
    behind = _seek(rows, False)
    edge = rows.edge(False) if key is None else rows.seek(key, False)
    if behind is None or len(edge) > 1:
        found: list[Key] = []
        at = key
        while len(found) < most:
            at = places.key_behind(at, step - 1)
            if at is None:
                break
            found.append(at)
        return found
    # The first is sought by the parameters of a key, the others by the key before them.
    asked = places.kept(
        ("walk", key is None), lambda: build_walk(edge[0], behind, rows.source.keys)
    )
    values = {**places.params, **key_parameters(key or ()), OFFSET: step - 1, LIMIT: most}
    return [rows.converted(row) for row in places.connection.execute(asked, values)]


def page_behind(places: Places, variant: Variant, key: Key | None) -> Select[Any] | None:
    """Return the statement for a variant's rows behind one that is skipped to from a key.

    Parameters: those of the key, if it is not None, and `vrelko_offset`, one less than are skipped.
    None where it takes two statements.
    """
    behind = _seek(places.rows, False)
    page = _seek(variant, False)
    edge = places.rows.edge(False)
    if behind is None or page is None or len(edge) > 1:
        return None
    rows = edge[0] if key is None else behind
    return places.kept(("page", page, rows), lambda: build_landed(page, rows, variant.source.keys))


def differences(places: Places) -> dict[int, int] | None:
    """Return by how many rows each segment but the first is off, by its anchor's id.

    None where one statement cannot tell.
    """
    count, sums = _within(places.rows), _within(places.logged)
    if count is None or sums is None:
        return None
    asked = places.kept(
        ("differences", places.log_is_used),
        lambda: build_differences(
            _segments(places),
            count,
            (sums,) if places.log_is_used else (),
            places.set.tables.log.c.d,
            places.rows.terms,
        ),
    )
    # The rows by the listing's own parameters, anchors and log by the part's columns.
    given = {**places.params, **places.part}
    return {number: int(off) for number, off in places.connection.execute(asked, given)}


def _seek(variant: Variant, backward: bool) -> Select[Any] | None:
    """Return the statement behind, or ahead of, whatever key; None where there is not one."""
    if not variant.source.capabilities.lateral or any(
        term.nullable for term in variant.order.terms
    ):
        return None
    # Only whether values are NULL shapes the statement, so any will do.
    found = variant.seek(tuple(range(variant.terms)), backward)  # any value but NULL
    return found[0] if len(found) == 1 else None


def _within(variant: Variant) -> Select[Any] | None:
    """Return the statement for rows behind one key and up to another, None where there is none."""
    behind, ahead = _seek(variant, False), _seek(variant.naming(UNTIL), True)
    return None if behind is None or ahead is None else up_to(behind, ahead)


def _segments(places: Places) -> Select[Any]:
    table, order = places.set.tables.anchors, places.anchored.order
    keys = [table.c[f"k{i}"] for i in range(len(order.terms))]
    sorted_by = [
        key.desc() if term.descending else key.asc()
        for key, term in zip(keys, order.terms, strict=True)
    ]
    # A segment lies between an anchor and the one before it in the order.
    before = [func.lag(key).over(order_by=sorted_by).label(f"b{i}") for i, key in enumerate(keys)]
    chosen = select(
        table.c.id, table.c.n, *keys, func.lag(table.c.id).over(order_by=sorted_by).label("before"),
        *before,
    ).where(table.c.lvl == 1)  # fmt: skip
    for name in places.part:
        chosen = chosen.where(table.c[name] == bindparam(name, type_=table.c[name].type))
    return chosen
