"""Work of page statements on PostgreSQL; `blocks` are shared buffers, found or read.

An index scan keeps the table block of the entry before pinned, so it asks for a buffer at each
switch of the block, not at each entry: levels + (E - 1) / L + 1 + (E - 1) switches.
"""

from __future__ import annotations

import math
from dataclasses import replace

from vrelko.core.cost.groups import blocks_between, scattered_share
from vrelko.core.cost.inputs import CostInputs
from vrelko.core.cost.postgresql_switches import (
    alike_entries,
    apart_share,
    switch_share,
    table_misses,
    turned_back,
    usual_switches,
)
from vrelko.core.cost.work import Ask, Work
from vrelko.core.index import IndexFacts
from vrelko.core.index_order import serves_order

_SORT_ROW_BYTES = 24  # beside a sorted row's own bytes


_MIXED = 2.0  # entries alike, of which some live on as others die


def work_of(inputs: CostInputs, ask: Ask) -> Work:
    """Return the work of one statement."""
    work = _of_one(inputs, ask)
    path = inputs.path
    if path.parts < 2 or path.index is None:
        return work
    # Without a merge partitions are read one after the other, and a full page needs no other.
    lazy = path.kind != "sorted" and not path.merged and ask.form not in ("count", "whole")
    more = 0.0 if lazy else path.parts - 1.0
    blocks = more * (inputs.levels + (0.0 if path.covering else 1.0))
    return replace(work, entries=work.entries + more, blocks=work.blocks + blocks)


def _of_one(inputs: CostInputs, ask: Ask) -> Work:
    """Return the work of one statement, as of a table that is not partitioned."""
    if ask.form == "deferred":
        return _deferred(inputs, ask)
    if ask.form == "count":
        return _count(inputs, ask.rows)
    if ask.form == "all":
        return _read_all(inputs)
    if ask.form == "whole":
        return _page(inputs, 0.0, inputs.matching, whole=True)
    # A key in mixed directions is several statements, the first of which the index may serve in
    # order.
    if ask.form == "seek" and inputs.splits and inputs.path.kind == "grouped":
        return _split_groups(inputs, ask)
    page = _page(inputs, ask.skip, ask.rows, ask.at)
    return _split(inputs, page) if ask.form == "seek" and inputs.in_order else page


def _split_groups(inputs: CostInputs, ask: Ask) -> Work:
    """Return the work of a page behind a key in several statements, the first of the key's ties.

    Where the index has the other terms behind those that tie, it gives them in order; the next
    statement reads groups, where the page was left short.
    """
    path, sharing = inputs.path, inputs.splits[0]
    rows = min(ask.rows, inputs.matching)
    page = _page(inputs, 0, rows, ask.at)
    # The next statement runs where fewer rows tie than the page wants: rows / ties of the pages.
    more = min(sum(min(rows / one, 1.0) for one in inputs.splits), 1.0)
    if path.index is None or not _serves_ties(inputs, path.index):
        return replace(page, statements=1 + more)
    ordered = replace(inputs, path=replace(path, kind="ordered"), in_order=True)
    # On the mean half of the rows that tie with the key lie behind it.
    ties = min(rows, sharing / 2)
    first = _page(ordered, 0, ties, ask.at)
    again = _by_groups(inputs, 0, max(rows - ties, 1.0), ask.at).times(more)
    kept = {"rows": page.rows, "bytes": page.bytes, "values": page.values}
    return replace(first + again, statements=1 + more, **kept)


def _serves_ties(inputs: CostInputs, index: IndexFacts) -> bool:
    """Tell whether an index gives rows alike in the presorted terms in the order of the others."""
    fixed = (*inputs.path.fixed, *inputs.path.presorted)
    return serves_order(index, inputs.order, fixed, inputs.table, inputs.server.engine, lax=True)


def _split(inputs: CostInputs, page: Work) -> Work:
    """Return the work of a page behind a key whose ranges are statements of their own.

    Each further one runs where those ahead left the page short. They hold the rows that share
    terms with the key, on the mean half of `splits`, evenly spread: need / splits of the pages.
    """
    more = sum(min(page.rows / sharing, 1.0) for sharing in inputs.splits)
    again = more * (inputs.levels + 1 - switch_share(inputs))
    return replace(
        page,
        statements=page.statements + more,
        entries=page.entries + more,
        blocks=page.blocks + again,
    )


