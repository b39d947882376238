"""What rows that change do to readers, as tables for a terminal."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.table import Table

from vrelko.cli.tables import console, make_table
from vrelko.core.number_format import render_bytes, render_count, render_ms
from vrelko.engines.registry import capabilities_of

if TYPE_CHECKING:
    from vrelko.core.access_log import LogReaders
    from vrelko.core.drift.settle_delay import Settling
    from vrelko.measuring.drift import Drift
    from vrelko.surveying.writes import Writes

_PAGE_ROWS = 8


def show_drift(drift: Drift, details: bool = False, brief: bool = False) -> None:
    """Print what readers see twice or never by each strategy.

    `details` prints every figure; `brief` no table at all.
    """
    out = console()
    # The first sentence is the answer; all else says what it rests on.
    first, *more = drift.sentences
    out.print(f"\n[bold]{first}[/]")
    if not more and not details:  # of a table taken as static there is nothing to compare
        return
    for sentence in (*more, _how(drift)):
        out.print(sentence)
    if brief:
        return
    # The mark needs its meaning only where a table bears it.
    if not all(one.holds for one in drift.expected):
        out.print(
            "?: more rows arrive ahead of the reader in one dwell than fit on a page, which the "
            "estimate does not cover. The simulation does."
        )
    out.print("", _suffered(drift, details))
    out.print(
        "[dim]Per walk. Repeats: rows seen twice. Misses: rows never seen although they were there "
        "all along. Clean: walks without either."
        + (" " + _DETAILS if details else f" `vrelko about {_asked(drift)}` says more.")
        + "[/]"
    )
    if details:
        out.print("", _prices(drift), "")
        pages = _where(drift)
        if pages is not None:
            out.print(pages, "")
        _show_replayed(out, drift)
    _show_crowded(out, drift)


_DETAILS = (
    "Unseen: rows that came after their page was read. Dodges: rows that moved behind the reader. "
    "Outdated: rows shown as they were."
)


def _asked(drift: Drift) -> str:
    """Return a term of the table that a reader may not know."""
    strategies = [str(one.strategy) for one in drift.shown]
    return next((strategy for strategy in ("ceiling", "frozen") if strategy in strategies), "drift")


def _how(drift: Drift) -> str:
    """Return what the figures rest on."""
    drawn = "walks through the recorded changes" if drift.recorded else "simulated walks"
    said = f"Figures come from {drift.simulated[0].walks:,} {drawn}"
    if not drift.replayed:
        return f"{said}; none was replayed."
    walks = drift.replayed[0].walks
    # The replay ran on a real database: other counts than simulated are a fault of ours.
    odd = [one.strategy for one in drift.replayed if not one.alike]
    agreed = "with the same counts" if not odd else f"[red]with other counts by {', '.join(odd)}[/]"
    were = "was" if walks == 1 else "were"
    return f"{said}. {walks:,} of them {were} replayed on a copy of the table, {agreed}."


def _suffered(drift: Drift, details: bool) -> Table:
    titles = ["strategy", ">repeats", ">misses", ">clean", ">ms per page", "stores"]
    if details:
        titles = [
            *("strategy", ">repeats", ">simulated", ">misses", ">simulated", ">clean"),
            *(">unseen", ">dodges", ">outdated"),
        ]
    table = make_table(*titles)
    expected = {one.strategy: one for one in drift.expected}
    # What each costs stands beside what it saves: neither decides alone.
    costs = {one.strategy: one for one in drift.costs}
    for one in drift.shown:
        form = expected.get(str(one.strategy))
        mark = "" if form is None or form.holds else " ?"
        means, errors = one.means, one.errors
        cells = [_title(drift, one.strategy)]
        for what in ("repeats", "misses"):
            # Where there is no closed form simulation stands in, which the column need not say.
            estimate = None if form is None else getattr(form, what)
            if details:
                cells.append("" if estimate is None else _mean(estimate) + mark)
                cells.append(_with_error(means[what], errors[what]))
            else:
                cells.append(_mean(means[what] if estimate is None else estimate) + mark)
        cells.append(f"{one.clean:.0%}")
        if details:
            cells += [_mean(means["unseen"]), _mean(means["dodges"])]
            cells.append(_mean(means["gone"] + means["stale"]))
        else:
            cost = costs[one.strategy]
            cells += [render_ms(cost.page_ms), _stored(cost)]
        table.add_row(*cells)
    return table


def _stored(cost: Any) -> str:
    """Return how much a strategy stores, and what: its short name."""
    what = cost.keeps.partition(":")[0].partition(",")[0]
    if not cost.stored_bytes:
        return str(what)
    return f"{render_bytes(cost.stored_bytes)} per walk: {what}"


def _prices(drift: Drift) -> Table:
    """What a thousand walks and a day suffer, and what each strategy costs the database."""
    table = make_table(
        "strategy",
        ">repeats in\n1,000 walks",
        ">misses in\n1,000 walks",
        ">repeats\nper day",
        ">misses\nper day",
        ">ms\nper page",
        ">ms to\nbegin",
        "stores",
    )
    costs = {one.strategy: one for one in drift.costs}
    for one in drift.shown:
        repeats, misses, cost = one.means["repeats"], one.means["misses"], costs[one.strategy]
        stored = f"{render_bytes(cost.stored_bytes)} per walk: "
        table.add_row(
            _title(drift, one.strategy),
            _about(repeats * 1_000),
            _about(misses * 1_000),
            _about(repeats * drift.walks_per_day),
            _about(misses * drift.walks_per_day),
            render_ms(cost.page_ms),
            render_ms(cost.begin_ms) if cost.begin_ms else "",
            (stored if cost.stored_bytes else "") + cost.keeps,
        )
    return table


def _where(drift: Drift) -> Table | None:
    """Where in the walk rows come again and are missed, pages taken together where many."""
    # Strategies that suffer nothing would be columns of zeros.
    hit = [one for one in drift.shown if any(sum(pair) for pair in one.by_page)]
    if not hit:
        return None
    count = len(hit[0].by_page)
    # A walk of a hundred pages would be a hundred lines.
    step = max(math.ceil(count / _PAGE_ROWS), 1)
    titles = [
        f">{kind} by {one.strategy}"
        for one in hit
        for kind in ("repeats", "misses")
        if any(pair[kind == "misses"] for pair in one.by_page)
    ]
    table = make_table("on page", *titles)
    for low in range(0, count, step):
        part = range(low, min(low + step, count))
        cells = [
            _mean(sum(one.by_page[page][kind] for page in part))
            for one in hit
            for kind in (0, 1)
            if any(pair[kind] for pair in one.by_page)
        ]
        table.add_row(f"{low + 1}–{part[-1] + 1}" if len(part) > 1 else str(low + 1), *cells)
    return table


def _show_replayed(out: Console, drift: Drift) -> None:
    if not drift.replayed:
        return
    counted = make_table(
        "replayed on a copy", ">walks", ">repeats per walk", ">misses per walk", "as simulated"
    )
    for seen in drift.replayed:
        counted.add_row(
            seen.strategy,
            f"{seen.walks:,}",
            _with_error(seen.repeats / seen.walks, seen.repeats_error),
            _with_error(seen.misses / seen.walks, seen.misses_error),
            "every count" if seen.alike else "[red]no[/]",
        )
    out.print(counted, "")


def _show_crowded(out: Console, drift: Drift) -> None:
    if not drift.crowded:
        return
    table = make_table(
        "beside writers",
        ">walks",
        ">rows served",
        ">rows untouched",
        ">repeats",
        ">misses",
        ">changes meanwhile",
    )
    for one in drift.crowded:
        table.add_row(
            one.strategy,
            f"{one.walks:,}",
            f"{one.served:,}",
            f"{one.untouched:,}",
            f"{one.repeats:,}",
            f"{one.misses:,}",
            f"{one.writes:,}",
        )
    out.print(table, "")


def show_log(log: LogReaders) -> None:
    """Print what readers an access log tells of."""
    readers = log.readers
    console().print(
        f"\nReaders from the log: {log.visits:,} visits, {log.requests:,} requests; "
        f"{readers.depth.mean:.3g} pages per visit, {readers.dwell_s:.3g} s per page, "
        f"{readers.depth.jumps:.0%} jumps, {readers.pages_per_minute:.3g} pages per minute, "
        f"{readers.users:,} at once\n"
        f"Left out: {log.malformed:,} malformed lines, {log.other:,} of other addresses or failed, "
        f"{log.odd:,} that ask for no page of this listing"
    )


def show_writes(writes: Writes) -> None:
    """Print how a table is written to, and what to put into a pages file."""
    out = console()
    mean, median, late = writes.lateness_s
    out.print(
        f"[bold]{writes.table}[/] by {writes.column}: the newest {writes.sample:,} rows, over "
        f"{_span(writes.span_s)}: {writes.inserts_per_minute:.3g} inserts per minute"
    )
    out.print(
        f"late: {writes.late_share:.0%} of rows; mean {_span(mean)}, median {_span(median)}, "
        f"p95 {_span(late)}"
    )
    for name, rate in (
        ("deletes", writes.deletes_per_minute),
        ("updates", writes.updates_per_minute),
    ):
        if rate is not None:
            out.print(f"{name}: {rate:.3g} per minute, as the server counted")
    # A table without any row has no busy hour.
    top = max(writes.by_hour) or 1.0
    table = make_table("hour", ">inserts per minute", "")
    for hour, rate in enumerate(writes.by_hour):
        table.add_row(f"{hour:02d}:00", f"{rate:.3g}", "▇" * round(rate / top * 40))
    out.print(table)
    for note in writes.notes:
        out.print(f"note: {note}")
    # In the file's own words, to be pasted as it stands.
    lands = writes.lands
    late_text = f", mean_s = {lands.mean_s:.0f}" if lands.kind == "late" else ""
    out.print(
        "\nFor the pages file (rates of the whole table; a filtered listing has its share):\n"
        "[listing.NAME.writers]\n".replace("[", "\\[")
        + f"inserts_per_minute = {writes.inserts_per_minute:.3g}\n"
        + f"deletes_per_minute = {writes.deletes_per_minute or 0.0:.3g}\n"
        + f'lands = {{ kind = "{lands.kind}"{late_text} }}'
    )


def show_settling(found: Settling, table: str, column: str, engine: str) -> None:
    """Print commit delays, and the waits that follow."""
    out = console()
    every = f"every {_span(found.every_s)}" if found.every_s else "without a pause"
    # The longest wait is the one that loses least; shorter ones stand in the table.
    wait = found.waits[-1]
    out.print(
        f"[bold]{table}: a reader of new rows who asks {every} loses {found.lost:.2%} of them; one "
        f"who waits {_span(wait.wait_s)} loses {_lost(wait.lost)}.[/]\n"
        f"{found.rows:,} rows by {column} came in {found.seconds:g} s. They became visible after "
        f"(at most {_span(found.resolution_s)} less: the pause between two looks)"
    )
    delays = make_table(*(f">{_share(share)}" for share in found.quantiles))
    delays.add_row(*(_span(value) for value in found.quantiles.values()))
    out.print(delays, "")
    waits = make_table(">wait", ">rows later than that", ">rows lost")
    for one in found.waits:
        waits.add_row(_span(one.wait_s), f"1 row in {1 / one.chance:,.0f}", _lost(one.lost))
    out.print(waits, "")
    out.print(
        f"For a chance of {wait.chance / 10:.3g}, watch until {10 / wait.chance:,.0f} rows "
        "have come.\n\nFor the pages file:"
    )
    # Rounded up: a wait that is shorter than measured loses more.
    seconds = math.ceil(wait.wait_s * 1_000) / 1_000
    out.print(f'settle = {{ column = "{column}", seconds = {seconds:g} }}', markup=False)
    if capabilities_of(engine).tells_open_transactions:
        out.print(
            "On PostgreSQL this can be exact: store pg_current_xact_id() in a column and settle by "
            "horizon=True."
        )


def _lost(share: float) -> str:
    return "<0.01%" if 0 < share < 0.0001 else f"{share:.2%}"


def _share(text: str) -> str:
    share = float(text)
    return "longest" if share == 1 else f"{share * 100:g} % within"


def _span(seconds: float) -> str:
    """Return a span of time in the unit that fits it."""
    for unit, length in (("days", 86_400), ("hours", 3_600), ("minutes", 60)):
        if seconds >= 2 * length:
            return f"{seconds / length:.3g} {unit}"
    return f"{seconds:.3g} s" if seconds >= 1 or seconds == 0 else f"{seconds * 1_000:.3g} ms"


def _title(drift: Drift, strategy: str) -> str:
    return f"overlap of {drift.overlap:,}" if strategy == "overlap" else strategy


def _about(value: float) -> str:
    """Return a count that an estimate bears: three figures."""
    # All its digits would claim more than the simulation knows.
    return render_count(float(f"{value:.3g}"))


def _mean(value: float) -> str:
    return "0" if value == 0 else f"{value:.3g}" if value >= 0.01 else "<0.01"


def _with_error(mean: float, error: float) -> str:
    if mean == 0:
        return "0"
    # One walk alone has no spread: its error is infinite, and says nothing.
    return f"{mean:.3g} ± {error:.2g}" if 0 < error < float("inf") else f"{mean:.3g}"
