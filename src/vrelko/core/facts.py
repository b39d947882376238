"""Facts: what a survey knows of a server, its tables and their indexes; JSON in, JSON out."""

from __future__ import annotations

import json
from bisect import bisect_left
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from vrelko.core.engine_traits import TRAITS
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.errors import FactsError, nearest

SCHEMA = "vrelko.facts/1"


@dataclass(frozen=True, slots=True)
class ColumnFacts:
    """One column: shares are of all rows, 0 to 1; `width` is bytes a value on the mean.

    `distinct` is an estimate, None where unknown. `common` lists the most common values with
    their shares, as text. `bounds` are values, as text and ascending, that part the rows with
    other values into equal shares. `correlation` of the values with the rows' place, -1 to 1.
    `collation` of texts, where a server's own way of sorting them can be another's.
    """

    name: str
    type: str
    nullable: bool
    width: float | None = None
    null_share: float | None = None
    distinct: float | None = None
    common: tuple[tuple[str, float], ...] = ()
    bounds: tuple[str, ...] = ()
    correlation: float | None = None
    collation: str | None = None

    def share_of(self, value: Any) -> float | None:
        """Return the share of rows that hold `value`, where facts tell; else that of a mean one."""
        for text, share in self.common:
            # Statistics travel as JSON, so values are compared as their texts.
            if text == str(value):
                return share
        # Every value there is stands among the common ones, so this one is in no row.
        if not self.bounds and self.common and self.distinct == len(self.common):
            return 0.0
        if not self.distinct:
            return None
        # What common values and NULLs leave over is shared evenly by the others.
        known = sum(share for _, share in self.common)
        rest = max(self.distinct - len(self.common), 1.0)
        left = max(1.0 - known - (self.null_share or 0.0), 0.0)
        return left / rest if self.common else (1.0 - (self.null_share or 0.0)) / self.distinct

    def share_below(self, value: Any) -> float | None:
        """Return the share of rows whose value is below `value`, None where facts do not tell.

        Common values count as they are; others lie evenly between the bounds beside them.
        """
        if not self.bounds and not self.common:
            return None
        try:
            point = _as_number(value, value)
            bounds = [_as_number(text, value) for text in self.bounds]
            below = sum(share for text, share in self.common if _as_number(text, value) < point)
        # Values that do not compare here: no estimate is better than a wrong one.
        except (TypeError, ValueError):
            return None
        rest = 1.0 - (self.null_share or 0.0) - sum(share for _, share in self.common)
        return below + max(rest, 0.0) * _place(point, bounds)


@dataclass(frozen=True, slots=True, kw_only=True)
class TableFacts:
    """One table. `rows` comes from where `rows_from` says; `row_bytes` is the stored mean.

    `row_id` names the column that is the row id. `clustered`: rows lie in the primary key's tree,
    of `levels`. `visible_share` of the blocks are known to need no look for dead rows, of which
    there are `dead_rows`. `changed_rows` since statistics were last taken, None where unknown. A
    table of another `schema` is named after it. `is_view`: what lies behind it is not known.
    """

    name: str
    rows: float
    rows_from: str
    row_bytes: float
    blocks: float
    columns: tuple[ColumnFacts, ...]
    indexes: tuple[IndexFacts, ...]
    primary_key: tuple[str, ...]
    row_id: str | None = None
    clustered: bool = False
    levels: int = 3
    visible_share: float = 1.0
    dead_rows: float = 0.0
    changed_rows: float | None = None
    partitions: int = 0
    row_security: bool = False
    schema: str | None = None
    is_view: bool = False

    @property
    def bare_name(self) -> str:
        """The name without its schema."""
        return self.name if self.schema is None else self.name[len(self.schema) + 1 :]

    def column(self, name: str) -> ColumnFacts:
        """Return a column's facts. Raises FactsError."""
        for column in self.columns:
            if column.name == name:
                return column
        raise FactsError(
            f"the facts of {self.name!r} hold no column {name!r}",
            nearest(name, [column.name for column in self.columns]),
            "facts-column",
        )

    def has_column(self, name: str) -> bool:
        """Tell whether the facts hold a column of this name."""
        return any(column.name == name for column in self.columns)


