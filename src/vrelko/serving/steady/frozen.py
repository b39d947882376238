"""Frozen lists: the ids of a listing's rows, stored when a walk begins."""

from __future__ import annotations

import hashlib
import json
import secrets
import threading
import time
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

from sqlalchemy import (
    Column,
    Connection,
    Engine,
    Float,
    Integer,
    MetaData,
    String,
    Table,
    Text,
    func,
    select,
)

from vrelko.engines.registry import database_errors
from vrelko.errors import CursorError, ListingError
from vrelko.serving.cursors.values import encode_value, read_values

_IN_A_PART = 1_000
_IN_ALL = 5_000_000
_REMEMBERED = 1_000  # walks whose lists are used again
_READER: ContextVar[str] = ContextVar("reader", default="")


@contextmanager
def reading_for(reader: object) -> Iterator[None]:
    """Tell whose lists are made inside: a user, or the address of a client."""
    # Who reads is told apart and not told: a client's address stays out of the table.
    mark = hashlib.blake2b(repr(reader).encode(), digest_size=16).hexdigest()
    token = _READER.set(mark)
    try:
        yield
    finally:
        _READER.reset(token)


class FrozenIds:
    """Where lists of row ids are stored: a table of a database of your choice.

    A walk's first page stores the ids of all its rows, in order, a thousand to a row of the table
    (about 12 bytes a whole-numbered id); cursors carry the list's name, and later pages read one or
    two rows of it. The database user of `engine` needs INSERT, SELECT and DELETE on the table, and
    CREATE for `create()`. A list lives `expires_s` seconds from its making; `clean()` deletes those
    that are over, and making a list cleans up as well.

    Each request without a cursor begins a walk and so makes a list: what bounds that is told here.
    At most `most` ids are stored for one list, whose making holds that many keys in memory, and
    `most_in_all` (5,000,000, about 60 MB, or `most`) in all lists that live: then no more walks
    begin until some are over. Of one reader at most `lists_per_reader` live: one more ends the
    oldest. Who reads is told by `reading_for(user)` around a call; over HTTP it is what `scope`
    gives, or the address of the client.

    With `reuse_s` above 0 a process gives walks that begin within so many seconds of each other,
    with the same parameters, order and scope, the same list. Leave it at 0 where which rows there
    are depends on the connection too: a database for each tenant, row security, or a transaction's
    own changes.
    """

    def __init__(
        self,
        engine: Engine,
        table: str = "vrelko_frozen",
        expires_s: float = 3_600.0,
        most: int = 100_000,
        most_in_all: int | None = None,
        reuse_s: float = 0.0,
        lists_per_reader: int = 20,
    ) -> None:
        in_all = max(most, _IN_ALL) if most_in_all is None else most_in_all
        if expires_s <= 0 or most < 1 or in_all < most or reuse_s < 0 or lists_per_reader < 1:
            raise ListingError(
                "frozen lists need expires_s above 0, most of at least 1, most_in_all of at least "
                f"most, reuse_s of at least 0 and lists_per_reader of at least 1, got {expires_s}, "
                f"{most}, {in_all}, {reuse_s} and {lists_per_reader}",
                "Give expires_s=3600, most=100_000 and most_in_all=5_000_000, or the like",
                "frozen-value",
            )
        self.engine, self.expires_s, self.most = engine, expires_s, most
        self.most_in_all, self.reuse_s, self.lists_per_reader = in_all, reuse_s, lists_per_reader
        self._lock = threading.Lock()
        self._recent: OrderedDict[bytes, tuple[str, float]] = OrderedDict()
        self.table = Table(
            table,
            MetaData(),
            Column("name", String(32), primary_key=True),
            # A page reads one or two parts, however long the list is.
            Column("part", Integer, primary_key=True, autoincrement=False),
            # MariaDB makes MEDIUMTEXT of that; its TEXT ends at 64 kB.
            Column("ids", Text(16_000_000), nullable=False),
            Column("size", Integer, nullable=False),
            Column("expires_at", Float(53), nullable=False),
            Column("reader", String(32), nullable=False),
        )

    def create(self) -> None:
        """Make the table where it is not there yet."""
        with database_errors("making of the table of frozen lists"):
            self.table.create(self.engine, checkfirst=True)

    def clean(self) -> int:
        """Delete the lists that are over; return how many rows of the table went."""
        over = self.table.delete().where(self.table.c.expires_at < time.time())
        with database_errors("cleaning of frozen lists"), self.engine.begin() as connection:
            return int(connection.execute(over).rowcount)

    def recent(self, walk: bytes) -> str | None:
        """Return the list this process made for such a walk a moment ago, None if it did not."""
        with self._lock:
            # Never: 0 on a clock that starts with the machine would be a moment ago.
            name, made = self._recent.get(walk, ("", float("-inf")))
        return name if time.monotonic() - made < self.reuse_s else None

    def remember(self, walk: bytes, name: str) -> None:
        """Remember a list for walks that begin soon."""
        with self._lock:
            self._recent[walk] = name, time.monotonic()
            self._recent.move_to_end(walk)
            while len(self._recent) > _REMEMBERED:
                self._recent.popitem(last=False)

    def room(self) -> int:
        """Return how many more ids may be stored now."""
        t = self.table
        # The first part alone holds the size for the sum: others would count it again.
        asked = select(func.sum(t.c.size)).where(t.c.part == 0, t.c.expires_at >= time.time())
        with database_errors("reading of frozen lists"), self.engine.connect() as connection:
            return max(self.most_in_all - int(connection.scalar(asked) or 0), 0)

    def store(self, ids: Sequence[Sequence[Any]]) -> str:
        """Store a list of ids; return its name."""
        # Who guesses a name reads the ids of somebody else's walk.
        name, ends = secrets.token_urlsafe(12), time.time() + self.expires_s
        reader = _READER.get()
        parts = [
            {
                "name": name,
                "part": i // _IN_A_PART,
                "size": len(ids),
                "expires_at": ends,
                "reader": reader,
                "ids": json.dumps(
                    [[encode_value(value) for value in one] for one in ids[i : i + _IN_A_PART]],
                    separators=(",", ":"),
                ),
            }
            for i in range(0, max(len(ids), 1), _IN_A_PART)
        ]
        with database_errors("storing of a frozen list"), self.engine.begin() as connection:
            connection.execute(self.table.insert(), parts)
            # Cleaned up here too, so that nobody needs a job for it.
            connection.execute(self.table.delete().where(self.table.c.expires_at < time.time()))
            if reader:
                self._end_oldest(connection, reader)
        return name

    def _end_oldest(self, connection: Connection, reader: str) -> None:
        """Delete the lists of a reader beyond those that one may have, the oldest first."""
        t = self.table
        mine = select(t.c.name).where(t.c.part == 0, t.c.reader == reader)
        newest_first = mine.order_by(t.c.expires_at.desc(), t.c.name)
        over = connection.scalars(newest_first).all()[self.lists_per_reader :]
        if over:
            connection.execute(t.delete().where(t.c.name.in_(over)))

    def fetch(self, name: str, first: int, last: int) -> tuple[list[tuple[Any, ...]], int]:
        """Return the ids from `first` up to before `last`, and how many the list has.

        Raises CursorError when the list is over.
        """
        t = self.table
        low, high = first // _IN_A_PART, max(last - 1, first) // _IN_A_PART
        asked = (
            select(t.c.part, t.c.ids, t.c.size)
            .where(t.c.name == name, t.c.expires_at >= time.time())
            # The first part comes along: it tells how many there are, whatever page is asked.
            .where((t.c.part == 0) | t.c.part.between(low, high))
            .order_by(t.c.part)
        )
        with database_errors("reading of a frozen list"), self.engine.connect() as connection:
            parts = connection.execute(asked).all()
        if not parts:
            raise CursorError(
                "the frozen list behind this cursor has expired",
                "Start again at the first page, which makes a new list",
                "frozen-over",
            )
        ids: list[tuple[Any, ...]] = []
        for part, text, _ in parts:
            begin = part * _IN_A_PART
            inside = json.loads(text)[max(first - begin, 0) : max(last - begin, 0)]
            ids += [read_values(one) for one in inside]
        return ids, parts[0].size
