"""What is asked of a listing beside its pages: places, periods, walks, statements, anchors."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Engine, Select

from vrelko.core.arithmetic import Total
from vrelko.core.spot import Spot
from vrelko.serving.anchors.counted import CountedAnchors
from vrelko.serving.anchors.filed import FileAnchors
from vrelko.serving.described import DescribedListing
from vrelko.serving.pages.external import gather, spell_out
from vrelko.serving.pages.page import Page
from vrelko.serving.pages.periods import (
    MOST_PERIODS,
    Period,
    list_periods,
    within_period,
)
from vrelko.serving.pages.request import as_known, lend
from vrelko.serving.pages.row_position import RowPosition, count_ahead, where_is
from vrelko.serving.pages.shares import Share, share_of, spot_at_share
from vrelko.serving.pages.walks import ranges, walk, walk_frozen


class AskedListing(DescribedListing):
    """The questions of a listing beside its pages."""

    def where_is(
        self,
        connection: Any,
        key: object,
        *,
        size: object = None,
        params: Mapping[str, Any] | None = None,
        order: str | None = None,
    ) -> RowPosition:
        """Return the page that holds a row, given its key or a row of a page.

        Counts the rows ahead of it. A row that is not there has the place it would take.
        """
        with lend(connection, self.settings) as lender:
            return as_known(
                self.settings,
                lambda: where_is(self.settings, lender, key, size, params, order),
            )

    def count_ahead(
        self,
        connection: Any,
        cursor: str | Spot,
        *,
        most: int = 99,
        params: Mapping[str, Any] | None = None,
        order: str | None = None,
        scope: object = None,
    ) -> Total:
        """Return how many rows stand ahead of a page ("37 new"), counting at most `most` + 1.

        `cursor`: `page.before` for rows above a page; `page.after` counts those behind it.
        """
        with lend(connection, self.settings) as lender:
            return as_known(
                self.settings,
                lambda: count_ahead(self.settings, lender, cursor, most, params, order, scope),
            )

    def periods(
        self,
        connection: Any,
        unit: str = "month",
        *,
        within: str | None = None,
        newest_first: bool = True,
        gaps: bool = False,
        counts: bool = False,
        most: int = MOST_PERIODS,
        params: Mapping[str, Any] | None = None,
        order: str | None = None,
        time_zone: str | None = None,
    ) -> tuple[Period, ...]:
        """Return the years, months or days that have rows, for archives.

        `within`: a year or month to stay inside. `gaps`: those without rows between them too.
        `counts`: the rows of each, which reads all their index entries; else one descent of the
        index finds each period. `most`: periods at most. `time_zone`: that in which days begin.
        Rows without a date lie in none. Raises PageError and ListingError.
        """
        with lend(connection, self.settings) as lender:
            asked = unit, within, newest_first, gaps, counts, most, params, order, time_zone
            return as_known(self.settings, lambda: list_periods(self.settings, lender, *asked))

    def spot_at_share(
        self,
        connection: Any,
        share: float,
        *,
        params: Mapping[str, Any] | None = None,
        order: str | None = None,
    ) -> Spot:
        """Return where the rows at a share of the way begin, from 0 to 1: for a scroll bar.

        Exact by counted anchors. Else estimated from PostgreSQL's histogram of the order's first
        column, or from SQLite's row ids; what that may be off by, `share_of` tells. Raises
        PageError where nothing tells: on MariaDB, of filtered rows and texts.
        """
        with lend(connection, self.settings) as lender:
            return as_known(
                self.settings,
                lambda: spot_at_share(self.settings, lender, share, params, order),
            )

    def share_of(
        self,
        connection: Any,
        at: object,
        *,
        params: Mapping[str, Any] | None = None,
        order: str | None = None,
    ) -> Share:
        """Return how far down a row stands, from 0 to 1, and how far that may be off.

        `at`: a row of a page, or the values of its order. By what `spot_at_share` goes by; raises
        as it does.
        """
        with lend(connection, self.settings) as lender:
            return as_known(
                self.settings,
                lambda: share_of(self.settings, lender, at, params, order),
            )

    def params_within(
        self,
        connection: Any,
        period: str,
        *,
        params: Mapping[str, Any] | None = None,
        time_zone: str | None = None,
    ) -> dict[str, Any]:
        """Return parameters that keep to a period, for `walk`, `ranges`, `where_is` and others.

        What `read(…, period=)` does by itself. Raises PageError.
        """
        return within_period(self.settings, connection, params, period, time_zone)

    def walk(
        self,
        source: Any,
        *,
        size: int = 1_000,
        start: Spot | str | None = None,
        until: Spot | str | None = None,
        params: Mapping[str, Any] | None = None,
        order: str | None = None,
        scope: object = None,
        frozen: bool | str | datetime = False,
        fresh: bool = False,
        time_limit_ms: float | None = None,
    ) -> Iterator[Page]:
        """Yield page after page to the end, `size` rows each, whatever the listing's own sizes.

        `source`: an Engine, with a connection and transaction of its own for each statement, so
        that a long walk holds nothing open; or a Connection or Session, read in its transaction
        (on MariaDB, whose default is repeatable read, that is one frozen view). `start`: where to
        begin; any page's `next` resumes a walk. `until`: an "after" cursor or spot, whose row is
        the last one. `frozen`: the rows as they stand at the first page (the frozen-view strategy),
        from one transaction held to the end, for which the server keeps old versions; on PostgreSQL
        the name of an exported snapshot, on MariaDB a moment of system-versioned tables. `fresh`:
        a statement a page; else they read 1, 2, 4, then 8 pages, 8,000 rows at most, into memory.
        `time_limit_ms`: milliseconds that each statement may take.
        """
        # Both walks take the same, and only the connection differs.
        given = size, start, until, params, order, scope, fresh, time_limit_ms
        settings = self.settings
        if frozen:
            return walk_frozen(settings, source, frozen, *given)
        return walk(settings, source, *given)

    def ranges(
        self,
        connection: Any,
        parts: int = 8,
        *,
        params: Mapping[str, Any] | None = None,
        order: str | None = None,
        scope: object = None,
    ) -> list[tuple[str | None, str | None]]:
        """Return cursors (start, until) that split the rows into about equal parts.

        Each pair goes into `walk`; together they give every row once. Counts the rows and walks
        their index once. Fewer pairs come back where there are fewer rows.
        """
        with lend(connection, self.settings) as lender:
            return as_known(
                self.settings,
                lambda: ranges(self.settings, lender, parts, params, order, scope),
            )

    def counted_anchors(
        self, engine: Engine, order: str | None = None, *, every: int | None = None
    ) -> CountedAnchors | FileAnchors:
        """Return the counted anchors of one of its orders, to build, keep up and drop them.

        Pages use them where the listing says `jumps="anchors"`; those of a listing with an
        `anchor_file` stand there, and are static. `every`: rows of an anchor. Raises
        ListingError for a listing that cannot have any: one table, plain columns, equalities.
        """
        filed = self.settings.anchor_file is not None
        return (FileAnchors if filed else CountedAnchors)(self.settings, engine, order, every)

    def statements(
        self,
        at: Spot | None = None,
        *,
        dialect: str = "postgresql",
        params: Mapping[str, Any] | None = None,
        size: object = None,
        order: str | None = None,
    ) -> tuple[Select[Any], ...]:
        """Return the selects of a page, for those who run them themselves.

        Run them one after the other, with `params`, until size + 1 rows are there, and give the
        results to `page_of`. No index is relied on. Raises PageError and OrderError.
        """
        return spell_out(self.settings, at, dialect, params, size, order)

    def page_of(
        self,
        results: Sequence[Any],
        at: Spot | None = None,
        *,
        dialect: str = "postgresql",
        params: Mapping[str, Any] | None = None,
        size: object = None,
        order: str | None = None,
        scope: object = None,
    ) -> Page:
        """Return the page that the results of `statements` hold, in the order they were run.

        Takes what `statements` took. The total is not known, and a page before a key takes it that
        rows follow.
        """
        return gather(self.settings, results, at, dialect, params, size, order, scope)
