"""Access paths: which index serves a listing's conditions and order, and which index would.

The rules are SQLite's for now: an index ends in the row id, ascending; it is read in either
direction; a placement of NULLs that is not its own costs nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from vrelko.core.facts import IndexColumn, IndexFacts, TableFacts
from vrelko.core.order import Order, Term
from vrelko.core.outline import Outline

PathKind = Literal["ordered", "sorted"]


@dataclass(frozen=True, slots=True)
class AccessPath:
    """How rows of one order are reached.

    ordered: the index gives them in order, a page stops early. sorted: all matching rows are read
    and sorted. `index` is None where the table itself is read. `fixed` columns narrow the entries
    to `share` of the table, `residual` conditions keep `passing` of these. `covering`: the table
    is never visited. `bounded`: a range limits the column behind the fixed ones.
    """

    kind: PathKind
    index: IndexFacts | None
    fixed: tuple[str, ...]
    share: float
    residual: tuple[str, ...]
    passing: float
    covering: bool
    bounded: bool = False

    @property
    def text(self) -> str:
        """One line on the path."""
        where = f"index {self.index.name} ({self.index.text})" if self.index else "whole table"
        after = {"ordered": "in order", "sorted": "then a sort"}[self.kind]
        return f"{where}, {after}"


def choose_path(outline: Outline, order: Order, table: TableFacts) -> AccessPath:
    """Return the access path the engine is expected to take for one order of a listing."""
    fixed = fixed_columns(outline)
    paths = [
        _path(outline, order, table, index)
        for index in table.indexes
        if not index.partial and _useful(index, order, fixed, table)
    ]
    paths += [_table_path(outline, order, table)]
    return min(paths, key=lambda path: (path.kind != "ordered" or bool(_lost(path, fixed)),
                                        len(_lost(path, fixed)), path.kind != "ordered",
                                        not path.covering, -len(path.fixed)))  # fmt: skip


def fixed_columns(outline: Outline) -> tuple[str, ...]:
    """Return the columns of the paged table that equality conditions fix."""
    return tuple(
        condition.column
        for condition in outline.conditions
        if condition.kind == "equal" and condition.table == outline.table
    )


def advise_index(outline: Outline, order: Order, table: TableFacts) -> IndexFacts:
    """Return the index that would serve one order: equality columns, then the order's terms.

    Terms run in the order's own directions or all reversed, whichever begins ascending; a row id
    at the end is left out where the engine's own already runs that way.
    """
    fixed = fixed_columns(outline)
    terms = [term for term in order.terms if term.name not in fixed]
    if terms and terms[0].descending:
        terms = [term.reversed() for term in terms]
    if terms and terms[-1].name == table.row_id and not terms[-1].descending:
        terms = terms[:-1]
    columns = [IndexColumn(name) for name in fixed]
    columns += [IndexColumn(term.name, term.descending) for term in terms]
    name = "_".join([table.name, "by", *(column.name or "" for column in columns)])
    return IndexFacts(name, tuple(columns), entry_bytes=entry_bytes(columns, table))


def entry_bytes(columns: Sequence[IndexColumn], table: TableFacts) -> float:
    """Return the mean bytes of an index entry: its columns, the row id and about 4 of header."""
    widths = [table.column(column.name).width or 8.0 for column in columns if column.name]
    return sum(widths) + 4.0 + 4.0


def serves_order(index: IndexFacts, order: Order, fixed: Sequence[str], table: TableFacts) -> bool:
    """Tell whether an index gives rows in an order, its leading columns fixed by equality."""
    names = [column.name for column in index.columns]
    lead = 0
    while lead < len(names) and names[lead] in fixed:
        lead += 1
    rest = [term for term in order.terms if term.name not in fixed]
    offered = list(index.columns[lead:])
    if table.row_id is not None and table.row_id not in [column.name for column in offered]:
        offered.append(IndexColumn(table.row_id))
    if len(offered) < len(rest):
        return False
    flips = {_flip(column, term) for column, term in zip(offered, rest, strict=False)}
    return len(flips) <= 1 and None not in flips


def _flip(column: IndexColumn, term: Term) -> bool | None:
    """Return whether the index must be read backward for a term, None where it has another."""
    return None if column.name != term.name else column.descending != term.descending


def _useful(index: IndexFacts, order: Order, fixed: Sequence[str], table: TableFacts) -> bool:
    leads = bool(index.columns) and index.columns[0].name in fixed
    return leads or serves_order(index, order, fixed, table)


def _path(outline: Outline, order: Order, table: TableFacts, index: IndexFacts) -> AccessPath:
    fixed = fixed_columns(outline)
    used: list[str] = []
    for column in index.columns:
        if column.name not in fixed:
            break
        used.append(column.name or "")
    ordered = serves_order(index, order, fixed, table)
    behind = index.columns[len(used)].name if len(used) < len(index.columns) else None
    share, residual, passing = _shares(outline, table, used, behind)
    held = {column.name for column in index.columns} | {table.row_id}
    needed = {name for owner, name in outline.columns if owner == table.name}
    needed |= set(order.names) | {c.column for c in outline.conditions if c.table == table.name}
    return AccessPath(
        "ordered" if ordered else "sorted", index, tuple(used), share, residual, passing,
        covering=needed <= held and len(outline.tables) == 1,
        bounded=any(c.column == behind and c.kind == "range" for c in outline.conditions),
    )  # fmt: skip


def _table_path(outline: Outline, order: Order, table: TableFacts) -> AccessPath:
    """The table itself: in order where the order is that of the row id."""
    by_id = table.row_id is not None and order.names[:1] == (table.row_id,)
    share, residual, passing = _shares(outline, table, ())
    return AccessPath(
        "ordered" if by_id else "sorted", None, (), share, residual, passing, covering=False
    )


def _lost(path: AccessPath, fixed: Sequence[str]) -> list[str]:
    return [name for name in fixed if name not in path.fixed]


def _shares(
    outline: Outline, table: TableFacts, used: Sequence[str], behind: str | None = None
) -> tuple[float, tuple[str, ...], float]:
    """Return the share that an index leaves, and the other conditions with what they pass.

    `used` columns are fixed; the column `behind` them in the index may be bounded by a range.
    """
    share, passing = 1.0, 1.0
    residual = []
    for condition in outline.conditions:
        part = condition_share(outline, condition.column, table, condition.kind)
        fixes = condition.column in used and condition.kind == "equal"
        if fixes or (condition.column == behind and condition.kind == "range"):
            share *= part
        else:
            residual.append(condition.column)
            passing *= part
    return share, tuple(residual), passing


def condition_share(outline: Outline, column: str, table: TableFacts, kind: str) -> float:
    """Return the share of rows one condition keeps, from facts or by the trade's rules of thumb.

    Without facts: 1 % for equality, a third for a range or for what cannot be read (Selinger and
    others 1979 use 10 % and a third).
    """
    if not table.has_column(column):
        return 1 / 3
    facts = table.column(column)
    if kind == "null":
        return facts.null_share if facts.null_share is not None else 1 / 3
    if kind != "equal":
        return 1 / 3
    condition = next(c for c in outline.conditions if c.column == column and c.kind == "equal")
    value = condition.value
    if condition.parameter is not None:
        value = outline.params.get(condition.parameter, value)
    if value is None:  # no typical value is known: that of a mean one
        return 1 / facts.distinct if facts.distinct else 0.01
    share = facts.share_of(value)
    return 0.01 if share is None else share
