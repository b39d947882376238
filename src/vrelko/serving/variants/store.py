"""The variants of a listing: made once for each engine, order and set of filters, and kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from itertools import product
from time import monotonic
from typing import Any
from uuid import UUID
from weakref import ref

from sqlalchemy import Select, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.kept import Kept
from vrelko.core.order import Order, make_total, parse_order, resolve_nulls
from vrelko.core.periods import Periods
from vrelko.engines.registry import capabilities_of, database_errors, dialect_of, record_of
from vrelko.errors import ListingError, OrderError, PageError
from vrelko.serving.cursors.book import fingerprint_of
from vrelko.serving.cursors.values import describe
from vrelko.serving.steady.settings import Settle
from vrelko.serving.variants.agreement import Agreed, agree
from vrelko.serving.variants.catalog import Catalog
from vrelko.serving.variants.moved import CatalogMovedError, Watched
from vrelko.serving.variants.period_column import period_column
from vrelko.serving.variants.places import RECHECK_S, Place, key_of
from vrelko.serving.variants.variant import Variant
from vrelko.sql.conditions import read_literals
from vrelko.sql.counts import without_locks
from vrelko.sql.entities import core_connection, holds_entities
from vrelko.sql.filters import SEARCH, Filters, as_mapping
from vrelko.sql.fixed_values import read_fixed_values
from vrelko.sql.indexes import NO_PINS
from vrelko.sql.keys import is_moment
from vrelko.sql.outlines import Described, describe_select
from vrelko.sql.page_source import make_source
from vrelko.sql.parameters import KEY
from vrelko.sql.period_filters import PERIOD, period_filter
from vrelko.sql.sources import base_table
from vrelko.sql.unions import members_of

_EXACT = frozenset({type(None), bool, int, str, bytes, date, UUID})
"""Types whose equal values have one spelling: decimals and times may equal others that differ."""

_MOST_LENGTH = 200
_MOST_TERMS = 6
"""Terms of an order whose columns are each tried with and without NULLs, for an older cursor."""

_FEW_MOVES = 2
"""Times that a table may be replaced by another one before the session's schemas are suspected."""

