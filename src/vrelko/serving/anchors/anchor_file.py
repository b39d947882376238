"""Static anchors in a file: for databases where nothing may be made, and tables that hold still."""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from vrelko.core.kept import Kept
from vrelko.errors import CursorError, PageError
from vrelko.serving.anchors.anchor_set import FAN, AnchorSet
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.remembered import Anchor, Key
from vrelko.serving.cursors.values import decode_values, encode_value
from vrelko.sql.anchor_tables import LEVELS

SCHEMA = "vrelko.anchors/2"
_FILES: Kept[str, tuple[tuple[int, int], Mapping[str, StoredOrder]]] = Kept(20)
"""Files that were read, with the time and size that they had then."""


@dataclass(frozen=True, slots=True)
class StoredPart:
    """The anchors of one part of an order: for each level its anchors, and where each key stands.

    A level holds every hundredth anchor of the one below, as readers look for a place level by
    level.
    """

    levels: tuple[tuple[Anchor, ...], ...]
    places: tuple[Mapping[Key, int], ...]

    @classmethod
    def of(cls, keys: list[Key], every: int) -> StoredPart:
        """Return the part of keys that stand `every` rows apart."""
        levels = []
        rows, step = every, 1
        for _ in range(LEVELS):
            # The last of each step: an anchor counts the rows up to itself.
            chosen = keys[step - 1 :: step]
            levels.append(tuple(Anchor(i + 1, rows, key) for i, key in enumerate(chosen)))
            rows, step = rows * FAN, step * FAN
        places = tuple({one.key: i for i, one in enumerate(level)} for level in levels)
        return cls(tuple(levels), places)


@dataclass(frozen=True, slots=True, eq=False)
class StoredOrder:
    """The anchors of one order: `every` so many rows, as of `built_at` (seconds since 1970)."""

    order: str
    every: int
    built_at: float
    keys: Mapping[Key, list[Key]]
    parts: Kept[Key, StoredPart]

    def part(self, values: Key) -> StoredPart:
        """Return the anchors of a part, none where it had too few rows."""
        found = self.parts.get(values)
        if found is None:
            made = StoredPart.of(self.keys.get(values, []), self.every)
            found = self.parts.keep(values, made)
        return found


class FileAnchorLookup(AnchorLookup):
    """A lookup by the anchors of a file: rows behind the last of them are counted live."""

    def __init__(
        self, anchors: AnchorSet, connection: Any, params: Mapping[str, Any] | None = None
    ) -> None:
        super().__init__(anchors, connection, params)
        assert isinstance(anchors.stored, StoredOrder)
        self._stored = anchors.stored.part(tuple(self.part.values()))
        # Below 0, as of all static anchors; another count is another version.
        self._state = -max(int(anchors.stored.built_at * 1_000), 1), 0, 0
        self._ahead: tuple[Key, int] | None = None

    def _walk(self, level: int, key: Key | None, backward: bool, many: int) -> Iterator[Anchor]:
        anchors, places = self._stored.levels[level - 1], self._stored.places[level - 1]
        if not backward:
            yield from anchors[0 if key is None else places[key] + 1 :]
        elif key is None:
            yield from reversed(anchors)
        else:
            # The levels are parts of one another, so the nearest of level 1 tells all of them.
            yield from reversed(anchors[: self._anchors_ahead(key) // FAN ** (level - 1)])

    def _anchors_ahead(self, key: Key) -> int:
        """Return how many anchors of level 1 stand ahead of a key.

        Keys of rows ahead of it are read until one is an anchor's: the database alone sorts texts.
        """
        if self._ahead is None or self._ahead[0] != key:
            first = self._stored.places[0]
            found = next((first[one] + 1 for one in self.keys_ahead(key) if one in first), 0)
            self._ahead = key, found
        return self._ahead[1]


def read_file(path: Path) -> Mapping[str, StoredOrder]:
    """Return the anchors of a file by the marks of their orders; none where there is no file.

    Raises PageError for a file that holds something else.
    """
    try:
        state = path.stat()
        known = _FILES.get(str(path))
        # Read once a version: every jump asks for the file.
        if known is not None and known[0] == (state.st_mtime_ns, state.st_size):
            return known[1]
        found = _orders(json.loads(path.read_text(encoding="utf-8")))
    except FileNotFoundError:
        return {}
    except (OSError, ValueError, KeyError, TypeError, AttributeError, CursorError) as error:
        raise PageError(
            f"the file of anchors {str(path)!r} cannot be read: {error}",
            "Build it with `vrelko anchors build`",
            "anchors-read",
        ) from error
    _FILES.keep(str(path), ((state.st_mtime_ns, state.st_size), found))
    return found


def _orders(data: Any) -> dict[str, StoredOrder]:
    # A file of another version is built anew, not read by guess.
    if data["schema"] != SCHEMA:
        raise KeyError(data["schema"])
    return {
        mark: StoredOrder(
            order=str(one["order"]),
            every=int(one["every"]),
            built_at=float(one["built_at"]),
            keys={
                decode_values(part["part"]): [decode_values(key) for key in part["keys"]]
                for part in one["parts"]
            },
            parts=Kept(50),
        )
        for mark, one in data["orders"].items()
    }


def write_file(path: Path, orders: Mapping[str, StoredOrder]) -> None:
    """Write the anchors of a listing's orders; readers find the old file or the new one whole.

    Raises PageError where it cannot be written.
    """
    told = {
        mark: {
            "order": one.order,
            "every": one.every,
            "built_at": one.built_at,
            "parts": [
                {"part": _texts(values), "keys": [_texts(key) for key in keys]}
                for values, keys in one.keys.items()
            ],
        }
        for mark, one in orders.items()
    }
    try:
        # A file of its own first: a reader must not see half of one.
        number, name = tempfile.mkstemp(prefix=f"{path.name}.", dir=path.parent)
        with os.fdopen(number, "w", encoding="utf-8") as out:
            json.dump({"schema": SCHEMA, "orders": told}, out)
        if path.exists():  # who may read it is for its owner to say
            os.chmod(name, path.stat().st_mode & 0o777)
        os.replace(name, path)
    except OSError as error:
        raise PageError(
            f"the file of anchors {str(path)!r} cannot be written: {error.strerror}",
            "Choose another place",
            "anchors-write",
        ) from error


def _texts(values: Key) -> list[str]:
    return [encode_value(value) for value in values]
