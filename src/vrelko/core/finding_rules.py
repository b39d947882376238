"""Faults: what is unsound, slow or fragile about a listing, each with evidence and a fix."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from vrelko.core.access import advise_index, fixed_columns
from vrelko.core.arithmetic import page_count
from vrelko.core.drift.damage import left_by_draining, lost_by_ties, moved_about, torn_by_lag
from vrelko.core.drift.stream import Stream
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ServerFacts, TableFacts
from vrelko.core.findings import Finding, make_finding
from vrelko.core.identifiers import plain_name, quote, quote_table
from vrelko.core.index_advice import SORTED_ROWS, Advice, create_text
from vrelko.core.index_order import serves_order
from vrelko.core.number_format import render_mean
from vrelko.core.order import Order, Term
from vrelko.core.outline import Outline
from vrelko.core.path_findings import find_misread, find_path, find_state
from vrelko.core.reader_load import VariantModel
from vrelko.core.verdict import WHOLE_ROWS
from vrelko.core.workload import Readers, Writers

_FEW_ROWS, _TOO_FEW = 100, 0.5  # distinct counts are estimates
_SHORT_LAG_S = 0.5
_FLOATS = ("FLOAT", "DOUB", "REAL")
_TEXTS = ("CHAR", "TEXT", "CLOB", "CITEXT")
_BY_CODE = ("C", "POSIX", "ucs_basic")  # collations that no upgrade changes


def find_faults(
    variants: Sequence[VariantModel],
    orders: Sequence[Order],
    readers: Readers,
    writers: Writers,
    advice: Sequence[Advice],
    strategy: str,
    server: ServerFacts,
) -> Iterator[Finding]:
    """Yield the findings on one listing served by `strategy`."""
    # What is said of the listing itself holds for every variant of it.
    outline, table = variants[0].outline, variants[0].model.table
    yield from _find_unread(outline, [variant.model.matching for variant in variants])
    yield from _find_false_key(outline, table)
    # What readers suffer is told for the usual variant: one number is read, ten are not.
    walk = _Walk.of(variants[0], readers, writers)
    for order, said in zip(orders, outline.given, strict=True):
        yield from _find_order(order, said, table, walk)
        yield from _find_computed(order, outline, table, server)
        yield from _find_terms(order, table, writers, server, walk)
        yield from _find_shape(order, advice, server)
    for item in advice:
        yield make_finding(
            "no-fitting-index",
            f"order {item.order}",
            f"each page reads {item.before.read:,.0f} rows and sorts "
            f"{item.before.sorted_rows:,.0f}; with the index it reads {item.after.entries:,.0f} "
            "entries",
            item.sql,
        )
    for variant in variants if not outline.opaque else ():
        yield from find_path(variant, readers, server)
    for variant in variants:
        yield from find_misread(variant, server)
    yield from _find_drains(outline, variants[0], writers)
    yield from _find_lag(server, walk)
    yield from _find_periods(outline, table, server)
    yield from _find_sizes(outline, variants[0], strategy, bool(advice))
    yield from find_state(table, server)


@dataclass(frozen=True, slots=True)
class _Walk:
    """A reader's usual walk, and what changes meanwhile."""

    stream: Stream
    size: int
    pages: int
    dwell_s: float

    @classmethod
    def of(cls, variant: VariantModel, readers: Readers, writers: Writers) -> _Walk:
        stream, size = Stream.of(variant.model.matching, writers), variant.outline.sizes.default
        # Readers who would go deeper than the listing has pages end with its last one.
        pages = min(round(readers.depth.mean), max(page_count(round(stream.rows), size), 1))
        return cls(stream, size, max(pages, 1), readers.dwell_s)


def _find_false_key(outline: Outline, table: TableFacts) -> Iterator[Finding]:
    """Columns that are said to identify a row, of which there are far fewer values than rows."""
    # Of expressions, and of rows that a join multiplies, statistics tell nothing.
    names = [name for name in outline.claimed if table.has_column(name)]
    known = [table.column(name).distinct for name in names]
    if not names or len(names) < len(outline.claimed) or not all(known) or len(outline.tables) > 1:
        return
    # The most different values that the columns can have together, if they are independent.
    values = math.prod(value or 1.0 for value in known)
    # Distinct counts are estimates, so only a claim that is off by more than half is called false.
    if table.rows > _FEW_ROWS and values < _TOO_FEW * table.rows:
        yield make_finding(
            "unique-false",
            f"unique = {', '.join(names)}",
            f"{table.rows:,.0f} rows share about {values:,.0f} different values, so pages would "
            "lose rows",
            "Name columns that tell all rows apart, or give the table a primary key",
        )


def _find_drains(outline: Outline, variant: VariantModel, writers: Writers) -> Iterator[Finding]:
    """A condition on a column that changes: rows leave the listing while it is read."""
    for condition in outline.conditions:
        # Only somebody who knows the writers can say so: statistics show values, not their changes.
        if condition.column not in writers.moving:
            continue
        rows, size = round(variant.model.matching), outline.sizes.default
        yield make_finding(
            "draining-filter",
            f"condition on {condition.column}",
            f"{condition.column} changes while rows stay in the table. A worker that handles page "
            "after page, so that handled rows leave the listing, never sees "
            f"{left_by_draining(rows, size):,} of {rows:,} rows by offset. By key it sees all",
            "Serve it by keyset, or read the first page again until it is empty",
        )