_MOST_PLACES = 100
"""Databases and schemas whose catalogs are kept."""


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
        self._places: Kept[Any, Place] = Kept(_MOST_PLACES)
        self._moving: set[Dialect] = set()
        self._moves = 0
        self._last: tuple[Any, Any, Any] = (None, None, None)
        """The connection that the last page came from, its options, and what is known there."""
        self._orders: dict[str, tuple[Order, ...]] = {}
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
        place = self._place(dialect, lender)
        asked = order, active
        found = place.variants.get(asked)
        if found is None:
            chosen = self._choose_order(dialect.name, order, SEARCH in active)
            # By the order it comes to as well: the default order goes by no name and by its own.
            where = str(chosen), active
            with database_errors("look into the catalog"):
                found = place.variants.get(where) or self._make(
                    place.catalog, dialect, chosen, active, lender
                )
            place.variants.keep(where, found)
            place.variants.keep(asked, found)
        return found

    def where(self, dialect: Dialect, lender: Any) -> Any:
        """Return what tells the database and schemas that a connection sees from others."""
        return self._place(dialect, lender).key

    def _place(self, dialect: Dialect, lender: Any) -> Place:
        """Return what is known of the database and schemas that a connection sees."""
        last, options, place = self._last  # type: tuple[Any, Any, Place]
        # One that read a page a moment ago sees the same database still.
        here = lender is not None and last is not None and last() is lender
        if not here or lender._execution_options is not options:
            return self._find_place(dialect, lender)
        if monotonic() - place.checked_s > RECHECK_S:
            self._check(place, lender)
        return place

    def _find_place(self, dialect: Dialect, lender: Any) -> Place:
        # Without a connection the catalog cannot be asked: variants are plainer ones then.
        connection: Any = None
        if lender is None:
            key: Any = dialect.name
        else:
            record = record_of(dialect)
            with database_errors("connection"):
                connection = core_connection(lender, self.select)
                key = key_of(connection, record.database_of)
                if dialect in self._moving:
                    key = key, record.schemas_of(connection)
        place = self._places.get(key)
        if place is None:
            catalog = Catalog(self.select, self.described, dialect)
            # Two threads may make one at once: all go on with the first that was kept.
            place = self._places.setdefault(key, Place(key, catalog, monotonic()))
            self._places.keep(key, place)
        elif connection is not None and monotonic() - place.checked_s > RECHECK_S:
            self._check(place, connection)
        # Held no longer than its owner does, and not where each page may see another schema.
        if connection is not None and connection is lender and dialect not in self._moving:
            self._last = ref(connection), connection._execution_options, place
        return place

    def _check(self, place: Place, connection: Any) -> bool:
        """Read a place's columns again; forget what relies on them where they have changed."""
        with database_errors("look into the catalog"):
            same = place.catalog.is_as_read(connection)
        if not same:
            place.catalog = Catalog(self.select, self.described, connection.dialect)
            place.variants.clear()
            place.requests.clear()
        place.checked_s = monotonic()
        return same

    def sees(self, lender: Any, variant: Variant) -> bool:
        """Tell whether a connection sees the schemas that a variant was made for."""
        connection = core_connection(lender, self.select)
        if connection.dialect in self._moving:  # looked for ahead of the page
            return True
        with database_errors("look into the catalog"):
            return record_of(connection.dialect).schemas_of(connection) == variant.schemas

    def check_end(self, lender: Any, variant: Variant) -> None:
        """Raise CatalogMovedError where rows with NULL, unknown when it was made, may be there."""
        connection = core_connection(lender, self.select)
        place = self._place(dialect_of(connection), lender)
        if not self._check(place, connection):
            raise CatalogMovedError(variant)

    def read_as_texts(self, dialect: Dialect, lender: Any) -> None:
        """Read dates and moments as texts from now on: the driver met one that it cannot read."""
        place = self._place(dialect, lender)
        place.catalog.columns.moments_as_text = True
        place.variants.clear()
        place.requests.clear()

    def read_as(self, other: VariantStore, dialect: Dialect, lender: Any) -> None:
        """Read dates and moments as another listing over the same rows does."""
        if other._place(dialect, lender).catalog.columns.moments_as_text:
            self.read_as_texts(dialect, lender)

    def has_moved(self, variant: Watched) -> None:
        """Read the catalog anew, for a variant whose columns were others than it told.

        Where that comes again, sessions change their schemas: those are looked for ahead of each
        page from then on.
        """
        self.forget()
        self._moves += 1
        if variant.dialect is not None and self._moves > _FEW_MOVES:
            self._moving.add(variant.dialect)

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
            asked = order, name, scope, types, values
            requests = self._place(dialect, lender).requests
            found: tuple[Variant, dict[str, Any], bytes] | None = requests.get(asked)
            if found is not None:
                return found
        given = self.filters.check(params)
        variant = self.variant(dialect, order, self.filters.active(given), lender)
        print_ = fingerprint_of(binding(name, variant, given, scope))
        # A value that is asked for each time may be another one the next time.
        if variant.fixed.callables:
            asked = None
        opened = variant, self.run_values(given), print_
        # Long texts would fill the store with what nobody asks for again.
        if asked is not None and _is_small(values):
            requests.keep(asked, opened)
        return opened

    def run_values(self, given: Mapping[str, Any]) -> dict[str, Any]:
        """Return the values to run statements with, of checked parameters."""
        values = self.filters.values(given)
        return values if self._settle is None else {**values, **self._settle.values(self._settled)}

    def _make(
        self,
        catalog: Catalog,
        dialect: Dialect,
        chosen: Order,
        active: tuple[str, ...],
        lender: Any,
    ) -> Variant:
        found = self.described
        filtered = self.filters.apply(self.select, active, found.searched, dialect.name)
        if self._settle is not None:
            filtered = self._settle.apply(filtered, self._settled, capabilities_of(dialect))
        if found.wrapped:  # conditions go inside the subquery, whose columns are its own
            found = describe_select(filtered, *self._given)
            filtered = found.select
        search = self.filters.search
        likes = search is not None and search.how != "words" and SEARCH in active
        if likes and lender is not None:
            lent = core_connection(lender, self.select)
            catalog.columns.refuse_search(lent, found.searched)
        agreed = self._agree(catalog, found, chosen, filtered, dialect, lender)
        elements = [key.element for key in agreed.keys]
        pins, served, among = catalog.find_indexes(filtered, agreed.order, elements, lender)
        capabilities, bounded = catalog.capabilities(found, lender)
        # Spread over servers, hints and branches were never tried; plain statements are
        # right.
        if capabilities.ors_lose:
            pins, served, among = NO_PINS, False, None
        source = make_source(
            filtered, agreed.order, agreed.keys, capabilities, found.positions, pins, served
        )
        source = replace(source, bounded=bounded, given=self._as_given(dialect.name, chosen))
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
        self._note(made, agreed, dialect if lender is not None else None)
        # Bounds of a page's first term are worth a statement where the server would sort all rows.
        if not capabilities.sorts_groups and not capabilities.ors_lose:
            made.grouping = catalog.grouping(filtered, source, lender)
        self._note_rows(made, catalog, filtered, dialect, lender)
        made.literals = [
            name if name is not None else _described(value)
            for name, value in read_literals(
                filtered, found.select, [key.element for key in agreed.keys]
            )
        ]
        return made

    def _note_rows(
        self, made: Variant, catalog: Catalog, filtered: Any, dialect: Dialect, lender: Any
    ) -> None:
        """Note what decides on a variant's rows beside the parameters, and who may see them."""
        if lender is not None:
            # Rows that the server keeps in a table of its own do not tell where they are from.
            lent = core_connection(lender, self.select)
            made.schemas = record_of(dialect).schemas_of(lent) or None
        made.fixed = read_fixed_values(filtered, dialect)
        # A value of a type of the user's own tells nothing that could be compared.
        if any(_described(v) == f"?{type(v).__name__}" for _, v in made.fixed.values):
            made.fixed = replace(made.fixed, unread=True)
        made.private = catalog.private(lender)

    def _note(self, made: Variant, agreed: Agreed, dialect: Dialect | None) -> None:
        """Note in a variant what its results are compared with; `dialect` None without a server."""
        source = made.source
        made.doubtful = agreed.doubtful
        if source.capabilities.endless_moments and dialect is not None:
            keys = zip(source.places, source.keys, strict=True)
            made.moments = tuple(
                (place, place == source.places[0]) for place, key in keys if is_moment(key)
            )
        if dialect is not None:
            made.record, made.dialect = record_of(dialect), dialect
        # An entity is one place of a row and many columns of the result: keys are found by name.
        made.named = self.orm
        made.wires = tuple(
            (f"{KEY}{i}" if self.orm else place, kind.wire, term.nullable)
            for i, (place, kind, term, key) in enumerate(
                zip(source.places, agreed.kinds, agreed.order.terms, source.keys, strict=True)
            )
            if kind is not None and kind.wire is not None and key.read is key.element
        )
        # One column tells the table; the others are looked at where the protocol tells NOT NULL.
        if made.record is not None and not made.record.shows_nulls:
            made.wires = tuple({wire[1][0]: wire for wire in made.wires[::-1]}.values())
        made.ends_unseen = _ends_unseen(agreed.order, source.capabilities.nulls_low)

    def _agree(
        self,
        catalog: Catalog,
        found: Described,
        chosen: Order,
        filtered: Any,
        dialect: Dialect,
        lender: Any,
    ) -> Agreed:
        """Return the order and its keys as the database has their columns."""
        members, asked = members_of(self.select), None
        if lender is not None:
            lender = core_connection(lender, self.select)
            asked = catalog.columns
            elements = [found.columns[name] for name in chosen.names]
            asked.refuse_functions(lender, found.select, elements, self._given[1] is None)
        return agree(found, chosen, filtered, dialect, members, lender, asked, self._own)

    def forget(self) -> None:
        """Ask the catalog again where a request depends on it: an index has gone."""
        self._places.clear()
        self._last = (None, None, None)

    def _as_given(self, dialect: str, chosen: Order) -> str:
        """Return an allowed order as the listing's author wrote it."""
        allowed = self.orders(dialect)
        return str(self.described.given[next(i for i, o in enumerate(allowed) if o is chosen)])

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


