"""The variants of a listing: made once for each engine, order and set of filters, and kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from typing import Any
from uuid import UUID

from sqlalchemy import Select, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.kept import Kept
from vrelko.core.order import Order, make_total, parse_order, resolve_nulls
from vrelko.core.periods import Periods
from vrelko.engines.registry import capabilities_of, database_errors
from vrelko.errors import ListingError, OrderError, PageError
from vrelko.serving.cursors.book import fingerprint_of
from vrelko.serving.cursors.values import describe
from vrelko.serving.steady.settings import Settle
from vrelko.serving.variants.agreement import Agreed, agree
from vrelko.serving.variants.catalog import Catalog
from vrelko.serving.variants.period_column import period_column
from vrelko.serving.variants.variant import Variant
from vrelko.sql.conditions import read_literals
from vrelko.sql.counts import without_locks
from vrelko.sql.entities import core_connection, holds_entities
from vrelko.sql.filters import SEARCH, Filters, as_mapping
from vrelko.sql.indexes import NO_PINS
from vrelko.sql.outlines import Described, describe_select
from vrelko.sql.page_source import make_source
from vrelko.sql.period_filters import PERIOD, period_filter
from vrelko.sql.sources import base_table
from vrelko.sql.unions import members_of

_EXACT = frozenset({type(None), bool, int, str, bytes, date, UUID})
"""Types whose equal values have one spelling: decimals and times may equal others that differ."""

_MOST_LENGTH = 200
_MOST_KEPT = 1_000
"""Variants, and requests with their fingerprints, kept to be used again."""


class VariantStore:
    """Makes and keeps the variants of one select with its orders and filters."""

    def __init__(
        self,
        select: Select[Any],
        orders: str | Sequence[Any] | None,
        unique: Sequence[str] | None,
        filters: Filters,
        settle: Settle | None = None,
        periods: Periods | None = None,
        own: bool = False,
    ) -> None:
        """`own`: the tables are ours, and hold NULLs just where their columns say so."""
        self.select = select
        self._own = own
        self.filters = filters
        search = filters.search
        self._given = orders, unique, search
        self.described: Described = describe_select(select, orders, unique, search)
        self.orm = not self.described.wrapped and holds_entities(self.described.select)
        """Whether rows hold entities or bundles, which a Session alone makes."""
        self._settle = settle
        self._settled = None if settle is None else settle.find(self.described.columns)
        if settle is not None and (self.described.wrapped or self.described.merged):
            raise ListingError(
                "rows that are merged or computed as a whole cannot settle one by one",
                "Put the delay into the select",
                "settle-column",
            )
        self.periods = None if periods is None else period_column(self.described, periods)
        """The column that periods are told by, None where the listing has none."""
        if self.periods is not None:
            self.filters.include(PERIOD, period_filter(self.periods.element))
        self._variants: Kept[tuple[Any, ...], Variant] = Kept(_MOST_KEPT)
        self._requests: Kept[Any, tuple[Variant, dict[str, Any], bytes]] = Kept(_MOST_KEPT)
        self._orders: dict[str, tuple[Order, ...]] = {}
        self._catalogs: dict[str, Catalog] = {}
        self.served: Dialect | None = None
        """The dialect last found to be of a served engine."""

    @property
    def table(self) -> Table | None:
        """The base table whose rows are paged, the first one the select reads."""
        return base_table(self.described.sources.tables[0])

    @property
    def claimed(self) -> tuple[str, ...]:
        """The columns that `unique` says identify a row; none where it was not given."""
        return self.described.unique if self._given[1] is not None else ()

    def orders(self, dialect: str) -> tuple[Order, ...]:
        """Return the allowed orders, made total, with NULL placement as the engine has it."""
        if dialect not in self._orders:
            # The same listing is served by engines that place NULLs at either end.
            nulls_low = capabilities_of(dialect).nulls_low
            found = self.described
            self._orders[dialect] = tuple(
                resolve_nulls(make_total(order, found.unique), found.nullable, nulls_low)
                for order in found.orders
            )
        return self._orders[dialect]

    def variant(
        self, dialect: Dialect, order: str | None, active: tuple[str, ...], lender: Any = None
    ) -> Variant:
        """Return a variant; with a `lender` of connections the catalog may be asked, once."""
        # Without a connection the catalog cannot be asked, and the variant is a plainer one.
        asked = dialect.name, order, active, lender is None
        found = self._variants.get(asked)
        if found is None:
            chosen = self._choose_order(dialect.name, order, SEARCH in active)
            # By the order it comes to as well: the default order goes by no name and by its own.
            where = dialect.name, str(chosen), active, lender is None
            with database_errors("look into the catalog"):
                found = self._variants.get(where) or self._make(dialect, chosen, active, lender)
            self._variants.keep(where, found)
            self._variants.keep(asked, found)
        return found

    def open(
        self,
        name: str,
        dialect: Dialect,
        lender: Any,
        params: Mapping[str, Any] | None,
        order: str | None,
        scope: object,
    ) -> tuple[Variant, dict[str, Any], bytes]:
        """Return the variant for a request, its values to run with, and its fingerprint.

        All is kept for requests that come again. Raises PageError and OrderError.
        """
        if type(order) is not str and order is not None:
            raise OrderError(
                f"an order is text, not a {type(order).__name__}",
                "Give one of the allowed orders, such as '-caught_at'",
                "order-syntax",
            )
        # A multi-valued mapping of a framework is made a dict once, here.
        if type(params) is not dict and params is not None:
            params = as_mapping(params)
        # Equal values of other types would share an entry: True and 1, or 1 and 1.0, have
        # other cursors.
        types = (type(scope), *map(type, params.values())) if params else (type(scope),)
        asked: tuple[Any, ...] | None = None
        values: tuple[Any, ...] = ()
        # A settle delay has a value of its own for each moment, so nothing can be kept.
        if self._settle is None and _EXACT.issuperset(types):
            values = tuple(params.items()) if params else ()
            asked = dialect.name, order, lender is None, name, scope, types, values
            found = self._requests.get(asked)
            if found is not None:
                return found
        given = self.filters.check(params)
        variant = self.variant(dialect, order, self.filters.active(given), lender)
        print_ = fingerprint_of(binding(name, variant, given, scope))
        found = variant, self.run_values(given), print_
        # Long texts would fill the store with what nobody asks for again.
        if asked is not None and _is_small(values):
            self._requests.keep(asked, found)
        return found

    def default_order(self, given: Mapping[str, Any]) -> str:
        """Return the order in force where none is asked for, as it was given."""
        found = self.described
        own = len(found.given) - found.search_orders
        searching = SEARCH in self.filters.active(given)
        return str(found.given[own if searching and found.search_orders else 0])

    def run_values(self, given: Mapping[str, Any]) -> dict[str, Any]:
        """Return the values to run statements with, of checked parameters."""
        values = self.filters.values(given)
        return values if self._settle is None else {**values, **self._settle.values(self._settled)}

    def _make(
        self, dialect: Dialect, chosen: Order, active: tuple[str, ...], lender: Any
    ) -> Variant:
        found = self.described
        filtered = self.filters.apply(self.select, active, found.searched, dialect.name)
        if self._settle is not None:
            filtered = self._settle.apply(filtered, self._settled, capabilities_of(dialect))
        if found.wrapped:  # conditions go inside the subquery, whose columns are its own
            found = describe_select(filtered, *self._given)
            filtered = found.select
        agreed = self._agree(found, chosen, filtered, dialect, lender)
        elements = [key.element for key in agreed.keys]
        catalog = self._catalog(dialect)
        pins, served, among = catalog.find_indexes(filtered, agreed.order, elements, lender)
        capabilities, bounded = catalog.capabilities(found, lender)
        # Spread over servers, hints and branches were never tried; plain statements are
        # right.
        if capabilities.ors_lose:
            pins, served, among = NO_PINS, False, None
        source = make_source(
            filtered, agreed.order, agreed.keys, capabilities, found.positions, pins, served
        )
        source = replace(source, bounded=bounded)
        unique = [agreed.columns[name] for name in agreed.unique]
        terms = {term.name: term for term in agreed.order.terms}
        # NULL equals nothing, so a row whose key has one would not be found again.
        joinable = not found.merged and not any(terms[name].nullable for name in agreed.unique)
        identity = [agreed.order.names.index(name) for name in agreed.unique]
        made = Variant(
            source,
            without_locks(filtered),
            unique,
            among=among if joinable else None,
            members=agreed.members,
            identity=identity,
            joinable=joinable,
        )
        made.doubtful = agreed.doubtful
        # Bounds of a page's first term are worth a statement where the server would sort all rows.
        if not capabilities.sorts_groups and not capabilities.ors_lose:
            made.grouping = catalog.grouping(filtered, source, lender)
        made.literals = [
            name if name is not None else _described(value)
            for name, value in read_literals(
                filtered, found.select, [key.element for key in agreed.keys]
            )
        ]
        return made

    def _agree(
        self, found: Described, chosen: Order, filtered: Any, dialect: Dialect, lender: Any
    ) -> Agreed:
        """Return the order and its keys as the database has their columns."""
        members, asked = members_of(self.select), None
        if lender is not None:
            lender = core_connection(lender, self.select)
            asked = self._catalog(dialect).columns
            elements = [found.columns[name] for name in chosen.names]
            asked.refuse_functions(lender, found.select, elements, self._given[1] is None)
        return agree(found, chosen, filtered, dialect, members, lender, asked, self._own)

    def _catalog(self, dialect: Dialect) -> Catalog:
        """Return what is known of an engine's catalog."""
        known = self._catalogs.get(dialect.name)
        made = Catalog(self.select, self.described, dialect) if known is None else known
        # Two threads may make one at once: all go on with the first that was kept.
        return self._catalogs.setdefault(dialect.name, made)

    def forget(self) -> None:
        """Ask the catalog again where a request depends on it: an index has gone."""
        self._variants.clear()
        self._requests.clear()
        self._catalogs.clear()

    def _choose_order(self, dialect: str, text: str | None, searching: bool) -> Order:
        """Return an allowed order; those of a search are allowed while searching, and go first."""
        allowed = self.orders(dialect)
        extra = self.described.search_orders
        own = len(allowed) - extra
        if text is None or text == "":
            return allowed[own] if searching and extra else allowed[0]
        # In canonical spelling, so that blanks in an address change nothing.
        asked = str(parse_order(text))
        open_to = len(allowed) if searching else own
        for given, order in zip(self.described.given[:open_to], allowed[:open_to], strict=True):
            if asked in (str(given), str(order)):
                return order
        names = ", ".join(repr(str(order)) for order in self.described.given[:open_to])
        raise OrderError(
            f"the order {text!r} is not allowed here", f"Allowed: {names}", "order-not-allowed"
        )


def _described(value: Any) -> Any:
    try:
        return describe(value)
    except PageError:  # of a type of the user's own
        return f"?{type(value).__name__}"


def _is_small(values: Sequence[tuple[str, Any]]) -> bool:
    """Tell whether parameters take little memory where they are kept."""
    return all(len(value) <= _MOST_LENGTH for _, value in values if isinstance(value, (str, bytes)))


def binding(name: str, variant: Variant, given: Mapping[str, Any], scope: object) -> list[Any]:
    """Return what a cursor is bound to, as nested lists of text."""
    types = [str(key.element.type) for key in variant.source.keys]
    bound = [name, str(variant.order), types, describe(given), describe(scope)]
    return [*bound, variant.literals] if variant.literals else bound
