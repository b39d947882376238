"""Many anchors with one statement: keys walked, and segments counted, inside the server.

A statement an anchor costs a round trip each, more than the thousand keys that it reads. Where keys
may be NULL a seek depends on the key, and where the engine knows no LATERAL none can follow another
one: there `KeyRanges` goes from anchor to anchor.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import Select, bindparam, func, select

from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.remembered import Key
from vrelko.serving.variants.variant import Variant
from vrelko.sql.anchor_statements import (
    build_differences,
    build_landed,
    build_walk,
    build_walk_by_id,
    up_to,
)
from vrelko.sql.parameters import LIMIT, OFFSET, UNTIL, key_parameters


def keys_behind(lookup: AnchorLookup, key: Key | None, step: int, most: int) -> list[Key]:
    """Return the keys of each `step`-th row behind a key, at most so many."""
    rows = lookup.rows
    # The statement is the same for every key, so it is built once a set of anchors.
    asked = lookup.kept(("walk", key is None), lambda: _walk(rows, key))
    if asked is None:
        found: list[Key] = []
        at = key
        while len(found) < most:
            at = lookup.key_behind(at, step - 1)
            if at is None:
                break
            found.append(at)
        return found
    # The first is sought by the parameters of a key, the others by the key before them.
    values = {**lookup.params, **key_parameters(key or ()), OFFSET: step - 1, LIMIT: most}
    return [rows.converted(row) for row in lookup.connection.execute(asked, values)]


def _walk(rows: Variant, key: Key | None) -> Select[Any] | None:
    """Return the statement that walks keys, None where each takes a statement of its own."""
    if any(term.nullable for term in rows.order.terms):
        return None
    if rows.source.capabilities.streams_unions:
        ranges = rows.split().seek(_any_key(rows), False)
        return build_walk_by_id(
            rows.edge(False)[0], ranges, rows.source.keys, rows.identity, key is None
        )
    behind = _seek(rows, False)
    if behind is None:
        return None
    edge = rows.edge(False) if key is None else (behind,)
    return build_walk(edge[0], behind, rows.source.keys)


def page_behind(lookup: AnchorLookup, variant: Variant, key: Key | None) -> Select[Any] | None:
    """Return the statement for a variant's rows behind one that is skipped to from a key.

    Parameters: those of the key, if it is not None, and `vrelko_offset`, one less than are skipped.
    None where it takes two statements.
    """
    behind = _seek(lookup.rows, False)
    page = _seek(variant, False)
    edge = lookup.rows.edge(False)
    if behind is None or page is None or len(edge) > 1:
        return None
    rows = edge[0] if key is None else behind
    return lookup.kept(("page", page, rows), lambda: build_landed(page, rows, variant.source.keys))


def differences(lookup: AnchorLookup) -> dict[int, int] | None:
    """Return by how many rows each segment but the first is off, by its anchor's id.

    None where one statement cannot tell.
    """
    counts, sums = _within(lookup.rows), _within(lookup.logged)
    if counts is None or sums is None:
        return None
    asked = lookup.kept(
        ("differences", lookup.log_is_used),
        lambda: build_differences(
            _segments(lookup),
            counts,
            sums if lookup.log_is_used else (),
            lookup.set.tables.log.c.d,
            lookup.rows.terms,
        ),
    )
    # The rows by the listing's own parameters, anchors and log by the part's columns.
    given = {**lookup.params, **lookup.part}
    return {number: int(off) for number, off in lookup.connection.execute(asked, given)}


def _seek(variant: Variant, backward: bool) -> Select[Any] | None:
    """Return the statement behind, or ahead of, whatever key; None where there is not one."""
    if not variant.source.capabilities.lateral or any(
        term.nullable for term in variant.order.terms
    ):
        return None
    found = variant.seek(_any_key(variant), backward)
    return found[0] if len(found) == 1 else None


def _any_key(variant: Variant) -> Key:
    """Return a key without NULLs: only whether values are NULL shapes the statement behind it."""
    return tuple(range(variant.terms))


def _within(variant: Variant) -> tuple[Select[Any], ...] | None:
    """Return the statements for rows behind one key and up to another, None where none tell."""
    if any(term.nullable for term in variant.order.terms):
        return None
    if variant.source.capabilities.streams_unions:
        split, key = variant.split(), _any_key(variant)
        # Behind one key and ahead of another: each pair of ranges is one range of the index.
        ends = split.naming(UNTIL).seek(key, True)
        ahead = [
            begin.where(*end._where_criteria) for begin in split.seek(key, False) for end in ends
        ]
        itself, _ = variant.key_by_itself(key)
        return *ahead, split.edge(False)[0].where(*itself._where_criteria)
    behind, until = _seek(variant, False), _seek(variant.naming(UNTIL), True)
    found = None if behind is None or until is None else up_to(behind, until)
    return None if found is None else (found,)


def _segments(lookup: AnchorLookup) -> Select[Any]:
    table, order = lookup.set.tables.anchors, lookup.anchored.order
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
    for name in lookup.part:
        chosen = chosen.where(table.c[name] == bindparam(name, type_=table.c[name].type))
    return chosen