def _page(
    inputs: CostInputs, skip: float, rows: float, at: float = 0.0, whole: bool = False
) -> Work:
    rows = min(rows, max(inputs.matching - skip, 0.0))
    out = {"rows": rows, "bytes": rows * inputs.row_bytes, "values": rows * inputs.columns}
    if inputs.in_order:
        begin = max(at, 0.0)
        return replace(_index_walk(inputs, inputs.entries(skip + rows), begin), **out)
    if inputs.path.kind == "grouped":
        return replace(_by_groups(inputs, skip, rows, at), **out)
    return replace(_sorted(inputs, skip + rows, whole), **out)


def _by_groups(inputs: CostInputs, skip: float, rows: float, at: float) -> Work:
    """Groups read to their end in the order of an index, each sorted by itself."""
    entries = inputs.grouped(skip, rows, at)
    walked = _index_walk(inputs, entries, max(at, 0.0))
    index = inputs.path.index
    known = {*inputs.path.fixed, *inputs.path.presorted}
    if index is not None and not inputs.path.covering and {c.name for c in index.columns} <= known:
        walked = _in_places(inputs, walked, skip, rows, at)
    return replace(walked, sorted_rows=entries, sort_units=2 * entries)


def _in_places(inputs: CostInputs, walked: Work, skip: float, rows: float, at: float) -> Work:
    """Return the walk of groups in which rows stand in the order of their places."""
    begin, end = inputs.touched(skip, rows, at)
    groups = inputs.groups
    assert groups is not None
    dead = _with_dead(inputs)  # which lie among the live ones
    walked_over = replace(groups, rows=groups.rows * dead)
    blocks = blocks_between(walked_over, begin * dead, end * dead, inputs.table.blocks)
    near = usual_switches(inputs) / max(scattered_share(groups, inputs.table.blocks), 1e-9)
    blocks = max(blocks * min(near, 1.0), 1.0)
    if inputs.path.backward:
        blocks += walked.entries * turned_back(inputs, usual_switches(inputs))
    return replace(walked, switches=blocks, blocks=walked.blocks - walked.switches + blocks)


def _index_walk(inputs: CostInputs, entries: float, at: float = 0.0) -> Work:
    """Entries of an index in its order, from the row `at`, and their table rows."""
    switching = switch_share(inputs, at, at + entries * inputs.passing)
    entries *= _with_dead(inputs)
    leaves = inputs.levels + max(entries - 1, 0.0) / inputs.entries_per_leaf
    if inputs.path.covering:
        # Blocks that vacuum has not marked are read even where the index holds all that is wanted.
        unseen = 1 - inputs.table.visible_share
        visits = entries * unseen
        switches = unseen * (1 + max(entries - 1, 0.0) * switching)
        blocks = leaves + 1 + switches  # the visibility map's
    else:
        visits = entries * inputs.passing if inputs.path.inside else entries
        switches = 1 + max(visits - 1, 0.0) * switching
        blocks = leaves + switches
    # Conditions outside the index are tested on each row that was fetched for it.
    checked = entries if inputs.path.residual else 0.0
    misses = leaves + table_misses(inputs, visits)
    return Work(
        entries=entries,
        visits=visits,
        switches=switches,
        blocks=blocks,
        checked=checked,
        misses=misses,
    )


def _read_all(inputs: CostInputs, share: float = 1.0) -> Work:
    """All rows that the fixed columns leave, in the table's order: a scan, or by a bitmap."""
    if inputs.path.index is None:
        rows = inputs.table.rows * share
        blocks = inputs.table.blocks * share
        checked = rows if inputs.path.residual or inputs.path.fixed else 0.0
        return Work(
            scanned=rows, scanned_blocks=blocks, blocks=blocks, checked=checked, misses=blocks
        )
    # In the index's order each row is fetched where it comes; a bitmap sorts the fetches first.
    if inputs.path.scan == "index" or inputs.path.kind == "grouped":
        return _index_walk(inputs, inputs.reached * share)
    entries = inputs.reached * share * _with_dead(inputs)
    leaves = inputs.levels + entries / inputs.entries_per_leaf
    part = min(entries / max(inputs.table.rows, 1.0), 1.0)
    # Blocks that hold at least one of the rows, were these drawn at random (Yao 1977).
    spread = inputs.table.blocks * (1 - (1 - part) ** inputs.rows_per_block)
    clustered = entries / inputs.rows_per_block  # rows that lie together fill their blocks
    heap = min(spread, max(entries * apart_share(inputs), clustered))
    return Work(
        entries=entries,
        visits=entries,
        scanned_blocks=heap,
        blocks=leaves + heap,
        checked=entries if inputs.path.residual else 0.0,
        misses=leaves + heap,
    )


