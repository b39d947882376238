"""Recorded changes: a CSV of what happened to a listing, for walks over just that.

Columns: `time_s` from the recording's start; `change`, one of insert, delete and move; `row`, the
place in the order (0 is the first) that a row had at the start, or a name for one that was
inserted; `to`, for inserts and moves, the place at the start ahead of which the row lands.
"""

from __future__ import annotations

import csv
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from vrelko.core.drift.walks import DELETE, INSERT, MOVE, SPACE, Course, Event
from vrelko.errors import PageError

COLUMNS = ("time_s", "change", "row", "to")
_KINDS = {"insert": INSERT, "delete": DELETE, "move": MOVE}


@dataclass(frozen=True, slots=True)
class Events:
    """Changes in the order of time of a listing that had `rows` rows at the start."""

    rows: int
    events: tuple[Event, ...]

    @property
    def seconds(self) -> float:
        """When the last change happened."""
        return self.events[-1].time

    def courses(
        self, size: int, pages: int, dwell_s: float, walks: int, overlap: int = 0
    ) -> list[Course]:
        """Return up to `walks` walks that begin evenly spaced over the recording.

        One walk from the start where the recording is no longer than a walk.
        """
        # A walk that began later would run past the end of what was recorded.
        left = max(self.seconds - (pages - 1) * dwell_s, 0.0)
        count = walks if left > 0 else 1
        begins = [left * i / max(count - 1, 1) for i in range(count)]
        return [
            Course(
                self.rows,
                size,
                tuple(begin + page * dwell_s for page in range(pages)),
                self.events,
                overlap,
            )
            for begin in begins
        ]


def read_events(lines: Iterable[str], rows: int) -> Events:
    """Return the changes of CSV text. Raises PageError, naming the line."""
    reader = csv.reader(lines)
    header = next(reader, None)
    if header is None or tuple(name.strip() for name in header) != COLUMNS:
        raise _bad(1, f"the first line is not {','.join(COLUMNS)}", "Write these column names")
    # Inserted rows are known by the names that the recording gave them.
    names: dict[str, int] = {}
    events: list[Event] = []
    between: dict[int, int] = {}
    for line, cells in enumerate(reader, 2):
        if not cells:
            continue
        event = _read(line, cells, rows, names, between)
        # Sorting silently would hide that two recordings were mixed.
        if events and event.time < events[-1].time:
            raise _bad(line, f"its time {event.time:g} is before the line above", "Sort by time")
        events.append(event)
    if not events:
        raise _bad(2, "there is no change at all", "Record some, or leave the file out")
    return Events(rows, tuple(events))


def _read(
    line: int, cells: Sequence[str], rows: int, names: dict[str, int], between: dict[int, int]
) -> Event:
    if len(cells) != len(COLUMNS):
        raise _bad(line, f"it has {len(cells)} cells", f"Write {','.join(COLUMNS)}")
    time, change, row, to = (cell.strip() for cell in cells)
    if change not in _KINDS:
        raise _bad(line, f"{change!r} is not a kind of change", f"Write one of {', '.join(_KINDS)}")
    # NaN and infinity are floats too, and no times: the range below refuses them.
    try:
        moment = float(time)
    except ValueError:
        moment = -1.0
    if not 0 <= moment < float("inf"):
        raise _bad(line, f"{time!r} is not a time", "Write seconds from the start, 0 or more")
    kind = _KINDS[change]
    # New rows have names of their own: a number would be taken for a place.
    if kind == INSERT:
        if row in names or (row.isdigit() and int(row) < rows):
            raise _bad(line, f"row {row!r} is there already", "Give each new row a name of its own")
        names[row] = rows + len(names)
    number = names.get(row)
    if number is None:
        if not row.isdigit() or int(row) >= rows:
            raise _bad(
                line,
                f"row {row!r} is not known",
                f"Write a place from 0 to {rows - 1:,}, or the name of a row inserted above",
            )
        number = int(row)
    if kind == DELETE:
        return Event(moment, kind, number)
    if not to.isdigit() or int(to) > rows:
        raise _bad(line, f"{to!r} is not a place in the order", f"Write a place from 0 to {rows:,}")
    place = int(to)
    # Rows that land at one place stand there in the order in which they came, newest first.
    between[place] = between.get(place, 0) + 1
    return Event(moment, kind, number, (place + 1) * SPACE - between[place])


def _bad(line: int, what: str, todo: str) -> PageError:
    return PageError(f"line {line} of the changes: {what}", todo, "recording-line")
