"""The static anchors of a listing's order in a file: built, verified and taken away."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from sqlalchemy import Engine

from vrelko.core.kept import Kept
from vrelko.engines.registry import database_errors
from vrelko.serving.anchors.anchor_file import FileAnchorLookup, StoredOrder, read_file, write_file
from vrelko.serving.anchors.anchor_set import K
from vrelko.serving.anchors.counted import AnchorState
from vrelko.serving.anchors.fold_worker import parts_of
from vrelko.serving.anchors.in_bulk import keys_behind
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.of_listing import anchor_set
from vrelko.serving.anchors.remembered import Key
from vrelko.serving.anchors.verifying import difference
from vrelko.serving.settings import Settings

_WALKED = 200  # anchors that are walked in one transaction, and shown as progress


class FileAnchors:
    """The anchors of one order of a listing that says `anchor_file=…`.

    They are static: numbers are as of the last `build`, and pages say so; rows behind the last
    anchor are counted live. Nothing is made in the database, which is only read. Answers the calls
    of `CountedAnchors`, as far as they mean something here. Raises ListingError for listings that
    cannot have anchors.
    """

    def __init__(
        self, settings: Settings, engine: Engine, order: str | None = None, every: int | None = None
    ) -> None:
        assert settings.anchor_file is not None
        self.engine, self.path = engine, Path(settings.anchor_file)
        with database_errors("look into the catalog"), engine.connect() as connection:
            self._set = anchor_set(settings, connection, order, every or K)
        self.order = self._set.order
        self._every = every
        self._known = settings.anchor_sets

    def statements(self, *, static: bool = True) -> list[str]:
        """Return nothing: nothing is made in the database."""
        return []

    def drop_statements(self) -> list[str]:
        """Return nothing: nothing is there to be dropped."""
        return []

    def grant_statements(self, role: str, *, folds: bool = False) -> list[str]:
        """Return nothing: who reads the table and the file needs no more."""
        return []

    def grant(self, role: str, *, folds: bool = False) -> None:
        """Do nothing: who reads the table and the file needs no more."""

    @property
    def exist(self) -> bool:
        """Whether the file holds the order's anchors."""
        return self._stored() is not None

    def build(self, progress: Callable[[int], None] | None = None, *, static: bool = True) -> int:
        """Walk the keys of all rows, keep one of `every` rows, and write the file.

        Reads two hundred anchors' keys in a transaction. Returns the anchors laid, of which
        `progress` is told. Raises DatabaseError, and PageError where the file cannot be written.
        """
        known = self._stored()
        every = self._every or (known.every if known else K)
        anchors = replace(self._set, k=every)
        # Before the walk: what came meanwhile may be missing, so the age must not hide it.
        built_at, found = time.time(), {}
        with database_errors("build"):
            for part in parts_of(self.engine, anchors):
                keys: list[Key] = []
                while True:
                    with self.engine.connect() as connection:
                        given = dict(zip(anchors.parts, part, strict=True))
                        lookup = AnchorLookup(anchors, connection, given)
                        # From where the transaction before it ended: none of them is held open for
                        # long.
                        last = keys[-1] if keys else None
                        more = keys_behind(lookup, last, every, _WALKED)
                    keys += more
                    if progress is not None:
                        progress(len(more))
                    if len(more) < _WALKED:
                        break
                found[part] = keys
        stored = StoredOrder(self.order, every, built_at, found, Kept(50))
        # Other orders of the listing, and other listings, may share the file.
        write_file(self.path, {**read_file(self.path), anchors.tables.mark_of_all: stored})
        self._known.clear()
        return sum(map(len, found.values()))

    def fold(self, most: int = 0) -> int:
        """Return 0: nothing is logged."""
        return 0

    def check(self, many: int = 2) -> list[int]:
        """Return nothing: a count of a few segments says nothing of static anchors' numbers."""
        return []

    def warnings(self) -> list[str]:
        """Return what makes numbers inexact."""
        return [
            "each row inserted ahead of the last anchor, deleted or moved, until the next build"
        ]

    def verify(self, params: Mapping[str, Any] | None = None) -> list[int]:
        """Return by how many rows each segment is off since it was counted; None: of all parts."""
        stored = self._stored()
        if stored is None:
            return []
        anchors, found = replace(self._set, stored=stored), []
        parts = stored.keys if params is None else [tuple(params[name] for name in anchors.parts)]
        with database_errors("verify"):
            for part in parts:
                given = dict(zip(anchors.parts, part, strict=True))
                with self.engine.connect() as connection:
                    lookup, before = FileAnchorLookup(anchors, connection, given), None
                    for anchor in lookup.all(1):
                        found.append(difference(lookup, before, anchor))
                        before = anchor.key
        return found

    def repair(self, params: Mapping[str, Any] | None = None) -> int:
        """Build all anew where a segment is off; return how many were."""
        off = sum(map(bool, self.verify(params)))
        # A number that is off moves all behind it, so one segment alone cannot be set right.
        if off:
            self.build()
        return off

    def stored(self) -> tuple[int, int]:
        """Return how many anchors there are, and 0: no change waits in a log."""
        stored = self._stored()
        return (sum(map(len, stored.keys.values())) if stored else 0), 0

    def state(self) -> AnchorState | None:
        """Return what the anchors are; None where there are none."""
        stored = self._stored()
        if stored is None:
            return None
        age_s = max(time.time() - stored.built_at, 0.0)
        return AnchorState(stored.every, static=True, age_s=age_s, built=True)

    def drop(self) -> None:
        """Take the order's anchors out of the file, and the file with the last ones."""
        # Other orders and listings may have theirs in the same file.
        left = {
            mark: one
            for mark, one in read_file(self.path).items()
            if mark != self._set.tables.mark_of_all
        }
        if left:
            write_file(self.path, left)
        else:
            self.path.unlink(missing_ok=True)
        self._known.clear()

    def leftovers(self) -> list[str]:
        """Return nothing: a file is left to whoever wrote it."""
        return []

    def sweep(self) -> list[str]:
        """Return nothing, and do nothing."""
        return []

    def _stored(self) -> StoredOrder | None:
        return read_file(self.path).get(self._set.tables.mark_of_all)