def _find_lag(server: ServerFacts, walk: _Walk) -> Iterator[Finding]:
    """A replica: pages of one walk that come from servers which differ."""
    # The lag is text: a number of seconds, or that it is unknown.
    told = server.settings.get("replica_lag_s", "")
    lag = float(told) if told.replace(".", "", 1).isdigit() else None
    if server.settings.get("replica") != "yes" or (lag is not None and lag < _SHORT_LAG_S):
        return
    evidence = "this server is a replica, and how far it lags is unknown"
    # Half of the walk on the mean lies behind the reader when the servers are changed.
    if lag is not None:
        missed, twice = torn_by_lag(walk.stream, lag, walk.size * walk.pages / 2)
        evidence = (
            f"this replica lags {lag:g} s. If the next page comes from it, a reader by offset "
            f"misses {render_mean(missed)} rows and sees {render_mean(twice)} twice"
        )
    yield make_finding(
        "lagging-replica",
        "server",
        evidence,
        "Read each walk from one server, or by keyset, which misses no row that was there",
    )


def _find_unread(outline: Outline, rows: Sequence[float]) -> Iterator[Finding]:
    # Nothing below it can be read then, so no other finding about conditions would hold.
    if outline.opaque:
        yield make_finding(
            "select-opaque",
            "select",
            f"it contains {outline.opaque}, so costs assume that each page computes all of its "
            f"about {rows[0]:,.0f} rows",
            "Page a select of tables and conditions, or run `vrelko measure` to see its real cost",
        )
        return
    unread = [c.column or "a condition" for c in outline.conditions if c.kind == "other"]
    if unread:
        yield make_finding(
            "condition-unread",
            f"condition on {unread[0]}",
            "it does not compare a column with a value. Unless the server estimates it, the plan "
            "assumes that a third of the rows pass",
            "Run `vrelko measure`, compare a column with a value, or index the expression",
        )


def _find_sizes(
    outline: Outline, variant: VariantModel, strategy: str, advised: bool
) -> Iterator[Finding]:
    model = variant.model
    if outline.sizes.max is None:
        yield make_finding(
            "size-unbounded",
            "page size",
            f"a reader may ask for all {model.matching:,.0f} rows at once",
            "Set a maximum, such as Sizes(25, max=200)",
        )
    # Whoever has all rows at once counts them for nothing.
    if outline.total == "exact" and strategy != "whole" and not outline.counted_once:
        yield make_finding(
            "count-each-request",
            "total",
            f"each request counts {model.matching:,.0f} rows for the total",
            (f"total='capped' stops at {outline.cap:,}; " if model.matching > outline.cap else "")
            + "count='once' counts once per walk; total='none' if no total is shown",
        )
    # With fewer than a hundred pages the last one is no deeper than readers go anyway.
    if strategy in ("offset", "deferred-join") and model.matching > 100 * outline.sizes.default:
        deep = model.offset(model.matching, outline.sizes.default)
        index = "Create the index, then serve the listing by keyset" if advised else ""
        yield make_finding(
            "deep-offset",
            "last page",
            f"the last page reads {deep.read:,.0f} rows or entries",
            index
            or (
                "Serve it by keyset"
                if outline.strategy
                else "Show fewer pages (max_offset=), or let readers filter first"
            ),
        )
    if strategy == "whole" and model.matching > WHOLE_ROWS:
        yield make_finding(
            "whole-table",
            "strategy",
            f"{model.matching:,.0f} rows are sent to every reader",
            "Serve pages",
        )


def _find_order(order: Order, said: int, table: TableFacts, walk: _Walk) -> Iterator[Finding]:
    terms = order.terms[:said]
    if not terms:
        yield make_finding(
            "no-order",
            "order",
            "without an order the database may return any rows on any page",
            f"Vrelko orders by {order}. Name the order your readers expect",
        )
        return
    # What was said identifies a row already: nothing was added behind it.
    if said >= len(order):
        return
    evidence = "no column in it is unique, so rows can tie"
    known = [table.column(term.name).distinct for term in terms if table.has_column(term.name)]
    if len(known) == len(terms) and all(known):
        # The mean number of rows that tie; less than one and a half is chance.
        sharing = table.rows / math.prod(value or 1.0 for value in known)
        if sharing > 1.5:
            shown = walk.stream.rows / max(table.rows, 1.0)  # of the table, in the listing
            lost = min(lost_by_ties(sharing * shown) * (walk.pages - 1), walk.stream.rows)
            evidence = (
                f"about {sharing:,.0f} rows of the table share each value. A hand-written page "
                f"that goes on behind the last value loses about {render_mean(lost)} rows per "
                f"{walk.pages:,}-page walk, and the database may order ties anew for each page"
            )
    yield make_finding(
        "order-ties",
        f"order {Order(terms)}",
        evidence,
        f"Vrelko orders by {order}. Do the same in hand-written queries",
    )


