"""The work of one ask over one access path: the engine's own, its joins, branches and workers."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from vrelko.core.access_path import AccessPath, Lookup
from vrelko.core.cost.engine_work import ENGINE_WORK
from vrelko.core.cost.inputs import CostInputs
from vrelko.core.cost.profiles import entries_apart, entries_between
from vrelko.core.cost.work import NO_WORK, Ask, Work

_MOST_SCATTER = 1.0  # a log standard deviation, beyond which little is told
_WORKER_SHARE = 0.75  # of a process's work that a parallel worker takes off it
_JOINED = (Lookup("", None, True),)  # where the server did not tell how


def work_along(inputs: CostInputs, path: AccessPath, ask: Ask) -> Work:
    """Return the work that a statement's part asks over one access path."""
    if path is not inputs.path:
        inputs = replace(inputs, path=path, in_order=path.kind == "ordered")
    # Shares of no rows would divide by zero; a statement over none costs its round trip.
    if inputs.table.rows <= 0:
        return replace(NO_WORK, statements=1.0)
    apart = 1.0
    if path.profile and ask.form in ("page", "seek", "deferred"):
        apart = entries_apart(path.profile, inputs.reached, inputs.matching, *_stretch(inputs, ask))
        # Conditions may let many rows pass at one end of an order and few at the other.
        inputs = _at_place(inputs, ask)
    # What is the engine's own: joins, branches and workers are priced alike for all of them below.
    work = ENGINE_WORK[inputs.server.engine].work_of(inputs, ask)
    if apart > 1:
        scatter = min(math.log(apart) / 2, _MOST_SCATTER)
        work = replace(work, timed_scatter=math.hypot(work.timed_scatter, scatter))
    # Workers read side by side, and the leader takes part: what they read is divided, what they
    # hand over is not.
    if path.workers:
        side_by_side = 1 + _WORKER_SHARE * path.workers
        work = replace(
            work,
            gathered=1.0,
            scanned=work.scanned / side_by_side,
            elsewhere=work.scanned * (1 - 1 / side_by_side),
            scanned_blocks=work.scanned_blocks / side_by_side,
            checked=work.checked / side_by_side,
            sort_logs=work.sort_logs / side_by_side,
            sort_units=work.sort_units / side_by_side,
        )
    if path.lookups is None:
        # A count needs no other table where each row leads to just one of its rows.
        lookups: Sequence[Lookup] = () if ask.form == "count" else _JOINED * inputs.joins
    else:
        lookups = path.lookups
    if not lookups:
        return work
    # A sort behind the join has joined every row before the first is shown.
    late = path.kind == "sorted" and not path.sorts_first
    if late or ask.form in ("count", "whole", "all"):
        reached = inputs.matching / path.joined
    elif path.kind == "grouped":
        # Each row of the groups is joined before any of them is known to be on the page.
        reached = work.entries
    else:
        reached = min((ask.skip + work.rows) / path.joined, inputs.matching / path.joined)
    return with_lookups(work, lookups, reached)


def work_of_branches(inputs: CostInputs, path: AccessPath, rows: float, at: float) -> Work:
    """Return the work of a page of which each branch gives its first keys.

    They are kept in a temporary table, sorted there, and the page's rows sought by key. A value
    gives no more rows than it has behind the page's place.
    """
    # Branches read keys alone; only the rows of the page are looked up whole.
    keys = replace(path, covering=True, branches=1)
    # Near the end a value has fewer rows left than the page asks of each branch.
    left = max(1 - at / max(inputs.matching, 1.0), 0.0) * inputs.table.rows * path.passing
    # Without statistics each branch is taken to fill a page.
    given = [min(rows, share * left) for share in path.runs] or [rows] * path.branches
    read = NO_WORK
    for part in given:
        read = read + work_along(inputs, keys, Ask("seek", 0, part))
    out = rows * ENGINE_WORK[inputs.server.engine].blocks_per_key(inputs)
    return replace(
        read,
        statements=1.0,
        sorted_rows=read.rows,
        seeks=rows,
        sort_units=read.rows * math.log2(read.rows + 2),
        copied=read.rows + rows / 3,
        blocks=read.blocks + out,
        steps=read.steps * 1.3 + read.rows * 7.2 + rows * (inputs.columns + 12),
        rows=rows,
        bytes=rows * inputs.row_bytes,
        values=rows * inputs.columns,
        misses=read.misses + rows,
    )


def seek_blocks(inputs: CostInputs, path: AccessPath, rows: float) -> float:
    """Blocks that rows found one by one by their keys take."""
    with_rows = work_along(inputs, path, Ask("deferred", 0, rows)).blocks
    return with_rows - work_along(inputs, replace(path, covering=True), Ask("page", 0, rows)).blocks


def _at_place(inputs: CostInputs, ask: Ask) -> CostInputs:
    """Return the inputs with the share of rows that pass where a page is read."""
    matching, need = inputs.matching, ask.skip + ask.rows
    walked = entries_between(inputs.path.profile, inputs.reached, matching, *_stretch(inputs, ask))
    here = min(max(need / max(walked, 1.0), 1e-9), 1.0)
    return replace(inputs, path=replace(inputs.path, passing=here), listing_rows=matching)


def _stretch(inputs: CostInputs, ask: Ask) -> tuple[float, float]:
    """Return the passing rows from which and up to which a page reads."""
    begin = min(max(ask.at, 0.0), inputs.matching)
    return begin, min(begin + ask.skip + ask.rows, inputs.matching)


def with_lookups(work: Work, lookups: Sequence[Lookup], rows: float) -> Work:
    """Return the work with what other tables of a join add, for `rows` rows that reach them."""
    for one in lookups:
        if one.first:  # the engine's own work holds it
            continue
        if not one.each:
            # Read once, kept as a hash or in a buffer, and probed from there.
            work = replace(
                work,
                scanned=work.scanned + one.rows,
                blocks=work.blocks + one.blocks,
                scanned_blocks=work.scanned_blocks + one.blocks,
                steps=work.steps + 6 * one.rows,
            )
            continue
        sought = rows
        if one.remembered and one.rows:  # distinct ones of so many drawn (Cardenas 1975)
            sought = one.rows * -math.expm1(-rows / one.rows)
        work = replace(
            work,
            # One descent finds a row's matches, and each match is a row to fetch.
            seeks=work.seeks + sought * max(one.matches, 1.0),
            blocks=work.blocks + sought * one.blocks,
            steps=work.steps + (5 if one.outer else 2) * sought,
        )
    return work
