"""Which indexes a listing lacks, and what is wrong with it otherwise."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

from vrelko.core.access import advise_index, choose_path, fixed_columns
from vrelko.core.cost import CostModel, Work, make_model
from vrelko.core.facts import IndexFacts, TableFacts
from vrelko.core.findings import Finding, make_finding
from vrelko.core.order import Order
from vrelko.core.outline import Outline

WHOLE_ROWS = 10_000
"""Beyond this many rows a listing is not loaded whole, whatever it costs."""

SORTED_ROWS = 1_000
"""Fewer rows than this are sorted for each page well within a millisecond; no index is advised."""


@dataclass(frozen=True, slots=True)
class Advice:
    """An index worth making: its statement, which order it serves, and a page's work with it."""

    index: IndexFacts
    table: str
    order: str
    sql: str
    before: Work
    after: Work


def advise_indexes(outline: Outline, table: TableFacts, block_bytes: int) -> Iterator[Advice]:
    """Yield an index for each order of a listing that none serves."""
    for order in outline.orders:
        path = choose_path(outline, order, table)
        if path.kind == "ordered" and not set(fixed_columns(outline)) - set(path.fixed):
            continue
        if table.rows * path.share < SORTED_ROWS:
            continue
        if any(not table.has_column(name) for name in order.names):
            continue
        index = advise_index(outline, order, table)
        richer = replace(table, indexes=(*table.indexes, index))
        better = choose_path(outline, order, richer)
        size = outline.sizes.default
        yield Advice(
            index,
            table.name,
            str(order),
            f"CREATE INDEX {index.name} ON {table.name} ({index.text})",
            make_model(outline, order, path, table, block_bytes).keyset(size + 1),
            make_model(outline, order, better, richer, block_bytes).keyset(size + 1),
        )


def find_faults(
    outline: Outline, model: CostModel, advice: tuple[Advice, ...], strategy: str
) -> Iterator[Finding]:
    """Yield what is unsound, slow or fragile about a listing served by `strategy`."""
    table = model.table
    for order, said in zip(outline.orders, outline.given, strict=True):
        yield from _find_order(order, said, table)
    for item in advice:
        yield make_finding(
            "no-fitting-index",
            f"order {item.order}",
            f"a page reads {item.before.entries:,.0f} rows and sorts "
            f"{item.before.sorted_rows:,.0f}; with the index it walks "
            f"{item.after.entries:,.0f} entries",
            item.sql,
        )
    if outline.sizes.most is None:
        yield make_finding(
            "size-unbounded", "page size",
            f"a reader may ask for all {model.matching:,.0f} rows at once",
            "Set a most, such as Sizes(25, most=200)",
        )  # fmt: skip
    if outline.total == "exact":
        counted = model.count(None)
        yield make_finding(
            "count-each-request", "total",
            f"each page counts {counted.entries:,.0f} entries to tell the total",
            f"total='capped' stops at {outline.cap:,}; total=False where no total is shown",
        )  # fmt: skip
    if strategy == "offset" and model.matching > 100 * outline.sizes.default:
        deep = model.offset(model.matching, outline.sizes.default)
        yield make_finding(
            "deep-offset", "last page",
            f"the last page walks {deep.entries:,.0f} entries",
            "Serve it by keyset, with an index that fits",
        )  # fmt: skip
    if strategy == "whole" and model.matching > WHOLE_ROWS:
        yield make_finding(
            "whole-table", "strategy", f"{model.matching:,.0f} rows go to every reader",
            "Serve pages",
        )  # fmt: skip


def _find_order(order: Order, said: int, table: TableFacts) -> Iterator[Finding]:
    terms = order.terms[:said]
    if not terms:
        yield make_finding(
            "no-order", "order", "without an order an engine may give any rows on any page",
            f"Vrelko orders by {order}; give the order your readers expect",
        )  # fmt: skip
        return
    if said >= len(order):
        return
    evidence = "nothing makes its rows unique"
    known = [table.column(term.name).distinct for term in terms if table.has_column(term.name)]
    if len(known) == len(terms) and all(known):
        sharing = table.rows / math.prod(value or 1.0 for value in known)
        if sharing > 1.5:
            evidence = f"about {sharing:,.0f} rows share a value"
    yield make_finding(
        "order-ties",
        f"order {Order(terms)}",
        evidence,
        f"Vrelko orders by {order}; write it so in hand-written queries too",
    )
