"""Results as tables for a terminal."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, Literal

from rich.console import Console
from rich.table import Table
from rich.text import Text

from vrelko.core.number_format import render_bytes, render_count, render_many, render_ms

if TYPE_CHECKING:
    from vrelko.core.facts import Facts, TableFacts
    from vrelko.measuring.measure import Measurement

PAGED_ROWS = 1_000
"""A table of more rows than this should not be loaded whole by default."""


def console() -> Console:
    """Return a console on stdout, wide enough for tables where no terminal says otherwise."""
    # Rich would colour numbers wherever they stand; only words that need it are marked.
    # In a pipe rich assumes 80 columns, which break a ladder's rows.
    return Console(width=None if sys.stdout.isatty() else 110, highlight=False)


def show_facts(facts: Facts, brief: bool = False) -> None:
    """Print what a survey found; `brief`: of one table neither columns nor indexes."""
    out = console()
    server = facts.server
    out.print(
        f"[bold]{server.engine} {server.version}[/] · blocks of {server.block_bytes:,} bytes"
        f" · cache {render_bytes(server.cache_bytes or 0)}"
    )
    if not facts.tables:
        out.print("The database has no tables.")
    # A whole database column by column would scroll away what is looked for.
    elif len(facts.tables) != 1:
        out.print(_overview(facts))
    else:
        _show_table(out, facts.tables[0], brief)
    for note in facts.notes:
        out.print(f"note: {note}")


def _overview(facts: Facts) -> Table:
    table = make_table("table", ">rows", ">bytes per row", ">size", ">indexes", "needs paging")
    for one in facts.tables:
        paged = "yes" if one.rows > PAGED_ROWS else "no"
        table.add_row(
            one.name,
            render_count(one.rows),
            f"{one.row_bytes:.0f}",
            render_bytes(one.blocks * facts.server.block_bytes),
            str(len(one.indexes)),
            paged,
        )
    return table


def _show_table(out: Console, facts: TableFacts, brief: bool) -> None:
    out.print(
        f"[bold]{facts.name}[/]: {render_many(facts.rows, 'row')} ({facts.rows_from}), "
        f"{facts.row_bytes:.0f} bytes per row, {render_many(facts.blocks, 'block')}"
    )
    if brief:
        return
    columns = make_table("column", "type", ">bytes", ">NULLs", ">distinct", "most common")
    for column in facts.columns:
        # Three show whether values are shared out evenly; facts as JSON hold all of them.
        common = ", ".join(
            f"{value or chr(39) * 2} {share:.0%}" for value, share in column.common[:3]
        )
        columns.add_row(
            column.name + ("  [dim]key[/]" if column.name in facts.primary_key else ""),
            column.type,
            f"{column.width or 0:.1f}",
            f"{column.null_share or 0:.1%}" if column.nullable else "never",
            render_count(column.distinct) if column.distinct else "?",
            common,
        )
    out.print(columns)
    indexes = make_table(
        "index", "columns", "unique", ">bytes per entry", ">leaf blocks", ">levels"
    )
    for index in facts.indexes:
        indexes.add_row(
            index.name,
            index.text + (" (partial)" if index.partial else ""),
            "yes" if index.unique else "no",
            f"{index.entry_bytes or 0:.0f}",
            "?" if index.leaf_blocks is None else render_count(index.leaf_blocks),
            str(index.levels or "?"),
        )
    out.print(indexes)


def show_statements(found: Mapping[str, Any]) -> None:
    """Print statements as they could be pasted elsewhere."""
    out = console()
    out.print(f"[dim]-- {found['listing']} on {found['dialect']}[/]")
    for statement in found["statements"]:
        # A function of PostgreSQL has its body quoted, so clients see where it ends.
        dialect = found["dialect"] if statement.startswith("CREATE PROCEDURE") else ""
        before, after = _CLIENTS.get(dialect, ("", ";\n"))
        # Not wrapped, and as Text: brackets in SQL are no markup.
        out.print(Text(before + statement + after), soft_wrap=True)


_CLIENTS = {
    "mariadb": ("DELIMITER //\n", "//\nDELIMITER ;\n"),
    "mysql": ("DELIMITER //\n", "//\nDELIMITER ;\n"),
    "mssql": ("", "\nGO\n"),
    "oracle": ("", "\n/\n"),
}
"""What stands around a procedure, so that a client does not end it at its first semicolon."""


def show_measurement(measurement: Measurement, brief: bool = False) -> None:
    """Print whether a plan held, then estimate, count and ratio of each page unless `brief`."""
    out = console()
    unit = measurement.unit
    head, told = measurement.outcome
    if brief:
        out.print(f"[bold]{head}[/] {told}")
        return
    out.print(f"\n[bold]{head}[/] {told}")
    table = make_table(
        "strategy",
        ">page",
        ">rows",
        # On two lines, or a table of many pages would be wider than a terminal.
        f">{unit}\nestimated",
        ">measured",
        ">ratio",
        ">ms\nestimated",
        ">90 %\ninterval",
        ">ms\nmeasured",
        ">ratio",
    )
    # A strategy's name stands once, over its pages.
    last = ""
    for page in measurement.pages:
        number = "all" if page.strategy == "whole" else f"{page.page:,}" if page.page else ""
        # Numbers that miss their interval are what somebody reads a measurement for.
        outside = "" if page.inside else "[yellow]"
        table.add_row(
            page.strategy if page.strategy != last else "",
            number,
            render_count(page.rows),
            f"{page.expected:,.0f}",
            f"{page.counted:,.0f}",
            f"{page.ratio:.2f}",
            render_ms(page.time.ms),
            f"{render_ms(page.time.low)}–{render_ms(page.time.high)}",
            outside + render_ms(page.ms),
            f"{page.ms_ratio:.2f}",
        )
        last = page.strategy
    out.print(table, "")
    memory = make_table("memory", ">readers at once", ">rows each", ">peak", ">ms to first row")
    for one in measurement.memory:
        name = {"keyset": "a page"}.get(one.strategy, one.strategy)
        memory.add_row(
            name,
            f"{one.readers:,}",
            f"{one.rows:,}",
            render_bytes(one.peak_bytes),
            render_ms(one.first_row_ms),
        )
    out.print(memory)
    for note in measurement.notes:
        out.print(f"note: {note}")


def make_table(*titles: str) -> Table:
    """Return an empty table; a title with ">" before it is of numbers, set to the right."""
    from rich import box

    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, header_style="bold")
    for title in titles:
        right = title.startswith(">")
        # Names of strategies have hyphens, at which they would be broken.
        whole = right or title == "strategy"
        side: Literal["left", "right"] = "right" if right else "left"
        table.add_column(title.lstrip(">"), justify=side, no_wrap=whole)
    return table
