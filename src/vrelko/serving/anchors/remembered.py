"""Anchors that a reader remembers: as one version of them has them, read when first needed.

A worker writes a new version with each change of the anchors, in the same transaction. A reader
that sees a version in its snapshot sees the anchors of just that version, so what it read under it
before still holds, and a page number is found without asking for anchors again.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import accumulate
from typing import Any

from vrelko.core.kept import Kept
from vrelko.core.key_order import Firsts, KeyOrder
from vrelko.sql.anchor_tables import LEVELS

Key = tuple[Any, ...]
Behind = Callable[[int, Key | None], Iterator["Anchor"]]
"""What reads the anchors of a level behind a key, in order."""
_MOST_NODES = 100  # of up to some two hundred anchors each


@dataclass(frozen=True, slots=True)
class Anchor:
    """One anchor as stored."""

    id: int
    n: int
    key: Key


@dataclass(frozen=True, slots=True)
class Node:
    """The anchors of a level between two of the next one; `ends`: the rows up to each of them.

    `sorted_keys`: for Python to sort by, None where it does not sort them as the database does;
    `firsts`: likewise the values of the first term.
    """

    anchors: tuple[Anchor, ...]
    keys: tuple[Key, ...]
    ends: tuple[int, ...]
    sorted_keys: tuple[tuple[Any, ...], ...] | None
    firsts: Firsts | None


@dataclass(frozen=True, slots=True)
class Count:
    """An anchor, None for the very start, and the rows up to it as the anchors count them."""

    anchor: Anchor | None
    rows: int


class Remembered:
    """The anchors of one part in one version.

    What the log told when it was last looked at is a guess for the next time: `logged`, whether
    there was anything in it, and how many rows it adds to each row that anchors count.
    """

    def __init__(self, version: int, order: KeyOrder) -> None:
        self.version, self.logged, self._grown = version, False, 1.0
        self._order = order
        # A version does not change, so the end is found once.
        self._end: Count | None = None
        self._found: tuple[int, Count] | None = None
        self._nodes: Kept[tuple[int, int], Node] = Kept(_MOST_NODES)

    def goal(self, offset: int) -> int:
        """Return how many rows anchors may count ahead of an offset, as far as can be guessed."""
        # Rows of the log count too, so fewer of those that anchors count lie ahead.
        return int(offset / self._grown)

    def learn(self, log: tuple[int, int], counted: int) -> None:
        """Take note of the log: rows that came, and how many more these are than went."""
        came, net = log
        self.logged = bool(came or net)
        # A log that empties the table must not make goals without end.
        self._grown = max(1 + net / max(counted, 1), 0.1)

    def at_offset(self, goal: int, behind: Behind) -> Count:
        """Return the last anchor up to which there are at most so many rows."""
        # Each step of one answer asks for the same place.
        last = self._found
        if last is not None and last[0] == goal:
            return last[1]
        found = self._descend(lambda _, node, rows: bisect_right(node.ends, goal - rows), behind)
        self._found = goal, found
        return found

    def at_end(self, behind: Behind) -> Count:
        """Return the last anchor of all."""
        if self._end is None:
            self._end = self._descend(lambda _, node, rows: len(node.anchors), behind)
        return self._end

    def ahead_of(self, key: Key, nearest: Callable[[int], Anchor | None], behind: Behind) -> Count:
        """Return the last anchor ahead of a key.

        `nearest` asks the database for that of a level, where Python does not sort as it does.
        """

        def choose(level: int, node: Node, rows: int) -> int:
            if node.sorted_keys is not None and self._order.sorts([key, *node.keys[:1]]):
                return self._order.first_from(node.sorted_keys, key)
            # Texts under a collation: only the database knows what comes first.
            found = nearest(level)
            return 1 + node.keys.index(found.key) if found and found.key in node.keys else 0

        return self._descend(choose, behind)

    def ahead_of_value(self, value: Any, behind: Behind) -> Count | None:
        """Return the last anchor ahead of a value of the first term; None where Python can't tell.

        Of a descending term the last one that has the value itself, too.
        """
        sure = True

        def choose(level: int, node: Node, rows: int) -> int:
            nonlocal sure
            told = node.firsts and self._order.before_value(node.firsts, value)
            sure = sure and told is not None
            return told or 0

        count = self._descend(choose, behind)
        return count if sure else None

    def glimpse(self, goal: int) -> tuple[Count, Count] | None:
        """Return the anchors at an offset and at the end, None where they must be read first."""
        try:
            return self.at_offset(goal, _unread), self.at_end(_unread)
        except _UnreadError:
            return None

    def _descend(self, choose: Callable[[int, Node, int], int], behind: Behind) -> Count:
        low: Anchor | None = None
        rows, until = 0, None
        # From the widest level down: a hundred anchors each, of which one is gone into.
        for level in range(LEVELS, 0, -1):
            node = self._node(level, low, until, behind)
            i = choose(level, node, rows)
            # The next level lies between the two anchors that were found here.
            until = node.anchors[i] if i < len(node.anchors) else until
            if i:
                low, rows = node.anchors[i - 1], rows + node.ends[i - 1]
        return Count(low, rows)

    def _node(self, level: int, low: Anchor | None, until: Anchor | None, behind: Behind) -> Node:
        """Return the anchors of a level behind an anchor of the next level and up to another."""
        # An anchor's id is its own for good, and names the stretch behind it.
        which = level, 0 if low is None else low.id
        found = self._nodes.get(which)
        if found is None:
            anchors = []
            for anchor in behind(level, None if low is None else low.key):
                anchors.append(anchor)
                if until is not None and anchor.key == until.key:
                    break
            keys = tuple(anchor.key for anchor in anchors)
            ends = tuple(accumulate(anchor.n for anchor in anchors))
            known, firsts = self._order.sorts(keys), self._order.firsts(keys)
            sorted_keys = tuple(map(self._order.sortable, keys)) if known else None
            made = Node(tuple(anchors), keys, ends, sorted_keys, firsts)
            found = self._nodes.keep(which, made)
        return found


class _UnreadError(Exception):
    pass


def _unread(level: int, key: Key | None) -> Iterator[Anchor]:
    raise _UnreadError
