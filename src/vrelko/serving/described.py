"""What a listing is: its settings, by name."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Select, Table

from vrelko.core.arithmetic import Sizes
from vrelko.core.order import Order
from vrelko.core.outline import Outline
from vrelko.core.strategies import STRATEGIES
from vrelko.engines.registry import dialect_named, dialect_of
from vrelko.serving.settings import Settings
from vrelko.serving.steady.settings import Steady
from vrelko.serving.variants.variant import Variant
from vrelko.sql.filters import Filters
from vrelko.sql.outlines import Described, outline_of


class DescribedListing:
    """The parts of a listing that its settings hold."""

    settings: Settings
    """What its requests are served by."""

    arguments: dict[str, Any]
    """What it was made from, by name, but for the select."""

    @property
    def name(self) -> str:
        """What its cursors are bound to."""
        return self.settings.name

    @property
    def kind(self) -> str:
        """Its kind: grid, feed, choices or export."""
        return self.settings.kind

    @property
    def sizes(self) -> Sizes:
        """The rows that its pages may have."""
        return self.settings.sizes

    @property
    def total(self) -> str:
        """The kind of its total: exact, capped, about or none."""
        return self.settings.total

    @property
    def cap(self) -> int:
        """The rows that a capped total counts, or that a listing served whole may have."""
        return self.settings.cap

    @property
    def count(self) -> str:
        """When its total is counted: for each page, or once per walk."""
        return self.settings.count

    @property
    def strategy(self) -> str:
        """The strategy that its pages are served by."""
        return self.settings.strategy

    @property
    def steady(self) -> Steady:
        """How its pages are kept steady."""
        return self.settings.steady

    @property
    def filters(self) -> Filters:
        """Its parameters and optional filters."""
        return self.settings.variants.filters

    @property
    def claimed(self) -> tuple[str, ...]:
        """The columns that it was said to be unique by."""
        return self.settings.variants.claimed

    @property
    def described(self) -> Described:
        """What its select was found to be: tables, columns, keys and orders."""
        return self.settings.variants.described

    @property
    def given_orders(self) -> tuple[Order, ...]:
        """The allowed orders as they were given, before they were made total."""
        return self.settings.variants.described.given

    @property
    def select(self) -> Select[Any]:
        """The select whose rows are paged."""
        return self.settings.variants.select

    @property
    def paged_table(self) -> Table | None:
        """The base table whose rows are paged, the first one the select reads."""
        return self.settings.variants.table

    @property
    def paged_name(self) -> str:
        """The name that the select gives the table whose rows are paged: its alias, or its own."""
        return self.described.table_names[0]

    def orders(self, dialect: str = "sqlite") -> tuple[Order, ...]:
        """Return the allowed orders, made total, with NULL placement as the engine has it."""
        return self.settings.variants.orders(dialect)

    def variant(
        self, dialect: str, order: str | None, params: Mapping[str, Any] | None = None
    ) -> Variant:
        """Return one variant with its statements, for those who run them themselves.

        `params` say which optional filters are active; their values do not matter here.
        """
        # Which filters are active makes the variant; what they are given is a matter of each run.
        filters = self.filters
        active = filters.active(filters.check(params, partly=True))
        return self.settings.variants.variant(dialect_named(dialect), order, active)

    def lent_variant(
        self, lender: Any, order: str | None, params: Mapping[str, Any] | None = None
    ) -> Variant:
        """Return one variant as it is served on a connection, whose catalog may be asked."""
        filters = self.filters
        active = filters.active(filters.check(params, partly=True))
        return self.settings.variants.variant(
            dialect_of(lender, self.select), order, active, lender
        )

    def run_values(self, params: Mapping[str, Any] | None) -> dict[str, Any]:
        """Return the values to run statements with. Raises PageError."""
        return self.settings.variants.run_values(self.filters.check(params))

    def check_params(self, params: Mapping[str, Any] | None) -> dict[str, Any]:
        """Return the parameters in force. Raises PageError for unknown and missing ones."""
        return self.filters.check(params)

    def outline(self, dialect: str = "sqlite", params: Mapping[str, Any] | None = None) -> Outline:
        """Return the pure description of this listing, for planning.

        `params` are typical values; optional filters whose parameters they hold count as active.
        """
        described, filters, variants = self.described, self.filters, self.settings.variants
        given = filters.check(params, partly=True)
        active = filters.active(given)
        whole = filters.apply(self.select, active, described.searched, dialect)
        # What the user chose: a default is for the planner to weigh.
        chosen = self.arguments["strategy"]
        settings = {
            "name": self.name,
            "kind": self.kind,
            "sizes": self.sizes,
            "total": self.total,
            "cap": self.cap,
            "params": given,
            "strategy": chosen if chosen in STRATEGIES else None,
            "claimed": self.claimed,
            "counted_once": self.count == "once",
            "periods": None if variants.periods is None else variants.periods.name,
            "jumps": self.settings.jumps,
        }
        where = getattr(whole, "whereclause", None)
        # Orders that a search brings along are not planned: what it finds is not known.
        own = len(described.orders) - described.search_orders
        orders = self.orders(dialect)[:own]
        return outline_of(described, orders, where, settings, dialect_named(dialect))
