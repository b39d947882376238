"""The fast simulator: one walk on a timeline, by ranges. All counts equal the reference's.

A page is a range of slots and a range of unchanged rows as they stand at one request.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vrelko.core.drift.timeline import BEYOND, Array, Timeline
from vrelko.core.drift.walks import Counts, DriftStrategy, check_strategy


def play(timeline: Timeline, strategy: DriftStrategy) -> Counts:
    """Return what one walk suffers. Raises PageError for a strategy that is not known."""
    check_strategy(strategy)
    walk = _Walk(timeline, strategy)
    walk.run()
    return walk.count()


def play_by_page(
    timeline: Timeline, strategy: DriftStrategy
) -> tuple[Counts, tuple[tuple[int, int], ...]]:
    """Return what one walk suffers, and the repeats and misses of each page.

    A repeat counts where the row comes again, a miss where the walk first goes beyond the row.
    """
    check_strategy(strategy)
    walk = _Walk(timeline, strategy)
    walk.run()
    return walk.count(), walk.by_page()


@dataclass(frozen=True, slots=True)
class _Page:
    """A page: the request, when its rows are as they are, and what it holds."""

    page: int
    at: int
    slots: tuple[int, int]
    rows: tuple[int, int]


class _Walk:
    """One walk on a timeline."""

    def __init__(self, timeline: Timeline, strategy: DriftStrategy) -> None:
        self._timeline, self._strategy = timeline, strategy
        self._pages: list[_Page] = []
        self._slots: list[Array] = []  # that each page served
        self._ended = False
        self._cover = -1
        self._covers: list[int] = []
        # Rows that never change need no mark: which of them were served follows of the ranges.
        self._seen = np.zeros(timeline.changed_rows, dtype=bool)
        top = timeline.first_place()
        self._top = -1 if top is None else top

    def run(self) -> None:
        """Ask for pages until one is short."""
        for page in range(self._timeline.pages):
            found, short = self._fetch(page)
            slots = self._served(found)
            self._pages.append(found)
            self._slots.append(slots)
            self._cover = max(self._cover, self._last_key(found, slots))
            self._covers.append(self._cover)
            if short:
                self._ended = True
                return

    def _fetch(self, page: int) -> tuple[_Page, bool]:
        timeline, size, strategy = self._timeline, self._timeline.size, self._strategy
        # What is frozen shows the rows of the first request for ever.
        at = 0 if strategy.startswith("frozen") else page
        begin = page * size
        if strategy == "overlap":
            begin = max(begin - timeline.overlap, 0)
        end = (page + 1) * size
        # Rows that came above the first page's first row are skipped, and counted to skip them.
        if strategy == "ceiling" and self._top >= 0:
            slot, row = timeline.place_of(self._top, behind=False)
            shift = row + timeline.live_below(slot, at)
            begin, end = begin + shift, end + shift
        elif strategy == "keyset":
            slot, row = timeline.place_of(self._cover, behind=True)
            begin = row + timeline.live_below(slot, at)
            end = begin + size
        # The two ends say all of a page: what lies between is counted, not listed.
        low, high = timeline.select(begin, at), timeline.select(end, at)
        found = _Page(page, at, (low[0], high[0]), (low[1], high[1]))
        return found, timeline.total(at) < end

    def _last_key(self, found: _Page, slots: Array) -> int:
        """Return the largest key that a page served, -1 where it served none."""
        if self._strategy == "overlap":  # rows seen before count where they were seen
            changed_row = self._timeline.changed_row[slots]
            slots = slots[~self._seen[changed_row]]
            self._seen[changed_row] = True
        key = (
            self._timeline.key_of_unchanged(found.rows[1] - 1)
            if found.rows[1] > found.rows[0]
            else -1
        )
        return max(key, int(self._timeline.key[slots].max())) if len(slots) else key

    def _served(self, found: _Page) -> Array:
        """Return the slots that a page served: of a list of ids, those of rows still there."""
        timeline = self._timeline
        low, high = found.slots
        slots = low + np.flatnonzero(timeline.live(low, high, found.at))
        if self._strategy == "frozen-ids":
            slots = slots[timeline.went[timeline.changed_row[slots]] > found.page]
        return slots

    def count(self) -> Counts:
        """Return what the walk suffered."""
        timeline = self._timeline
        end = len(self._pages) - 1
        cover = int(BEYOND) if self._ended else self._cover
        every = self._slots
        slots = np.concatenate(every) if every else np.array([], dtype=np.int64)
        # Rows that nothing happened to are counted as ranges: there may be millions of them.
        union, twice, length = _depths([page.rows for page in self._pages])
        by_slot = np.bincount(slots, minlength=len(timeline.key))
        by_row = np.bincount(timeline.changed_row[slots], minlength=timeline.changed_rows)
        # A row is counted once however many of its versions came.
        distinct = int((by_row > 0).sum()) + union
        served = len(slots) + length
        same = int(np.maximum(by_slot - 1, 0).sum()) + length - union
        repeated = int((by_row > 1).sum()) + twice
        repeats = served - distinct
        if self._strategy == "overlap":  # rows that were seen are taken out
            served, repeats, same, repeated = distinct, 0, 0, 0
        never = by_row == 0
        rows, keys = timeline.stable_until(end)
        stood = np.zeros(timeline.changed_rows, dtype=bool)
        stood[rows] = True
        misses = int((never[rows] & (keys <= cover)).sum())
        # All unchanged rows up to there should have been served; the rest was missed.
        reach = self._timeline.unchanged_below(np.array([min(cover, int(BEYOND) - 1) + 1]))
        misses += int(reach[0]) - union
        # There all the time, and at more than one place: it dodged the walk.
        stayed = (timeline.came == 0) & (timeline.went > end) & ~stood
        dodges = int((never & stayed & (timeline.key_at_start <= cover)).sum())
        new = (timeline.came > 0) & (timeline.came <= end) & (timeline.went > end)
        unseen = int((never & new & (self._last_keys(end) <= cover)).sum())
        gone, stale = self._outdated(every)
        return Counts(
            served=served,
            pages=len(self._pages),
            repeats=repeats,
            repeats_same_key=same,
            rows_repeated=repeated,
            misses=misses,
            dodges=dodges,
            unseen=unseen,
            gone=gone,
            stale=stale,
        )

    def by_page(self) -> tuple[tuple[int, int], ...]:
        """Return the repeats and misses of each page."""
        timeline, pages = self._timeline, self._pages
        # Whoever came to the end has covered whatever there is.
        covers = list(self._covers)
        if self._ended:
            covers[-1] = int(BEYOND) - 1
        served = np.zeros(timeline.changed_rows, dtype=bool)
        repeats: list[int] = []
        union: list[tuple[int, int]] = []
        for page, slots in zip(pages, self._slots, strict=True):
            changed_row = timeline.changed_row[slots]
            distinct, often = np.unique(changed_row, return_counts=True)
            again = int(often.sum() - len(distinct) + served[distinct].sum())
            served[distinct] = True
            union, known = _join(union, page.rows)
            again += known
            repeats.append(0 if self._strategy == "overlap" else again)
        misses = np.zeros(len(pages), dtype=np.int64)
        rows, keys = timeline.stable_until(len(pages) - 1)
        lost = keys[~served[rows]]
        lost = lost[lost <= covers[-1]]
        # A miss belongs to the page whose cover first went past the row.
        np.add.at(misses, np.searchsorted(covers, lost, side="left"), 1)
        ahead = timeline.unchanged_below(np.asarray(covers) + 1)
        inside = [
            sum(min(high, reach) - low for low, high in union if low < reach)
            for reach in ahead.tolist()
        ]
        holes = np.diff(np.concatenate([[0], ahead - np.asarray(inside)]))
        return tuple(zip(repeats, (misses + holes).tolist(), strict=True))

    def _last_keys(self, end: int) -> Array:
        """Return the key of each changing row at the walk's end."""
        timeline = self._timeline
        keys = np.full(timeline.changed_rows, BEYOND)
        there = (timeline.birth <= end) & (timeline.death > end)
        keys[timeline.changed_row[there]] = timeline.key[there]
        return keys

    def _outdated(self, every: list[Array]) -> tuple[int, int]:
        """Return how many rows of a frozen view were gone, and how many had moved."""
        if self._strategy != "frozen-view":
            return 0, 0
        timeline = self._timeline
        gone = stale = 0
        for page, slots in zip(self._pages, every, strict=True):
            left = timeline.went[timeline.changed_row[slots]] <= page.page
            gone += int(left.sum())
            stale += int((~left & (timeline.death[slots] <= page.page)).sum())
        return gone, stale


def _join(union: list[tuple[int, int]], more: tuple[int, int]) -> tuple[list[tuple[int, int]], int]:
    """Return disjoint intervals with one more, and how much of that one they covered before."""
    low, high = more
    if high <= low:
        return union, 0
    apart, known = [], 0
    # Pages lie mostly side by side, so the union stays a handful of intervals.
    for begin, end in union:
        if end < low or begin > high:
            apart.append((begin, end))
        else:
            known += max(min(end, more[1]) - max(begin, more[0]), 0)
            low, high = min(low, begin), max(high, end)
    return [*apart, (low, high)], known


def _depths(intervals: list[tuple[int, int]]) -> tuple[int, int, int]:
    """Return the length covered by intervals, that covered more than once, and their sum."""
    # A sweep over beginnings and ends: how many pages overlap at each place.
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