def _sorted(inputs: CostInputs, kept: float, whole: bool) -> Work:
    """Everything read, then the first `kept` rows of it by a sort."""
    read = _read_all(inputs)
    n = max(inputs.matching, 1.0)
    kept = min(max(kept, 1.0), n)
    width = inputs.row_bytes + _SORT_ROW_BYTES
    # The queue of the best rows is taken only where it is much smaller than all, and fits.
    memory = _memory(inputs, "work_mem", 4 * 2**20)
    if not whole and 2 * kept < n and 2 * kept * width <= memory:
        units = n + kept * (1 + math.log(n / kept)) * math.log2(kept + 2)
        return replace(read, sorted_rows=n, sort_units=units)
    spilled = n * width if n * width > memory else 0.0
    return replace(read, sorted_rows=n, sort_logs=n * math.log2(n + 1), spilled=spilled)


def _count(inputs: CostInputs, cap: float) -> Work:
    counted = min(inputs.matching, cap)
    # A capped count ends early, so it reads no more than its share.
    share = counted / inputs.matching if inputs.matching else 1.0
    if inputs.path.index is not None and inputs.path.scan == "index":
        read = _index_walk(inputs, inputs.entries(counted))
    else:
        read = _read_all(inputs, share)
    return replace(read, counted=counted, rows=1, bytes=8, values=1)


def _deferred(inputs: CostInputs, ask: Ask) -> Work:
    rows = min(ask.rows, max(inputs.matching - ask.skip, 0.0))
    # Only keys go through the sort; the page's rows are looked up afterwards.
    keys = replace(inputs, row_bytes=16.0)
    if inputs.in_order:
        walked = _index_walk(keys, keys.entries(ask.skip + rows))
    elif inputs.path.kind == "grouped":
        walked = _by_groups(keys, ask.skip, rows, 0.0)
    else:
        walked = _sorted(keys, ask.skip + rows, whole=False)
    per_seek = blocks_per_key(inputs)
    return replace(
        walked,
        seeks=rows,
        blocks=walked.blocks + rows * per_seek,
        rows=rows,
        bytes=rows * inputs.row_bytes,
        values=rows * inputs.columns,
        misses=walked.misses + table_misses(inputs, rows) + rows,
    )


def blocks_per_key(inputs: CostInputs) -> float:
    """Return the blocks that finding one row by its primary key takes."""
    return _key_levels(inputs) + 1.0


def _key_levels(inputs: CostInputs) -> int:
    for index in inputs.table.indexes:
        if tuple(column.name for column in index.columns) == inputs.table.primary_key:
            return index.levels or 3
    return 3


def _with_dead(inputs: CostInputs) -> float:
    """Return entries walked for each live one.

    The first walk over an entry of a dead row marks it (kill_prior_tuple), and later ones pass it
    by: with d dead rows a live one it is 1 + d at first, then 1. What was walked is not known, and
    the geometric mean errs least. A replica may not pass them by; nor is a list of entries alike
    marked while one of them is alive.
    """
    # An entry of a dead row is walked like any other until it has been marked.
    all_walked = 1 + inputs.table.dead_rows / max(inputs.table.rows, 1.0)
    never = inputs.server.settings.get("replica") == "yes" or alike_entries(inputs) >= _MIXED
    return all_walked if never else math.sqrt(all_walked)


def _memory(inputs: CostInputs, name: str, usual: float) -> float:
    """Return a memory setting in bytes; the server tells it as "4096 kB"."""
    number, _, unit = str(inputs.server.settings.get(name, "")).partition(" ")
    if not number.isdigit():
        return usual
    return float(number) * {"kB": 1024, "8kB": 8192, "MB": 2**20}.get(unit, 1)
