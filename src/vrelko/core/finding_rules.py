"""Faults: what is unsound, slow or fragile about a listing, each with evidence and a fix."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from vrelko.core.arithmetic import page_count
from vrelko.core.drift.damage import left_by_draining, lost_by_ties, moved_about, torn_by_lag
from vrelko.core.drift.expectation import Stream
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ServerFacts, TableFacts
from vrelko.core.findings import Finding, make_finding
from vrelko.core.identifiers import plain_name, quote, quote_table
from vrelko.core.index_advice import Advice
from vrelko.core.number_format import render_mean
from vrelko.core.order import Order
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
    outline, table = variants[0].outline, variants[0].model.table
    yield from _find_unread(outline, [variant.model.matching for variant in variants])
    yield from _find_false_key(outline, table)
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
            f"a page reads {item.before.read:,.0f} rows and sorts "
            f"{item.before.sorted_rows:,.0f}; with the index it walks {item.after.entries:,.0f} "
            "entries",
            item.sql,
        )
    for variant in variants if not outline.opaque else ():
        yield from find_path(variant, readers, server)
    for variant in variants:
        yield from find_misread(variant, server)
    yield from _find_drains(outline, variants[0], writers)
    yield from _find_lag(server, walk)
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
        pages = min(round(readers.depth.mean), max(page_count(round(stream.rows), size), 1))
        return cls(stream, size, max(pages, 1), readers.dwell_s)


def _find_false_key(outline: Outline, table: TableFacts) -> Iterator[Finding]:
    """Columns that are said to identify a row, of which there are far fewer values than rows."""
    names = [name for name in outline.claimed if table.has_column(name)]
    known = [table.column(name).distinct for name in names]
    if not names or len(names) < len(outline.claimed) or not all(known) or len(outline.tables) > 1:
        return
    values = math.prod(value or 1.0 for value in known)
    if table.rows > _FEW_ROWS and values < _TOO_FEW * table.rows:
        yield make_finding(
            "unique-false",
            f"unique = {', '.join(names)}",
            f"{table.rows:,.0f} rows have about {values:,.0f} different values: pages would lose "
            "rows that share one",
            "Name columns that tell all rows apart, or give the table a primary key",
        )


def _find_drains(outline: Outline, variant: VariantModel, writers: Writers) -> Iterator[Finding]:
    """A condition on a column that changes: rows leave the listing while it is read."""
    for condition in outline.conditions:
        if condition.column not in writers.moving:
            continue
        rows, size = round(variant.model.matching), outline.sizes.default
        yield make_finding(
            "draining-filter",
            f"condition on {condition.column}",
            f"{condition.column} changes in rows that stay: a worker who handles page after page, "
            f"so that its rows leave the listing, never sees {left_by_draining(rows, size):,} of "
            f"{rows:,} by offset; by key it sees all",
            "Serve it by keyset; or read the first page again until it is empty",
        )


def _find_lag(server: ServerFacts, walk: _Walk) -> Iterator[Finding]:
    """A replica: pages of one walk that come from servers which differ."""
    told = server.settings.get("replica_lag_s", "")
    lag = float(told) if told.replace(".", "", 1).isdigit() else None
    if server.settings.get("replica") != "yes" or (lag is not None and lag < _SHORT_LAG_S):
        return
    evidence = "this server is a replica; how far it lags is not known"
    if lag is not None:
        missed, twice = torn_by_lag(walk.stream, lag, walk.size * walk.pages / 2)
        evidence = (
            f"this replica lags {lag:g} s: where the next page comes from it, by offset "
            f"{render_mean(missed)} rows are missed and {render_mean(twice)} come twice"
        )
    yield make_finding(
        "lagging-replica",
        "server",
        evidence,
        "Read a walk from one server, or by keyset: then nothing at its place is missed",
    )


def _find_unread(outline: Outline, rows: Sequence[float]) -> Iterator[Finding]:
    if outline.opaque:
        yield make_finding(
            "select-opaque",
            "select",
            f"it holds {outline.opaque}: costs are those of computing it whole for each page, "
            f"about {rows[0]:,.0f} rows, whatever its parts keep",
            "Page a select of tables and conditions; or measure, which runs it as it is",
        )
        return
    unread = [c.column or "a condition" for c in outline.conditions if c.kind == "other"]
    if unread:
        yield make_finding(
            "condition-unread",
            f"condition on {unread[0]}",
            "it does not compare a column with a value; where the server does not estimate "
            "it, a third of the rows is taken to pass",
            "Measure; or compare a column with a value, or index the expression",
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
            "Set a most, such as Sizes(25, max=200)",
        )
    if outline.total == "exact" and strategy != "whole" and not outline.counted_once:
        yield make_finding(
            "count-each-request",
            "total",
            f"each page counts {model.matching:,.0f} rows to tell the total",
            (f"total='capped' stops at {outline.cap:,}; " if model.matching > outline.cap else "")
            + "count='once' counts once a walk; total=False where no total is shown",
        )
    if strategy in ("offset", "deferred-join") and model.matching > 100 * outline.sizes.default:
        deep = model.offset(model.matching, outline.sizes.default)
        index = "Make the index advised; then serve it by keyset" if advised else ""
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
            f"{model.matching:,.0f} rows go to every reader",
            "Serve pages",
        )


def _find_order(order: Order, said: int, table: TableFacts, walk: _Walk) -> Iterator[Finding]:
    terms = order.terms[:said]
    if not terms:
        yield make_finding(
            "no-order",
            "order",
            "without an order an engine may give any rows on any page",
            f"Vrelko orders by {order}; give the order your readers expect",
        )
        return
    if said >= len(order):
        return
    evidence = "nothing makes its rows unique"
    known = [table.column(term.name).distinct for term in terms if table.has_column(term.name)]
    if len(known) == len(terms) and all(known):
        sharing = table.rows / math.prod(value or 1.0 for value in known)
        if sharing > 1.5:
            shown = walk.stream.rows / max(table.rows, 1.0)  # of the table, in the listing
            lost = min(lost_by_ties(sharing * shown) * (walk.pages - 1), walk.stream.rows)
            evidence = (
                f"about {sharing:,.0f} rows of the table share a value: a hand-written page that "
                f"goes on behind the last value loses about {render_mean(lost)} rows in a walk of "
                f"{walk.pages:,} pages, and an engine may order ties anew for each page"
            )
    yield make_finding(
        "order-ties",
        f"order {Order(terms)}",
        evidence,
        f"Vrelko orders by {order}; write it so in hand-written queries too",
    )


def _find_shape(order: Order, advice: Sequence[Advice], server: ServerFacts) -> Iterator[Finding]:
    if not any(item.order == str(order) for item in advice):
        return
    if not order.uniform:
        yield make_finding(
            "mixed-directions",
            f"order {order}",
            "no index runs in both of its directions",
            "Make the index advised, or let all terms run one way",
        )
    traits = TRAITS[server.engine]
    for term in order.terms:
        first = term.nulls == "first"
        natural = first == (term.descending != traits.nulls_low)
        if term.nullable and term.nulls and not natural and not traits.nulls_served:
            yield make_finding(
                "nulls-in-order",
                f"order {order}",
                f"{term.name} may be NULL, and no index has its NULLs {term.nulls}",
                "Make the index advised, or place NULLs where the engine has them",
            )


def _find_computed(
    order: Order, outline: Outline, table: TableFacts, server: ServerFacts
) -> Iterator[Finding]:
    """Yield a finding for each expression in an order, with the index that would serve it."""
    for term in order.terms:
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
            f"{moving[0]} changes in rows that stay, "
            f"{writers.moves_per_minute:g} times per minute: in a walk of {walk.pages:,} pages by "
            f"key {render_mean(again)} rows are seen twice and "
            f"{render_mean(dodges)} slip behind it",
            "Order by a column that does not change, or read a frozen list",
        )
    for term in order.terms:
        if not table.has_column(term.name):
            continue
        column = table.column(term.name)
        kind = column.type.upper()
        if any(part in kind for part in _FLOATS):
            yield make_finding(
                "float-key",
                about,
                f"{term.name} is {column.type}: values that print alike may differ",
                "Keep the unique column behind it, or store a decimal",
            )
        # The other servers carry their collations along, and so does this one those of codes.
        from_outside = TRAITS[server.engine].outside_collations and column.collation not in _BY_CODE
        if from_outside and term is order.terms[0] and any(part in kind for part in _TEXTS):
            yield make_finding(
                "text-order",
                about,
                f"{term.name} sorts by its collation"
                + (f" {column.collation}" if column.collation else "")
                + "; an upgrade of the system's collations moves rows",
                'Use the collation "C" where that order will do; rebuild the index after upgrades',
            )
