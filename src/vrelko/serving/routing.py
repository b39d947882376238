"""Routes: asking the server which access paths it takes for a listing's pages, and where it turns.

Nothing is read: every question is an EXPLAIN.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from vrelko.core.access import AccessPath, Seen, choose_keys, choose_path, follow_path
from vrelko.core.cost.routes import Routes
from vrelko.core.facts import Facts
from vrelko.core.order import Order
from vrelko.core.outline import Outline
from vrelko.core.planner import VariantUse
from vrelko.core.selectivity import condition_share
from vrelko.engines.estimates import estimate_rows
from vrelko.engines.paths import Reader
from vrelko.errors import PageError
from vrelko.serving.listing import Listing
from vrelko.serving.seeking import KeyLadder
from vrelko.sql.statements import LIMIT, OFFSET

MOST_EXPLAINS = 16
"""EXPLAINs to find the depth at which a server takes another path, to one per cent."""

_EXACT = 0.01
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

    first = offset(0)
    near = follow(first)
    rows = table.rows * near.share * near.passing
    switch, last = _turn(offset, first, rows - size, engine)
    key_seen, by_key = reader.deferred(variant.deferred(), limits(0))
    keys_switch, keys_last = _turn(keys, key_seen, rows - size, engine)
    served = choose_path(outline, order, table, engine, served=True)
    seek, seek_deep, seek_switch = served, None, None
    edge = variant.edge(False)

    def ask_seek(select: Any, given: Mapping[str, Any]) -> Seen | None:
        limited = variant.limited(select, size + 1)
        extra = {LIMIT: size + 1} if limited is select else {}
        return reader.path(limited, {**given, **extra})

    ladder = KeyLadder(variant, order, table, near.fixed)
    if variant.grouping is not None:
        seek = _with_tables(served, facts)
    elif served.branches == 1 and len(edge) == 1:  # several statements have each theirs
        begins = ask_seek(edge[0], values)
        asked = ladder.ask(1, values, ask_seek) if len(ladder.shares) > 2 else None
        seek = follow(asked or begins)
        if asked is not None and asked.unbounded:  # the key bounds no index
            seek = replace(seek, unknown=seek.unknown or "a key that bounds no index")
        if engine != "sqlite":  # the others look at how many rows a key leaves
            turned = ladder.turn(asked or begins, values, ask_seek)
            if turned is not None:
                seek_switch, seek_deep = turned[0] * rows, follow(turned[1])
    counted = reader.path(variant.count(None), values)
    return Routes(
        near,
        seek,
        follow(counted, None),
        follow(reader.path(variant.whole(), values)),
        None if switch is None else follow(last),
        None if switch is None else switch + size,
        choose_keys(outline, order, table, engine, near) if key_seen is None else follow(key_seen),
        None if keys_switch is None else follow(keys_last),
        None if keys_switch is None else keys_switch + size,
        None if by_key is None else follow(by_key, None),
        seek_deep,
        seek_switch,
        seen=True,
    )


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
