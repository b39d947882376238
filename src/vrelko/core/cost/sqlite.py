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
from vrelko.core.cost.scene import Scene
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


def work_of(scene: Scene, ask: Ask) -> Work:
    """Return the work of one statement."""
    if ask.form == "whole":
        return _whole(scene)
    if ask.form == "count":
        return _count(scene, ask.rows)
    # Keys and rows are two loops there, each with steps of its own.
    if ask.form == "deferred":
        return _deferred(scene, ask)
    if scene.path.kind == "grouped":
        # The key's own ties come in order from the index; only what follows them is sorted.
        if ask.form == "seek" and scene.splits and _serves_ties(scene):
            return _split_groups(scene, ask)
        return _by_groups(scene, ask.skip, ask.rows, ask.at)
    if not scene.in_order:
        return _by_sort(scene, ask.skip + ask.rows, ask.rows)
    if ask.form == "seek":
        return _seek(scene, ask.rows, ask.at)
    return _in_order(scene, ask.skip, ask.rows, 1.0)


def _serves_ties(scene: Scene) -> bool:
    """Tell whether the index gives rows alike in the presorted terms in the order of the others."""
    path = scene.path
    fixed = (*path.fixed, *path.presorted)
    return path.index is not None and serves_order(
        path.index, scene.order, fixed, scene.table, "sqlite", lax=True
    )


def _split_groups(scene: Scene, ask: Ask) -> Work:
    """Return the work of a page of mixed directions: the key's ties in order, then groups."""
    # The key stands in the middle of its ties on the mean, so half of them lie behind it.
    ties = min(ask.rows, scene.splits[0] / 2)
    # The chance that the page is not full when the ties of the key end.
    more = min(sum(min(ask.rows / one, 1.0) for one in scene.splits), 1.0)
    first = _in_order(scene, 0, ties, 1.0)
    again = _by_groups(scene, 0, max(ask.rows - ties, 1.0), ask.at).times(more)
    out = {
        "rows": ask.rows,
        "bytes": ask.rows * scene.row_bytes,
        "statements": 1 + more,
        "values": ask.rows * scene.columns,
    }
    return replace(first + again, **out)


def _seek(scene: Scene, rows: float, at: float = 0.0) -> Work:
    if not scene.tie:
        page = _in_order(scene, 0, rows, 1.0)
        if scene.terms < 2:
            return page
        # A row value is compared column by column, in each row up to where the key ends.
        a_row = _ROW_KEY_STEPS + (_APART_STEPS if _seeks_each(scene) else 0.0)
        return replace(page, steps=page.steps + _ROW_VALUE_STEPS + rows * a_row)
    tie = _tie_at(scene, at)
    # A page that ends within the ties of its key never comes to the second statement.
    if tie > rows and not 0 < at <= rows:
        return _in_order(scene, 0, rows, 1.0 + rows / tie)
    # Ties are walked from their begin up to the key, which stands in their middle on the mean.
    passed = min((tie + 1) / 2, at or tie)  # behind a first page, as many as it had
    page = _in_order(scene, 0, rows, 1.0)
    more = _SEEK_STEPS + passed * TIE_STEPS + page.entries * _KEY_STEPS
    return replace(page, entries=page.entries + passed, steps=page.steps + more)


def _tie_at(scene: Scene, at: float) -> float:
    """Return about the rows that differ from the one at a place in the row id alone."""
    names = tuple(name for name in scene.order.names[:-1] if name not in scene.path.fixed)
    if not at or not names:
        return scene.tie
    groups = find_groups(scene.order, replace(scene.path, presorted=names), scene.table)
    return groups.size(at / scene.passing)


def _seeks_each(scene: Scene) -> bool:
    """Whether each entry is sought in a table without row ids."""
    index = scene.path.index
    return scene.table.clustered and index is not None and not scene.path.covering