def _find_shape(order: Order, advice: Sequence[Advice], server: ServerFacts) -> Iterator[Finding]:
    # Where an index serves the order, its directions and NULLs cost nothing.
    if not any(item.order == str(order) for item in advice):
        return
    if not order.uniform:
        yield make_finding(
            "mixed-directions",
            f"order {order}",
            "no index has both of its directions",
            "Create the index, or sort all columns in one direction",
        )
    traits = TRAITS[server.engine]
    for term in order.terms:
        first = term.nulls == "first"
        natural = first == (term.descending != traits.nulls_low)
        if term.nullable and term.nulls and not natural and not traits.nulls_served:
            yield make_finding(
                "nulls-in-order",
                f"order {order}",
                f"{term.name} may be NULL, and no index has NULLs {term.nulls}",
                "Create the index, or place NULLs where the engine puts them by default",
            )


def _find_periods(outline: Outline, table: TableFacts, server: ServerFacts) -> Iterator[Finding]:
    """Periods by a column that no index leads to: each descent would read the table."""
    name = outline.periods
    if name is None or outline.opaque or not table.has_column(name) or table.rows < SORTED_ROWS:
        return
    # Small tables are read whole sooner than anybody notices.
    fixed, order = fixed_columns(outline), Order((Term(name),))
    whole = [index for index in table.indexes if not index.partial]
    # Found from either end, so the direction of the index does not matter.
    if any(serves_order(index, order, fixed, table, server.engine, lax=True) for index in whole):
        return
    yield make_finding(
        "periods-unindexed",
        f"periods by {name}",
        f"no index leads to it, so finding each period reads {table.rows:,.0f} rows",
        create_text(advise_index(outline, order, table, server.engine), table, server.engine),
    )


def _find_computed(
    order: Order, outline: Outline, table: TableFacts, server: ServerFacts
) -> Iterator[Finding]:
    """Yield a finding for each expression in an order, with the index that would serve it."""
    for term in order.terms:
        # A name with a dot is a column of another table, of which these facts know nothing.
        if table.has_column(term.name) or "." in term.name:
            continue
        what = f"{term.name} is computed for every row of each page"
        fix = _index_of(order, outline, table, server) or "Store it in a column with an index"
        yield make_finding("computed-order", f"order {order}", what, fix)


def _index_of(order: Order, outline: Outline, table: TableFacts, server: ServerFacts) -> str:
    """Return the index of an order's expressions; none where engines index columns alone."""
    known = [table.has_column(term.name) or term.name in outline.computed for term in order.terms]
    if not TRAITS[server.engine].expression_indexes or not all(known):
        return ""
    # Columns fixed by equality go first: behind them the expression gives the order.
    fixed = [one.column for one in outline.conditions if one.kind == "equal"]
    parts = [quote(name, server.engine) for name in fixed]
    for term in (term for term in order.terms if term.name not in fixed):
        computed = outline.computed.get(term.name)
        sorted_by = quote(term.name, server.engine) if computed is None else f"({computed})"
        parts.append(f"{sorted_by} DESC" if term.descending else sorted_by)
    name = plain_name(table.bare_name, "by", order.terms[0].name)
    source = quote_table(table.name, table.schema, server.engine)
    return f"CREATE INDEX {name} ON {source} ({', '.join(parts)})"


def _find_terms(
    order: Order, table: TableFacts, writers: Writers, server: ServerFacts, walk: _Walk
) -> Iterator[Finding]:
    about = f"order {order}"
    moving = [name for name in order.names if name in writers.moving]
    if moving:
        again, dodges = moved_about(walk.stream, walk.size, walk.pages, walk.dwell_s)
        yield make_finding(
            "moving-key",
            about,
            f"{moving[0]} of existing rows changes {writers.moves_per_minute:g} times per minute. "
            f"In a {walk.pages:,}-page walk by key {render_mean(again)} rows are seen twice and "
            f"{render_mean(dodges)} are missed",
            "Order by a column that does not change, or read a frozen list",
        )
    for term in order.terms:
        if not table.has_column(term.name):
            continue
        column = table.column(term.name)
        # By parts of the name, since each engine spells the same type in several ways.
        kind = column.type.upper()
        if any(part in kind for part in _FLOATS):
            yield make_finding(
                "float-key",
                about,
                f"{term.name} is {column.type}: two values that print the same may differ",
                "Keep a unique column behind it in the order, or store a decimal",
            )
        # The other servers carry their collations along, and so does this one those of codes.
        from_outside = TRAITS[server.engine].outside_collations and column.collation not in _BY_CODE
        if from_outside and term is order.terms[0] and any(part in kind for part in _TEXTS):
            yield make_finding(
                "text-order",
                about,
                f"{term.name} sorts by its collation"
                + (f" {column.collation}" if column.collation else "")
                + ", and an upgrade of the system's collations moves rows",
                'Use the collation "C" if its order will do, or rebuild the index after upgrades',
            )
