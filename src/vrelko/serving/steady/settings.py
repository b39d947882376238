"""Ways to keep pages steady while rows change, beside going by key."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING, Any

from sqlalchemy import BigInteger, Select, Text, bindparam, cast, func

from vrelko.core.capabilities import Capabilities
from vrelko.errors import ListingError, nearest

if TYPE_CHECKING:
    from collections.abc import Mapping

    from vrelko.serving.steady.frozen import FrozenIds

SETTLED = "vrelko_settled"
"""The parameter of the moment up to which rows are settled."""


@dataclass(frozen=True, slots=True)
class Settle:
    """A delay for ascending tails: only rows that no late commit can fall behind are shown.

    `column` leads the order, and is written by the transaction that makes the row. With `seconds`
    it is a time of the application's clock (naive values hold UTC, numbers are seconds since 1970;
    `clock` returns the present moment in the column's own terms where that is otherwise), and rows
    younger than that wait. With `horizon` it holds the number of the writing transaction
    (`pg_current_xact_id()`), and rows wait until every transaction that began before has ended:
    exact, PostgreSQL alone, and held up by any long transaction of the server.
    """

    column: str
    seconds: float = 0.0
    horizon: bool = False
    clock: Callable[[], Any] | None = None

    def __post_init__(self) -> None:
        # Both, or neither.
        if self.horizon == (self.seconds > 0):
            raise ListingError(
                f"a settle delay needs seconds above 0 or horizon=True, one of them; got seconds="
                f"{self.seconds:g}, horizon={self.horizon}",
                "Measure commit delays (vrelko.watch_commits) and take settle_for(…) of them",
                "settle-value",
            )

    def apply(self, select: Select[Any], column: Any, able: Capabilities) -> Select[Any]:
        """Return the select with only its settled rows. Raises ListingError."""
        if not self.horizon:
            return select.where(column <= bindparam(SETTLED, type_=column.type))
        if not able.tells_open_transactions:
            raise ListingError(
                f"{able.engine} cannot say which transactions are under way",
                "Use seconds= there",
                "settle-horizon",
            )
        # Compared as numbers by way of text: xid8 casts to neither bigint nor numeric.
        oldest = func.pg_snapshot_xmin(func.pg_current_snapshot())
        return select.where(
            cast(cast(column, Text), BigInteger) < cast(cast(oldest, Text), BigInteger)
        )

    def values(self, column: Any) -> dict[str, Any]:
        """Return the parameter to run statements with."""
        if self.horizon:
            return {}
        # Numbers count seconds, so seconds are taken off.
        moment = issubclass(self._kind(column), datetime)
        delay = timedelta(seconds=self.seconds) if moment else self.seconds
        return {SETTLED: self._now(column) - delay}

    def find(self, columns: Mapping[str, Any]) -> Any:
        """Return the column among those that orders name. Raises ListingError."""
        # A column outside of all orders would cut the tail of none.
        if self.column not in columns:
            raise ListingError(
                f"no order of the listing names {self.column!r}, to settle by",
                nearest(self.column, columns),
                "settle-column",
            )
        if not self.horizon:
            self._kind(columns[self.column])
        return columns[self.column]

    def _now(self, column: Any) -> Any:
        if self.clock is not None:
            return self.clock()
        if not issubclass(self._kind(column), datetime):
            return time.time()
        now = datetime.now(UTC)
        return now if getattr(column.type, "timezone", False) else now.replace(tzinfo=None)

    def _kind(self, column: Any) -> type:
        try:
            kind: type = column.type.python_type
        except NotImplementedError:
            kind = str
        if not issubclass(kind, (datetime, int, float)) or issubclass(kind, date) != issubclass(
            kind, datetime
        ):
            raise ListingError(
                f"{self.column!r} is not a date/time column",
                "Settle by a date and time, by seconds since 1970, or with horizon=True",
                "settle-type",
            )
        return kind


@dataclass(frozen=True, slots=True)
class Steady:
    """How pages are kept steady while rows change.

    `ceiling`: pages by offset hold only rows at or behind the place where the walk's first page
    began, whose cursor is `page.ceiling`; rows that come above it shift nothing, and are counted
    by `count_ahead(connection, page.ceiling)`. Rows deleted still shift the others, and arrivals no
    longer make up for that. `overlap`: pages by offset ask again for so many rows ahead of them (0
    is a choice too), and leave out those that the walk has seen, of which cursors carry digests.
    `settle`: a delay for ascending tails. `frozen`: where lists of row ids are stored for
    the strategy "frozen-ids".
    """

    ceiling: bool = False
    overlap: int | None = None
    settle: Settle | None = None
    frozen: FrozenIds | None = None

    def settled(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """Return those of a statement's values that the delay gave."""
        return {SETTLED: values[SETTLED]} if SETTLED in values else {}

    def check(self, strategy: str, kind: str) -> None:
        """Raise ListingError for what does not go together."""
        by_offset = strategy in ("offset", "two-ended", "deferred-join")
        if self.overlap is not None and self.overlap < 0:
            raise ListingError(
                f"overlap must be at least 0 rows, got {self.overlap}",
                "Give 0 or more",
                "steady-overlap",
            )
        if self.overlap is not None and (strategy != "offset" or self.ceiling):
            raise ListingError(
                "an overlap is for pages by offset, without a ceiling",
                'Leave it out, or take strategy="offset"',
                "steady-overlap",
            )
        if self.ceiling and not (by_offset or strategy == "keyset"):
            raise ListingError(f"{strategy} has no ceiling", "Leave ceiling out", "steady-ceiling")
        # Neither is of use alone: no store, or one that nothing is put in.
        if (strategy == "frozen-ids") != (self.frozen is not None):
            raise ListingError(
                "the strategy 'frozen-ids' goes with frozen, neither without the other; got "
                f"strategy={strategy!r}",
                "Give strategy='frozen-ids' and steady=Steady(frozen=…), or neither",
                "steady-strategy",
            )
        if strategy == "frozen-ids" and kind != "grid":
            raise ListingError(
                f"frozen-ids serves numbered pages, a {kind} has none",
                'Give kind="grid", or another strategy',
                "steady-kind",
            )


UNSTEADY = Steady()
