"""Work of page statements on SQLite.

Steps are those of SQLite's virtual machine, counted on SQLite 3.40 for statements of this shape
and held against it by tests; see docs/cost.md for the measurements behind each constant.
Block counts follow the b-tree: a descent, then entries side by side; OFFSET skips rows without
visiting the table, unless a condition must be checked there.
"""

from __future__ import annotations

import math
from dataclasses import replace

from vrelko.core.cost.groups import find_groups
from vrelko.core.cost.inputs import CostInputs
from vrelko.core.cost.work import Ask, Work
from vrelko.core.index_order import serves_order

_START_STEPS = 13
_ROW_STEPS = 5  # beyond one a column: offset, seek, result, limit, next
_SKIP_STEPS = 3
_SCAN_STEPS = 3
_SORT_STEPS = 8
_INSERT_STEPS = 0.8
_CAPPED_STEPS = 5  # a row that a capped count hands on
_SEEK_STEPS = 7
TIE_STEPS = 12.7  # a row of the key's tie group that is walked again
_KEY_STEPS = 4  # a row that is compared with the whole key
_RANGE_STEPS = 24  # a second statement, and the range it begins with
_ROW_VALUE_STEPS = 55  # a key of several columns that are no row id
_ROW_KEY_STEPS = 4.3  # a row that is compared with it
_APART_STEPS = 3.4  # more for a row that is sought in a table without row ids
_KEY_COLUMN_STEPS = 1  # each column of the key that such a row is sought by
_GROUP_ROW_STEPS = 11  # a row sorted within its group, beyond one a column
_GROUP_STEPS = 7  # a group that ends


def work_of(inputs: CostInputs, ask: Ask) -> Work:
    """Return the work of one statement."""
    if ask.form == "whole":
        return _whole(inputs)
    if ask.form == "count":
        return _count(inputs, ask.rows)
    # Keys and rows are two loops there, each with steps of its own.
    if ask.form == "deferred":
        return _deferred(inputs, ask)
    if inputs.path.kind == "grouped":
        # The key's own ties come in order from the index; only what follows them is sorted.
        if ask.form == "seek" and inputs.splits and _serves_ties(inputs):
            return _split_groups(inputs, ask)
        return _by_groups(inputs, ask.skip, ask.rows, ask.at)
    if not inputs.in_order:
        return _by_sort(inputs, ask.skip + ask.rows, ask.rows)
    if ask.form == "seek":
        return _seek(inputs, ask.rows, ask.at)
    return _in_order(inputs, ask.skip, ask.rows, 1.0)


def _serves_ties(inputs: CostInputs) -> bool:
    """Tell whether the index gives rows alike in the presorted terms in the order of the others."""
    path = inputs.path
    fixed = (*path.fixed, *path.presorted)
    return path.index is not None and serves_order(
        path.index, inputs.order, fixed, inputs.table, "sqlite", lax=True
    )


def _split_groups(inputs: CostInputs, ask: Ask) -> Work:
    """Return the work of a page of mixed directions: the key's ties in order, then groups."""
    # The key stands in the middle of its ties on the mean, so half of them lie behind it.
    ties = min(ask.rows, inputs.splits[0] / 2)
    # The chance that the page is not full when the ties of the key end.
    more = min(sum(min(ask.rows / one, 1.0) for one in inputs.splits), 1.0)
    first = _in_order(inputs, 0, ties, 1.0)
    again = _by_groups(inputs, 0, max(ask.rows - ties, 1.0), ask.at).times(more)
    out = {
        "rows": ask.rows,
        "bytes": ask.rows * inputs.row_bytes,
        "statements": 1 + more,
        "values": ask.rows * inputs.columns,
    }
    return replace(first + again, **out)


def _seek(inputs: CostInputs, rows: float, at: float = 0.0) -> Work:
    if not inputs.tie:
        page = _in_order(inputs, 0, rows, 1.0)
        if inputs.terms < 2:
            return page
        # A row value is compared column by column, in each row up to where the key ends.
        per_row = _ROW_KEY_STEPS + (_APART_STEPS if _seeks_each(inputs) else 0.0)
        return replace(page, steps=page.steps + _ROW_VALUE_STEPS + rows * per_row)
    tie = _tie_at(inputs, at)
    # A page that ends within the ties of its key never comes to the second statement.
    if tie > rows and not 0 < at <= rows:
        return _in_order(inputs, 0, rows, 1.0 + rows / tie)
    # Ties are walked from their begin up to the key, which stands in their middle on the mean.
    passed = min((tie + 1) / 2, at or tie)  # behind a first page, as many as it had
    page = _in_order(inputs, 0, rows, 1.0)
    more = _SEEK_STEPS + passed * TIE_STEPS + page.entries * _KEY_STEPS
    return replace(page, entries=page.entries + passed, steps=page.steps + more)


