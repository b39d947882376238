"""Frozen lists: the ids of a listing's rows, stored when a walk begins."""

from __future__ import annotations

import json
import secrets
import time
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Column, Engine, Float, Integer, MetaData, String, Table, Text, select

from vrelko.core.arithmetic import Total, offset_of
from vrelko.core.spot import Spot
from vrelko.engines.registry import database_errors
from vrelko.errors import CursorError, ListingError, PageError
from vrelko.serving.opening import Opened
from vrelko.serving.reading import Batch
from vrelko.serving.values import encode_value, read_values
from vrelko.sql.within import IDS

_IN_A_PART = 1_000


class FrozenIds:
    """Where lists of row ids are stored: a table of a database of your choice.

    A walk's first page stores the ids of all its rows, in order, a thousand to a row of the table
    (about 12 bytes a whole-numbered id); cursors carry the list's name, and later pages read one or
    two rows of it. The database user of `engine` needs INSERT, SELECT and DELETE on the table, and
    CREATE for `create()`. A list lives `expires_s` seconds from its making; `clean()` deletes those
    that are over, and making a list cleans up as well. At most `most` ids are stored for one list,
    so that one reader cannot fill the disk; making it holds that many keys in memory.
    """

    def __init__(
        self,
        engine: Engine,
        table: str = "vrelko_frozen",
        expires_s: float = 3_600.0,
        most: int = 100_000,
    ) -> None:
        if expires_s <= 0 or most < 1:
            raise ListingError(
                "a frozen list lives longer than 0 s and holds at least one id",
                "Give expires_s=3600 and most=100_000, or the like",
                "frozen-value",
            )
        self.engine, self.expires_s, self.most = engine, expires_s, most
        self.table = Table(
            table, MetaData(),
            Column("name", String(32), primary_key=True),
            Column("part", Integer, primary_key=True, autoincrement=False),
            Column("ids", Text(16_000_000), nullable=False),
            Column("size", Integer, nullable=False),
            Column("expires_at", Float(53), nullable=False),
        )  # fmt: skip

    def create(self) -> None:
        """Make the table where it is not there yet."""
        with database_errors("making of the table of frozen lists"):
            self.table.create(self.engine, checkfirst=True)

    def clean(self) -> int:
        """Delete the lists that are over; return how many rows of the table went."""
        over = self.table.delete().where(self.table.c.expires_at < time.time())
        with database_errors("cleaning of frozen lists"), self.engine.begin() as connection:
            return int(connection.execute(over).rowcount)

    def store(self, ids: Sequence[Sequence[Any]]) -> str:
        """Store a list of ids; return its name."""
        name, ends = secrets.token_urlsafe(12), time.time() + self.expires_s
        parts = [
            {
                "name": name, "part": i // _IN_A_PART, "size": len(ids), "expires_at": ends,
                "ids": json.dumps([
                    [encode_value(value) for value in one] for one in ids[i : i + _IN_A_PART]
                ], separators=(",", ":")),
            }
            for i in range(0, max(len(ids), 1), _IN_A_PART)
        ]  # fmt: skip
        with database_errors("storing of a frozen list"), self.engine.begin() as connection:
            connection.execute(self.table.insert(), parts)
            connection.execute(self.table.delete().where(self.table.c.expires_at < time.time()))
        return name

    def fetch(self, name: str, first: int, last: int) -> tuple[list[tuple[Any, ...]], int]:
        """Return the ids from `first` up to before `last`, and how many the list has.

        Raises CursorError when the list is over.
        """
        t = self.table
        low, high = first // _IN_A_PART, max(last - 1, first) // _IN_A_PART
        asked = (
            select(t.c.part, t.c.ids, t.c.size)
            .where(t.c.name == name, t.c.expires_at >= time.time())
            .where((t.c.part == 0) | t.c.part.between(low, high))
            .order_by(t.c.part)
        )
        with database_errors("reading of a frozen list"), self.engine.connect() as connection:
            parts = connection.execute(asked).all()
        if not parts:
            raise CursorError(
                "the list of rows that the cursor belongs to is over",
                "Start at the first page, which makes a new one",
                "frozen-over",
            )
        ids: list[tuple[Any, ...]] = []
        for part, text, _ in parts:
            begin = part * _IN_A_PART
            inside = json.loads(text)[max(first - begin, 0) : max(last - begin, 0)]
            ids += [read_values(one) for one in inside]
        return ids, parts[0].size


def freeze(opened: Opened, frozen: FrozenIds) -> str:
    """Store the ids of a variant's rows as they stand; return the list's name.

    Raises PageError where there are more than may be stored.
    """
    variant = opened.variant
    statement = variant.keys().limit(frozen.most + 1)
    rows, _ = opened.runner.fetch(statement, None, {})
    if len(rows) > frozen.most:
        raise PageError(
            f"the listing has more than {frozen.most:,} rows, too many for a frozen list",
            "Filter it, raise FrozenIds(most=…), or serve it by key",
            "frozen-most",
        )
    return frozen.store([variant.id_of(variant.converted(row)) for row in rows])


def read_frozen(opened: Opened, frozen: FrozenIds, name: str, spot: Spot, size: int) -> Batch:
    """Return the rows of a stored list's page that are still there, with their present values."""
    if spot.kind == "end":
        _, total = frozen.fetch(name, 0, 0)
        begin = max(-(-total // size) - 1, 0) * size
    elif spot.kind == "number":
        begin = offset_of(spot.at or 1, size)
    else:
        begin = spot.at or 0
    wanted, total = frozen.fetch(name, begin, begin + size)
    variant = opened.variant
    found: dict[tuple[Any, ...], tuple[Any, Any]] = {}
    if wanted:
        one = len(variant.identity) == 1
        ids = [key[0] for key in wanted] if one else wanted
        rows, full = opened.runner.fetch(
            variant.by_ids(), variant.cutter, {IDS: ids}, variant.apart
        )
        for row, whole in zip(rows, full, strict=True):
            found[variant.id_of(variant.key_from(whole))] = row, whole
    kept = [found[key] for key in wanted if key in found]
    return Batch(
        [row for row, _ in kept], [whole for _, whole in kept],
        begin > 0, begin + size < total, begin, True, Total(total, "exact"),
    )  # fmt: skip
