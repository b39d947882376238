"""Walkers: readers who go through a listing's pages by one strategy, and keep what they got."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, Engine, create_engine
from sqlalchemy.pool import StaticPool

from vrelko.core.drift.walks import DriftStrategy
from vrelko.core.spot import Spot
from vrelko.engines.views import hold_view
from vrelko.serving.listing import Listing
from vrelko.serving.pages.page import Page
from vrelko.serving.steady.frozen import FrozenIds
from vrelko.serving.steady.settings import Steady

_STRATEGIES: dict[DriftStrategy, str] = {
    "offset": "offset", "ceiling": "offset", "overlap": "offset", "keyset": "keyset",
    "frozen-view": "keyset", "frozen-ids": "frozen-ids",
}  # fmt: skip


@dataclass
class Walker:
    """One reader of a listing by one strategy; `turn` reads the next page.

    `pages` hold the keys of the rows of each, as `Page.keys` gives them. `engine` is where views
    are held. Lists of ids are kept in memory.
    """

    listing: Listing
    strategy: DriftStrategy
    size: int
    params: Any
    engine: Engine
    overlap: int = 0
    pages: list[list[tuple[Any, ...]]] = field(default_factory=list)
    ended: bool = False

    def __post_init__(self) -> None:
        # No fields: whoever makes a walker has no say in these.
        self._last: Page | None = None
        self._frozen: FrozenIds | None = None
        self._held = ExitStack()
        self._view: Connection | None = None
        if self.strategy == "frozen-ids":
            # One connection for all threads, or each would have a memory of its own.
            store = create_engine(
                "sqlite://", poolclass=StaticPool, connect_args={"check_same_thread": False}
            )
            self._held.callback(store.dispose)
            self._frozen = FrozenIds(store, most=10_000_000)
            self._frozen.create()
        steady = Steady(
            ceiling=self.strategy == "ceiling",
            overlap=self.overlap if self.strategy == "overlap" else None,
            settle=self.listing.steady.settle,
            frozen=self._frozen,
        )
        # A grid takes any offset; the statements are those of the listing's own kind.
        self._served = self.listing.with_strategy(_STRATEGIES[self.strategy], "grid", steady)

    def turn(self, connection: Connection) -> None:
        """Read the next page."""
        if self.strategy == "frozen-view":
            # Opened at the first page: the view is the walk's from its beginning, and no longer
            # held than that.
            if self._view is None:
                self._view = self._held.enter_context(hold_view(self.engine))
            connection = self._view
        if self._last is None:  # keys are compared with those that the plan's listing read
            known = self.listing.settings.variants
            self._served.settings.variants.read_as(known, connection.dialect, connection)
        page = self._served.read(
            connection,
            self._next(),
            params=self.params,
            size=self.size,
            # Readers of a replay look at rows; a count a page would cost more than the walk.
            total=False,
            # The first page sets the ceiling, and the walk carries it on.
            ceiling=None if self._last is None else self._last.ceiling,
        )
        self.pages.append(list(page.keys))
        self.ended = self._is_short(page)
        self._last = page

    def close(self) -> None:
        """Let go of what is held."""
        self._held.close()

    def _next(self) -> Spot | str | None:
        last, number = self._last, len(self.pages)
        if last is None:
            return None
        if self.strategy in ("keyset", "frozen-view"):
            return last.after
        # By position: whatever moved meanwhile, the next page is at the next multiple of its size.
        walk = last.walk
        return Spot("offset", at=number * self.size, digests=walk.digests, frozen=walk.frozen)

    def _is_short(self, page: Page) -> bool:
        """Tell whether the page was the last one: less was there than was asked for."""
        number = len(self.pages)
        if self.strategy == "frozen-ids":
            return (page.total.value or 0) < number * self.size
        if self.strategy == "overlap":
            # The page began so far back as to meet its predecessor's last rows again, and those
            # were taken out of it; the statement says how many came.
            begin = max((number - 1) * self.size - self.overlap, 0)
            return page.statements[0].rows < number * self.size - begin
        return len(page) < self.size