def _tie_at(inputs: CostInputs, at: float) -> float:
    """Return about the rows that differ from the one at a place in the row id alone."""
    names = tuple(name for name in inputs.order.names[:-1] if name not in inputs.path.fixed)
    if not at or not names:
        return inputs.tie
    groups = find_groups(inputs.order, replace(inputs.path, presorted=names), inputs.table)
    return groups.size(at / inputs.passing)


def _seeks_each(inputs: CostInputs) -> bool:
    """Whether each entry is sought in a table without row ids."""
    index = inputs.path.index
    return inputs.table.clustered and index is not None and not inputs.path.covering


def _whole(inputs: CostInputs) -> Work:
    rows, entries = inputs.matching, inputs.reached
    in_order = inputs.path.kind != "sorted"
    # Without OFFSET and LIMIT a row takes fewer instructions; through a sorter it takes more.
    beyond = 3 - _direct(inputs) if inputs.in_order else 11
    steps = rows * (_width(inputs) + beyond + _checked(inputs))
    # Rows that fail a condition are tested and passed over.
    steps += (entries - rows) * (_SCAN_STEPS + 1)
    visits = 0.0 if _direct(inputs) else entries
    work = _walk(inputs, entries, visits, rows)
    if inputs.in_order:
        return replace(work, steps=steps)
    if in_order:
        return replace(work, steps=steps, sorted_rows=rows, sort_units=2 * rows)
    return replace(
        work,
        steps=steps,
        sorted_rows=rows,
        sort_logs=_n_log_n(rows),
        spilled=rows * inputs.row_bytes,
    )


def _count(inputs: CostInputs, cap: float) -> Work:
    rows = min(inputs.matching, cap)
    entries = inputs.entries(rows)
    # A cap puts the count around a limited subquery, which hands over each row.
    capped = cap < math.inf
    eq = _checked(inputs)
    residual = bool(inputs.path.residual) or bool(inputs.path.lookups)
    steps = _START_STEPS + entries * (_SCAN_STEPS + 2 * (eq and residual)) + rows * residual
    if capped:
        steps += rows * (_CAPPED_STEPS + eq + residual)
    # Nothing to check: SQLite counts with one instruction over the whole b-tree.
    elif not eq and not residual:
        steps = _START_STEPS  # one step counts a b-tree, though it walks every leaf
    visits = 0.0 if _direct(inputs) or not residual else entries
    work = _walk(inputs, entries, visits, 0)
    if not capped and not eq and not residual:
        # The instruction reads each leaf, so that time grows with the table though steps do not.
        work = replace(
            work, entries=0.0, scanned=0.0, scanned_blocks=entries / inputs.entries_per_leaf
        )
        return replace(work, steps=steps, rows=1, bytes=8, values=1)
    return replace(work, steps=steps, rows=1, bytes=8, values=1, counted=rows)


def _deferred(inputs: CostInputs, ask: Ask) -> Work:
    """Keys by offset from the index alone, kept in a temporary table, then rows by their keys."""
    if not inputs.in_order:
        keys = replace(inputs, columns=2, reals=0, row_bytes=16.0)
        inner = (
            _by_groups(keys, ask.skip, ask.rows, 0.0)
            if inputs.path.kind == "grouped"
            else _by_sort(keys, ask.skip + ask.rows, ask.rows)
        )
        steps = inner.steps
    else:
        # A filter outside of the index makes even skipped rows visit the table.
        apart = bool(inputs.path.residual) and not inputs.path.covering
        entries = inputs.entries(ask.skip + ask.rows)
        inner = _walk(inputs, entries, entries if apart else 0.0, 0)
        eq = _checked(inputs)
        steps = _START_STEPS + ask.skip * _skip_steps(inputs) + ask.rows * (12 + eq)
        if inputs.path.residual:
            steps += ask.rows * (1 / inputs.passing - 1) * (_SKIP_STEPS + 1 + eq) + ask.rows * 2
    # The page's rows are sought one by one by the keys that were kept.
    outer = ask.rows * (_width(inputs) + 12)
    return replace(
        inner,
        steps=steps + outer,
        seeks=ask.rows,
        copied=ask.rows,
        rows=ask.rows,
        bytes=ask.rows * inputs.row_bytes,
        values=ask.rows * inputs.columns,
        blocks=inner.blocks + ask.rows * inputs.table.levels,
        misses=inner.misses + ask.rows,
    )


def _in_order(inputs: CostInputs, skipped: float, rows: float, statements: float) -> Work:
    residual, eq = bool(inputs.path.residual), _checked(inputs)
    entries = inputs.entries(skipped + rows)
    steps = _START_STEPS + (statements - 1) * _RANGE_STEPS + skipped * _skip_steps(inputs)
    steps += rows * (_width(inputs) + _ROW_STEPS + eq - _direct(inputs))
    if residual:
        a_skip = _SKIP_STEPS + (inputs.path.index is not None) + eq
        steps += rows * (1 / inputs.passing - 1) * a_skip + rows * 2
    # Rows are visited for what they show, or for each entry where something must be checked there.
    every = residual or inputs.table.clustered  # a table without row ids is sought for each entry
    visits = 0.0 if _direct(inputs) else entries if every and not inputs.path.inside else rows
    if _seeks_each(inputs):
        steps += entries * _KEY_COLUMN_STEPS * len(inputs.table.primary_key)
    work = _walk(inputs, entries, visits, rows)
    return replace(
        work, steps=steps, statements=statements, blocks=work.blocks + (statements - 1) * 2
    )


