"""Facts: what a survey knows of a server, its tables and their indexes; JSON in, JSON out."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from vrelko.errors import FactsError, nearest

SCHEMA = "vrelko.facts/1"


@dataclass(frozen=True, slots=True)
class ColumnFacts:
    """One column: shares are of all rows, 0 to 1; `width` is bytes a value on the mean.

    `distinct` is an estimate, None where unknown. `common` lists the most common values with
    their shares, as text; `tie` is rows a value in a row of the column's index, where probed.
    """

    name: str
    type: str
    nullable: bool
    width: float | None = None
    null_share: float | None = None
    distinct: float | None = None
    common: tuple[tuple[str, float], ...] = ()

    def share_of(self, value: Any) -> float | None:
        """Return the share of rows that hold `value`, where facts tell; else that of a mean one."""
        for text, share in self.common:
            if text == str(value):
                return share
        if not self.distinct:
            return None
        known = sum(share for _, share in self.common)
        rest = max(self.distinct - len(self.common), 1.0)
        left = max(1.0 - known - (self.null_share or 0.0), 0.0)
        return left / rest if self.common else (1.0 - (self.null_share or 0.0)) / self.distinct


@dataclass(frozen=True, slots=True)
class IndexColumn:
    """One column of an index; `name` is None for an expression.

    `nulls_first`: NULLs stand ahead of values, read forward; None where the engine has one way.
    """

    name: str | None
    descending: bool = False
    nulls_first: bool | None = None


@dataclass(frozen=True, slots=True)
class IndexFacts:
    """One index: `leaf_blocks` and `levels` as far as known; `where` tells that it is partial."""

    name: str
    columns: tuple[IndexColumn, ...]
    unique: bool = False
    partial: bool = False
    entry_bytes: float | None = None
    leaf_blocks: float | None = None
    levels: int | None = None

    @property
    def text(self) -> str:
        """The columns as one reads them: "caught_at, id DESC"."""
        return ", ".join(
            (column.name or "(expression)") + (" DESC" if column.descending else "")
            for column in self.columns
        )


@dataclass(frozen=True, slots=True)
class TableFacts:
    """One table. `rows` comes from where `rows_from` says; `row_bytes` is the stored mean.

    `row_id` names the column that is the row id, `rows_a_block` and `levels` describe its b-tree,
    `consecutive` the share of neighbouring order entries whose row ids follow one another.
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
        for table in self.tables:
            if table.name == name:
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
                f"the facts are no JSON: {error}",
                "Write them with `vrelko survey -o`",
                "facts-json",
            ) from error
        return cls.from_dict(data)

    @classmethod
    def from_dict(cls, data: Any) -> Facts:
        """Read facts from plain data. Raises FactsError naming what is missing."""
        if not isinstance(data, dict) or data.get("schema") != SCHEMA:
            raise FactsError(
                f"this is no facts file of schema {SCHEMA!r}",
                "Write one with `vrelko survey -o facts.json`",
                "facts-schema",
            )
        try:
            return cls(
                ServerFacts(**data["server"]),
                tuple(_table(table) for table in data["tables"]),
                tuple(data.get("notes", ())),
            )
        except (KeyError, TypeError, AttributeError, ValueError) as error:
            raise FactsError(
                f"the facts cannot be read at {error}",
                "See docs/schemas.md for their fields, or survey again",
                "facts-field",
            ) from error


def _table(data: Mapping[str, Any]) -> TableFacts:
    columns = tuple(
        ColumnFacts(**{**c, "common": tuple((str(v), float(s)) for v, s in c.get("common", ()))})
        for c in data["columns"]
    )
    indexes = tuple(
        IndexFacts(**{**i, "columns": tuple(IndexColumn(**c) for c in i["columns"])})
        for i in data["indexes"]
    )
    rest = {"columns": columns, "indexes": indexes, "primary_key": tuple(data["primary_key"])}
    return TableFacts(**{**data, **rest})
