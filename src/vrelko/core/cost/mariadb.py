"""Work of page statements on MariaDB (InnoDB).

`entries` and `scanned` together are the rows its handlers hand over (Handler_read_*), with those
read again after a sort. Each row that a secondary index leads to is sought from the root of the
primary key, however near it lies to the one before.
"""

from __future__ import annotations

import math
from dataclasses import replace

from vrelko.core.cost.inputs import CostInputs
from vrelko.core.cost.work import Ask, Work

_ADDONS_BYTES = 1024  # wider rows are sorted by their ids and read again
_DIVES = 2.0
_QUEUE_SLOWER = 3.0  # the server sorts all where a queue would keep more than a third


def work_of(inputs: CostInputs, ask: Ask) -> Work:
    """Return the work of one statement."""
    work = _of_one(inputs, ask)
    parts = inputs.table.partitions
    # What a join reads of the table is told by the server, partitions and all.
    if parts < 2 or ask.form == "all":
        return work
    # A page behind a key opens each partition for the ties and once more for what follows.
    opened = 2.0 * parts - 2 if ask.form == "seek" else float(parts)  # each by its own descent
    return replace(work, entries=work.entries + opened, blocks=work.blocks + opened * inputs.levels)


def _of_one(inputs: CostInputs, ask: Ask) -> Work:
    """Return the work of one statement, as of a table that is not partitioned."""
    if ask.form == "deferred":
        return _deferred(inputs, ask)
    if inputs.path.led_by is not None and ask.form != "all":
        return _led(inputs, ask)
    if ask.form == "all":
        return _read_all(inputs)
    if inputs.path.kind == "grouped":
        return _by_groups(inputs, ask)
    if ask.form == "count":
        return _count(inputs, ask.rows)
    if ask.form == "whole":
        return _page(inputs, 0.0, inputs.matching, ask)
    return _page(inputs, ask.skip, ask.rows, ask)


def _page(inputs: CostInputs, skip: float, rows: float, ask: Ask) -> Work:
    rows = min(rows, max(inputs.matching - skip, 0.0))
    out = {"rows": rows, "bytes": rows * inputs.row_bytes, "values": rows * inputs.columns}
    if inputs.in_order:
        # Ties and directions make several ranges of one key, all in one statement.
        more = inputs.terms - 1 if ask.form == "seek" else 0  # each range ends in one row too many
        walked = _walk(inputs, inputs.entries(skip + rows) + more)
        # Before it reads a range the optimizer dives into the index to estimate it.
        dives = _DIVES if ask.form == "seek" or inputs.path.bounded else 0.0
        return replace(walked, dives=dives, **out)
    return replace(_sorted(inputs, skip + rows), **out)


def _led(inputs: CostInputs, ask: Ask) -> Work:
    """A join that reads another table first and finds the paged rows by an index on its key.

    They go into a temporary table, are read from there to be sorted, and the page's rows again.
    """
    leader = inputs.path.led_by
    assert leader is not None
    found = inputs.reached * inputs.path.joined
    read = _walk(inputs, found)
    # Only keys of the other table that lead to rows of this one are sought with success.
    keys = leader.rows * inputs.path.joined
    read = replace(read, scanned=read.scanned + leader.rows, seeks=read.seeks + keys)
    if ask.form == "count":
        return replace(read, counted=found, rows=1, bytes=8, values=1)
    rows = min(ask.rows, max(inputs.matching - ask.skip, 0.0))
    if ask.form == "whole":
        rows = inputs.matching
    # LIMIT keeps what OFFSET then drops, so both are read back from the sort.
    kept = ask.skip + rows
    read = replace(
        read,
        scanned=read.scanned + inputs.matching + kept,
        sorted_rows=inputs.matching,
        sort_logs=inputs.matching * math.log2(inputs.matching + 2),
    )
    out = {"rows": rows, "bytes": rows * inputs.row_bytes, "values": rows * inputs.columns}
    return replace(read, **out)


