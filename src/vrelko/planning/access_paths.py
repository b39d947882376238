"""Routes: asking the server which access paths it takes for a listing's pages, and where it turns.

Nothing is read: every question is an EXPLAIN.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any

from sqlalchemy import Select

from vrelko.core.access import choose_keys, choose_path, follow_path
from vrelko.core.access_path import AccessPath, ExplainedPath
from vrelko.core.cost.routes import Routes
from vrelko.core.cost.turns import Turn
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import Facts, TableFacts
from vrelko.core.judgement import VariantUse
from vrelko.core.order import Order
from vrelko.core.outline import Condition, Outline
from vrelko.core.selectivity import condition_share
from vrelko.engines.estimates import estimate_rows
from vrelko.engines.paths import Reader
from vrelko.errors import PageError
from vrelko.planning.key_ladder import KeyLadder
from vrelko.serving.listing import Listing
from vrelko.serving.variants.runner import Asked
from vrelko.sql.parameters import LIMIT, OFFSET

Ask = Callable[[float], ExplainedPath | None]
"""Asks for the path of the page behind so many rows."""

_EXACT = 0.01
_PLACED = 0.01  # of the rows, to which a column's bounds place a key
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
    # The same order under two sets of names: the planner's columns, and the listing's.
    names = [str(order) for order in use.outline.orders]
    allowed = listing.orders(engine)[names.index(str(use.order))]
    rows: float | None = None
    first = use.outline.table
    # Conditions that facts cannot weigh: the server's estimate of the rows is the better one.
    unread = any(c.kind == "other" or c.table != first for c in use.outline.conditions)
    estimates = TRAITS[engine].join_estimates
    joined = len(use.outline.tables) > 1 and estimates != "none"
    if use.outline.opaque or unread or joined:
        variant = listing.lent_variant(lender, str(allowed), use.outline.params)
        values = listing.run_values(use.outline.params)
        if unread and not use.outline.opaque and estimates != "filtered":
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
    # What cannot be weighed for one table cannot be multiplied.
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
    asking = Asking(lender, listing, outline=outline, allowed=allowed, order=order, facts=facts)
    table, engine, size = asking.table, asking.engine, asking.size
    first = asking.offset(0)
    near = asking.follow(first)
    rows = table.rows * near.share * near.passing
    # A deferred join is asked about as a whole: the server may find keys by another index than
    # rows.
    keys, by_key = asking.deferred(0)
    back: ExplainedPath | None = None
    back_turns: tuple[Turn, ...] = ()
    if outline.kind == "grid":  # whose pages may be read from the end
        back = asking.backward(0)
        back_turns = asking.turns(asking.backward, back, 1.0, rows - size)
    seek, seek_turns, ties = _seek_routes(asking, near, rows)
    return Routes(
        page=near,
        seek=seek,
        count=asking.follow_all(asking.path(asking.variant.count(None), asking.values)),
        whole=asking.follow(asking.path(asking.variant.whole(), asking.values)),
        deep=_reaching(asking.turns(asking.offset, first, 1.0, rows - size), size),
        keys=choose_keys(outline, order, table, engine, near)
        if keys is None
        else asking.follow(keys),
        keys_deep=_reaching(asking.turns(asking.keys, keys, 1.0, rows - size), size),
        joined=None if by_key is None else asking.follow_all(by_key),
        seek_deep=seek_turns,
        ties=ties,
        back=None if back is None else asking.follow(back),
        back_deep=_reaching(back_turns, size),
        explained=True,
    )


def _seek_routes(
    asking: Asking, near: AccessPath, rows: float
) -> tuple[AccessPath, tuple[Turn, ...], AccessPath | None]:
    """Return the path behind a key near the start, where it turns, and the one to a key's ties."""
    variant, values = asking.variant, asking.values
    served = choose_path(asking.outline, asking.order, asking.table, asking.engine, served=True)
    if variant.grouping is not None:
        return _with_tables(served, asking.facts), (), None
    if served.branches != 1:
        return served, (), None
    ladder = KeyLadder(variant, asking.order, asking.table, near.fixed)

    def behind(at: float) -> ExplainedPath | None:
        return ladder.ask(at / max(rows, 1.0), values, asking.limited)

    # A listing too small for a key in its middle is asked about its first page.
    edge = variant.edge(False)
    begins = asking.limited(edge[0], values) if len(edge) == 1 else None
    # Behind a key near the start, but beyond the first page, whose plan may be another.
    asked = behind(min(rows / 100, 1_000.0))
    seek = asking.follow_key(asked) if asked else asking.follow(begins) if begins else served
    low, high = min(rows / 100, 1_000.0), rows - asking.size
    turns = asking.turns(behind, asked, low, high, placed=_PLACED * rows)
    tied = ladder.ask_ties(values, asking.limited)
    if tied is None:
        return seek, turns, None
    ties = _ties_path(asking.outline, asking.order, asking.table, tied, asking.engine)
    return seek, turns, ties


