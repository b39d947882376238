"""The fast simulator: walks over any number of rows, with memory for the changes alone.

Rows that never change are not held: the i-th has its key by formula. What changes is a list of
*slots*, one a version, sorted by key; each lives from the request that first sees it to the one
that first does not. Of the rows ahead of slot m at request p, the unchanged ones are known
(`_below`), the others are counted by blocks of slots: so the place of any rank is found in
O(sqrt(M)) for M slots. A page is a range of slots and a range of unchanged rows at one request.
Events of rows that never come near a page are left out first. All counts equal the reference's.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from vrelko.core.drift.walks import (
    DELETE,
    INSERT,
    SPACE,
    Counts,
    Course,
    Way,
    check_way,
)

Array = np.ndarray[Any, Any]
_NEVER = np.int64(1 << 40)
_BEYOND = np.int64((1 << 62) - 1)


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


class Stage:
    """A course made ready: play any way of fetching pages on it."""

    def __init__(self, course: Course, changes: Changes | None = None) -> None:
        self._rows, self._size = course.rows, course.size
        self._times = np.asarray(course.times, dtype=float)
        self._overlap = course.overlap
        self.pages = len(self._times)
        self._set_slots(*self._relevant(changes or Changes.of(course)))
        self._set_blocks()

    def play(self, way: Way) -> Counts:
        """Return what one walk suffers. Raises PageError for a way that is not known."""
        check_way(way)
        walk = _Walk(self, way)
        walk.run()
        return walk.count()

    def _relevant(self, changes: Changes) -> tuple[Array, Array, Array, Array]:
        """Return step, kind, row and key of the events that a page can meet, row by row."""
        steps = np.searchsorted(self._times, changes.times, side="left")
        kinds, rows, keys = changes.kinds, changes.rows, changes.keys
        keep = steps < self.pages
        if not keep.all():
            steps, kinds, rows, keys = steps[keep], kinds[keep], rows[keep], keys[keep]
        reach = self._reach(kinds, rows)
        if reach < self._rows:
            near = rows < reach
            near |= (kinds != DELETE) & (keys <= (reach + 1) * SPACE)
            if not near.all():
                wanted = np.unique(rows[near])
                at = np.searchsorted(wanted, rows)
                at[at == len(wanted)] = 0
                keep = wanted[at] == rows if len(wanted) else np.zeros(len(rows), dtype=bool)
                steps, kinds, rows, keys = steps[keep], kinds[keep], rows[keep], keys[keep]
        order = np.argsort(rows, kind="stable")
        return steps[order], kinds[order], rows[order], keys[order]

    def _reach(self, kinds: Array, rows: Array) -> int:
        """Return the first row from the start that no page can end behind."""
        need = (self.pages + 1) * self._size + self._overlap
        touched = np.unique(rows[(kinds != INSERT) & (rows < min(self._rows, need + len(rows)))])
        reach = need
        while True:
            further = need + int(np.searchsorted(touched, reach))
            if further == reach:
                return reach
            reach = further

    def _set_slots(self, steps: Array, kinds: Array, rows: Array, keys: Array) -> None:
        """Turn events, row by row, into versions sorted by key."""
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
        started = within(inserts)
        exists = base | (started > 0)
        deletes = (kinds == DELETE) & exists
        gone = within(deletes) - deletes
        holds = exists & (gone == 0)
        holds &= (kinds != INSERT) | (inserts & (started == 1))
        steps, kinds, rows, keys = steps[holds], kinds[holds], rows[holds], keys[holds]

        touched = np.unique(rows[rows < self._rows])
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
        death[follows] = step[follows + 1]
        lives = ~ends
        row, key, birth, death = row[lives], key[lives], step[lives], death[lives]
        _, person = np.unique(row, return_inverse=True)
        order = np.argsort(key, kind="stable")
        self.key, self.birth, self.death = key[order], birth[order], death[order]
        self.person = person[order]
        self.persons = int(person.max()) + 1 if len(person) else 0
        self._set_persons(person, key, birth, death)
        self._touched = touched
        self._untouched_before = touched - np.arange(len(touched))
        self.untouched = self._rows - len(touched)
        self._below = self.unchanged_below(self.key)

    def _set_persons(self, person: Array, key: Array, birth: Array, death: Array) -> None:
        """Note of each row that changes: when it came and went, its first and last key."""
        begins = np.ones(len(person), dtype=bool)
        begins[1:] = person[1:] != person[:-1]
        first = np.flatnonzero(begins)
        last = np.append(first[1:], len(person)) - 1 if len(person) else first
        self.came, self.went = birth[first], death[last]
        self.last_key = key[last]
        stable = (birth == 0) & (death >= self.pages)  # refined by the walk's own end
        self._versions = person, key, birth, death
        self.has_stable = np.zeros(self.persons, dtype=bool)
        self.has_stable[person[stable]] = True
        self.key_at_start = np.full(self.persons, _BEYOND)
        there = (birth <= 0) & (death > 0)
        self.key_at_start[person[there]] = key[there]

    def stable_until(self, end: int) -> tuple[Array, Array]:
        """Return row and key of the versions that stood from the first request to the `end`-th."""
        person, key, birth, death = self._versions
        stable = (birth == 0) & (death > end)
        return person[stable], key[stable]

    def unchanged_below(self, keys: Array) -> Array:
        """Return how many rows that never change stand ahead of keys."""
        ahead = np.clip((keys - 1) // SPACE, 0, self._rows)
        return np.asarray(ahead - np.searchsorted(self._touched, ahead))

    def key_of_unchanged(self, index: int) -> int:
        """Return the key of the index-th of the rows that never change."""
        row = index + int(np.searchsorted(self._untouched_before, index, side="right"))
        return (row + 1) * int(SPACE)

    def _set_blocks(self) -> None:
        """Count the living of each block of slots at each request."""
        slots = len(self.key)
        self._block = max(int(np.sqrt(slots) / 2), 16)
        blocks = -(-slots // self._block) if slots else 0
        self._starts = np.arange(blocks) * self._block
        which = np.arange(slots) // self._block
        shape = (self.pages + 1, max(blocks, 1))
        change = np.zeros(shape, dtype=np.int64)
        flat = change.reshape(-1)
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
        rank = max(min(rank, self.total(at)), 0)
        if not len(self._starts):
            return 0, rank
        places = self._below[self._starts] + self._living[at, :-1]
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


@dataclass(frozen=True, slots=True)
class _Page:
    """A page: the request, when its rows are as they are, and what it holds."""

    page: int
    at: int
    slots: tuple[int, int]
    rows: tuple[int, int]


class _Walk:
    """One walk on a stage."""

    def __init__(self, stage: Stage, way: Way) -> None:
        self._stage, self._way = stage, way
        self._pages: list[_Page] = []
        self._ended = False
        self._cover = -1
        top = stage.first_place()
        self._top = -1 if top is None else top

    def run(self) -> None:
        """Ask for pages until one is short."""
        for page in range(self._stage.pages):
            found, short = self._fetch(page)
            self._pages.append(found)
            self._cover = max(self._cover, self._last_key(found))
            if short:
                self._ended = True
                return

    def _fetch(self, page: int) -> tuple[_Page, bool]:
        stage, size, way = self._stage, self._stage.size, self._way
        if way == "anchored":
            return self._fetch_segment(page)
        at = 0 if way.startswith("frozen") else page
        begin = page * size
        if way == "overlap":
            begin = max(begin - stage.overlap, 0)
        end = (page + 1) * size
        if way == "ceiling" and self._top >= 0:
            slot, row = stage.place_of(self._top, behind=False)
            shift = row + stage.live_below(slot, at)
            begin, end = begin + shift, end + shift
        elif way == "keyset":
            slot, row = stage.place_of(self._cover, behind=True)
            begin = row + stage.live_below(slot, at)
            end = begin + size
        low, high = stage.select(begin, at), stage.select(end, at)
        found = _Page(page, at, (low[0], high[0]), (low[1], high[1]))
        return found, stage.total(at) < end

    def _fetch_segment(self, page: int) -> tuple[_Page, bool]:
        """All rows between two anchors, as they stand at the request."""
        stage, size = self._stage, self._stage.size
        total = stage.total(0)
        anchors = -(-total // size)
        low, high = (0, 0), (len(stage.key), stage.untouched)
        if 0 < page < anchors:
            low = stage.place_of(self._anchor(page), behind=False)
        elif page >= anchors and page > 0:
            low = high
        if page + 1 < anchors:
            high = stage.place_of(self._anchor(page + 1), behind=False)
        return _Page(page, page, (low[0], high[0]), (low[1], high[1])), page + 1 >= anchors

    def _anchor(self, number: int) -> int:
        slot, row = self._stage.select(number * self._stage.size + 1, 0)
        return self._stage.key_before(slot, row, 0)

    def _last_key(self, found: _Page) -> int:
        """Return the largest key that a page served, -1 where it served none."""
        slots = self._served(found)
        key = (
            self._stage.key_of_unchanged(found.rows[1] - 1) if found.rows[1] > found.rows[0] else -1
        )
        return max(key, int(self._stage.key[slots].max())) if len(slots) else key

    def _served(self, found: _Page) -> Array:
        """Return the slots that a page served: of a list of ids, those of rows still there."""
        stage = self._stage
        low, high = found.slots
        slots = low + np.flatnonzero(stage.live(low, high, found.at))
        if self._way == "frozen-ids":
            slots = slots[stage.went[stage.person[slots]] > found.page]
        return slots

    def count(self) -> Counts:
        """Return what the walk suffered."""
        stage = self._stage
        end = len(self._pages) - 1
        cover = int(_BEYOND) if self._ended else self._cover
        every = [self._served(page) for page in self._pages]
        slots = np.concatenate(every) if every else np.array([], dtype=np.int64)
        union, twice, length = _depths([page.rows for page in self._pages])
        by_slot = np.bincount(slots, minlength=len(stage.key))
        by_row = np.bincount(stage.person[slots], minlength=stage.persons)
        distinct = int((by_row > 0).sum()) + union
        served = len(slots) + length
        same = int(np.maximum(by_slot - 1, 0).sum()) + length - union
        repeated = int((by_row > 1).sum()) + twice
        repeats = served - distinct
        if self._way == "overlap":  # rows that were seen are taken out
            served, repeats, same, repeated = distinct, 0, 0, 0
        never = by_row == 0
        rows, keys = stage.stable_until(end)
        stood = np.zeros(stage.persons, dtype=bool)
        stood[rows] = True
        misses = int((never[rows] & (keys <= cover)).sum())
        reach = self._stage.unchanged_below(np.array([min(cover, int(_BEYOND) - 1) + 1]))
        misses += int(reach[0]) - union
        stayed = (stage.came == 0) & (stage.went > end) & ~stood
        dodges = int((never & stayed & (stage.key_at_start <= cover)).sum())
        new = (stage.came > 0) & (stage.came <= end) & (stage.went > end)
        unseen = int((never & new & (self._last_keys(end) <= cover)).sum())
        gone, stale = self._outdated(every)
        return Counts(served, len(self._pages), repeats, same, repeated, misses, dodges, unseen,
                      gone, stale)  # fmt: skip

    def _last_keys(self, end: int) -> Array:
        """Return the key of each changing row at the walk's end."""
        stage = self._stage
        keys = np.full(stage.persons, _BEYOND)
        there = (stage.birth <= end) & (stage.death > end)
        keys[stage.person[there]] = stage.key[there]
        return keys

    def _outdated(self, every: list[Array]) -> tuple[int, int]:
        """Return how many rows of a frozen view were gone, and how many had moved."""
        if self._way != "frozen-view":
            return 0, 0
        stage = self._stage
        gone = stale = 0
        for page, slots in zip(self._pages, every, strict=True):
            left = stage.went[stage.person[slots]] <= page.page
            gone += int(left.sum())
            stale += int((~left & (stage.death[slots] <= page.page)).sum())
        return gone, stale


def _depths(intervals: list[tuple[int, int]]) -> tuple[int, int, int]:
    """Return the length covered by intervals, that covered more than once, and their sum."""
    marks = sorted(
        [(low, 1) for low, high in intervals if high > low]
        + [(high, -1) for low, high in intervals if high > low]
    )
    depth = last = union = twice = 0
    for place, change in marks:
        union += (place - last) * (depth > 0)
        twice += (place - last) * (depth > 1)
        depth, last = depth + change, place
    return union, twice, sum(high - low for low, high in intervals)
