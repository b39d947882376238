"""The anchors of one part as the fold worker knows them, from one fold to the next.

Nobody else changes anchors while their version stays the same, so the worker need not read all of
them again for each batch: at fifty million rows that took longer than the rest of a fold.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from vrelko.core.key_order import KeyOrder
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.remembered import Anchor, Key
from vrelko.sql.anchor_tables import LEVELS


@dataclass(slots=True)
class HeldAnchor:
    """One anchor, whose number of rows a fold changes."""

    id: int
    n: int
    key: Key


class HeldLevels:
    """The anchors of each level in order, and where those of the next level stand among them."""

    def __init__(self, lookup: AnchorLookup, order: KeyOrder) -> None:
        self._order = order
        self._levels: list[list[HeldAnchor]] = [[] for _ in range(LEVELS)]
        self._at: list[dict[Key, int]] = [{} for _ in range(LEVELS)]
        self._ends: list[list[int]] = [[] for _ in range(LEVELS)]
        self._sorted: list[tuple[object, ...]] | None = []
        for level in range(1, LEVELS + 1):
            self.append(level, lookup.all(level))

    def of(self, level: int) -> list[HeldAnchor]:
        """The anchors of a level, in order."""
        return self._levels[level - 1]

    def has(self, level: int, key: Key) -> bool:
        """Tell whether a level has an anchor of a key."""
        return key in self._at[level - 1]

    def append(self, level: int, anchors: Iterable[Anchor]) -> None:
        """Add anchors behind the last one of a level; each is one of the level below, too."""
        held, at = self._levels[level - 1], self._at[level - 1]
        new = [HeldAnchor(one.id, one.n, one.key) for one in anchors]
        for one in new:
            at[one.key] = len(held)
            held.append(one)
            if level > 1:
                self._ends[level - 1].append(self._at[level - 2][one.key])
        # Sorted once here, so that each key of a fold is found by bisection.
        if level == 1 and self._sorted is not None and new:
            keys = [one.key for one in new]
            known = [held[0].key, *keys]  # of one kind with those before
            self._sorted += map(self._order.sortable, keys) if self._order.sorts(known) else ()
            if len(self._sorted) < len(held):
                self._sorted = None

    def last(self, level: int) -> Key | None:
        """Return the key of a level's last anchor, None where it has none."""
        held = self._levels[level - 1]
        return held[-1].key if held else None

    def places_of(self, net: Mapping[Key, int]) -> dict[int, int] | None:
        """Return what changes of keys add to anchors of level 1, by their positions.

        Those behind the last anchor are left out. None where Python does not sort the keys as the
        database does.
        """
        held = self._levels[0]
        known = [*(one.key for one in held[:1]), *net]
        # Keys of another kind than those laid (an int among texts, on SQLite) are sorted by the
        # database.
        if self._sorted is None or not self._order.sorts(known):
            return None
        found: dict[int, int] = defaultdict(int)
        for key, d in net.items():
            at = self._order.first_from(self._sorted, key)
            if d and at < len(held):
                found[at] += d
        return found

    def places_by_id(self, change: Mapping[int, int]) -> dict[int, int]:
        """Return changes of anchors of level 1 by their positions, given by their numbers."""
        at = {one.id: i for i, one in enumerate(self._levels[0])}
        return {at[number]: d for number, d in change.items()}

    def add(self, change: Mapping[int, int]) -> list[tuple[int, int]]:
        """Add to anchors of level 1 by place, and to those above; return all by their numbers."""
        moved: list[tuple[int, int]] = []
        for level, held in enumerate(self._levels, start=1):
            above: dict[int, int] = defaultdict(int)
            ends = self._ends[level] if level < LEVELS else []
            for i, d in change.items():
                held[i].n += d
                moved.append((held[i].id, d))
                j = bisect_left(ends, i)  # the first one at or behind it
                if j < len(ends):
                    above[j] += d
            # What a segment gains, the segment above that holds it gains too.
            change = above
        return [(number, d) for number, d in moved if d]