def _by_groups(inputs: CostInputs, ask: Ask) -> Work:
    """A page by key of an order that an index has the first term of.

    The value its last row has is looked up in the index; then the rows up to the end of that
    value's group are read and sorted.
    """
    rows = min(ask.rows, inputs.matching)
    out = {"rows": rows, "bytes": rows * inputs.row_bytes, "values": rows * inputs.columns}
    apart = bool(inputs.path.residual) and not inputs.path.inside
    # The bound is found in the index alone, unless a filter has to be checked in the rows.
    bound = _walk(
        replace(inputs, path=replace(inputs.path, covering=not apart)), inputs.entries(rows)
    )
    entries = inputs.grouped(0, rows, ask.at)
    read = _walk(inputs, entries)
    sorting = {"sorted_rows": entries, "sort_units": 2 * entries, "dives": _DIVES}
    return replace(bound + read, statements=2.0, **sorting, **out)


def _walk(inputs: CostInputs, entries: float) -> Work:
    leaves = inputs.levels + entries / inputs.entries_per_leaf
    visits = 0.0 if inputs.path.covering or inputs.path.index is None else entries
    if inputs.path.inside:
        visits *= inputs.passing
    # The primary key is the table: its entries are the rows.
    if inputs.path.index is not None and inputs.path.index.name == "PRIMARY":
        visits = 0.0
    blocks = leaves + visits * inputs.table.levels
    checked = entries if inputs.path.residual else 0.0
    # Rows read where they lie are scanned; those of an index are walked, and cost otherwise.
    direct = visits == 0.0 and not inputs.path.covering
    return Work(
        entries=0.0 if direct else entries,
        scanned=entries if direct else 0.0,
        scanned_blocks=leaves if direct else 0.0,
        visits=visits,
        blocks=blocks,
        checked=checked,
        misses=leaves + min(visits, inputs.table.blocks),
    )


def _read_all(inputs: CostInputs) -> Work:
    if inputs.path.index is None:
        rows, blocks = inputs.table.rows + 1, inputs.table.blocks
        return Work(
            scanned=rows,
            scanned_blocks=blocks,
            blocks=blocks,
            misses=blocks,
            checked=rows if inputs.path.residual or inputs.path.fixed else 0.0,
        )
    return _walk(inputs, inputs.reached)


def _sorted(inputs: CostInputs, kept: float) -> Work:
    read = _read_all(inputs)
    # Conditions are checked before the sort, so only what passes them is sorted.
    n = max(inputs.matching, 1.0)
    kept = min(max(kept, 1.0), n)
    # Short rows are sorted whole; of longer ones the ids are, and the rows are read once more.
    addons = inputs.declared + inputs.sorted_by <= _ADDONS_BYTES
    width = inputs.row_bytes + 16 if addons else 24
    memory = float(inputs.server.settings.get("sort_buffer_size", 2 * 2**20))
    again = 0.0 if addons else kept
    read = replace(read, seeks=again, sorted_rows=n)
    # A queue of the best rows: most rows are compared once, and few enter it.
    if kept * width <= memory and kept * _QUEUE_SLOWER <= n:
        units = n + kept * (1 + math.log(n / kept)) * math.log2(kept + 2)
        return replace(read, sort_units=units)
    spilled = n * width if n * width > memory else 0.0
    return replace(read, sort_logs=n * math.log2(n + 1), spilled=spilled)


def _count(inputs: CostInputs, cap: float) -> Work:
    counted = min(inputs.matching, cap)
    walked = _walk(inputs, inputs.entries(counted))
    # A capped count goes through a derived table, which hands over each row again.
    copied = counted / 3 if cap < math.inf else 0.0
    return replace(walked, counted=counted, copied=copied, rows=1, bytes=8, values=1)


def _deferred(inputs: CostInputs, ask: Ask) -> Work:
    rows = min(ask.rows, max(inputs.matching - ask.skip, 0.0))
    # Keys are short enough to be sorted whole, whatever the rows are.
    keys = replace(inputs, row_bytes=16.0, declared=16.0)
    if inputs.path.led_by is not None:
        walked = _led(keys, replace(ask, form="page"))
    elif inputs.in_order:
        walked = _walk(keys, keys.entries(ask.skip + rows))
    else:
        walked = _sorted(keys, ask.skip + rows)
    return replace(
        walked,
        seeks=rows,
        copied=rows,
        blocks=walked.blocks + rows * inputs.table.levels,
        rows=rows,
        bytes=rows * inputs.row_bytes,
        values=rows * inputs.columns,
        misses=walked.misses + rows,
    )


def handler_rows(work: Work) -> float:
    """Return the rows that handlers hand over for a work: what Handler_read_* adds up to."""
    # A row in a temporary table is written, read back, and read once more for the join.
    return work.entries + work.scanned + work.seeks + 3 * work.copied