def _whole(scene: Scene) -> Work:
    rows, entries = scene.matching, scene.reached
    in_order = scene.path.kind != "sorted"
    # Without OFFSET and LIMIT a row takes fewer instructions; through a sorter it takes more.
    beyond = 3 - _direct(scene) if scene.in_order else 11
    steps = rows * (_width(scene) + beyond + _checked(scene))
    steps += (entries - rows) * (_SCAN_STEPS + 1)
    visits = 0.0 if _direct(scene) else entries
    work = _walk(scene, entries, visits, rows)
    if scene.in_order:
        return replace(work, steps=steps)
    if in_order:
        return replace(work, steps=steps, sorted_rows=rows, sort_units=2 * rows)
    return replace(
        work,
        steps=steps,
        sorted_rows=rows,
        sort_logs=_n_log_n(rows),
        spilled=rows * scene.row_bytes,
    )


def _count(scene: Scene, cap: float) -> Work:
    rows = min(scene.matching, cap)
    entries = scene.entries(rows)
    capped = cap < math.inf
    eq = _checked(scene)
    residual = bool(scene.path.residual) or bool(scene.path.lookups)
    steps = _START_STEPS + entries * (_SCAN_STEPS + 2 * (eq and residual)) + rows * residual
    if capped:
        steps += rows * (_CAPPED_STEPS + eq + residual)
    # Nothing to check: SQLite counts with one instruction over the whole b-tree.
    elif not eq and not residual:
        steps = _START_STEPS  # one step counts a b-tree, though it walks every leaf
    visits = 0.0 if _direct(scene) or not residual else entries
    work = _walk(scene, entries, visits, 0)
    if not capped and not eq and not residual:
        # The instruction reads each leaf, so that time grows with the table though steps do not.
        work = replace(work, entries=0.0, scanned=0.0, scanned_blocks=entries / scene.a_leaf)
        return replace(work, steps=steps, rows=1, bytes=8, values=1)
    return replace(work, steps=steps, rows=1, bytes=8, values=1, counted=rows)


def _deferred(scene: Scene, ask: Ask) -> Work:
    """Keys by offset from the index alone, kept in a temporary table, then rows by their keys."""
    if not scene.in_order:
        keys = replace(scene, columns=2, reals=0, row_bytes=16.0)
        inner = (
            _by_groups(keys, ask.skip, ask.rows, 0.0)
            if scene.path.kind == "grouped"
            else _by_sort(keys, ask.skip + ask.rows, ask.rows)
        )
        steps = inner.steps
    else:
        # A filter outside of the index makes even skipped rows visit the table.
        apart = bool(scene.path.residual) and not scene.path.covering
        entries = scene.entries(ask.skip + ask.rows)
        inner = _walk(scene, entries, entries if apart else 0.0, 0)
        eq = _checked(scene)
        steps = _START_STEPS + ask.skip * _skip_steps(scene) + ask.rows * (12 + eq)
        if scene.path.residual:
            steps += ask.rows * (1 / scene.passing - 1) * (_SKIP_STEPS + 1 + eq) + ask.rows * 2
    outer = ask.rows * (_width(scene) + 12)
    return replace(
        inner,
        steps=steps + outer,
        seeks=ask.rows,
        copied=ask.rows,
        rows=ask.rows,
        bytes=ask.rows * scene.row_bytes,
        values=ask.rows * scene.columns,
        blocks=inner.blocks + ask.rows * scene.table.levels,
        misses=inner.misses + ask.rows,
    )


def _in_order(scene: Scene, skipped: float, rows: float, statements: float) -> Work:
    residual, eq = bool(scene.path.residual), _checked(scene)
    entries = scene.entries(skipped + rows)
    steps = _START_STEPS + (statements - 1) * _RANGE_STEPS + skipped * _skip_steps(scene)
    steps += rows * (_width(scene) + _ROW_STEPS + eq - _direct(scene))
    if residual:
        a_skip = _SKIP_STEPS + (scene.path.index is not None) + eq
        steps += rows * (1 / scene.passing - 1) * a_skip + rows * 2
    # Rows are visited for what they show, or for each entry where something must be checked there.
    every = residual or scene.table.clustered  # a table without row ids is sought for each entry
    visits = 0.0 if _direct(scene) else entries if every and not scene.path.inside else rows
    if _seeks_each(scene):
        steps += entries * _KEY_COLUMN_STEPS * len(scene.table.primary_key)
    work = _walk(scene, entries, visits, rows)
    return replace(
        work, steps=steps, statements=statements, blocks=work.blocks + (statements - 1) * 2
    )


