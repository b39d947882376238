"""Faults of how a server reads a listing: its access path, its statistics, its dead rows."""

from __future__ import annotations

from collections.abc import Iterator

from vrelko.core.access import advise_index, fixed_columns
from vrelko.core.arithmetic import page_count
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ServerFacts, TableFacts
from vrelko.core.findings import Finding, make_finding
from vrelko.core.index_advice import create_text
from vrelko.core.number_format import render_many
from vrelko.core.reader_load import VariantModel
from vrelko.core.set_filters import MOST_VALUES
from vrelko.core.workload import Readers

_LOW = 0.01
_LEAKY = ("NUMERIC", "DECIMAL", "ENUM", "INTERVAL")


def find_misread(variant: VariantModel, server: ServerFacts) -> Iterator[Finding]:
    """Strategies whose pages the server counted otherwise than predicted."""
    # One finding for all: they come from one misread plan, mostly.
    doubted = [check for check in variant.model.checks.values() if not check.believed]
    if not doubted:
        return
    names = [check.strategy for check in doubted]
    # Readers want one example, the plainest there is.
    worst = max(doubted, key=lambda check: check.off)
    counts = [one for one in worst.counts if one.counted is not None]
    node = next((check.node for check in doubted if check.node), "")
    told = f"the server's plan has a step Vrelko cannot estimate: {node!r}" if node else ""
    if counts:
        one = max(counts, key=lambda count: count.off)
        where = f"the page behind row {one.offset:,.0f}" if one.size else "all rows"
        read = (
            f"{worst.strategy}: {where} was estimated at {one.predicted:,.0f} "
            f"{TRAITS[server.engine].unit} and read {one.counted:,.0f}"
        )
        told = f"{told}; {read}" if told else read
    many = sum(len(check.counts) for check in doubted)
    yield make_finding(
        "plan-misread",
        f"order {variant.order}",
        f"{told}. Costs of {', '.join(names)} therefore come from {render_many(many, 'page')} "
        "that were run",
        "Nothing needs to be done. Between the depths that were run these costs are rougher",
    )


def find_path(variant: VariantModel, readers: Readers, server: ServerFacts) -> Iterator[Finding]:
    """Yield the faults of the access path that a variant's pages take."""
    outline, model = variant.outline, variant.model
    path, table = model.path, model.table
    about = f"order {variant.order}"
    if path.residual and path.kind == "ordered" and table.rows > 10_000:
        evidence = (
            f"{', '.join(path.residual)} is not in the index, so each page reads "
            f"{model.keyset(outline.sizes.default + 1).read:,.0f} rows or entries to find its own"
        )
        # Below one row in a hundred a page walks thousands of entries, whatever its size.
        code = "low-selectivity" if path.passing < _LOW else "filter-outside-index"
        yield make_finding(code, about, evidence, _index_for(variant, server))
    for condition in outline.conditions:
        given = outline.params.get(condition.parameter or "", condition.value)
        many = len(given) if isinstance(given, (list, tuple, set, frozenset)) else 0
        if condition.kind == "in" and many > MOST_VALUES:
            yield make_finding(
                "set-too-large",
                f"filter {condition.column}",
                f"the set has {many:,} values; only up to {MOST_VALUES} are looked up one by one",
                "Join a table of the values, or narrow the set",
            )
    pages = page_count(round(model.matching), outline.sizes.default)
    max_offset = readers.depth.page_at(0.99, max(pages, 1))
    # Who jumps may land anywhere; who walks seldom goes beyond 99 % of walks.
    reach = model.matching if readers.depth.jumps else max_offset * outline.sizes.default
    leaves = model.routes.leaves
    if leaves is not None and leaves <= reach:
        yield make_finding(
            "path-switch",
            about,
            f"from row {leaves:,.0f} on, which readers reach, the server stops using the index for "
            "offset pages",
            "Serve it by keyset, or by deferred-join",
        )
    rare = path.passing < 0.05 and path.residual
    if TRAITS[server.engine].generic_plans and rare:
        # PostgreSQL plans a prepared statement once more without its values after five runs.
        mode = server.settings.get("plan_cache_mode", "auto")
        if mode != "force_custom_plan":
            yield make_finding(
                "generic-plan",
                about,
                "a prepared statement may keep a plan made without knowing how rare "
                f"the filter's rows are (plan_cache_mode = {mode})",
                "Set plan_cache_mode = force_custom_plan for this connection",
            )
    if table.row_security:
        yield from _find_leaky(variant, about)


def _find_leaky(variant: VariantModel, about: str) -> Iterator[Finding]:
    """Yield the fault of an order by columns whose comparisons a policy must not be shown."""
    table = variant.model.table
    # A policy may not leak rows, so an operator that could runs only behind the policy's own test.
    typed = [name for name in variant.order.names if table.has_column(name)]
    leaky = [n for n in typed if any(p in table.column(n).type.upper() for p in _LEAKY)]
    if leaky:
        yield make_finding(
            "row-security",
            about,
            f"comparisons of {leaky[0]} are not leakproof, so under row "
            "security a key does not narrow the index scan",
            "Create an index that begins with the column of the policy",
        )


def _index_for(variant: VariantModel, server: ServerFacts) -> str:
    """Return the index that holds a variant's equality columns ahead of its order."""
    outline, table = variant.outline, variant.model.table
    own = [name for name in variant.model.path.residual if table.has_column(name)]
    fixed = fixed_columns(outline)
    if not any(name in fixed for name in own):
        return "Filter by equality, or index an expression of the condition ahead of the order"
    index = advise_index(outline, variant.order, table, server.engine)
    return create_text(index, table, server.engine)


def find_state(table: TableFacts, server: ServerFacts) -> Iterator[Finding]:
    """Yield the faults of a table's state: statistics, dead rows, blocks not vacuumed."""
    if table.changed_rows is not None and table.changed_rows > max(0.2 * table.rows, 1_000):
        yield make_finding(
            "statistics-stale",
            f"table {table.name}",
            f"{table.changed_rows:,.0f} rows changed since the last ANALYZE",
            f"ANALYZE {table.name}",
        )
    # Autovacuum leaves a fifth of the rows by default, so below that all is well.
    if table.dead_rows > max(0.2 * table.rows, 1_000):
        yield make_finding(
            "dead-rows",
            f"table {table.name}",
            f"scans pass {table.dead_rows:,.0f} dead rows beside {table.rows:,.0f} live ones",
            f"VACUUM {table.name}, and let autovacuum run more often",
        )
    # Where most blocks are not known to be visible to all, an index alone answers nothing.
    unseen = TRAITS[server.engine].visibility_map and table.visible_share < 0.5
    if unseen and table.rows > 10_000:
        yield make_finding(
            "not-vacuumed",
            f"table {table.name}",
            f"index-only scans still read {1 - table.visible_share:.0%} of the table's blocks",
            f"VACUUM {table.name}",
        )