@dataclass(frozen=True, slots=True)
class ServerFacts:
    """The server: engine, version, bytes a block, bytes of block cache, other settings."""

    engine: str
    version: str
    block_bytes: int
    cache_bytes: int | None = None
    settings: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Facts:
    """What one survey found. `notes` say what could not be seen or was estimated roughly."""

    server: ServerFacts
    tables: tuple[TableFacts, ...]
    notes: tuple[str, ...] = ()

    def table(self, name: str) -> TableFacts:
        """Return a table's facts. Raises FactsError."""
        whole = (table for table in self.tables if table.name == name)
        bare = (table for table in self.tables if table.bare_name == name)
        for table in (*whole, *bare):  # one of another schema may have the same bare name
            return table
        raise FactsError(
            f"the facts hold no table {name!r}",
            nearest(name, [table.name for table in self.tables]),
            "facts-table",
        )

    def as_dict(self) -> dict[str, Any]:
        """Return the facts as plain data (schema `vrelko.facts/1`)."""
        return {"schema": SCHEMA, **asdict(self)}

    def to_json(self) -> str:
        """Return the facts as JSON text."""
        return json.dumps(self.as_dict(), indent=2)

    @classmethod
    def from_json(cls, text: str) -> Facts:
        """Read facts that `to_json` wrote, or a person did. Raises FactsError."""
        try:
            data = json.loads(text)
        except ValueError as error:
            raise FactsError(
                f"the facts are not valid JSON: {error}",
                "Write them with `vrelko survey -o`",
                "facts-json",
            ) from error
        return cls.from_dict(data)

    @classmethod
    def from_dict(cls, data: Any) -> Facts:
        """Read facts from plain data. Raises FactsError naming what is missing."""
        if not isinstance(data, dict) or data.get("schema") != SCHEMA:
            raise FactsError(
                f"this is not a facts file of schema {SCHEMA!r}",
                "Write one with `vrelko survey -o facts.json`",
                "facts-schema",
            )
        try:
            server = _server(data["server"])
            return cls(
                server,
                tuple(_table(table, server) for table in data["tables"]),
                tuple(data.get("notes", ())),
            )
        except (KeyError, TypeError, AttributeError, ValueError) as error:
            raise FactsError(
                f"the facts cannot be read at {error}",
                "See docs/schemas.md for their fields, or survey again",
                "facts-field",
            ) from error


def _server(data: Mapping[str, Any]) -> ServerFacts:
    # Prices and traits are looked up by it throughout: better a clear word here.
    engine = data["engine"]
    if engine not in TRAITS:
        raise FactsError(
            f"the facts are of the engine {engine!r}, which plans do not know",
            nearest(str(engine), TRAITS),
            "facts-engine",
        )
    usual = {"version": "", "block_bytes": TRAITS[engine].prices.block_bytes}
    return ServerFacts(**{**usual, **data})


def _table(data: Mapping[str, Any], server: ServerFacts) -> TableFacts:
    """Return a table's facts; what a person left out is filled in from rows and widths."""
    columns = tuple(_column(column) for column in data["columns"])
    # A person who sketches a table knows its columns, hardly ever its stored bytes.
    widths = sum(column.width or usual_width(column.type) for column in columns)
    row_bytes = float(
        data.get("row_bytes") or widths + TRAITS[server.engine].prices.row_header_bytes
    )
    rows = float(data["rows"])
    # Said this way round so that NaN fails too: it compares with nothing.
    if not rows >= 0 or not row_bytes > 0:
        raise ValueError(f"rows {rows:g} and row_bytes {row_bytes:g}")
    keys = tuple(data.get("primary_key", ()))
    lies = TRAITS[server.engine].rows_lie_by
    # Blocks are taken as nine tenths full, as engines leave them after loading.
    filled = {
        "rows_from": "written by hand",
        "row_bytes": row_bytes,
        "blocks": max(rows * row_bytes / (server.block_bytes * 0.9), 1.0),
        "primary_key": keys,
        "row_id": keys[0] if lies == "row id" and len(keys) == 1 else None,
        "clustered": lies == "primary key",
    }
    rest = {
        "columns": columns,
        "indexes": tuple(_index(index) for index in data.get("indexes", ())),
        "primary_key": keys,
    }
    return TableFacts(**{**filled, **data, **rest})


