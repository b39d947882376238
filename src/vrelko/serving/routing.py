"""Routes: asking the server which access paths it takes for a listing's pages, and where it turns.

Nothing is read: every question is an EXPLAIN.
"""

from __future__ import annotations

import math
from typing import Any

from vrelko.core.access import AccessPath, Seen, choose_keys, choose_path, follow_path
from vrelko.core.cost.model import Routes
from vrelko.core.facts import TableFacts
from vrelko.core.order import Order
from vrelko.core.outline import Outline
from vrelko.engines.paths import explain_join, explain_path
from vrelko.serving.listing import Listing
from vrelko.sql.statements import LIMIT, OFFSET

MOST_EXPLAINS = 16
_EXACT = 0.01  # of the depth at which the path changes


def ask_routes(
    lender: Any,
    listing: Listing,
    outline: Outline,
    allowed: Order,
    order: Order,
    table: TableFacts,
    engine: str,
) -> Routes:
    """Return the access paths a server says it takes for one variant, at most 20 EXPLAINs.

    `allowed` is the order as the listing names it, `order` the same by the table's columns.
    """
    variant = listing.lent_variant(lender, str(allowed), outline.params)
    values, size = listing.run_values(outline.params), outline.sizes.default
    shared = outline, order, table

    def offset(rows: float) -> Seen | None:
        limits = {LIMIT: size + 1, OFFSET: max(int(rows), 0)}
        return explain_path(lender, variant.offset(), {**values, **limits}, table.name)

    first = offset(0)
    near = _path(first, *shared, engine)
    rows = table.rows * near.share * near.passing
    switch, deep = None, None
    if engine != "sqlite" and first is not None and rows > 2 * size:
        switch, last = _turn(offset, first, rows - size)
        deep = _path(last, *shared, engine) if switch is not None else None
    served = choose_path(outline, order, table, engine, served=True)
    seek = served
    if served.branches == 1 and engine != "mariadb":  # whose ranges are always taken from an index
        limited = variant.limited(variant.edge(False)[0], size + 1)
        extra = {LIMIT: size + 1} if limited is variant.edge(False)[0] else {}
        edge = explain_path(lender, limited, {**values, **extra}, table.name)
        seek = _path(edge, *shared, engine) if edge is not None else served
        if len(variant.edge(False)) > 1:
            seek = served
    counted = explain_path(lender, variant.count(None), values, table.name)
    counting = choose_path(outline, None, table, engine)
    if counted is not None:
        counting = follow_path(outline, None, table, counted, engine)
    read = explain_path(lender, variant.whole(), values, table.name)
    whole = _path(read, *shared, engine) if read is not None else near
    limits = {LIMIT: size + 1, OFFSET: 0}
    keys, rows_by = explain_join(lender, variant.deferred(), {**values, **limits}, table.name)
    narrow = choose_keys(outline, order, table, engine)
    deferred = narrow if keys is None else _path(keys, *shared, engine)
    joins_whole = rows_by is not None and rows_by.scan == "table"
    return Routes(near, seek, counting, whole, deep, switch and switch + size, deferred,
                  joins_whole, seen=True)  # fmt: skip


def _path(
    seen: Seen | None, outline: Outline, order: Order, table: TableFacts, engine: str
) -> AccessPath:
    if seen is None:
        return choose_path(outline, order, table, engine)
    return follow_path(outline, order, table, seen, engine)


def _turn(ask: Any, first: Seen, rows: float) -> tuple[float | None, Seen | None]:
    """Return the row offset from which a server takes another path, None where it never does."""
    last = ask(rows)
    if last is None or last.signature == first.signature:
        return None, last
    low, high = 1.0, max(rows, 2.0)
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
