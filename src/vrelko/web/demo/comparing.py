"""The same walk by offset and by keyset: what comes twice, what is skipped, what it costs."""

from __future__ import annotations

import secrets
from collections import OrderedDict
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, and_, func, or_, select

from vrelko.engines.sqlite.capabilities import count_steps
from vrelko.errors import PageError
from vrelko.larkmere.schema import capture
from vrelko.serving.listing import Listing
from vrelko.sql.text import render_sql
from vrelko.web.bodies import rows_of, to_json
from vrelko.web.demo.listings import BY_KEYSET, BY_OFFSET
from vrelko.web.demo.live import Live

DRIFT_STRATEGIES = {"offset": BY_OFFSET, "keyset": BY_KEYSET}
_MOST_WALKS = 200


@dataclass
class _Side:
    """One strategy's walk so far."""

    cursor: str | None = None
    ended: bool = False
    seen: dict[int, int] = field(default_factory=dict)
    repeats: int = 0
    pages: int = 0


@dataclass
class _Both:
    """One comparison: both walks, and the highest capture there was when it began."""

    last: int
    sides: dict[str, _Side]


class Comparisons:
    """Comparisons under way, the latest two hundred."""

    def __init__(self, live: Live) -> None:
        self._live = live
        self._walks: OrderedDict[str, _Both] = OrderedDict()

    def begin(self) -> str:
        """Begin a comparison, and return its name."""
        name = secrets.token_urlsafe(9)
        self._walks[name] = _Both(
            self._live.last, {strategy: _Side() for strategy in DRIFT_STRATEGIES}
        )
        while len(self._walks) > _MOST_WALKS:
            self._walks.popitem(last=False)
        return name

    def turn(self, name: str, strategy: str, size: int) -> dict[str, Any]:
        """Read a strategy's next page; tell what it repeats, skips and costs. Raises PageError."""
        if name not in self._walks or strategy not in DRIFT_STRATEGIES:
            raise PageError("there is no walk of this number", "Begin a new one", "demo-walk")
        both = self._walks[name]
        side, listing = both.sides[strategy], DRIFT_STRATEGIES[strategy]
        if side.ended:
            return {"rows": [], "ended": True, **self._counts(both, side, 0), "cost": None}
        with self._live.engine.connect() as connection:
            page = listing.read(connection, side.cursor, size=size)
            # Before the cursor moves on: the same page once more.
            # (Apart from the timed run: SQLite counts steps by calling back, which takes time
            # itself.)
            touched = _count_touched(connection, listing, side.cursor, size)
            rows = rows_of(page)
            for row in rows:
                row["again"] = row["id"] in side.seen
                side.repeats += row["again"]
                # The page that it came on first stays.
                side.seen.setdefault(row["id"], side.pages)
            side.pages += 1
            side.cursor, side.ended = page.next, page.next is None
            skipped = self._skipped(connection, both, side, rows)
            cost = {
                "sql": [
                    render_sql(one.select, connection.dialect, size + 1) for one in page.statements
                ],
                "ms": round(sum(one.seconds for one in page.statements) * 1e3, 2),
                "touched": touched,
                "bytes": len(to_json(rows).encode()),
            }
        return {
            "rows": rows,
            "ended": side.ended,
            **self._counts(both, side, skipped),
            "cost": cost,
        }

    def _counts(self, both: _Both, side: _Side, skipped: int) -> dict[str, Any]:
        return {
            "page": side.pages,
            "shown": len(side.seen),
            "repeats": side.repeats,
            "skipped": skipped,
        }

    def _skipped(
        self, connection: Connection, both: _Both, side: _Side, rows: list[dict[str, Any]]
    ) -> int:
        """Count captures that were there at the start and are, ahead of the place reached."""
        if not rows:
            return 0
        at, number = rows[-1]["caught_at"], rows[-1]["id"]
        ahead = or_(
            capture.c.caught_at > at, and_(capture.c.caught_at == at, capture.c.id >= number)
        )
        # By counting, not by a list: what is there changes under the walk, and that is the point.
        there = select(func.count()).where(ahead, capture.c.id <= both.last)
        # Captures that came later were not there to be skipped.
        known = [one for one in side.seen if one <= both.last]
        still = select(func.count()).where(capture.c.id.in_(known), ahead)
        return int(connection.scalar(there) or 0) - int(connection.scalar(still) or 0)


def _count_touched(
    connection: Connection, listing: Listing, cursor: str | None, size: int
) -> int | None:
    """Count the steps of a page's statements, by running them once more: counting slows them."""
    if connection.dialect.name != "sqlite":
        return None
    with count_steps(connection) as steps:
        listing.read(connection, cursor, size=size)
    return steps.count