class Asking:
    """What a server is asked about one variant: which access path it takes, by EXPLAIN alone."""

    def __init__(
        self,
        lender: Any,
        listing: Listing,
        *,
        outline: Outline,
        allowed: Order,
        order: Order,
        facts: Facts,
    ) -> None:
        """`allowed` is the order as the listing names it, `order` by the table's columns."""
        self.outline, self.order, self.facts = outline, order, facts
        self.table, self.engine = facts.table(outline.table), facts.server.engine
        self.size = outline.sizes.default
        self.variant = listing.lent_variant(lender, str(allowed), outline.params)
        self.values = listing.run_values(outline.params)
        self._reader = Reader.of(lender, self.table.name, listing.paged_name, self.table.partitions)

    def path(self, select: Select[Any], values: Mapping[str, Any]) -> ExplainedPath | None:
        """Ask for the path of any statement over the table."""
        return self._reader.path(select, values)

    def offset(self, rows: float) -> ExplainedPath | None:
        """Ask for the path of the page behind so many rows."""
        return self.path(self.variant.offset(), self._limits(rows))

    def backward(self, rows: float) -> ExplainedPath | None:
        """Ask for the path of the page that has so many rows behind it, read from the end."""
        return self.path(self.variant.offset(backward=True), self._limits(rows))

    def deferred(self, rows: float) -> tuple[ExplainedPath | None, ExplainedPath | None]:
        """Ask how a deferred join finds its keys, and how their rows where it reads all."""
        return self._reader.deferred(self.variant.deferred(), self._limits(rows))

    def keys(self, rows: float) -> ExplainedPath | None:
        """Ask how a deferred join finds the keys of the page behind so many rows."""
        return self.deferred(rows)[0]

    def limited(self, select: Select[Any], values: Mapping[str, Any]) -> ExplainedPath | None:
        """Ask for the path of a statement with the limit that it is served with."""
        limited = self.variant.limited(select, self.size + 1)
        extra = {LIMIT: self.size + 1} if limited is select else {}
        return self.path(limited, {**values, **extra})

    def follow(self, explained: ExplainedPath | None) -> AccessPath:
        """Return the access path of what a server says, in the variant's order."""
        return self._follow(explained, self.order)

    def follow_all(self, explained: ExplainedPath | None) -> AccessPath:
        """Return the access path of what a server says of rows in no order."""
        return self._follow(explained, None)

    def _follow(self, explained: ExplainedPath | None, order: Order | None) -> AccessPath:
        if explained is None:  # such as a view, which EXPLAIN shows as what lies behind it
            path = choose_path(self.outline, order, self.table, self.engine)
            return replace(path, unknown=_NOT_SEEN)
        path = follow_path(self.outline, order, self.table, explained, self.engine)
        return _with_tables(path, self.facts)

    def follow_key(self, explained: ExplainedPath) -> AccessPath:
        """Return the access path of a page behind a key."""
        path = self.follow(explained)
        # Where no index begins with the order the key only filters, and all rows are read.
        if not explained.unbounded:
            return path
        return replace(path, unknown=path.unknown or "a key that bounds no index")

    def turns(
        self, ask: Ask, begins: ExplainedPath | None, low: float, high: float, placed: float = 0.0
    ) -> tuple[Turn, ...]:
        """Return where a server turns to another path between two rows.

        `placed`: rows by which the place that is asked about may be wrong.
        """
        # SQLite plans without looking at values, so it never turns.
        if not TRAITS[self.engine].turns:
            return ()
        found = []
        for row, explained in find_turns(ask, begins, low, high):
            # Bisecting ends at one per cent, and keys are placed by statistics: the turn lies
            # somewhere there.
            apart = placed + row * _EXACT
            found.append(Turn(row, self.follow(explained), (row - apart, row + apart)))
        return tuple(found)

    def taken(self, strategy: str, asked: Sequence[Asked]) -> AccessPath | None:
        """Return the path by which a page was read that took one statement; None where unknown."""
        if len(asked) != 1:
            return None
        select, values = asked[0].select, asked[0].values
        if strategy == "deferred-join":
            explained, _ = self._reader.deferred(select, values)
        else:
            explained = self.path(select, values)
        if explained is None:
            return None
        return self.follow_key(explained) if strategy == "keyset" else self.follow(explained)

    def _limits(self, rows: float) -> dict[str, Any]:
        return {**self.values, LIMIT: self.size + 1, OFFSET: max(int(rows), 0)}


