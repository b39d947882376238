"""The pure description of a listing that cost and plan are computed from."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from vrelko.core.arithmetic import Sizes
from vrelko.core.order import Order
from vrelko.core.strategies import Strategy
from vrelko.errors import ListingError, nearest

Kind = Literal["grid", "feed", "choices", "export"]
KINDS: tuple[Kind, ...] = ("grid", "feed", "choices", "export")

TotalKind = Literal["exact", "capped", "about", "none"]
TOTALS: tuple[TotalKind, ...] = ("exact", "capped", "about", "none")

ConditionKind = Literal["equal", "in", "range", "null", "other"]


@dataclass(frozen=True, slots=True)
class Condition:
    """One condition on rows: `equal` fixes a column, `in`, `range` and `null` narrow it.

    `parameter` names the value's parameter; `value` holds it where the select itself does; `sign`
    is a range's: <, <=, > or >=.
    """

    table: str
    column: str
    kind: ConditionKind
    parameter: str | None
    value: Any
    sign: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Outline:
    """What one listing shows, without SQL.

    `tables` are base table names, the one whose rows are paged first. `columns` are selected ones
    as (table, column). `orders` are total, the default first, their terms bare column names of the
    first table where they are such. `given` holds, for each, how many of its terms the caller gave.
    `strategy` is the one it is served by today, None where that is open. `opaque` says what keeps
    the select from being read as tables and conditions, empty where nothing does. `computed` has
    the SQL of order terms that are expressions of the first table alone, by their names. `claimed`
    columns are said to identify a row, which nothing proves. `periods`: the column that years and
    months are told by. `counted_once`: the total is counted when a walk begins and at jumps, and
    carried by cursors to the pages behind. `jumps`: how page numbers are reached.
    """

    name: str
    kind: Kind
    tables: tuple[str, ...]
    columns: tuple[tuple[str, str], ...]
    conditions: tuple[Condition, ...]
    orders: tuple[Order, ...]
    given: tuple[int, ...]
    sizes: Sizes
    total: TotalKind
    cap: int
    strategy: Strategy | None = None
    params: dict[str, Any] = field(default_factory=dict)
    opaque: str = ""
    computed: dict[str, str] = field(default_factory=dict)
    claimed: tuple[str, ...] = ()
    counted_once: bool = True
    periods: str | None = None
    jumps: str = "offset"

    @property
    def table(self) -> str:
        """The table whose rows are paged."""
        return self.tables[0]

    @property
    def may_have_anchors(self) -> bool:
        """Whether page numbers of its rows can be reached by counted anchors."""
        plain = len(self.tables) == 1 and not (self.opaque or self.computed)
        # A range that differs by reader would need anchors for each of them.
        equal = all(one.kind == "equal" for one in self.conditions if one.parameter is not None)
        return self.kind == "grid" and plain and equal


def check_choice(value: str, known: tuple[str, ...], what: str) -> None:
    """Raise ListingError unless `value` is one of `known`."""
    if value not in known:
        raise ListingError(
            f"{what} {value!r} is not known", nearest(str(value), known), "listing-choice"
        )
