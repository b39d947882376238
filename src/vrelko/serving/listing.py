"""Listing: what one screen shows, described once and served page by page."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from sqlalchemy import ColumnElement, Connection, Select
from sqlalchemy.exc import SQLAlchemyError

from vrelko.core.arithmetic import Sizes
from vrelko.core.periods import Periods
from vrelko.core.spot import Spot
from vrelko.engines.registry import database_errors
from vrelko.errors import DatabaseError, ListingError
from vrelko.serving.pages.page import Page
from vrelko.serving.pages.periods import (
    around,
    within_period,
)
from vrelko.serving.pages.read import answer, check_ends
from vrelko.serving.pages.request import Request, as_known, lend, note_move
from vrelko.serving.pages.several import read_several, rows_spot
from vrelko.serving.questions import AskedListing
from vrelko.serving.setup import make_settings
from vrelko.serving.steady.settings import Steady
from vrelko.serving.variants.moved import CatalogMovedError
from vrelko.sql.search import Search

if TYPE_CHECKING:
    from vrelko.core.workload import Workload


class Chosen(Protocol):
    """A verdict: what says by which strategy to serve."""

    @property
    def strategy(self) -> str:
        """The strategy to take."""


class Planned(Protocol):
    """A plan, as far as serving needs it: whose it is, and its verdict."""

    @property
    def listing(self) -> str:
        """The name of the listing that was planned."""

    @property
    def verdict(self) -> Chosen:
        """What it says to do."""


class Listing(AskedListing):
    """A select, its orders, filters and page sizes, served page by page.

    `select`: a SQLAlchemy select, Core or ORM. `name` binds cursors to this listing (else its
    tables' names do). `kind`: grid, feed, choices or export. `orders`: the allowed ones as text or
    ORDER BY expressions, the default first (else the select's own ORDER BY). `filters`: conditions
    by name, each applied only when its parameters are given. `search`: a text search, applied when
    `params` hold "search". `sizes`: default and most rows per page.

    `total`: exact, capped (counts at most `cap` rows), about (the engine's estimate) or none; left
    out, capped for a grid, none for others. `count`: "once" per walk (and at jumps by number),
    carried in the cursors, or for "each" page. `count_ms`: the longest a count may take; beyond it
    the total is unknown.
    `over_cap`: whether a listing served whole is an "error" beyond `cap` rows or shows the first
    ones ("truncate")

    `secrets` sign the cursors, newest first; `expires_s` limits their life. Key columns that the
    select does not show are encrypted with the secrets, or named in `expose` (True: all).
    `unique` names columns that identify a row where no constraint proves it. `strategy`: keyset
    (default), offset, two-ended, deferred-join, frozen-ids or whole. `steady`: how pages
    are kept steady while rows change, beside going by key. `max_offset`: the largest row offset.
    `workload`: its readers, writers, needs and typical parameters, for planning. `periods`: the
    date/time column that years, months and days are told by (see `Listing.periods`). `jumps`: how a
    page number is reached, by "offset" or by "anchors"; those stand in the database, or in
    `anchor_file`, as of its last build.

    Raises ListingError and OrderError for what cannot be paged.
    """

    def __init__(
        self,
        select: Select[Any],
        *,
        name: str | None = None,
        kind: str = "grid",
        orders: str | Sequence[Any] | None = None,
        filters: Mapping[str, ColumnElement[bool]] | None = None,
        search: Search | None = None,
        sizes: Sizes | None = None,
        total: str | None = None,
        cap: int = 10_000,
        count: str = "once",
        count_ms: float | None = None,
        over_cap: str = "error",
        secrets: Sequence[bytes | str] = (),
        expires_s: float | None = None,
        expose: Sequence[str] | bool = (),
        unique: Sequence[str] | None = None,
        strategy: str | None = None,
        max_offset: int | None = None,
        workload: Workload | None = None,
        steady: Steady | None = None,
        periods: str | Periods | None = None,
        jumps: str = "offset",
        anchor_file: str | Path | None = None,
    ) -> None:
        # Kept as they were given: `changed` makes another listing of them.
        arguments = {key: value for key, value in locals().items() if key not in ("self", "select")}
        settings = make_settings(select, arguments)
        own = {"settings": settings, "arguments": arguments, "_workload": workload}
        # Its own __setattr__ refuses, as everybody's does.
        for key, value in own.items():
            object.__setattr__(self, key, value)

    _workload: Workload | None

    def __setattr__(self, name: str, value: object) -> None:
        raise ListingError(
            f"a listing is immutable, so its {name!r} cannot be set",
            f"Make another one: listing.changed({name}=…)",
            "listing-immutable",
        )

    # Deleting a setting would change what cursors are bound to as much as setting it.
    __delattr__ = __setattr__  # type: ignore[assignment]

    # Nothing of it can change, so a copy would be the same listing with caches of its own.
    def __copy__(self) -> Listing:
        return self

    def __deepcopy__(self, memo: Any) -> Listing:
        return self

    def __reduce__(self) -> Any:
        raise ListingError(
            "a listing cannot be pickled",
            "Make it in each process, at import, and send cursors or page.as_dict()",
            "listing-pickled",
        )

    def __repr__(self) -> str:
        return f"<Listing {self.name!r}, {self.kind} by {self.described.orders[0]}>"

    def with_workload(self, workload: Workload) -> Listing:
        """Return the listing with other readers, writers, needs and typical parameters."""
        return self.changed(workload=workload)

    def changed(self, **arguments: Any) -> Listing:
        """Return another listing of the same select, with these arguments instead of its own."""
        return Listing(self.select, **{**self.arguments, **arguments})

    @property
    def workload(self) -> Workload:
        """Its readers, writers, needs and typical parameters; usual ones if not given."""
        from vrelko.core.workload import Workload

        return self._workload or Workload()

    def read(
        self,
        connection: Any,
        at: Spot | str | None = None,
        *,
        params: Mapping[str, Any] | None = None,
        size: object = None,
        order: str | None = None,
        scope: object = None,
        total: bool = True,
        on_bad_page: str = "error",
        past_end: str = "empty",
        time_limit_ms: float | None = None,
        ceiling: Spot | str | None = None,
        period: str | None = None,
        time_zone: str | None = None,
    ) -> Page:
        """Read one page.

        `connection`: a SQLAlchemy Connection or Session (an Engine lends one for the page). `at`: a
        Spot, a cursor, or None or "" for the first page. `params`: values by parameter name; None
        leaves an optional filter out. `size`: rows, as an int or text from a URL. `order`: one of
        the allowed orders. `scope`: a tenant or user that cursors are bound to. `total=False` does
        not count. `on_bad_page="clamp"` gives the nearest page there is instead of an error, and
        says so in `page.clamped`. `past_end`: what a number behind the last page gives, or a grid's
        cursor whose page is gone: an "empty" page, the "last" one, or an "error". `time_limit_ms`:
        the longest a statement may take; the caller's transaction goes on after one that took
        longer.
        `ceiling`: `page.ceiling` of a numbered page's walk, where the listing has one. `period`:
        "2026", "2026-07" or "2026-07-14", whose rows alone are paged: with numbers, a total and a
        first and last page of its own, and its neighbours in `page.period`; cursors are bound to
        it. Its days begin at midnight in `time_zone`.

        Raises CursorError, PageError, OrderError, TimeLimitError and DatabaseError.
        """
        # The usual words need no check; this runs for every page.
        if on_bad_page != "error" or past_end != "empty":
            check_ends(on_bad_page, past_end)
        request = Request(
            at=at,
            params=params,
            size=size,
            order=order,
            scope=scope,
            total=total,
            on_bad_page=on_bad_page,
            past_end=past_end,
            time_limit_ms=time_limit_ms,
            ceiling=ceiling,
        )
        # Most requests are these, and need nothing lent.
        if period is None and isinstance(connection, Connection) and not self.settings.variants.orm:
            try:
                return answer(self.settings, connection, request)
            except CatalogMovedError as moved:
                note_move(self.settings, moved, False)
        return self._read(connection, request, period, time_zone)

    def _read(
        self, connection: Any, request: Request, period: str | None, time_zone: str | None
    ) -> Page:
        """Read a page with what a lender lends, and of a period where one is given."""
        params = request.params
        with lend(connection, self.settings) as lender:
            if period is not None:
                request.params = within_period(self.settings, lender, params, period, time_zone)
            page = as_known(self.settings, lambda: answer(self.settings, lender, request))
            if period is not None:
                page.period = around(self.settings, lender, period, params, time_zone)
        return page

    def read_rows(
        self,
        connection: Any,
        first: object,
        count: object,
        *,
        walk: Spot | str | None = None,
        params: Mapping[str, Any] | None = None,
        order: str | None = None,
        scope: object = None,
        total: bool = True,
        time_limit_ms: float | None = None,
    ) -> Page:
        """Read any range of rows, for virtual scrolling: `count` rows from row offset `first` on.

        Fewer come where the listing ends. `walk`: a cursor of a page read before; its total then
        holds on, and is not counted again. `count` is within the listing's sizes. The rest is as
        for `read`, and so is what is raised.
        """
        request = Request(
            at=None,
            params=params,
            size=count,
            order=order,
            scope=scope,
            total=total,
            time_limit_ms=time_limit_ms,
        )
        with lend(connection, self.settings) as lender:
            request.at = rows_spot(self.settings, lender, first, walk, request)
            return as_known(self.settings, lambda: answer(self.settings, lender, request))

    def read_many(
        self,
        connection: Any,
        spots: Sequence[Spot | str | None],
        *,
        params: Mapping[str, Any] | None = None,
        size: object = None,
        order: str | None = None,
        scope: object = None,
        total: bool = True,
        time_limit_ms: float | None = None,
    ) -> list[Page]:
        """Read several pages, such as a grid's neighbours, on one connection.

        Page numbers that follow one another are read by one statement; other spots one by one, in
        the connection's transaction. At most 20. Raises what `read` raises.
        """
        request = Request(
            at=None,
            params=params,
            size=size,
            order=order,
            scope=scope,
            total=total,
            time_limit_ms=time_limit_ms,
        )
        with lend(connection, self.settings) as lender:
            return as_known(
                self.settings, lambda: read_several(self.settings, lender, spots, request)
            )

    async def aread(self, connection: Any, at: Spot | str | None = None, **request: Any) -> Page:
        """Read one page on an AsyncConnection or AsyncSession; an AsyncEngine lends one.

        Takes what `read` takes, and raises the same.
        """
        # By what they can do, so that asyncio support is not imported where nobody uses it.
        if hasattr(connection, "sync_engine") and hasattr(connection, "connect"):
            lent = connection.connect()
            with database_errors("connection"):
                await lent.start()
            try:
                return await self.aread(lent, at, **request)
            finally:
                with suppress(SQLAlchemyError):  # of a server that is gone meanwhile
                    await lent.close()
        if hasattr(connection, "registry") and callable(connection):  # of a scope
            connection = connection()
        if not hasattr(connection, "run_sync"):
            raise DatabaseError(
                f"{type(connection).__name__} is not asynchronous",
                "Pass an AsyncConnection, AsyncSession or AsyncEngine, or use listing.read(…)",
                "connection-kind",
            )
        page: Page = await connection.run_sync(lambda lender: self.read(lender, at, **request))
        return page

    def using(self, plan: Planned) -> Listing:
        """Return this listing served with the strategy of a plan's verdict.

        Raises ListingError when the plan is another listing's.
        """
        if plan.listing != self.name:
            raise ListingError(
                f"the plan is for {plan.listing!r}, this listing is {self.name!r}",
                "Plan this listing, or give both the same name=",
                "plan-listing",
            )
        return self.with_strategy(plan.verdict.strategy)

    def with_strategy(
        self, strategy: str, kind: str | None = None, steady: Steady | None = None
    ) -> Listing:
        """Return this listing served by another strategy, and as another kind if one is given.

        A settle delay stays; other steadiness is that of `steady`. Jumps go by anchors only where
        those can serve them: in grids that go on by keyset.
        """
        kept = steady or Steady(settle=self.steady.settle)
        told: dict[str, Any] = {"strategy": strategy, "kind": kind or self.kind, "steady": kept}
        if (strategy, told["kind"]) != ("keyset", "grid"):
            # Else the arguments would exclude each other, which nobody asked for.
            told |= {"jumps": "offset", "anchor_file": None}
        return self.changed(**told)
