"""Access paths as records: how rows of one order are reached, and what a server said of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from vrelko.core.index import IndexFacts

PathKind = Literal["ordered", "grouped", "sorted"]
Scan = Literal["index", "bitmap", "table"]
Sorts = Literal["none", "groups", "all"]

CLUSTER = "PRIMARY"
"""The index that holds the rows themselves, where an engine keeps them in one."""


@dataclass(frozen=True, slots=True)
class Lookup:
    """How another table of a join is read: for `each` row by an index, or once as a whole.

    `remembered`: rows sought before are not sought again. `matches`: rows found each time. `outer`:
    rows without a match stay. `first`: it is read first, and its rows lead to those that are paged.
    """

    table: str
    index: str | None
    each: bool
    remembered: bool = False
    covering: bool = False
    matches: float = 1.0
    blocks: float = 3.0
    rows: float = 0.0
    outer: bool = False
    first: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class AccessPath:
    """How rows of one order are reached.

    ordered: the index gives them in order, a page stops early. grouped: the index gives them in the
    order of its first terms, `presorted`; rows alike in these are read whole and sorted. sorted:
    all matching rows are read and sorted. `index` is None where the table itself is read. `fixed`
    columns narrow the entries to `share` of the table, `residual` conditions keep `passing` of
    these; `inside` tells that they are tested on the index alone. `covering`: the table is never
    visited. `bounded`: a range limits the column behind the fixed ones. `branches` of the index are
    read, one for each value of a set; `runs`: the share of rows of each value of a set that gives
    its rows in order by itself. `workers` read side by side. `parts` of a partitioned
    table are read, each from its beginning; `merged`: side by side. `lookups` read the other tables
    of a join. `unknown` names what the server said and nobody here understands.
    `profile`: the share that passes at places evenly spread along the order, where it differs.
    `joined`: the share that passes conditions on other tables, a part of `passing`. `backward`: the
    index is read from its end. `sorts_first`: rows are sorted before they are joined.
    """

    kind: PathKind
    index: IndexFacts | None
    fixed: tuple[str, ...]
    share: float
    residual: tuple[str, ...]
    passing: float
    covering: bool
    bounded: bool = False
    scan: Scan = "index"
    inside: bool = False
    branches: int = 1
    workers: int = 0
    runs: tuple[float, ...] = ()
    presorted: tuple[str, ...] = ()
    parts: int = 0
    merged: bool = False
    lookups: tuple[Lookup, ...] | None = None
    unknown: str = ""
    profile: tuple[float, ...] = ()
    joined: float = 1.0
    backward: bool = False
    sorts_first: bool = False

    @property
    def led_by(self) -> Lookup | None:
        """The other table of a join that is read first, None where the paged one is."""
        return next((one for one in self.lookups or () if one.first), None)

    @property
    def text(self) -> str:
        """One line on the path."""
        where = f"index {self.index.name} ({self.index.text})" if self.index else "whole table"
        by = " by a bitmap" if self.scan == "bitmap" else ""
        after = {
            "ordered": "in order",
            "sorted": "then a sort",
            "grouped": f"then a sort of rows alike in {', '.join(self.presorted)}",
        }[self.kind]
        return f"{where}{by}, {after}"

    @property
    def signature(self) -> str:
        """What kind of path it is: paths of one signature cost alike a unit of work."""
        scan = self.scan if self.index else "table"
        sort = {"ordered": "", "grouped": "groups", "sorted": "sort"}[self.kind]
        parts = [scan, "covering" if self.covering else "", sort]
        parts += ["residual" if self.residual else "", "workers" if self.workers else ""]
        parts += ["joins" if self.lookups else "", "unknown" if self.unknown else ""]
        return " ".join(part for part in parts if part)


@dataclass(frozen=True, slots=True)
class ExplainedPath:
    """What a server said it does for a statement.

    `index` it reads, None for the table; `covering` where it reads nothing else; what it `sorts`,
    groups of rows alike in the first `presorted` terms or all; the number of `workers`; the `parts`
    of a partitioned table it reads, `merged` or one after the other; `lookups` of joined tables;
    the `rows` it takes, where only the server knows them. `unbounded`: the condition bounds no
    index. `backward`: it reads the index from its end. `sorts_first`: it sorts rows before it joins
    them. `unknown` names the first thing it said that is not understood.
    """

    scan: Scan
    index: str | None
    covering: bool
    sorts: Sorts = "none"
    workers: int = 0
    presorted: int = 0
    parts: int = 0
    merged: bool = False
    lookups: tuple[Lookup, ...] = ()
    rows: float | None = None
    unbounded: bool = False
    backward: bool = False
    sorts_first: bool = False
    unknown: str = ""

    @property
    def signature(self) -> str:
        """The parts that tell one access path from another."""
        joined = " ".join(f"{one.table} {one.index} {one.each}" for one in self.lookups)
        return f"{self.scan} {self.index} {self.covering} {self.sorts} {self.workers} {joined}"
