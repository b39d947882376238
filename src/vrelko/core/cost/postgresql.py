"""Work of page statements on PostgreSQL; `blocks` are shared buffers, found or read.

An index scan keeps the table block of the entry before pinned, so it asks for a buffer at each
switch of the block, not at each entry: levels + (E - 1) / L + 1 + (E - 1) switches.
"""

from __future__ import annotations

import math
from dataclasses import replace

from vrelko.core.cost.groups import blocks_between, scattered_share
from vrelko.core.cost.inputs import CostInputs
from vrelko.core.cost.work import Ask, Work
from vrelko.core.index import IndexFacts
from vrelko.core.index_order import serves_order

_SORT_ROW_BYTES = 24  # beside a sorted row's own bytes


_LISTED = 220.0
"""Entries alike that PostgreSQL keeps in one list: a sixth of a block of 6 bytes each."""

_MIXED = 2.0  # entries alike, of which some live on as others die

_NO_LISTS = ("numeric", "real", "double", "json", "float")  # of types whose alike may differ


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
    again = more * (inputs.levels + 1 - _switches(inputs))
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
    near = _usual_switches(inputs) / max(scattered_share(groups, inputs.table.blocks), 1e-9)
    blocks = max(blocks * min(near, 1.0), 1.0)
    if inputs.path.backward:
        blocks += walked.entries * _turned_back(inputs, _usual_switches(inputs))
    return replace(walked, switches=blocks, blocks=walked.blocks - walked.switches + blocks)


def _index_walk(inputs: CostInputs, entries: float, at: float = 0.0) -> Work:
    """Entries of an index in its order, from the row `at`, and their table rows."""
    switching = _switches(inputs, at, at + entries * inputs.passing)
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
    heap = min(spread, max(entries * _apart(inputs), clustered))
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


def table_misses(inputs: CostInputs, visits: float) -> float:
    """Return distinct table blocks behind `visits` entries side by side.

    Jumps far away go by Mackert and Lohman (1989); the others fill a window w of blocks with
    u = w (1 - exp(-n / w)), u their distinct blocks by switches.
    """
    blocks = max(inputs.table.blocks, 1.0)
    index = inputs.path.index
    # What was probed tells jumps far away from neighbours; without a probe each switch counts as
    # far.
    far = index.far if index is not None and index.far is not None else _switches(inputs)
    jumps, near = visits * far, visits * (1 - far)
    apart = min(2 * blocks * jumps / (2 * blocks + jumps), blocks) if jumps else 0.0
    return min(apart + near / inputs.rows_per_block + min(near, 1.0), blocks)


def _switches(inputs: CostInputs, begin: float = 0.0, end: float = 0.0) -> float:
    """Return the share of neighbouring entries in different table blocks.

    From row `begin` to `end` of the order: NULLs stand by the row's id, which is about its place.
    """
    usual = _usual_switches(inputs)
    if inputs.path.backward:
        usual = min(usual + _turned_back(inputs, usual), 1.0)
    if inputs.nulls is None or end <= begin or not inputs.matching:
        return usual
    first, last = (share * inputs.matching for share in inputs.nulls)
    inside = max(min(end, last) - max(begin, first), 0.0) / (end - begin)
    # NULLs are alike, so the index keeps them in the order of their places in the table.
    null_run = min(1 / (inputs.rows_per_block * max(inputs.nulls[1] - inputs.nulls[0], 1e-9)), 1.0)
    return usual + inside * (min(null_run, usual) - usual)


def _turned_back(inputs: CostInputs, switches: float) -> float:
    """Return the switches an entry that reading an index of many alike from its end adds.

    Entries alike are kept in lists (PostgreSQL 13 on), each of which is read in the order of its
    rows' places, forward, whichever way the index is read: so every list begins in the first of its
    blocks, behind the last one of the list ahead.
    """
    together = min(_alike(inputs), _LISTED)
    if together <= 1:
        return 0.0
    # A list of entries alike spans several blocks with this chance.
    across = min(together * switches, 1.0)
    return (1 - (1 - across) ** 2) * (1 - switches) / together


