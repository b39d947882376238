"""Work counts of page statements on SQLite, and a rough time from them.

Steps are those of SQLite's virtual machine, counted on SQLite 3.40 for statements of this shape
and held against it by tests; see docs/cost.md for the measurements behind each constant.
Block counts follow the b-tree: a descent, then entries side by side; OFFSET skips rows without
visiting the table, unless a condition must be checked there.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from vrelko.core.access import AccessPath
from vrelko.core.facts import TableFacts
from vrelko.core.order import Order
from vrelko.core.outline import Outline

STATEMENT_US = 150.0
STEP_US = 0.035
BLOCK_US = 0.3
ROW_US = 4.0
"""Rough times: a statement with its call, a VM step, a cached block, a row handed over."""

_START_STEPS = 13
_ROW_STEPS = 5  # beyond one a column: offset, seek, result, limit, next
_SKIP_STEPS = 3
_SCAN_STEPS = 3
_SORT_STEPS = 8
_INSERT_STEPS = 0.8
_CAPPED_STEPS = 5  # a row that a capped count hands on
_SEEK_STEPS = 7
_TIE_STEPS = 12.7  # a row of the key's tie group that is walked again
_KEY_STEPS = 4  # a row that is compared with the whole key
_RANGE_STEPS = 24  # a second statement, and the range it begins with


@dataclass(frozen=True, slots=True)
class Work:
    """What one page asks of a server.

    `entries` index entries or table rows walked, `blocks` read, `sorted_rows` that went through a
    sort, `rows` and `bytes` sent, `steps` of SQLite's machine, `statements` run.
    """

    entries: float = 0.0
    blocks: float = 0.0
    sorted_rows: float = 0.0
    rows: float = 0.0
    bytes: float = 0.0
    steps: float = 0.0
    statements: float = 1.0

    @property
    def ms(self) -> float:
        """A rough time in milliseconds, everything in cache; not calibrated on the server."""
        us = self.statements * STATEMENT_US + self.steps * STEP_US + self.blocks * BLOCK_US
        return (us + self.rows * ROW_US) / 1000


@dataclass(frozen=True, slots=True)
class CostModel:
    """Computes the Work of one listing in one order over one access path.

    `columns` are fetched, hidden keys included; `reals` of them are floats, which take a step
    more; `block_bytes` are the server's.
    `tie` is the mean number of rows that differ in the row id alone; 0 where the order does not end
    in it. Up to a page of them is walked again to reach the key; larger groups take a statement of
    their own.
    """

    table: TableFacts
    path: AccessPath
    columns: int
    reals: int
    row_bytes: float
    block_bytes: int
    tie: float

    @property
    def _width(self) -> int:
        """Steps to read a row's columns."""
        return self.columns + self.reals

    @property
    def matching(self) -> float:
        """Rows the listing has."""
        return self.table.rows * self.path.share * self.path.passing

    def offset(self, offset: float, size: int) -> Work:
        """A page of `size` rows behind `offset` rows, fetched with one row more."""
        offset = min(offset, self.matching)
        rows = min(size + 1, max(self.matching - offset, 0.0))
        if self.path.kind == "sorted":
            return self._by_sort(offset + rows, rows)
        return self._in_order(offset, rows, 1)

    def keyset(self, rows: float, first: bool = False) -> Work:
        """A page that fetches `rows` rows behind a key, or the first page."""
        rows = min(rows, self.matching)
        if self.path.kind == "sorted":
            return self._by_sort(rows, rows)
        if first or not self.tie:
            return self._in_order(0, rows, 1.0)
        if self.tie > rows:
            return self._in_order(0, rows, 1.0 + rows / self.tie)
        passed = (self.tie + 1) / 2
        page = self._in_order(0, rows, 1.0)
        more = _SEEK_STEPS + passed * _TIE_STEPS + rows * _KEY_STEPS
        return replace(page, entries=page.entries + passed, steps=page.steps + more)

    def whole(self) -> Work:
        """Every row at once, in order."""
        rows = self.matching
        entries = self.table.rows * self.path.share
        visits = 0.0 if self.path.covering else entries
        beyond = 3 - self._direct if self.path.kind == "ordered" else 11
        per_row = self._width + beyond + self._checked
        steps = rows * per_row + (entries - rows) * (_SCAN_STEPS + 1)
        blocks = self._blocks(entries, visits, sequential=self.path.index is None)
        sorted_rows = rows if self.path.kind == "sorted" else 0.0
        return Work(entries, blocks, sorted_rows, rows, rows * self.row_bytes, steps, 1)

    def count(self, cap: int | None) -> Work:
        """Counting the rows, at most `cap` + 1 of them."""
        rows = self.matching if cap is None else min(self.matching, cap + 1)
        entries = min(rows / max(self.path.passing, 1e-9), self.table.rows * self.path.share)
        eq, residual = self._checked, bool(self.path.residual)
        steps = _START_STEPS + entries * (_SCAN_STEPS + 2 * (eq and residual)) + rows * residual
        if cap is not None:
            steps += rows * (_CAPPED_STEPS + eq + residual)
        elif not eq and not residual:
            steps = _START_STEPS  # one step counts a b-tree, though it walks every leaf
        blocks = self._blocks(entries, entries if residual else 0.0, False)
        return Work(entries, blocks, 0, 1, 8, steps, 1)

    def crossover(self, factor: float, size: int) -> float | None:
        """Rows of offset at which offset takes `factor` times the steps of keyset; None: never."""
        seek = self.keyset(size + 1).steps
        start, deep = self.offset(0, size).steps, self.offset(self.matching, size).steps
        if deep < factor * seek or self.path.kind == "sorted":
            return None
        a_row = self._skip_steps
        return max((factor * seek - start) / a_row, 0.0)

    @property
    def _checked(self) -> bool:
        """Whether each entry is compared with where the index range ends."""
        return bool(self.path.fixed) or self.path.bounded

    @property
    def _direct(self) -> bool:
        """Whether rows are read where they are found, with no seek into the table."""
        return self.path.covering or self.path.index is None

    @property
    def _skip_steps(self) -> float:
        """Steps for one skipped row that matches."""
        eq = self._checked
        if self.path.residual:
            return (_SKIP_STEPS + 1 + eq) / max(self.path.passing, 1e-9) + 1
        return _SKIP_STEPS - self._direct + eq

    def _in_order(self, skipped: float, rows: float, statements: float) -> Work:
        passing = max(self.path.passing, 1e-9)
        walked = (skipped + rows) / passing
        entries = min(walked, self.table.rows * self.path.share)
        eq = self._checked
        steps = _START_STEPS + (statements - 1) * _RANGE_STEPS + skipped * self._skip_steps
        steps += rows * (self._width + _ROW_STEPS + eq - self._direct)
        if self.path.residual:
            steps += rows * (1 / passing - 1) * (_SKIP_STEPS + 1 + eq) + rows * 2
        visits = 0.0 if self.path.covering else entries if self.path.residual else rows
        blocks = self._blocks(entries, visits, self.path.index is None) + (statements - 1) * 2
        return Work(entries, blocks, 0, rows, rows * self.row_bytes, steps, statements)

    def _by_sort(self, kept: float, rows: float) -> Work:
        entries = self.table.rows * self.path.share
        passed = entries * self.path.passing
        kept = min(max(kept, 1.0), max(passed, 1.0))
        inserts = kept * (1 + math.log(max(passed, 1.0) / kept))
        eq = self._checked
        steps = passed * (_SORT_STEPS + 2 * eq) + (entries - passed) * (_SCAN_STEPS + eq)
        steps += inserts * (self.columns + _INSERT_STEPS) + rows * (self.columns + 2)
        blocks = self._blocks(entries, entries if self.path.index else 0.0, not self.path.index)
        return Work(entries, blocks, passed, rows, rows * self.row_bytes, steps, 1)

    def _blocks(self, entries: float, visits: float, sequential: bool) -> float:
        """Blocks for entries side by side, and for the table visits they lead to."""
        if sequential or self.path.index is None:
            a_block = max(self.table.rows / max(self.table.blocks, 1.0), 1.0)
            return self.table.levels + entries / a_block
        size = self.path.index.entry_bytes or 20.0
        a_leaf = max(self.block_bytes * 0.9 / size, 1.0)
        levels = self.path.index.levels or 2
        return levels + entries / a_leaf + visits * max(self.table.levels - 1, 1)


