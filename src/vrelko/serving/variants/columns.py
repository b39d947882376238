"""What a database says of the columns that a listing's orders name, asked once a variant."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Column, ColumnElement, Integer, Select, Table, column
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.sql import visitors

from vrelko.core.stored import Stored
from vrelko.engines.registry import record_of
from vrelko.errors import ListingError, OrderError
from vrelko.serving.variants.translation import translated
from vrelko.sql.conditions import parameter_types
from vrelko.sql.functions import own_functions
from vrelko.sql.keys import raw
from vrelko.sql.mariadb_keys import USUAL_BYTES, sorted_characters
from vrelko.sql.sources import base_table, leaves, origins, plain

ROW_ID = "rowid"
"""The name of SQLite's row id among an order's terms."""

_ANY_LENGTH = 10**9
_FLOATS = ("real", "double precision")
_TEXTS = ("char", "varchar", "tinytext", "text", "mediumtext", "longtext")
_MOMENTS = ("date", "timestamp")
_LIKE_FOLDS = (18,)
"""The version of PostgreSQL whose LIKE takes nondeterministic collations."""


class Columns:
    """The columns of a listing's tables as one database has them; each table is asked for once."""

    def __init__(self, dialect: Dialect) -> None:
        self._dialect = dialect
        self._record = record_of(dialect)
        self._tables: dict[str, tuple[Table, dict[str, Stored]]] = {}
        self._rounds: bool | None = None
        self._sorts: int | None = None
        self.moments_as_text = False
        """Whether the driver met a date or moment that it cannot read, or not as what it is."""

    def find(
        self, lender: Any, elements: Sequence[ColumnElement[Any]], select: Any
    ) -> list[Stored | None]:
        """Return what is stored for each element: of its column, else of the expression itself.

        A set operation has a type of its own, whatever those of its members are.
        """
        # A column that is shown unchanged has its table's type; only others need a question.
        found = [self._of_one(lender, origins(one)) for one in elements]
        if self._record.affinity is not None:
            # Each value has a type of its own, and a column's type converts what it is compared
            # with: rows of several columns cannot be compared by any one of them.
            mixed = [self._is_mixed(lender, one) for one in elements]
            return [
                Stored("", mixed=True) if m else one for m, one in zip(mixed, found, strict=True)
            ]
        asked = [i for i, one in enumerate(found) if one is None]
        if not asked:
            return found
        narrow = select.order_by(None).with_only_columns(
            *(raw(plain(elements[i])).label(f"vrelko_kind_{i}") for i in asked),
            maintain_column_froms=True,
        )
        # No row is read: the result's description alone tells the types.
        probe = narrow.limit(0)
        kinds = self._record.read_kinds(lender, probe, _no_values(probe))
        for i, kind in zip(asked, kinds, strict=True):
            bytes_ = kind is not None and kind.kind == "varchar" and is_binary(elements[i])
            found[i] = None if bytes_ else kind
        return found

    def find_exact(
        self, lender: Any, elements: Sequence[ColumnElement[Any]], select: Any
    ) -> list[Stored | None]:
        """Return what `find` does, with how values come whole through driver and session."""
        found = zip(self.find(lender, elements, select), elements, strict=True)
        return [self._exact(lender, kind, element) for kind, element in found]

    def _exact(
        self, lender: Any, kind: Stored | None, element: ColumnElement[Any]
    ) -> Stored | None:
        if kind is not None and (kind.kind in _FLOATS or kind.composite):
            if self._rounds is None:  # asked only where it matters
                self._rounds = self._record.rounds_floats(lender)
            if self._rounds and kind.composite:
                raise OrderError(
                    f"the session sends numbers with few digits (extra_float_digits), so values of "
                    f"the composite type {kind.kind!r} do not come back as they are",
                    "Set extra_float_digits to 1, or order by the fields of the column",
                    "order-type",
                )
            return replace(kind, rounded=True) if self._rounds else kind
        if kind is not None and kind.kind in _TEXTS:
            if self._sorts is None:
                self._sorts = self._record.sorted_bytes(lender)
            if self._sorts is None:  # all of a text is sorted
                return kind
            kind = replace(kind, sorts=self._sorts)
            return kind if kind.length is not None else self._computed_text(lender, kind, element)
        if kind is not None and self.moments_as_text and kind.kind.startswith(_MOMENTS):
            return replace(kind, as_text=True)
        return kind

    def _computed_text(self, lender: Any, kind: Stored, element: ColumnElement[Any]) -> Stored:
        """Return a text that comes from several columns, or is computed, by the worst of them."""
        parts = [part for leaf in leaves(element) for part in visitors.iterate(leaf)]
        columns = [one for part in parts for one in origins(part)]
        known = [one for one in (self.of(lender, column) for column in columns) if one is not None]
        collations = [one.collation for one in known]
        bytes_ = kind.sorts or USUAL_BYTES
        worst = min(collations, key=lambda one: sorted_characters(one, bytes_), default="")
        # Mostly no text is as long as sorting looks, and the expression stays as it is.
        levelled = sorted_characters(worst, bytes_) < sorted_characters("", bytes_)
        if not levelled and bytes_ >= USUAL_BYTES:
            return kind
        plain_ = all(part in columns for part in parts)
        lengths = [one.length for one in known]
        longest = max((n for n in lengths if n is not None), default=None)
        whole = plain_ and None not in lengths and longest is not None
        return replace(kind, collation=worst, length=longest if whole else _ANY_LENGTH)

    def _of_one(self, lender: Any, columns: Sequence[Column[Any]]) -> Stored | None:
        return self.of(lender, columns[0]) if len(columns) == 1 else None

    def _is_mixed(self, lender: Any, element: ColumnElement[Any]) -> bool:
        """Tell whether a set operation's column holds values of columns that convert otherwise."""
        affinity, kinds = self._record.affinity, set()
        columns = leaves(element)
        if affinity is None or len(columns) < 2:
            return False
        for one in columns:
            table = getattr(one, "table", None)
            stored = self.of(lender, one) if isinstance(table, Table) else None
            if stored is None or stored.mixed:
                return True
            kinds.add(affinity(stored.kind))
        return len(kinds) > 1

    def of(self, lender: Any, column: Column[Any]) -> Stored | None:
        """Return what a table's column is stored as, None where the database has none of it."""
        table = column.table
        assert isinstance(table, Table)
        # Once, not once a page; now and then they are read again (docs/serving.md).
        if table.fullname not in self._tables:
            self._tables[table.fullname] = table, self._read(lender, table)
        return self._tables[table.fullname][1].get(column.name)

    def are_as_read(self, lender: Any) -> bool:
        """Tell whether the database has each column still as it was first read."""
        known = list(self._tables.values())
        return all(self._read(lender, table) == columns for table, columns in known)

    def _read(self, lender: Any, table: Table) -> dict[str, Stored]:
        return self._record.read_columns(lender, translated(lender, table), self._dialect)

    def may_be_null(self, lender: Any, columns: Sequence[Column[Any]]) -> bool:
        """Tell whether the database lets one of the columns hold NULL."""
        found = [self.of(lender, one) for one in columns]
        return any(one is not None and one.nullable for one in found)

    def refuse_functions(
        self, lender: Any, select: Any, elements: Sequence[Any], proven: bool
    ) -> None:
        """Raise OrderError for functions of the database that no page can rely on.

        Those that give several rows for one, where the table's key was `proven` to identify rows;
        and those of an order that differ at each call.
        """
        own, sorting = own_functions(select.selected_columns), own_functions(elements)
        found, volatile = self._record.find_functions(lender, sorted({*own, *sorting}))
        if volatile.intersection(sorting):
            raise OrderError(
                f"the order depends on {min(volatile.intersection(sorting))}(), which the "
                "database's catalog says differs at each call",
                "Order by a stored value, or declare the function STABLE where it is",
                "order-unstable",
            )
        if proven and found:
            raise OrderError(
                f"{min(found)}() gives several rows for one, so the table's key identifies none",
                "Name columns that do with unique=[…], such as one of its results",
                "order-unproven",
            )

    def refuse_search(self, lender: Any, searched: Sequence[ColumnElement[Any]]) -> None:
        """Raise ListingError for columns whose collation the server takes no LIKE for."""
        if (self._dialect.server_version_info or ()) >= _LIKE_FOLDS:
            return
        for origin in (one for element in searched for one in origins(element)):
            stored = self.of(lender, origin)
            if stored is not None and stored.nondeterministic:
                raise ListingError(
                    f"the column {origin.name!r} has the nondeterministic collation "
                    f"{stored.collation!r}, which PostgreSQL searches from version 18 on",
                    f'Search columns=[collate({origin.name}, "C")], or how="words"',
                    "search-columns",
                )


def is_binary(element: ColumnElement[Any]) -> bool:
    """Tell whether a model has bytes, which the wire protocol calls texts."""
    try:
        return element.type.python_type is bytes
    except NotImplementedError:
        return False


def row_id_of(source: Any) -> ColumnElement[Any] | None:
    """Return SQLite's row id of a table or its alias, None where another column has its name."""
    table = base_table(source)
    if table is None or ROW_ID in table.c:
        return None
    # No table of a model has it, and every rowid table of SQLite does.
    found: Any = column(ROW_ID, Integer())
    found.table = source
    return found  # type: ignore[no-any-return]


def _no_values(select: Select[Any]) -> Mapping[str, Any]:
    """Return a value for each parameter of a select that gives no row."""
    return {
        name: [] if several else 0 if isinstance(kind, Integer) else None
        for name, (kind, several) in parameter_types(select).items()
    }