def _alike(inputs: CostInputs) -> float:
    """Return the mean number of an index's entries that are alike and kept in lists, 1 for none."""
    index = inputs.path.index
    # Entries that differ are not put into lists.
    if index is None or index.unique or not index.columns:
        return 1.0
    alike = inputs.table.rows
    for column in index.columns:
        name = column.name or ""
        known = inputs.table.column(name) if inputs.table.has_column(name) else None
        if known is None or not known.distinct or known.type.lower().startswith(_NO_LISTS):
            return 1.0
        alike /= known.distinct
    return max(alike, 1.0)


def _usual_switches(inputs: CostInputs) -> float:
    """Return the share as probed, or behind an equality as the order without it tells.

    Of rows that the equality picks with a share s, phi lie as the order's own neighbours do: of
    these (1 - (1 - s)^R) / (s R) switch, of the others each.
    """
    least = 1 / inputs.rows_per_block
    index = inputs.path.index
    if index is None:
        return least
    # Behind an equality the probed neighbours are no longer neighbours: rows of other values lie
    # between.
    whole = _without_fixed(inputs)
    if whole is not None and whole.switches is not None and least < 1:
        phi = min(max((1 - max(whole.switches, least)) / (1 - least), 0.0), 1.0)
        share = min(max(inputs.path.share, 1e-9), 1.0)
        near = (1 - (1 - share) ** inputs.rows_per_block) / (share * inputs.rows_per_block)
        return float(min(phi * near + 1 - phi, 1.0))
    if index.switches is not None:
        return max(index.switches, least)
    lead = next((c.name for c in index.columns if c.name not in inputs.path.fixed), None)
    known = (
        inputs.table.column(lead).correlation if lead and inputs.table.has_column(lead) else None
    )
    # Without a probe the statistics' correlation stands in, squared as the server's own costing has
    # it.
    spread = 1 - (known or 0.0) ** 2
    return least + (1 - least) * spread


def _without_fixed(inputs: CostInputs) -> IndexFacts | None:
    """Return an index on the columns behind those that equality fixes."""
    index, fixed = inputs.path.index, inputs.path.fixed
    if index is None or not fixed:
        return None
    rest = [column.name for column in index.columns[len(fixed) :]]
    for other in inputs.table.indexes:
        names = [column.name for column in other.columns]
        if rest and names[: len(rest)] == rest and not other.partial:
            # An index in the same order without the equality tells how rows lie there.
            return other
    return None


def blocks_per_key(inputs: CostInputs) -> float:
    """Return the blocks that finding one row by its primary key takes."""
    return _key_levels(inputs) + 1.0


def _key_levels(inputs: CostInputs) -> int:
    for index in inputs.table.indexes:
        if tuple(column.name for column in index.columns) == inputs.table.primary_key:
            return index.levels or 3
    return 3


def _apart(inputs: CostInputs) -> float:
    """Return the share of a bitmap's rows that lie in blocks of their own.

    By the correlation of the column that an equality fixes, where it is the index's only one: the
    neighbours that were probed may be those of another value, shared by many rows.
    """
    index = inputs.path.index
    if index is None or len(index.columns) != 1 or not inputs.path.fixed:
        return _switches(inputs)
    name = index.columns[0].name or ""
    known = inputs.table.column(name).correlation if inputs.table.has_column(name) else None
    if known is None:
        return _switches(inputs)
    least = 1 / inputs.rows_per_block
    return max(_switches(inputs), least + (1 - least) * (1 - known**2))


def _with_dead(inputs: CostInputs) -> float:
    """Return entries walked for each live one.

    The first walk over an entry of a dead row marks it (kill_prior_tuple), and later ones pass it
    by: with d dead rows a live one it is 1 + d at first, then 1. What was walked is not known, and
    the geometric mean errs least. A replica may not pass them by; nor is a list of entries alike
    marked while one of them is alive.
    """
    # An entry of a dead row is walked like any other until it has been marked.
    all_walked = 1 + inputs.table.dead_rows / max(inputs.table.rows, 1.0)
    never = inputs.server.settings.get("replica") == "yes" or _alike(inputs) >= _MIXED
    return all_walked if never else math.sqrt(all_walked)


def _memory(inputs: CostInputs, name: str, usual: float) -> float:
    """Return a memory setting in bytes; the server tells it as "4096 kB"."""
    number, _, unit = str(inputs.server.settings.get(name, "")).partition(" ")
    if not number.isdigit():
        return usual
    return float(number) * {"kB": 1024, "8kB": 8192, "MB": 2**20}.get(unit, 1)