def _ends_unseen(order: Order, nulls_low: bool) -> tuple[bool, bool]:
    """Tell whether NULLs of terms that hold none would stand at the end, and at the start."""
    at_end = [nulls_low == term.descending for term in order.terms if not term.nullable]
    return any(at_end), not all(at_end)


def _described(value: Any) -> Any:
    try:
        return describe(value)
    except PageError:  # of a type of the user's own
        return f"?{type(value).__name__}"


def _is_small(values: Sequence[tuple[str, Any]]) -> bool:
    """Tell whether parameters take little memory where they are kept."""
    return all(len(value) <= _MOST_LENGTH for _, value in values if isinstance(value, (str, bytes)))


def earlier_prints(
    name: str, variant: Variant, given: Mapping[str, Any], scope: object
) -> list[tuple[bytes, bool]]:
    """Return other fingerprints that cursors to the same places have, and if their totals hold.

    Those they had where columns were NOT NULL, or all could be NULL: rows keep their places when
    that changes. And those of Vrelko 0.1, which told less of the conditions: of such cursors the
    place is right, and the total may be another one's.
    """
    nulls_low, orders = variant.source.capabilities.nulls_low, [variant.order]
    for empty in product((False, True), repeat=min(len(variant.order), _MOST_TERMS)):
        named = zip(variant.order.names, empty, strict=False)
        orders.append(resolve_nulls(variant.order, [name for name, may in named if may], nulls_low))
    return [
        (fingerprint_of(binding(name, variant, given, scope, str(order), told)), told)
        for told, order in product((True, False), orders)
    ]


def binding(
    name: str,
    variant: Variant,
    given: Mapping[str, Any],
    scope: object,
    order: str = "",
    told: bool = True,
) -> list[Any]:
    """Return what a cursor is bound to, as nested lists of text.

    `order`: another one than the variant has. `told`: with the conditions and their own values.
    """
    types = [str(key.element.type) for key in variant.source.keys]
    bound = [name, order or str(variant.order), types, describe(given), describe(scope)]
    bound = [*bound, variant.literals] if variant.literals else bound
    return [*bound, variant.fixed.digest(given, _described)] if told else bound
