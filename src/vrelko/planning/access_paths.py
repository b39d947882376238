"""Routes: asking the server which access paths it takes for a listing's pages, and where it turns.

Nothing is read: every question is an EXPLAIN.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from itertools import pairwise
from typing import Any

from vrelko.core.access import choose_keys, choose_path, follow_path
from vrelko.core.access_path import AccessPath, Seen
from vrelko.core.cost.routes import Routes, Turn
from vrelko.core.facts import Facts, TableFacts
from vrelko.core.order import Order
from vrelko.core.outline import Condition, Outline
from vrelko.core.planner import VariantUse
from vrelko.core.selectivity import condition_share
from vrelko.engines.estimates import estimate_rows
from vrelko.engines.paths import Reader
from vrelko.errors import PageError
from vrelko.planning.key_ladder import KeyLadder
from vrelko.serving.listing import Listing
from vrelko.sql.statements import LIMIT, OFFSET

Ask = Callable[[float], Seen | None]
"""Asks for the path of the page behind so many rows."""

_EXACT = 0.01
_PLACES = (0.003, 0.03, 0.12, 0.3, 0.5, 0.75)  # of the rows, where a server is asked
_MOST_TURNS = 3  # looked for between two such places
_NOT_SEEN = "no step over this table"


def route_use(lender: Any, listing: Listing, use: VariantUse, facts: Facts) -> VariantUse:
    """Return a variant with the access paths that the server says it takes.

    Without a value for every parameter nothing can be asked; paths are predicted then.
    """
    engine = facts.server.engine
    try:
        listing.check_params(use.outline.params)
    except PageError:
        return use
    names = [str(order) for order in use.outline.orders]
    allowed = listing.orders(engine)[names.index(str(use.order))]
    rows: float | None = None
    first = use.outline.table
    unread = any(c.kind == "other" or c.table != first for c in use.outline.conditions)
    joined = len(use.outline.tables) > 1 and engine != "sqlite"
    if use.outline.opaque or unread or joined:
        variant = listing.lent_variant(lender, str(allowed), use.outline.params)
        values = listing.run_values(use.outline.params)
        if unread and not use.outline.opaque and engine != "postgresql":
            rows = _joined_rows(use.outline, facts)
        if rows is None:
            rows = estimate_rows(lender, variant.rows(), values, listing.paged_table)
    if use.outline.opaque:
        return replace(use, rows=rows)
    routes = ask_routes(lender, listing, use.outline, allowed, use.order, facts)
    return replace(use, routes=routes, rows=rows)


def _joined_rows(outline: Outline, facts: Facts) -> float | None:
    """Return about the rows of a join from the facts of its tables; None where some lack."""
    known = {table.name: table for table in facts.tables}
    if any(c.table not in known or c.kind == "other" for c in outline.conditions):
        return None
    rows = known[outline.table].rows
    for condition in outline.conditions:
        rows *= condition_share(outline, condition, known[condition.table])
    return rows


def ask_routes(
    lender: Any,
    listing: Listing,
    outline: Outline,
    allowed: Order,
    order: Order,
    facts: Facts,
) -> Routes:
    """Return the access paths a server says it takes for one variant.

    `allowed` is the order as the listing names it, `order` the same by the table's columns.
    """
    table, engine = facts.table(outline.table), facts.server.engine
    reader = Reader.of(lender, table.name, listing.paged_name, table.partitions)
    variant = listing.lent_variant(lender, str(allowed), outline.params)
    values, size = listing.run_values(outline.params), outline.sizes.default

    def follow(seen: Seen | None, of: Order | None = order) -> AccessPath:
        if seen is None:  # such as a view, which EXPLAIN shows as what lies behind it
            return replace(choose_path(outline, of, table, engine), unknown=_NOT_SEEN)
        return _with_tables(follow_path(outline, of, table, seen, engine), facts)

    def limits(rows: float) -> dict[str, Any]:
        return {**values, LIMIT: size + 1, OFFSET: max(int(rows), 0)}

    def offset(rows: float) -> Seen | None:
        return reader.path(variant.offset(), limits(rows))

    def keys(rows: float) -> Seen | None:
        return reader.deferred(variant.deferred(), limits(rows))[0]

    def backward(rows: float) -> Seen | None:
        return reader.path(variant.offset(backward=True), limits(rows))

    first = offset(0)
    near = follow(first)
    rows = table.rows * near.share * near.passing

    def turns(ask: Ask, begins: Seen | None, low: float, high: float) -> tuple[Turn, ...]:
        if engine == "sqlite":  # which looks neither at the offset nor at the key
            return ()
        return tuple(Turn(row, follow(seen)) for row, seen in find_turns(ask, begins, low, high))

    key_seen, by_key = reader.deferred(variant.deferred(), limits(0))
    served = choose_path(outline, order, table, engine, served=True)
    seek: AccessPath = served
    seek_turns: tuple[Turn, ...] = ()
    ties: AccessPath | None = None

    def ask_seek(select: Any, given: Mapping[str, Any]) -> Seen | None:
        limited = variant.limited(select, size + 1)
        extra = {LIMIT: size + 1} if limited is select else {}
        return reader.path(limited, {**given, **extra})

    def behind(at: float) -> Seen | None:
        return ladder.ask(at / max(rows, 1.0), values, ask_seek)

    ladder = KeyLadder(variant, order, table, near.fixed)
    if variant.grouping is not None:
        seek = _with_tables(served, facts)
    elif served.branches == 1:
        edge = variant.edge(False)
        begins = ask_seek(edge[0], values) if len(edge) == 1 else None
        asked = behind(min(rows / 100, 1_000.0))
        if asked or begins:
            seek = follow(asked or begins)
        if asked is not None and asked.unbounded:  # the key bounds no index
            seek = replace(seek, unknown=seek.unknown or "a key that bounds no index")
        seek_turns = turns(behind, asked, min(rows / 100, 1_000.0), rows - size)
        tied = ladder.ask_ties(values, ask_seek)
        if tied is not None:
            ties = _ties_path(outline, order, table, tied, engine)
    counted = reader.path(variant.count(None), values)
    back: Seen | None = None
    back_turns: tuple[Turn, ...] = ()
    if outline.kind == "grid":  # whose pages may be read from the end
        back = backward(0)
        back_turns = turns(backward, back, 1.0, rows - size)
    keys_turns = turns(keys, key_seen, 1.0, rows - size)
    return Routes(
        page=near,
        seek=seek,
        count=follow(counted, None),
        whole=follow(reader.path(variant.whole(), values)),
        deep=_reaching(turns(offset, first, 1.0, rows - size), size),
        keys=choose_keys(outline, order, table, engine, near)
        if key_seen is None
        else follow(key_seen),
        keys_deep=_reaching(keys_turns, size),
        joined=None if by_key is None else follow(by_key, None),
        seek_deep=seek_turns,
        ties=ties,
        back=None if back is None else follow(back),
        back_deep=_reaching(back_turns, size),
        seen=True,
    )


def _reaching(turns: tuple[Turn, ...], size: int) -> tuple[Turn, ...]:
    """Return turns by offset as turns by offset and size together."""
    return tuple(replace(turn, row=turn.row + size) for turn in turns)


def _ties_path(
    outline: Outline, order: Order, table: TableFacts, seen: Seen, engine: str
) -> AccessPath:
    """Return the path to the rows alike in all terms of an order but the last."""
    fixed = {c.column for c in outline.conditions if c.kind == "equal"}
    alike = tuple(
        Condition(outline.table, name, "equal", None, None)
        for name in order.names[:-1]
        if name not in fixed
    )
    tied = replace(outline, conditions=(*outline.conditions, *alike))
    return follow_path(tied, Order(order.terms[-1:]), table, seen, engine)


def _with_tables(path: AccessPath, facts: Facts) -> AccessPath:
    """Return the path with the sizes of the other tables of its joins, as far as they are known."""
    if not path.lookups:
        return path
    known = {table.name.rpartition(".")[2]: table for table in facts.tables}
    found = []
    for one in path.lookups:
        table = known.get(one.table.rpartition(".")[2])
        if table is None:
            found.append(one)
            continue
        index = next((i for i in table.indexes if i.name == one.index), None)
        levels = (index.levels if index is not None else None) or table.levels
        each = levels + (0.0 if one.covering else 1.0)
        blocks = each if one.each else table.blocks
        found.append(replace(one, blocks=blocks, rows=table.rows))
    return replace(path, lookups=tuple(found))


def find_turns(
    ask: Ask, first: Seen | None, low: float, high: float
) -> tuple[tuple[float, Seen], ...]:
    """Return the rows from which a server takes another path than ahead of them, and which.

    It is asked at places between, and between two that differ again, to one per cent.
    """
    if first is None or high <= max(low, 1.0):
        return ()
    places = [low, *(high * share for share in _PLACES if high * share > low), high]
    told: list[tuple[float, Seen]] = [(low, first)]
    for place in places[1:]:
        seen = ask(place)
        if seen is not None:
            told.append((place, seen))
    found: list[tuple[float, Seen]] = []
    for (begin, ahead), (end, last) in pairwise(told):
        found += _between(ask, begin, ahead, end, last, _MOST_TURNS)
    return tuple(found)


def _between(
    ask: Ask, low: float, first: Seen, high: float, last: Seen, most: int
) -> list[tuple[float, Seen]]:
    """Return the turns between two places, at most so many."""
    turns: list[tuple[float, Seen]] = []
    while first.signature != last.signature and most > 0:
        begin, end, beyond = low, high, last
        while end / begin > 1 + _EXACT:
            middle = math.sqrt(begin * end)
            found = ask(middle)
            if found is not None and found.signature == first.signature:
                begin = middle
            else:
                end, beyond = middle, found or beyond
        turns.append((end, beyond))
        low, first, most = end, beyond, most - 1
    return turns