def _by_groups(scene: Scene, skip: float, rows: float, at: float) -> Work:
    """Groups read to their end in the order of an index, each sorted by itself."""
    groups, entries = scene.groups, scene.grouped(skip, rows, at)
    assert groups is not None
    # Each group that ends empties the sorter and begins it anew.
    ended = max(entries / groups.size(at + skip), 1.0)
    passed = entries * scene.path.passing
    steps = _START_STEPS + passed * (scene.columns + _GROUP_ROW_STEPS) + ended * _GROUP_STEPS
    steps += (entries - passed) * (_SCAN_STEPS + _checked(scene))
    steps += rows * _ROW_STEPS
    work = _walk(scene, entries, 0.0 if _direct(scene) else entries, rows)
    return replace(work, steps=steps, sorted_rows=entries, sort_units=2 * entries)


def _by_sort(scene: Scene, kept: float, rows: float) -> Work:
    entries = scene.reached
    passed = entries * scene.path.passing
    kept = min(max(kept, 1.0), max(passed, 1.0))
    if len(scene.path.runs) > 1:  # each run is left once it is behind all rows that are kept
        most, before = 0.0, 0.0
        for share in scene.path.runs:
            before += share
            most += kept * share / before if before else kept
        entries = min(entries, scene.entries(most))
        passed = entries * scene.path.passing
    # Of rows in random order the i-th is among the best k with the chance k / i: k (1 + ln(n / k))
    # are put in (records of a random sequence).
    inserts = kept * (1 + math.log(max(passed, 1.0) / kept))
    eq = _checked(scene)
    steps = passed * (_SORT_STEPS + 2 * eq) + (entries - passed) * (_SCAN_STEPS + eq)
    steps += inserts * (scene.columns + _INSERT_STEPS) + rows * (scene.columns + 2)
    work = _walk(scene, entries, 0.0 if _direct(scene) else entries, rows)
    return replace(
        work,
        steps=steps,
        sorted_rows=passed,
        sort_units=inserts * math.log2(kept + 2),
        spilled=inserts * scene.row_bytes,
    )


def _walk(scene: Scene, entries: float, visits: float, rows: float) -> Work:
    """Return the work of walking entries, visiting table rows, and handing rows over."""
    out = {"rows": rows, "bytes": rows * scene.row_bytes, "values": rows * scene.columns}
    checked = entries if scene.path.residual else 0.0
    if scene.path.index is None:
        blocks = scene.table.levels + entries / scene.a_block
        return Work(
            scanned=entries,
            scanned_blocks=entries / scene.a_block,
            blocks=blocks,
            entries=entries,
            checked=checked,
            misses=blocks,
            **out,
        )
    leaves = scene.levels + entries / scene.a_leaf
    # Rows that lie as the index has them are found in the block that is open already.
    follows = scene.path.index.consecutive
    near = 0.0 if follows is None else follows
    a_visit = (1 - near) * max(scene.table.levels - 1, 1) + near / scene.a_block
    apart = visits * ((1 - near) + near / scene.a_block)
    readied = 0.0 if _direct(scene) else entries  # each entry readies a seek that few do
    return Work(
        entries=entries,
        visits=visits,
        switches=readied,
        checked=checked,
        blocks=leaves + visits * a_visit,
        misses=leaves + min(apart, scene.table.blocks),
        **out,
    )


def _width(scene: Scene) -> int:
    """Steps to read a row's columns."""
    return scene.columns + scene.reals


def _checked(scene: Scene) -> bool:
    """Whether each entry is compared with where the index range ends."""
    return bool(scene.path.fixed) or scene.path.bounded


def _direct(scene: Scene) -> bool:
    """Whether rows are read where they are found, with no seek into the table."""
    return scene.path.covering or scene.path.index is None


def _skip_steps(scene: Scene) -> float:
    """Steps for one skipped row that matches."""
    eq = _checked(scene)
    if scene.path.residual:
        return (_SKIP_STEPS + (scene.path.index is not None) + eq) / scene.passing + 1
    return _SKIP_STEPS - _direct(scene) + eq


def _n_log_n(n: float) -> float:
    return n * math.log2(n) if n > 1 else 0.0