def _reaching(turns: tuple[Turn, ...], size: int) -> tuple[Turn, ...]:
    """Return turns by offset as turns by offset and size together."""
    found = []
    for turn in turns:
        low, high = turn.unsure or (turn.row, turn.row)
        found.append(Turn(turn.row + size, turn.path, (low + size, high + size)))
    return tuple(found)


def _ties_path(
    outline: Outline, order: Order, table: TableFacts, explained: ExplainedPath, engine: str
) -> AccessPath:
    """Return the path to the rows alike in all terms of an order but the last."""
    fixed = {c.column for c in outline.conditions if c.kind == "equal"}
    alike = tuple(
        Condition(outline.table, name, "equal", None, None)
        for name in order.names[:-1]
        if name not in fixed
    )
    tied = replace(outline, conditions=(*outline.conditions, *alike))
    return follow_path(tied, Order(order.terms[-1:]), table, explained, engine)


def _with_tables(path: AccessPath, facts: Facts) -> AccessPath:
    """Return the path with the sizes of the other tables of its joins, as far as they are known."""
    if not path.lookups:
        return path
    # EXPLAIN leaves schemas out.
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
    ask: Ask, first: ExplainedPath | None, low: float, high: float
) -> tuple[tuple[float, ExplainedPath], ...]:
    """Return the rows from which a server takes another path than ahead of them, and which.

    It is asked at places between, and between two that differ again, to one per cent.
    """
    if first is None or high <= max(low, 1.0):
        return ()
    # Few questions at first: between two places that agree nothing is asked.
    places = [low, *(high * share for share in _PLACES if high * share > low), high]
    told: list[tuple[float, ExplainedPath]] = [(low, first)]
    for place in places[1:]:
        explained = ask(place)
        if explained is not None:
            told.append((place, explained))
    found: list[tuple[float, ExplainedPath]] = []
    for (begin, ahead), (end, last) in pairwise(told):
        found += _between(ask, begin, ahead, end, last, _MOST_TURNS)
    return tuple(found)


def _between(
    ask: Ask, low: float, first: ExplainedPath, high: float, last: ExplainedPath, most: int
) -> list[tuple[float, ExplainedPath]]:
    """Return the turns between two places, at most so many."""
    turns: list[tuple[float, ExplainedPath]] = []
    while first.signature != last.signature and most > 0:
        begin, end, beyond = low, high, last
        # On a logarithmic scale: a turn at row 100 and one at row 1,000,000 are found alike well.
        while end / begin > 1 + _EXACT:
            middle = math.sqrt(begin * end)
            found = ask(middle)
            if found is not None and found.signature == first.signature:
                begin = middle
            else:
                end, beyond = middle, found or beyond
        # Several turns may lie between two places: the search goes on behind the one found.
        turns.append((end, beyond))
        low, first, most = end, beyond, most - 1
    return turns
