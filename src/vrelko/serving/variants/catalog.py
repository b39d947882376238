"""What an engine's catalog says of the tables that a select reads: asked once, until forgotten."""

from __future__ import annotations

from functools import cached_property
from typing import Any

from sqlalchemy import Select, Table
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.sql import visitors

from vrelko.core.capabilities import Capabilities
from vrelko.core.index import IndexFacts
from vrelko.core.order import Order
from vrelko.core.seek import awkward_terms
from vrelko.engines.mariadb.capabilities import count_rows
from vrelko.engines.registry import capabilities_of, record_of
from vrelko.serving.variants.columns import Columns
from vrelko.serving.variants.grouping import Grouping
from vrelko.serving.variants.translation import translated
from vrelko.sql.counts import without_locks
from vrelko.sql.entities import core_connection
from vrelko.sql.indexes import NO_PINS, Pins, Sought, find_pins, first_alone, places_nulls
from vrelko.sql.keys import is_exact
from vrelko.sql.outlines import Described
from vrelko.sql.page_source import Source
from vrelko.sql.set_filters import SetFilter, find_set, has_set
from vrelko.sql.sources import base_table

_SORTED_AS_FAST = 1_000  # rows that MariaDB sorts for a page at no great cost


class Catalog:
    """What statements of one select may rely on, on one engine.

    Methods that take a `lender` of connections ask the server the first time; without one they
    answer what holds whatever the tables are.
    """

    def __init__(self, select: Select[Any], described: Described, dialect: Dialect) -> None:
        self._select = select
        self._described = described
        self._dialect = dialect
        self._table = base_table(described.sources.tables[0])
        self._found: list[IndexFacts] | None = None
        self._private: bool | None = None
        self._abilities: tuple[Capabilities, bool] | None = None

    @cached_property
    def columns(self) -> Columns:
        """What the server says of columns; statements that are only text need none of it."""
        return Columns(self._dialect)

    def capabilities(self, found: Described, lender: Any) -> tuple[Capabilities, bool]:
        """Return what the engine can do with the tables read, asked once; and if bounds help."""
        if lender is None:
            return capabilities_of(self._dialect), False
        if self._abilities is None:
            # A table in a subquery may be spread over servers, too.
            tables = self._tables(found)
            connection = core_connection(lender, self._select)
            self._abilities = record_of(self._dialect).capabilities_for(
                connection, [translated(connection, one) for one in tables], self._dialect
            )
        return self._abilities

    def private(self, lender: Any) -> bool:
        """Tell whether users of the database may see other rows: by policies, or through views."""
        if lender is None:
            return False
        if self._private is None:
            self._private = self._hides_rows(core_connection(lender, self._select))
        return self._private

    def _hides_rows(self, connection: Any) -> bool:
        tables = [translated(connection, one) for one in self._tables(self._described)]
        hides = record_of(self._dialect).hides_rows
        return any(hides(connection, one, self._dialect) for one in tables)

    def is_as_read(self, connection: Any) -> bool:
        """Tell whether columns and policies are still those that were read."""
        if self._private is not None and self._private != self._hides_rows(connection):
            return False
        return self.columns.are_as_read(connection)

    def _tables(self, found: Described) -> list[Table]:
        """Return the tables that are read, those in subqueries too."""
        inside = [one for one in visitors.iterate(found.select) if isinstance(one, Table)]
        bases = [base_table(one) for one in found.sources.tables]
        return list(dict.fromkeys([*(one for one in bases if one is not None), *inside]))

    def find_indexes(
        self,
        filtered: Select[Any],
        order: Order,
        elements: list[Any],
        lender: Any,
    ) -> tuple[Pins, bool, SetFilter | None]:
        """Return what the table's indexes allow a statement to rely on; asked of the catalog once.

        Only where it matters: equalities that trap the server, NULLs not in their native place, and
        set filters.
        """
        capabilities = capabilities_of(self._dialect)
        where, table = getattr(filtered, "whereclause", None), self._table
        awkward = bool(awkward_terms(order, capabilities)) and capabilities.nulls_syntax
        matters = capabilities.equality_traps or awkward or has_set(where)
        if lender is None or table is None or (where is None and not awkward) or not matters:
            return NO_PINS, False, None
        tail: list[str] = []
        # Every index ends in the primary key there, and so serves orders that do.
        if capabilities.index_tail != "none":
            tail = [column.name for column in table.primary_key.columns]
        # Pins name an index of one table, which a join might read otherwise.
        alone = self._described.sources.tables[0] if self._is_plain(filtered) else None
        sought = Sought(
            where=where,
            elements=elements,
            order=order,
            indexes=self._indexes(lender, table),
            tail=tail,
            table=alone,
        )
        pins = find_pins(sought) if capabilities.equality_traps else NO_PINS
        among = find_set(sought, self._described.sources.tables)
        return pins, awkward and places_nulls(sought), among

    def grouping(self, filtered: Select[Any], source: Source, lender: Any) -> Grouping | None:
        """Return what bounds pages by the order's first term, where an index has no more of it.

        Only of a plain column that is never NULL, and whose values come back as they are stored;
        small tables are sorted as fast.
        """
        table = self._table
        plain = self._is_plain(filtered) and not has_set(getattr(filtered, "whereclause", None))
        if lender is None or table is None or not plain:
            return None
        lender = core_connection(lender, self._select)
        tail = [column.name for column in table.primary_key.columns]
        sought = Sought(
            filtered.whereclause,
            [key.element for key in source.keys],
            source.order,
            self._indexes(lender, table),
            tail,
        )
        position = first_alone(sought)
        # A bound cannot be NULL, and rows with NULL would have to be asked for apart.
        if position is None or source.order.terms[position].nullable:
            return None
        key = source.keys[position]
        # A bound given as a literal must come back as it is stored; a small table is
        # sorted as fast.
        if not is_exact(key) or count_rows(lender, translated(lender, table)) < _SORTED_AS_FAST:
            return None
        return Grouping(source, without_locks(filtered), position)

    def _indexes(self, lender: Any, table: Table) -> list[IndexFacts]:
        """Return the indexes of the table that is paged, asked of the catalog once."""
        # Kept until a statement fails for want of an index: `VariantStore.forget`.
        if self._found is None:
            found = core_connection(lender, self._select)
            read = record_of(self._dialect).read_indexes
            self._found = read(found, translated(found, table), self._dialect)
        return self._found

    def _is_plain(self, filtered: Select[Any]) -> bool:
        """Tell whether a select reads rows of one table just as they are, unhinted."""
        found = self._described
        changed = found.wrapped or found.merged or filtered._distinct or filtered._group_by_clauses
        return not (changed or filtered._hints) and len(found.sources.tables) == 1
