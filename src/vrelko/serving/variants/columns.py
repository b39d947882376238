"""What a database says of the columns that a listing's orders name, asked once a variant."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import Column, ColumnElement, Integer, Select, Table, column
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.stored import Stored
from vrelko.engines.registry import record_of
from vrelko.errors import OrderError
from vrelko.sql.conditions import parameter_types
from vrelko.sql.functions import own_functions
from vrelko.sql.keys import raw
from vrelko.sql.sources import base_table, origins, plain

ROW_ID = "rowid"
"""The name of SQLite's row id among an order's terms."""


class Columns:
    """The columns of a listing's tables as one database has them; each table is asked for once."""

    def __init__(self, dialect: Dialect) -> None:
        self._dialect = dialect
        self._record = record_of(dialect)
        self._tables: dict[str, dict[str, Stored]] = {}
        self._moving: bool | None = None

    def find(
        self, lender: Any, elements: Sequence[ColumnElement[Any]], select: Any
    ) -> list[Stored | None]:
        """Return what is stored for each element: of its column, else of the expression itself.

        A set operation has a type of its own, whatever those of its members are.
        """
        # A column that is shown unchanged has its table's type; only others need a question.
        found = [self._of_one(lender, origins(one)) for one in elements]
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

    def _of_one(self, lender: Any, columns: Sequence[Column[Any]]) -> Stored | None:
        return self.of(lender, columns[0]) if len(columns) == 1 else None

    def of(self, lender: Any, column: Column[Any]) -> Stored | None:
        """Return what a table's column is stored as, None where the database has none of it."""
        table = column.table
        assert isinstance(table, Table)
        # Once a variant, not once a page: columns do not change while a program runs.
        if table.fullname not in self._tables:
            self._tables[table.fullname] = self._record.read_columns(lender, table, self._dialect)
        return self._tables[table.fullname].get(column.name)

    def may_be_null(self, lender: Any, columns: Sequence[Column[Any]]) -> bool:
        """Tell whether the database lets one of the columns hold NULL."""
        found = [self.of(lender, one) for one in columns]
        return any(one is not None and one.nullable for one in found)

    def moving(self, lender: Any, kinds: Sequence[Stored | None]) -> bool:
        """Tell whether moments are kept whose clock time comes twice."""
        # Asked only where it matters: only MariaDB's TIMESTAMP goes through the session's zone.
        if self._moving is None and any(one and one.kind == "timestamp" for one in kinds):
            self._moving = self._record.repeats_clock(lender)
        return bool(self._moving) and any(one and one.kind == "timestamp" for one in kinds)

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