def make_model(
    outline: Outline, order: Order, path: AccessPath, table: TableFacts, block_bytes: int
) -> CostModel:
    """Return the cost model of a listing's order over an access path."""
    selected = {name for owner, name in outline.columns if owner == table.name}
    hidden = [name for name in order.names if name not in selected]
    hidden += [name for name in order.names if name in selected and _is_moment(table, name)]
    reals = sum(_is_real(table, name) for name in (*selected, *hidden))
    widths = [
        table.column(name).width or 8.0
        for owner, name in outline.columns
        if owner == table.name and table.has_column(name)
    ]
    unknown = len(outline.columns) - len(widths)
    return CostModel(
        table, path, len(outline.columns) + len(hidden), reals, sum(widths) + 8.0 * unknown,
        block_bytes, tie=_tie(order, table, path),
    )  # fmt: skip


def _is_real(table: TableFacts, name: str) -> bool:
    """Tell whether SQLite gives a column REAL affinity, by its declared type."""
    kind = table.column(name).type.upper() if table.has_column(name) else ""
    return "INT" not in kind and any(part in kind for part in ("REAL", "FLOA", "DOUB"))


def _is_moment(table: TableFacts, name: str) -> bool:
    """Tell whether a column's stored text is read beside its value, for the key."""
    kind = table.column(name).type.upper() if table.has_column(name) else ""
    return "TIME" in kind


def _tie(order: Order, table: TableFacts, path: AccessPath) -> float:
    """Return rows a value of the terms before the row id; 0 where no statement is split."""
    if order.names[-1] != table.row_id or len(order) == 1:
        return 0.0
    rows = table.rows * path.share
    distinct = 1.0
    for name in order.names[:-1]:
        known = table.column(name).distinct if table.has_column(name) else None
        distinct *= known or 1.0
    return max(rows / max(min(distinct, rows), 1.0), 1.0)