def _by_groups(inputs: CostInputs, skip: float, rows: float, at: float) -> Work:
    """Groups read to their end in the order of an index, each sorted by itself."""
    groups, entries = inputs.groups, inputs.grouped(skip, rows, at)
    assert groups is not None
    # Each group that ends empties the sorter and begins it anew.
    ended = max(entries / groups.size(at + skip), 1.0)
    passed = entries * inputs.path.passing
    steps = _START_STEPS + passed * (inputs.columns + _GROUP_ROW_STEPS) + ended * _GROUP_STEPS
    steps += (entries - passed) * (_SCAN_STEPS + _checked(inputs))
    steps += rows * _ROW_STEPS
    work = _walk(inputs, entries, 0.0 if _direct(inputs) else entries, rows)
    return replace(work, steps=steps, sorted_rows=entries, sort_units=2 * entries)


def _by_sort(inputs: CostInputs, kept: float, rows: float) -> Work:
    entries = inputs.reached
    passed = entries * inputs.path.passing
    kept = min(max(kept, 1.0), max(passed, 1.0))
    if len(inputs.path.runs) > 1:  # each run is left once it is behind all rows that are kept
        # The sorter's worst row gets better with each run, so later runs are left sooner.
        most, before = 0.0, 0.0
        for share in inputs.path.runs:
            before += share
            most += kept * share / before if before else kept
        entries = min(entries, inputs.entries(most))
        passed = entries * inputs.path.passing
    # Of rows in random order the i-th is among the best k with the chance k / i: k (1 + ln(n / k))
    # are put in (records of a random sequence).
    inserts = kept * (1 + math.log(max(passed, 1.0) / kept))
    eq = _checked(inputs)
    steps = passed * (_SORT_STEPS + 2 * eq) + (entries - passed) * (_SCAN_STEPS + eq)
    steps += inserts * (inputs.columns + _INSERT_STEPS) + rows * (inputs.columns + 2)
    work = _walk(inputs, entries, 0.0 if _direct(inputs) else entries, rows)
    return replace(
        work,
        steps=steps,
        sorted_rows=passed,
        sort_units=inserts * math.log2(kept + 2),
        spilled=inserts * inputs.row_bytes,
    )


def _walk(inputs: CostInputs, entries: float, visits: float, rows: float) -> Work:
    """Return the work of walking entries, visiting table rows, and handing rows over."""
    out = {"rows": rows, "bytes": rows * inputs.row_bytes, "values": rows * inputs.columns}
    checked = entries if inputs.path.residual else 0.0
    # The table is a b-tree by row id: its leaves are the rows.
    if inputs.path.index is None:
        blocks = inputs.table.levels + entries / inputs.rows_per_block
        return Work(
            scanned=entries,
            scanned_blocks=entries / inputs.rows_per_block,
            blocks=blocks,
            entries=entries,
            checked=checked,
            misses=blocks,
            **out,
        )
    leaves = inputs.levels + entries / inputs.entries_per_leaf
    # Rows that lie as the index has them are found in the block that is open already.
    follows = inputs.path.index.consecutive
    near = 0.0 if follows is None else follows
    per_visit = (1 - near) * max(inputs.table.levels - 1, 1) + near / inputs.rows_per_block
    apart = visits * ((1 - near) + near / inputs.rows_per_block)
    readied = 0.0 if _direct(inputs) else entries  # each entry readies a seek that few do
    return Work(
        entries=entries,
        visits=visits,
        switches=readied,
        checked=checked,
        blocks=leaves + visits * per_visit,
        misses=leaves + min(apart, inputs.table.blocks),
        **out,
    )


def _width(inputs: CostInputs) -> int:
    """Steps to read a row's columns."""
    return inputs.columns + inputs.reals


def _checked(inputs: CostInputs) -> bool:
    """Whether each entry is compared with where the index range ends."""
    return bool(inputs.path.fixed) or inputs.path.bounded


def _direct(inputs: CostInputs) -> bool:
    """Whether rows are read where they are found, with no seek into the table."""
    return inputs.path.covering or inputs.path.index is None


def _skip_steps(inputs: CostInputs) -> float:
    """Steps for one skipped row that matches."""
    eq = _checked(inputs)
    if inputs.path.residual:
        return (_SKIP_STEPS + (inputs.path.index is not None) + eq) / inputs.passing + 1
    return _SKIP_STEPS - _direct(inputs) + eq


def _n_log_n(n: float) -> float:
    return n * math.log2(n) if n > 1 else 0.0