def _column(data: Mapping[str, Any]) -> ColumnFacts:
    common = tuple((str(value), float(share)) for value, share in data.get("common", ()))
    bounds = tuple(map(str, data.get("bounds", ())))
    return ColumnFacts(**{"nullable": True, **data, "common": common, "bounds": bounds})


def _index(data: Mapping[str, Any]) -> IndexFacts:
    columns = tuple(
        IndexColumn(one.removeprefix("-"), one.startswith("-"))
        if isinstance(one, str)
        else IndexColumn(**one)
        for one in data["columns"]
    )
    return IndexFacts(**{**data, "columns": columns, "included": tuple(data.get("included", ()))})


def usual_width(type_name: str) -> float:
    """Return about the bytes a value of a type takes, where nothing else is known."""
    kind = type_name.upper()
    # Longer names ahead of those they contain: BIGINT holds INT.
    for part, width in (
        ("SMALLINT", 2),
        ("BIGINT", 8),
        ("BOOL", 1),
        ("INT", 4),
        ("DATE", 8),
        ("TIME", 8),
        ("REAL", 4),
        ("DOUB", 8),
        ("FLOA", 8),
        ("NUM", 8),
        ("DECIM", 8),
        ("UUID", 16),
    ):
        if part in kind:
            return float(width)
    digits = "".join(c for c in kind.partition("(")[2] if c.isdigit())
    if digits and kind.startswith(("CHAR", "BINARY", "NCHAR", "CHARACTER(")):
        return float(digits)  # padded
    # A declared length is a limit; half of it lies between empty and full.
    return float(digits) / 2 if digits else 20.0


def declared_bytes(type_name: str) -> float:
    """Return the most bytes a value of a type may take: four a character of text, as in utf8mb4."""
    kind = type_name.upper()
    # Beyond what any index takes, so that advice leaves such columns out.
    if "TEXT" in kind or "BLOB" in kind or "JSON" in kind:
        return 1e6
    digits = "".join(c for c in kind.partition("(")[2] if c.isdigit())
    if "CHAR" in kind and digits:
        return 4.0 * float(digits)
    return usual_width(kind)


def _as_number(given: Any, like: Any) -> Any:
    """Return a value, or the text of one, as something to compare and measure with."""
    # Facts travel as JSON, so a moment may come as text.
    if isinstance(like, (datetime, date)):
        return (read_moment(str(given)).replace(tzinfo=None) - datetime.min).total_seconds()
    if isinstance(like, (int, float, Decimal)):
        return float(given)
    return str(given)


def read_moment(text: str) -> datetime:
    """Return the moment that a text of a database names.

    For those that Python lacks (infinite ones, years before 1 and after 9999), the first or the
    last that it has. Raises ValueError for a text that names no moment.
    """
    text = text.strip()
    if text.startswith("-") or text.endswith(" BC"):  # PostgreSQL's -infinity, 0044-03-15 BC
        return datetime.min
    year, dash, _ = text.partition("-")
    if text == "infinity" or (dash and len(year) > 4 and year.isdigit()):
        return datetime.max
    return datetime.fromisoformat(text)


def _place(point: Any, bounds: list[Any]) -> float:
    """Return the share of equal parts between bounds that lies below a point."""
    if not bounds or point <= bounds[0]:
        return 0.0
    if point > bounds[-1]:
        return 1.0
    i = bisect_left(bounds, point)
    low, high = bounds[i - 1], bounds[i]
    # How far one text is on the way to another depends on the collation; the middle errs least.
    inside = 0.5 if isinstance(point, str) or high == low else (point - low) / (high - low)
    return float(i - 1 + inside) / max(len(bounds) - 1, 1)
