"""The reference: a walk played row by row. Slow, but obviously correct.

It also counts walks that were served elsewhere, by a database.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right, insort
from dataclasses import dataclass, field

from vrelko.core.drift.walks import (
    DELETE,
    INSERT,
    Counts,
    Course,
    DriftStrategy,
    check_strategy,
    first_key,
)


@dataclass
class _Row:
    """One row's life: its versions as [key, page of birth, page of death]."""

    versions: list[list[int]] = field(default_factory=list)


class _World:
    """The rows as they stand, and every version there ever was."""

    def __init__(self, course: Course) -> None:
        self.rows: dict[int, _Row] = {}
        self.keys: list[tuple[int, int]] = []  # (key, row) of those alive
        for row in range(course.rows):
            self.rows[row] = _Row([[first_key(row), 0, _NEVER]])
            self.keys.append((first_key(row), row))
        # Taken from the front as time goes on, so that no page sees an event too early.
        self._waiting = list(course.events)

    def run_until(self, time: float, page: int) -> None:
        """Let events up to a time happen; `page` is the first request that sees them."""
        while self._waiting and self._waiting[0].time <= time:
            event = self._waiting.pop(0)
            row = self.rows.get(event.row)
            alive = row is not None and row.versions[-1][2] == _NEVER
            if event.kind == INSERT:
                # A row that comes again would be another row: numbers are used once.
                if row is None:
                    self.rows[event.row] = _Row([[event.key, page, _NEVER]])
                    insort(self.keys, (event.key, event.row))
            elif alive and row is not None:
                old = row.versions[-1]
                # The version ends at the request that would see it no more.
                old[2] = page
                self.keys.remove((old[0], event.row))
                if event.kind != DELETE:
                    row.versions.append([event.key, page, _NEVER])
                    insort(self.keys, (event.key, event.row))


_NEVER = 1 << 62


def play(course: Course, strategy: DriftStrategy) -> Counts:
    """Return what one walk suffers. Raises PageError for a strategy that is not known."""
    return count(course, serve(course, strategy))


@dataclass(frozen=True)
class Served:
    """The rows of a walk's pages as (key, row), the largest key covered, and whether it ended."""

    pages: list[list[tuple[int, int]]]
    cover: int
    ended: bool


def serve(course: Course, strategy: DriftStrategy) -> Served:
    """Return what one walk is served. Raises PageError for a strategy that is not known."""
    check_strategy(strategy)
    world = _World(course)
    world.run_until(course.times[0], 0)
    # What frozen walks and a ceiling go by ever after.
    start = list(world.keys)
    served: list[list[tuple[int, int]]] = []
    seen: set[int] = set()
    last = -1
    size = course.size
    ended = False
    for page, time in enumerate(course.times):
        world.run_until(time, page)
        now = world.keys
        if strategy == "offset":
            found = now[page * size : (page + 1) * size]
            short = len(found) < size
        elif strategy == "overlap":
            begin = max(page * size - course.overlap, 0)
            # The overlap goes back; what was seen there before is taken out again.
            asked = now[begin : (page + 1) * size]
            short = len(asked) < (page + 1) * size - begin
            found = [one for one in asked if one[1] not in seen]
        elif strategy == "ceiling":
            top = bisect_left(now, (start[0][0], -1)) if start else 0
            found = now[top + page * size : top + (page + 1) * size]
            short = len(found) < size
        elif strategy == "keyset":
            begin = bisect_right(now, (last, _NEVER))
            found = now[begin : begin + size]
            short = len(found) < size
        else:
            found = start[page * size : (page + 1) * size]
            short = len(found) < size
            if strategy == "frozen-ids":
                still = {row: key for key, row in now}
                found = [one for one in found if one[1] in still]
                last = max([last, *(key for key, _ in found)])
                # Ids are frozen and rows are not: they are shown as they are now.
                found = [(still[row], row) for _, row in found]
        served.append(found)
        seen.update(row for _, row in found)
        if strategy != "frozen-ids":
            last = max([last, *(key for key, _ in found)])
        if short:
            ended = True
            break
    return Served(served, last, ended)


def count(course: Course, walk: Served) -> Counts:
    """Return what a walk suffered, from what it was served."""
    world, served = _World(course), walk.pages
    cover = _NEVER if walk.ended else walk.cover
    end = len(served) - 1
    for page in range(len(served)):
        world.run_until(course.times[page], page)
    flat = [one for page in served for one in page]
    often: dict[int, int] = {}
    for _, number in flat:
        often[number] = often.get(number, 0) + 1
    misses = dodges = unseen = gone = stale = 0
    for number, row in world.rows.items():
        if number in often:
            continue
        first, last = row.versions[0], row.versions[-1]
        there = first[1] == 0 and last[2] > end
        # There at one place from the first page to the last: whoever missed it missed it wrongly.
        stable = [v for v in row.versions if v[1] == 0 and v[2] > end]
        if stable:
            misses += stable[0][0] <= cover
        elif there:
            dodges += _version_at(row, 0)[0] <= cover
        elif first[1] > 0 and first[1] <= end and last[2] > end:
            unseen += last[0] <= cover
    for page, rows_of_page in enumerate(served):
        # Held against the row as it was at that very request, whatever the strategy showed.
        for key, number in rows_of_page:
            version = _version_at(world.rows[number], page)
            if not version:
                gone += 1
            elif version[0] != key:
                stale += 1
    return Counts(
        served=len(flat),
        pages=len(served),
        repeats=len(flat) - len(often),
        repeats_same_key=len(flat) - len(set(flat)),
        rows_repeated=sum(count > 1 for count in often.values()),
        misses=misses,
        dodges=dodges,
        unseen=unseen,
        gone=gone,
        stale=stale,
    )


def _version_at(row: _Row, page: int) -> list[int]:
    """Return the version that a row had at a request, an empty list where it was not there."""
    return next((v for v in reversed(row.versions) if v[1] <= page < v[2]), [])
