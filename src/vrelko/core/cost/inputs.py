"""Inputs of the cost formulas: one statement's table and access path, and what follows of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from vrelko.core.access_path import AccessPath
from vrelko.core.cost.groups import Groups, find_groups
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ServerFacts, TableFacts, declared_bytes
from vrelko.core.index import IndexFacts
from vrelko.core.order import Order
from vrelko.core.outline import Outline
from vrelko.core.seek import plan_ranges


@dataclass(frozen=True, slots=True, kw_only=True)
class CostInputs:
    """What a listing's statements in one order meet on one access path.

    `columns` are fetched, hidden keys included, `reals` of them floats; `row_bytes` is sent for a
    row. `tie` is the mean number of rows that differ in the row id alone, 0 where the order does
    not end in it. `declared` are the most bytes a fetched row can take, by its columns' types. Each
    row leads to one of each of `joins` other tables; `terms` of the order are not fixed by a
    condition. `nulls` are the shares of the order at which its leading term's NULLs begin and end.
    `splits` has, for each further statement of a key whose ranges are run one after the other, the
    mean number of rows that share the terms which the statements ahead of it hold fast.
    `listing_rows` are given where `passing` is that of one place alone.
    """

    server: ServerFacts
    table: TableFacts
    path: AccessPath
    columns: int
    reals: int
    row_bytes: float
    tie: float
    declared: float
    in_order: bool
    joins: int = 0
    terms: int = 1
    nulls: tuple[float, float] | None = None
    splits: tuple[float, ...] = ()
    order: Order = field(default_factory=lambda: Order(()))
    listing_rows: float | None = None

    @property
    def sorted_by(self) -> float:
        """The most bytes that MariaDB takes of a row's values to sort it by."""
        return sum(min(_declared(self.table, name), 1024.0) for name in self.order.names)

    @property
    def groups(self) -> Groups | None:
        """The groups that a page is sorted in; None where it is not sorted by groups."""
        if self.path.kind != "grouped":
            return None
        return find_groups(self.order, self.path, self.table)

    def grouped(self, skip: float, rows: float, at: float = 0.0) -> float:
        """Entries read until the groups of a page behind `skip` rows, or a key at `at`, end."""
        # One row more: where a group ends is seen at the first row of the next.
        first, end = self.touched(skip, rows, at)
        return min(max(end - first, 0.0) + 1, self.reached)

    def touched(self, skip: float, rows: float, at: float = 0.0) -> tuple[float, float]:
        """Where the first group that a page touches begins, and where its last one ends."""
        groups = self.groups
        assert groups is not None
        # Rows on pages are those that pass; groups hold the others as well.
        begin, end = at / self.passing, (at + skip + rows) / self.passing
        # The first page begins where the first group does, by definition.
        return (groups.begin(begin) if at else 0.0), groups.end(min(end, groups.rows))

    @property
    def matching(self) -> float:
        """Rows the listing has."""
        # A profile gives the share of one place alone: the listing's rows are then given apart.
        if self.listing_rows is not None:
            return self.listing_rows
        return self.table.rows * self.path.share * self.path.passing

    @property
    def reached(self) -> float:
        """Entries that the path's fixed columns leave."""
        return self.table.rows * self.path.share

    @property
    def passing(self) -> float:
        """The share of these that the other conditions let pass, never 0."""
        return max(self.path.passing, 1e-9)

    @property
    def rows_per_block(self) -> float:
        """Rows a table block."""
        return max(self.table.rows / max(self.table.blocks, 1.0), 1.0)

    @property
    def entries_per_leaf(self) -> float:
        """Entries a leaf of the path's index; of the table itself without one."""
        index = self.path.index
        if index is None or self._is_cluster(index):
            return self.rows_per_block
        if index.leaf_blocks:
            # How many rows a partial index holds is not in the catalog: half of them errs least.
            rows = self.table.rows * (0.5 if index.partial else 1.0)
            return max(rows / index.leaf_blocks, 1.0)
        # B-trees are filled to about nine tenths when they are built.
        return max(self.server.block_bytes * 0.9 / (index.entry_bytes or 20.0), 1.0)

    @property
    def levels(self) -> int:
        """Blocks from the root of the path's tree to a leaf."""
        index = self.path.index
        if index is None or self._is_cluster(index):
            return self.table.levels
        return index.levels or 3

    def entries(self, need: float) -> float:
        """Entries walked until `need` of them passed."""
        return min(need / self.passing, self.reached)

    def _is_cluster(self, index: IndexFacts) -> bool:
        return self.table.clustered and index.name == "PRIMARY"


