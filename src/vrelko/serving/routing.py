"""Routes: asking the server which access paths it takes for a listing's pages, and where it turns.

Nothing is read: every question is an EXPLAIN.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from vrelko.core.access import AccessPath, Seen, choose_keys, choose_path, follow_path
from vrelko.core.cost.model import Routes
from vrelko.core.facts import Facts, TableFacts
from vrelko.core.order import Order
from vrelko.core.outline import Outline
from vrelko.core.planner import VariantUse
from vrelko.engines.estimates import estimate_rows
from vrelko.engines.paths import explain_join, explain_path
from vrelko.errors import PageError
from vrelko.serving.listing import Listing
from vrelko.serving.seeking import KeyLadder
from vrelko.sql.statements import LIMIT, OFFSET

MOST_EXPLAINS = 16
"""EXPLAINs to find the depth at which a server takes another path, to one per cent."""

_EXACT = 0.01


def route_use(lender: Any, listing: Listing, use: VariantUse, facts: Facts) -> VariantUse:
    """Return a variant with the access paths that the server says it takes.

    Without a value for every parameter nothing can be asked; paths are predicted then.
    """
    table, engine = facts.table(use.outline.table), facts.server.engine
    try:
        listing.check_params(use.outline.params)
    except PageError:
        return use
    names = [str(order) for order in use.outline.orders]
    allowed = listing.orders(engine)[names.index(str(use.order))]
    rows = None
    if use.outline.opaque or any(c.kind == "other" for c in use.outline.conditions):
        variant = listing.lent_variant(lender, str(allowed), use.outline.params)
        values = listing.run_values(use.outline.params)
        rows = estimate_rows(lender, variant.rows(), values, listing.paged_table)
    if use.outline.opaque:
        return replace(use, rows=rows)
    routes = ask_routes(lender, listing, use.outline, allowed, use.order, table, engine)
    return replace(use, routes=routes, rows=rows)


def ask_routes(
    lender: Any,
    listing: Listing,
    outline: Outline,
    allowed: Order,
    order: Order,
    table: TableFacts,
    engine: str,
) -> Routes:
    """Return the access paths a server says it takes for one variant.

    `allowed` is the order as the listing names it, `order` the same by the table's columns.
    """
    variant = listing.lent_variant(lender, str(allowed), outline.params)
    values, size = listing.run_values(outline.params), outline.sizes.default

    def follow(seen: Seen | None, of: Order | None = order) -> AccessPath:
        if seen is None:
            return choose_path(outline, of, table, engine)
        return follow_path(outline, of, table, seen, engine)

    def limits(rows: float) -> dict[str, Any]:
        return {**values, LIMIT: size + 1, OFFSET: max(int(rows), 0)}

    def offset(rows: float) -> Seen | None:
        return explain_path(lender, variant.offset(), limits(rows), table.name)

    def keys(rows: float) -> Seen | None:
        return explain_join(lender, variant.deferred(), limits(rows), table.name)[0]

    first = offset(0)
    near = follow(first)
    rows = table.rows * near.share * near.passing
    switch, last = _turn(offset, first, rows - size, engine)
    key_seen, by_key = explain_join(lender, variant.deferred(), limits(0), table.name)
    keys_switch, keys_last = _turn(keys, key_seen, rows - size, engine)
    served = choose_path(outline, order, table, engine, served=True)
    seek, seek_deep, seek_switch = served, None, None
    edge = variant.edge(False)

    def ask_seek(select: Any, given: Mapping[str, Any]) -> Seen | None:
        limited = variant.limited(select, size + 1)
        extra = {LIMIT: size + 1} if limited is select else {}
        return explain_path(lender, limited, {**given, **extra}, table.name)

    # MariaDB always takes the ranges of a key from an index; several statements have each theirs.
    if served.branches == 1 and engine != "mariadb" and len(edge) == 1:
        begins = ask_seek(edge[0], values)
        seek = follow(begins)
        if engine == "postgresql":  # which knows how many rows a key leaves
            ladder = KeyLadder(variant, order, table, near.fixed)
            turned = ladder.turn(begins, values, ask_seek)
            if turned is not None:
                seek_switch, seek_deep = turned[0] * rows, follow(turned[1])
    counted = explain_path(lender, variant.count(None), values, table.name)
    return Routes(
        near,
        seek,
        follow(counted, None),
        follow(explain_path(lender, variant.whole(), values, table.name)),
        None if switch is None else follow(last),
        None if switch is None else switch + size,
        choose_keys(outline, order, table, engine, near) if key_seen is None else follow(key_seen),
        None if keys_switch is None else follow(keys_last),
        None if keys_switch is None else keys_switch + size,
        _read_whole(by_key, table, lambda seen: follow(seen, None)),
        seek_deep,
        seek_switch,
        seen=True,
    )


def _read_whole(
    seen: Seen | None, table: TableFacts, follow: Callable[[Seen], AccessPath]
) -> AccessPath | None:
    """Return the path by which a join reads all rows at once; None where it seeks each by key."""
    keyed = [
        index.name
        for index in table.indexes
        if tuple(column.name for column in index.columns) == table.primary_key
    ]
    if seen is None or seen.index in keyed:
        return None
    return follow(seen)


def _turn(
    ask: Callable[[float], Seen | None], first: Seen | None, rows: float, engine: str
) -> tuple[float | None, Seen | None]:
    """Return the row offset from which a server takes another path, None where it never does."""
    if engine == "sqlite" or first is None or rows < 2:  # SQLite does not look at the offset
        return None, first
    last = ask(rows)
    if last is None or last.signature == first.signature:
        return None, last
    low, high = 1.0, rows
    for _ in range(MOST_EXPLAINS - 2):
        if high / low < 1 + _EXACT:
            break
        middle = math.sqrt(low * high)
        found = ask(middle)
        if found is not None and found.signature == first.signature:
            low = middle
        else:
            high, last = middle, found or last
    return high, last
