"""Listing: what one screen shows, described once and served page by page."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import nullcontext
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from sqlalchemy import ColumnElement, Engine, Select, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.arithmetic import Sizes, Total
from vrelko.core.facts import IndexFacts
from vrelko.core.order import Order, make_total, parse_order, resolve_nulls
from vrelko.core.outline import KINDS, STRATEGIES, TOTALS, Outline, check_choice
from vrelko.core.seek import awkward_terms
from vrelko.core.spot import Spot
from vrelko.core.workload import Workload
from vrelko.engines.registry import capabilities_of, dialect_named, dialect_of, read_indexes
from vrelko.errors import ListingError, OrderError, PageError
from vrelko.serving.cursors import CursorBook, fingerprint_of
from vrelko.serving.page import Page, Ways
from vrelko.serving.reading import PageReader, settle_total
from vrelko.serving.running import Runner
from vrelko.serving.values import describe
from vrelko.serving.variants import Variant
from vrelko.sql.describing import Described, describe_select, outline_of
from vrelko.sql.filters import Filters
from vrelko.sql.indexes import NO_PINS, Pins, find_pins, places_nulls
from vrelko.sql.keys import key_column
from vrelko.sql.sources import base_table
from vrelko.sql.statements import make_source

if TYPE_CHECKING:
    from vrelko.serving.planning import Plan

_SPOTS = {
    "grid": ("start", "end", "after", "before", "number", "offset"),
    "feed": ("start", "after", "before"),
    "choices": ("start",),
    "export": ("start", "after", "before"),
}
"""Which spots each kind of listing takes."""


_MOST_KEPT = 1_000
"""Variants and fingerprints kept to be used again."""


class Listing:
    """A select, its orders, filters and page sizes, served page by page.

    `select`: a SQLAlchemy select of tables or joins. `name` binds cursors to this listing (else
    its tables' names do). `kind`: grid, feed, choices or export. `orders`: the allowed ones as
    text or ORDER BY expressions, the default first (else the select's own ORDER BY). `filters`:
    conditions by name, each applied only when its parameters are given. `total`: exact, capped
    (counts at most `cap` rows) or none; left out, capped for a grid, none for others. `secrets`
    sign the cursors, newest first. `unique` names columns that identify a row where no constraint
    proves it. `strategy`: keyset (default), offset or whole. `workload`: its readers, writers,
    needs and typical parameters, for planning.

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
        sizes: Sizes | None = None,
        total: str | None = None,
        cap: int = 10_000,
        secrets: Sequence[bytes | str] = (),
        unique: Sequence[str] | None = None,
        strategy: str | None = None,
        workload: Workload | None = None,
    ) -> None:
        check_choice(kind, KINDS, "kind")
        self.kind = kind
        self.total = total or ("capped" if kind == "grid" else "none")
        check_choice(self.total, TOTALS, "total")
        self.strategy = strategy or ("whole" if kind == "choices" else "keyset")
        self._chosen = strategy
        check_choice(self.strategy, STRATEGIES, "strategy")
        if cap < 1:
            raise ListingError(f"cap {cap} counts no row", "Give at least 1", "listing-cap")
        self.cap = cap
        self.sizes = sizes or Sizes()
        self._described: Described = describe_select(select, orders, unique)
        self._select, self._unique = select, unique
        self.name = name or "+".join(self._described.table_names)
        self._named = name
        self._filters = Filters(select, filters or {})
        self.workload = workload or Workload()
        self._book = CursorBook(secrets)
        self._arguments: dict[str, Any] = {
            "name": name, "kind": kind, "orders": orders, "filters": filters, "sizes": self.sizes,
            "total": self.total, "cap": cap, "secrets": secrets, "unique": unique,
            "strategy": self.strategy, "workload": workload,
        }  # fmt: skip
        self._variants: dict[tuple[Any, ...], Variant] = {}
        self._orders: dict[str, tuple[Order, ...]] = {}
        self._indexes: dict[str, list[IndexFacts]] = {}
        self._fingerprints: dict[Any, bytes] = {}

    def __repr__(self) -> str:
        return f"<Listing {self.name!r}, {self.kind} by {self._described.orders[0]}>"

    @property
    def select(self) -> Select[Any]:
        """The select whose rows are paged."""
        return self._select

    @property
    def paged_table(self) -> Table | None:
        """The base table whose rows are paged, the first one the select reads."""
        return base_table(self._described.sources.tables[0])

    def orders(self, dialect: str = "sqlite") -> tuple[Order, ...]:
        """Return the allowed orders, made total, with NULL placement as the engine has it."""
        if dialect not in self._orders:
            nulls_low = capabilities_of(dialect).nulls_low
            found = self._described
            self._orders[dialect] = tuple(
                resolve_nulls(make_total(order, found.unique), found.nullable, nulls_low)
                for order in found.orders
            )
        return self._orders[dialect]

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
    ) -> Page:
        """Read one page.

        `connection`: a SQLAlchemy Connection or Session (an Engine lends one for the page). `at`: a
        Spot, a cursor, or None or "" for the first page. `params`: values by parameter name; None
        leaves an optional filter out. `size`: rows, as an int or text from a URL. `order`: one of
        the allowed orders. `scope`: a tenant or user that cursors are bound to. `total=False` does
        not count.

        Raises CursorError, PageError, OrderError; DatabaseError when the database refuses.
        """
        rows = self.sizes.check(size)
        given = self._filters.check(params)
        lent = connection.connect() if isinstance(connection, Engine) else nullcontext(connection)
        with lent as lender:
            variant = self._variant(dialect_of(lender), order, self._filters.active(given), lender)
            print_ = self._fingerprint(variant, given, scope)
            spot = self._spot_of(at, print_, variant)
            runner = Runner(lender, given)
            reader = PageReader(runner, variant, rows)
            if self.strategy == "whole":
                batch = self._read_whole(reader)
            else:
                kind = self.total if total else "none"
                early = spot.kind == "end" and self.kind == "grid"
                counted = self._count(runner, variant, kind) if early else None
                batch = settle_total(reader.read(spot, counted), kind, counted)
                if batch.total is None:
                    batch = settle_total(batch, kind, self._count(runner, variant, kind))
        numbered = self.kind == "grid"
        ways = Ways(
            lambda to: self._book.write(to, print_), variant, self.strategy == "offset", numbered
        )
        return Page(batch, rows, spot, ways, runner.asked)

    def using(self, plan: Plan) -> Listing:
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

    def with_strategy(self, strategy: str) -> Listing:
        """Return this listing served another way."""
        return Listing(self.select, **{**self._arguments, "strategy": strategy})

    def outline(self, dialect: str = "sqlite", params: Mapping[str, Any] | None = None) -> Outline:
        """Return the pure description of this listing, for planning.

        `params` are typical values; optional filters whose parameters they hold count as active.
        """
        given = self._filters.check(params, partly=True)
        whole = self._filters.apply(self.select, self._filters.active(given))
        settings = {
            "name": self.name, "kind": self.kind, "sizes": self.sizes,
            "total": self.total, "cap": self.cap, "params": given, "strategy": self._chosen,
        }  # fmt: skip
        where = getattr(whole, "whereclause", None)
        return outline_of(self._described, self.orders(dialect), where, settings)

    def variant(
        self, dialect: str, order: str | None, params: Mapping[str, Any] | None = None
    ) -> Variant:
        """Return one variant with its statements, for those who run them themselves.

        `params` say which optional filters are active; their values do not matter here.
        """
        given = self._filters.check(params, partly=True)
        return self._variant(dialect_named(dialect), order, self._filters.active(given))

    def check_params(self, params: Mapping[str, Any] | None) -> dict[str, Any]:
        """Return the parameters in force. Raises PageError for unknown and missing ones."""
        return self._filters.check(params)

    def _read_whole(self, reader: PageReader) -> Any:
        batch = reader.read_all(self.cap)
        if batch.after:
            raise PageError(
                f"the listing {self.name!r} has more than {self.cap:,} rows, too many for one page",
                "Serve it in pages, or raise cap=",
                "whole-over-cap",
            )
        return settle_total(batch, "exact", None)

    def _count(self, runner: Runner, variant: Variant, kind: str) -> Total:
        if kind == "none":
            return Total(None, "none")
        cap = self.cap if kind == "capped" else None
        value = int(runner.value(variant.count(cap)))
        if cap is not None and value > cap:
            return Total(cap, "capped")
        return Total(value, "exact")

    def _variant(
        self, dialect: Dialect, order: str | None, active: tuple[str, ...], lender: Any = None
    ) -> Variant:
        asked = dialect.name, order, active, lender is None
        found = self._variants.get(asked)
        if found is None:
            chosen = self._choose_order(dialect.name, order)
            where = dialect.name, str(chosen), active, lender is None
            found = self._variants.get(where) or self._make_variant(dialect, chosen, active, lender)
            if len(self._variants) >= _MOST_KEPT:
                self._variants.clear()
            self._variants[asked] = self._variants[where] = found
        return found

    def _make_variant(
        self, dialect: Dialect, chosen: Order, active: tuple[str, ...], lender: Any
    ) -> Variant:
        filtered = self._filters.apply(self.select, active)
        found = self._described
        if found.wrapped:  # conditions go inside the subquery, whose columns are its own
            found = describe_select(filtered, self._arguments["orders"], self._unique)
            filtered = found.select
        keys = [key_column(found.columns[name], dialect) for name in chosen.names]
        elements = [key.element for key in keys]
        pins, served = self._look_for_indexes(filtered, chosen, elements, dialect, lender)
        capabilities = capabilities_of(dialect.name)
        source = make_source(filtered, chosen, keys, capabilities, found.positions, pins, served)
        return Variant(source, filtered)

    def _look_for_indexes(
        self,
        filtered: Select[Any],
        order: Order,
        elements: list[Any],
        dialect: Dialect,
        lender: Any,
    ) -> tuple[Pins, bool]:
        """Return what the table's indexes allow a statement to rely on; asked of the catalog once.

        Only where it matters: equalities that trap the server, NULLs not in their native place.
        """
        capabilities = capabilities_of(dialect.name)
        awkward = bool(awkward_terms(order, capabilities))
        wanted = (capabilities.equality_traps, awkward and capabilities.nulls_syntax)
        table = self.paged_table
        if lender is None or table is None or not any(wanted):
            return NO_PINS, False
        if dialect.name not in self._indexes:
            self._indexes[dialect.name] = read_indexes(lender, table, dialect)
        tail = [column.name for column in table.primary_key.columns]
        if capabilities.index_tail != "primary-key":
            tail = []
        known = filtered.whereclause, elements, order, self._indexes[dialect.name], tail
        pins = find_pins(*known) if wanted[0] else NO_PINS
        return pins, wanted[1] and places_nulls(*known)

    def _choose_order(self, dialect: str, text: str | None) -> Order:
        allowed = self.orders(dialect)
        if text is None or text == "":
            return allowed[0]
        asked = parse_order(text)
        for given, order in zip(self._described.given, allowed, strict=True):
            if asked in (given, order):
                return order
        names = ", ".join(repr(str(order)) for order in self._described.given)
        raise OrderError(
            f"the order {text!r} is not allowed here", f"Allowed: {names}", "order-not-allowed"
        )

    def _spot_of(self, at: Spot | str | None, fingerprint: bytes, variant: Variant) -> Spot:
        if at is None or at == "":
            spot = Spot.start()
        elif isinstance(at, Spot):
            spot = at
        elif isinstance(at, str):
            spot = self._book.read(at, fingerprint)
        else:
            raise PageError(
                f"a position of type {type(at).__name__} is not understood",
                "Give a cursor, Spot.number(n), another Spot, or None for the first page",
                "spot-type",
            )
        taken: tuple[str, ...] = ("start",) if self.strategy == "whole" else _SPOTS[self.kind]
        if self.strategy == "offset" and isinstance(at, str):
            taken = (*taken, "offset")  # its own cursors, whatever the kind
        if spot.kind not in taken:
            raise PageError(
                f"a {self.kind} served by {self.strategy} has no page at {spot.kind!r}",
                f"It takes: {', '.join(taken)}",
                "spot-kind",
            )
        if spot.key is not None and (isinstance(at, Spot) or len(spot.key) != len(variant.order)):
            return replace(spot, key=variant.key_of(spot.key))
        return spot

    def _fingerprint(self, variant: Variant, given: Mapping[str, Any], scope: object) -> bytes:
        """Return the digest of what cursors are bound to; kept for what was asked of late."""
        try:
            known = (id(variant), tuple(given.items()), tuple(map(type, given.values())), scope)
            found = self._fingerprints.get(known)
        except TypeError:  # a value that cannot be hashed, such as a list for IN
            return fingerprint_of(self._binding(variant, given, scope))
        if found is None:
            found = fingerprint_of(self._binding(variant, given, scope))
            if len(self._fingerprints) >= _MOST_KEPT:
                self._fingerprints.clear()
            self._fingerprints[known] = found
        return found

    def _binding(self, variant: Variant, given: Mapping[str, Any], scope: object) -> list[Any]:
        types = [str(key.element.type) for key in variant.source.keys]
        return [self.name, str(variant.order), types, describe(given), describe(scope)]