def make_inputs(
    outline: Outline, order: Order, path: AccessPath, table: TableFacts, server: ServerFacts
) -> CostInputs:
    """Return the inputs of a listing's order over an access path."""
    selected = {name for owner, name in outline.columns if owner == table.name}
    # A cursor needs the key, whether it is shown or not.
    hidden = [name for name in order.names if name not in selected]
    traits = TRAITS[server.engine]
    if traits.reads_text_moments:
        # SQLite's text of a moment is fetched beside its value, so that the key compares as stored.
        hidden += [name for name in order.names if name in selected and _is_moment(table, name)]
    fetched = [*selected, *hidden]
    reals = sum(_is_real(table, name) for name in fetched) if traits.slow_floats else 0
    # Of columns of joined tables and of expressions no width is known: eight bytes each.
    widths = [_width(table, name) for owner, name in outline.columns if owner == table.name]
    unknown = len(outline.columns) - len(widths)
    declared = sum(_declared(table, name) for name in fetched)
    return CostInputs(
        server=server,
        table=table,
        path=path,
        # A hidden key is fetched like any column; only the reader never sees it.
        columns=len(outline.columns) + len(hidden),
        reals=reals,
        row_bytes=sum(widths) + 8.0 * unknown,
        tie=_tie(order, table, path),
        declared=declared,
        in_order=path.kind == "ordered",
        joins=len(outline.tables) - 1,
        terms=sum(name not in path.fixed for name in order.names),
        nulls=_nulls(order, path, table),
        splits=_splits(order, path, table, server),
        order=order,
    )


def _splits(
    order: Order, path: AccessPath, table: TableFacts, server: ServerFacts
) -> tuple[float, ...]:
    """Return the rows that share what each statement but the last of a key holds equal.

    MariaDB takes all ranges in one statement; on SQLite those of one direction are costed by `tie`.
    """
    ranges = TRAITS[server.engine].key_ranges
    if ranges == "together" or (ranges == "mixed apart" and order.uniform):
        return ()
    # The same ranges as the server is sent: what is priced is what is read.
    parts = plan_ranges(order, [False] * len(order), "row-value")
    rows = table.rows * path.share
    return tuple(_sharing(order.names[: len(one.equal)], table, rows) for one in parts[:-1])


def _sharing(names: Sequence[str], table: TableFacts, rows: float) -> float:
    """Return the mean number of rows, of `rows`, that share the values of some columns."""
    distinct = 1.0
    for name in names:
        # Columns are taken as independent; statistics of several together are rare.
        known = table.column(name).distinct if table.has_column(name) else None
        distinct *= known or 1.0
    return max(rows / max(min(distinct, rows), 1.0), 1.0)


def _nulls(order: Order, path: AccessPath, table: TableFacts) -> tuple[float, float] | None:
    """Return where the NULLs of the order's first free term stand, None where there are none."""
    lead = next((term for term in order.terms if term.name not in path.fixed), None)
    if lead is None or not table.has_column(lead.name):
        return None
    # Nullable columns without any NULL are as good as others.
    share = table.column(lead.name).null_share
    if not share or not lead.nullable:
        return None
    return (0.0, share) if lead.nulls == "first" else (1 - share, 1.0)


def _width(table: TableFacts, name: str) -> float:
    return (table.column(name).width or 8.0) if table.has_column(name) else 8.0


def _declared(table: TableFacts, name: str) -> float:
    """Return the most bytes a value of a column may take."""
    return declared_bytes(table.column(name).type) if table.has_column(name) else 8.0


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
    # Only before a row id are ties a statement of their own.
    if order.names[-1] != table.row_id or len(order) == 1:
        return 0.0
    return _sharing(order.names[:-1], table, table.rows * path.share)
