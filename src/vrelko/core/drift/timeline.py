"""The timeline of a walk: any number of rows, with memory for those alone that change.

Rows that never change are not held: the i-th has its key by formula. What changes is a list of
*slots*, one a version, sorted by key; each lives from the request that first sees it to the one
that first does not. Of the rows ahead of slot m at request p, the unchanged ones are known
(`_below`), the others are counted by blocks of slots: so the place of any rank is found in
O(sqrt(M)) for M slots. Events of rows that never come near a page are left out first.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from vrelko.core.drift.walks import DELETE, INSERT, SPACE, Course

Array = np.ndarray[Any, Any]
_NEVER = np.int64(1 << 40)
BEYOND = np.int64((1 << 62) - 1)


@dataclass(frozen=True)
class Changes:
    """Events as arrays, in the order of time: see `walks.Event`."""

    times: Array
    kinds: Array
    rows: Array
    keys: Array

    @classmethod
    def of(cls, course: Course) -> Changes:
        """Return a course's events as arrays."""
        events = course.events
        return cls(
            np.array([e.time for e in events], dtype=float),
            np.array([e.kind for e in events], dtype=np.int64),
            np.array([e.row for e in events], dtype=np.int64),
            np.array([e.key for e in events], dtype=np.int64),
        )


class Timeline:
    """A course made ready: any strategy of fetching pages can be played on it (`fast.play`)."""

    def __init__(self, course: Course, changes: Changes | None = None) -> None:
        self._rows, self._size = course.rows, course.size
        self._times = np.asarray(course.times, dtype=float)
        self._overlap = course.overlap
        self.pages = len(self._times)
        self._set_slots(*self._relevant(changes or Changes.of(course)))
        self._set_blocks()

    def _relevant(self, changes: Changes) -> tuple[Array, Array, Array, Array]:
        """Return step, kind, row and key of the events that a page can meet, row by row."""
        steps = np.searchsorted(self._times, changes.times, side="left")
        kinds, rows, keys = changes.kinds, changes.rows, changes.keys
        # What happens after the last request is seen by nobody.
        keep = steps < self.pages
        if not keep.all():
            steps, kinds, rows, keys = steps[keep], kinds[keep], rows[keep], keys[keep]
        # Rows that no page can come to are left out: a billion of them cost nothing.
        reach = self._reach(kinds, rows)
        if reach < self._rows:
            # A row that starts far away may still be moved, or inserted, into reach.
            near = rows < reach
            near |= (kinds != DELETE) & (keys <= (reach + 1) * SPACE)
            if not near.all():
                wanted = np.unique(rows[near])
                at = np.searchsorted(wanted, rows)
                at[at == len(wanted)] = 0
                keep = wanted[at] == rows if len(wanted) else np.zeros(len(rows), dtype=bool)
                steps, kinds, rows, keys = steps[keep], kinds[keep], rows[keep], keys[keep]
        # Stable: the events of a row stay in the order of time.
        order = np.argsort(rows, kind="stable")
        return steps[order], kinds[order], rows[order], keys[order]

    def _reach(self, kinds: Array, rows: Array) -> int:
        """Return the first row from the start that no page can end behind."""
        need = (self.pages + 1) * self._size + self._overlap
        # Each row that changes may let one row more be served: the reach grows with those inside
        # it.
        touched = np.unique(rows[(kinds != INSERT) & (rows < min(self._rows, need + len(rows)))])
        reach = need
        while True:
            further = need + int(np.searchsorted(touched, reach))
            if further == reach:
                return reach
            reach = further

    def _set_slots(self, steps: Array, kinds: Array, rows: Array, keys: Array) -> None:
        """Turn events, row by row, into versions sorted by key."""
        # Events stand row by row: a new row begins where the number changes.
        fresh = np.ones(len(rows), dtype=bool)
        fresh[1:] = rows[1:] != rows[:-1]
        group = np.cumsum(fresh) - 1
        first = np.flatnonzero(fresh)
        base = rows < self._rows

        def within(values: Array) -> Array:
            """Cumulative sums inside each row's events, the event's own included."""
            total = np.cumsum(values)
            before = np.concatenate([[0], total])[first]
            return np.asarray(total - before[group])

        inserts = (kinds == INSERT) & ~base
        # All rows at once, since a loop over millions of events would take minutes.
        started = within(inserts)
        exists = base | (started > 0)
        deletes = (kinds == DELETE) & exists
        gone = within(deletes) - deletes
        # Events of a row before it came or after it went mean nothing.
        holds = exists & (gone == 0)
        holds &= (kinds != INSERT) | (inserts & (started == 1))
        steps, kinds, rows, keys = steps[holds], kinds[holds], rows[holds], keys[holds]

        touched = np.unique(rows[rows < self._rows])
        # Rows of the start that change begin with a version of their own, at the key they had.
        whole = {
            "row": np.concatenate([touched, rows]),
            "key": np.concatenate([(touched + 1) * SPACE, keys]),
            "step": np.concatenate([np.zeros(len(touched), dtype=np.int64), steps]),
            "ends": np.concatenate([np.zeros(len(touched), dtype=bool), kinds == DELETE]),
        }
        order = np.argsort(whole["row"], kind="stable")  # a row's start stands before its events
        row, key, step, ends = (whole[name][order] for name in ("row", "key", "step", "ends"))
        death = np.full(len(row), _NEVER)
        follows = np.flatnonzero(row[1:] == row[:-1]) if len(row) else np.array([], dtype=np.int64)
        # A version ends where the row's next event begins another, or takes it away.
        death[follows] = step[follows + 1]
        # A deletion ends a version and is none itself.
        lives = ~ends
        row, key, birth, death = row[lives], key[lives], step[lives], death[lives]
        _, changed_row = np.unique(row, return_inverse=True)
        order = np.argsort(key, kind="stable")
        self.key, self.birth, self.death = key[order], birth[order], death[order]
        self.changed_row = changed_row[order]
        self.changed_rows = int(changed_row.max()) + 1 if len(changed_row) else 0
        self._set_changed_rows(changed_row, key, birth, death)
        self._touched = touched
        # How many rows that never change stand ahead of each that does: their index follows by
        # search.
        self._untouched_before = touched - np.arange(len(touched))
        self.untouched = self._rows - len(touched)
        # Asked at every request for every slot: counted once, here.
        self._below = self.unchanged_below(self.key)

    def _set_changed_rows(self, changed_row: Array, key: Array, birth: Array, death: Array) -> None:
        """Note of each row that changes: when it came and went, and its key at the start."""
        begins = np.ones(len(changed_row), dtype=bool)
        begins[1:] = changed_row[1:] != changed_row[:-1]
        first = np.flatnonzero(begins)
        last = np.append(first[1:], len(changed_row)) - 1 if len(changed_row) else first
        self.came, self.went = birth[first], death[last]
        self._versions = changed_row, key, birth, death
        self.key_at_start = np.full(self.changed_rows, BEYOND)
        # Step 0 is the first request: what came ahead of it was there when the walk began.
        there = (birth <= 0) & (death > 0)
        self.key_at_start[changed_row[there]] = key[there]

    def stable_until(self, end: int) -> tuple[Array, Array]:
        """Return row and key of the versions that stood from the first request to the `end`-th."""
        changed_row, key, birth, death = self._versions
        stable = (birth == 0) & (death > end)
        return changed_row[stable], key[stable]

    def unchanged_below(self, keys: Array) -> Array:
        """Return how many rows that never change stand ahead of keys."""
        # Row i stands at (i + 1) * SPACE, so a division tells how many are ahead of a key.
        ahead = np.clip((keys - 1) // SPACE, 0, self._rows)
        return np.asarray(ahead - np.searchsorted(self._touched, ahead))

    def key_of_unchanged(self, index: int) -> int:
        """Return the key of the index-th of the rows that never change."""
        row = index + int(np.searchsorted(self._untouched_before, index, side="right"))
        return (row + 1) * int(SPACE)

    def _set_blocks(self) -> None:
        """Count the living of each block of slots at each request."""
        slots = len(self.key)
        # About the square root: as many blocks as slots in one, so that either search is short.
        self._block = max(int(np.sqrt(slots) / 2), 16)
        blocks = -(-slots // self._block) if slots else 0
        self._starts = np.arange(blocks) * self._block
        which = np.arange(slots) // self._block
        shape = (self.pages + 1, max(blocks, 1))
        change = np.zeros(shape, dtype=np.int64)
        flat = change.reshape(-1)
        # Versions that outlive the walk are counted in a row of their own, which is dropped.
        born = np.minimum(self.birth, self.pages)
        died = np.minimum(self.death, self.pages)
        flat += np.bincount(born * shape[1] + which, minlength=flat.size)[: flat.size]
        flat -= np.bincount(died * shape[1] + which, minlength=flat.size)[: flat.size]
        living = np.cumsum(change, axis=0)[: self.pages]
        self._living = np.concatenate(
            [np.zeros((self.pages, 1), dtype=np.int64), np.cumsum(living, axis=1)], axis=1
        )

    def live(self, low: int, high: int, at: int) -> Array:
        """Tell which slots from low to high live at a request."""
        return np.asarray((self.birth[low:high] <= at) & (self.death[low:high] > at))

    def total(self, at: int) -> int:
        """Return the rows there at a request."""
        return self.untouched + int(self._living[at, -1])

    def live_below(self, slot: int, at: int) -> int:
        """Return how many slots below one live at a request."""
        block = slot // self._block
        low = block * self._block
        if low >= len(self.key):
            return int(self._living[at, -1])
        return int(self._living[at, block]) + int(self.live(low, slot, at).sum())

    def select(self, rank: int, at: int) -> tuple[int, int]:
        """Return the slot and the unchanged row that a rank lies ahead of at a request."""
        # A page past the end begins where the rows end.
        rank = max(min(rank, self.total(at)), 0)
        if not len(self._starts):
            return 0, rank
        places = self._below[self._starts] + self._living[at, :-1]
        # First the block, by counts that were kept, then the slot inside it: no search is long.
        block = max(int(np.searchsorted(places, rank, side="left")) - 1, 0)
        low = int(self._starts[block])
        high = min(low + self._block, len(self.key))
        before = int(self._living[at, block])
        alive = np.cumsum(self.live(low, high, at))
        ahead = before + np.concatenate([[0], alive[:-1]])
        inside = int(np.searchsorted(self._below[low:high] + ahead, rank, side="left"))
        live = before + (int(alive[inside - 1]) if inside else 0)
        return low + inside, rank - live

    def place_of(self, key: int, behind: bool) -> tuple[int, int]:
        """Return the slot and the unchanged row that a key's place lies ahead of."""
        # Slots hold all versions by key, living or not; who lives is counted apart.
        slot = int(np.searchsorted(self.key, key, side="right" if behind else "left"))
        return slot, int(self.unchanged_below(np.array([key + behind]))[0])

    def first_place(self) -> int | None:
        """Return the key of the first row at the first request, None where there is none."""
        if not self.total(0):
            return None
        slot, row = self.select(1, 0)
        return self.key_before(slot, row, 0)

    def key_before(self, slot: int, row: int, at: int) -> int:
        """Return the key of the last row ahead of a place at a request, -1 where there is none."""
        key = self.key_of_unchanged(row - 1) if row > 0 else -1
        low = slot
        while low > 0:
            low = max(low - self._block, 0)
            alive = np.flatnonzero(self.live(low, slot, at))
            if len(alive):
                return max(key, int(self.key[low + alive[-1]]))
            if row > 0 and self.key[low] < key:
                return key
            slot = low
        return key

    @property
    def size(self) -> int:
        """Rows a page."""
        return self._size

    @property
    def overlap(self) -> int:
        """Rows that are asked for again."""
        return self._overlap
