"""Scripts of a replay: which rows are out of the table at first, and what changes when.

Rows that will arrive are taken out of a copy before a walk and put back during it; a row moves by
taking over the order's values of a row that stays out. So each change is one that the table's own
constraints allow.
"""

from __future__ import annotations

import random
from bisect import bisect_left
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from sqlalchemy import Table

from vrelko.core.drift.stream import Stream
from vrelko.core.drift.walks import DELETE, INSERT, MOVE, SPACE, Course, Event
from vrelko.core.order import Order

Key = tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class WalkedRows:
    """The rows that take part, in order: their keys in the order, and their values.

    `table` is what they are written to, its columns without types where they are written as they
    are stored. `identity` are the places of the key that identify a row; `leads` the columns of the
    others where rows can be moved by them, else empty.
    """

    table: Table
    order: Order
    keys: list[Key]
    rows: list[dict[str, Any]]
    identity: tuple[int, ...]
    leads: tuple[str, ...]

    def moved(self, row: int, to: int) -> Key:
        """Return the key of a row that took over the order's values of another one."""
        own, other = self.keys[row], self.keys[to]
        return tuple(own[i] if i in self.identity else other[i] for i in range(len(own)))

    def lead_values(self, row: int) -> dict[str, Any]:
        """Return the values that a row moves by."""
        return {name: self.rows[row][name] for name in self.leads}


@dataclass(frozen=True, slots=True)
class Change:
    """One change of a row, by its place among the walked ones; it moves to one that is kept out."""

    time: float
    kind: int
    row: int
    to: int = -1


@dataclass(frozen=True, slots=True)
class Script:
    """One walk's changes in the order of time, and the rows that are out at its start."""

    outside: frozenset[int]
    changes: tuple[Change, ...]


def write_script(walked: WalkedRows, stream: Stream, span_s: float, rng: random.Random) -> Script:
    """Draw one walk's changes from a stream."""
    # Arrivals and moves both land somewhere, so their places are drawn together: no two alike.
    inserts = _times(rng, stream.inserts, span_s)
    moves = _times(rng, stream.moves, span_s) if walked.leads else []
    ranks = sorted(stream.rank_of(rng.random()) for _ in range(len(inserts) + len(moves)))
    # The i-th of the sorted ranks stands i places further down in the order of all rows.
    places = [int(rank) + i for i, rank in enumerate(ranks)]
    places = [place for place in places if place < len(walked.keys)]
    # They were sorted to be placed; which of them arrive first is up to chance.
    rng.shuffle(places)
    arriving = places[: round(len(places) * len(inserts) / max(len(inserts) + len(moves), 1))]
    landing = places[len(arriving) :]
    # A row that will arrive, or whose values another one takes over, is out until then.
    outside = frozenset(places)
    times = rng.sample(inserts, min(len(arriving), len(inserts)))
    changes = [Change(t, INSERT, row) for t, row in zip(times, arriving[: len(times)], strict=True)]
    # More places than times: such a row has nobody to bring it, so it stays in.
    left_out = set(arriving[len(times) :])
    for t in _times(rng, stream.deletes, span_s):
        row = int(rng.random() * stream.rows)
        if row < len(walked.keys) and row not in outside:
            changes.append(Change(t, DELETE, row))
    for t, to in zip(moves, landing, strict=False):
        row = int(rng.random() * stream.rows)
        if row < len(walked.keys) and row not in outside:
            changes.append(Change(t, MOVE, row, to))
    changes.sort(key=lambda change: change.time)
    return Script(outside - left_out, tuple(_without_idle(walked, changes)))


def _without_idle(walked: WalkedRows, changes: list[Change]) -> list[Change]:
    """Leave out moves that would give a row a key which it had before."""
    # A row back at a former key would be counted as a repeat by one and not by the other.
    had: dict[int, set[Key]] = {}
    kept = []
    for change in changes:
        if change.kind == MOVE:
            keys = had.setdefault(change.row, {walked.keys[change.row]})
            key = walked.moved(change.row, change.to)
            if key in keys:
                continue
            keys.add(key)
        kept.append(change)
    return kept


def make_course(
    walked: WalkedRows, script: Script, size: int, times: tuple[float, ...], overlap: int
) -> tuple[Course, dict[Key, tuple[int, int]]]:
    """Return the same walk as the simulator takes it, and each real key's own key and row."""
    versions: list[tuple[tuple[Any, ...], Key, int, bool]] = [
        ((2 * i + 1, ()), key, i, i not in script.outside) for i, key in enumerate(walked.keys)
    ]
    moves = [change for change in script.changes if change.kind == MOVE]
    if moves:
        # Odd numbers stand for rows as they are; moved ones come between, at even numbers.
        sorts = [comparable(walked.order, key) for key in walked.keys]
        for change in moves:
            key = walked.moved(change.row, change.to)
            place = comparable(walked.order, key)
            versions.append(((2 * bisect_left(sorts, place), place), key, change.row, False))
    versions.sort(key=lambda version: version[0])
    # The simulator numbers rows from 0 as they stand at first; those that are out come behind.
    start = [row for row in range(len(walked.keys)) if row not in script.outside]
    number = {row: i for i, row in enumerate(start)}
    for row in sorted(script.outside):
        number[row] = len(number)
    known: dict[Key, tuple[int, int]] = {}
    ahead = between = 0
    for _, key, row, there in versions:
        ahead, between = (ahead + 1, 0) if there else (ahead, between + 1)
        known[key] = ahead * SPACE + between, number[row]
    events = []
    for change in script.changes:
        key = (
            walked.moved(change.row, change.to) if change.kind == MOVE else walked.keys[change.row]
        )
        own = 0 if change.kind == DELETE else known[key][0]
        events.append(Event(change.time, change.kind, number[change.row], own))
    return Course(len(start), size, times, tuple(events), overlap), known


def comparable(order: Order, key: Key) -> tuple[tuple[int, Any], ...]:
    """Return a key that sorts as the order does; its values are numbers, moments or NULL."""
    parts = []
    for term, value in zip(order.terms, key, strict=True):
        if value is None:
            # NULLs go ahead of values or behind them, and tie with each other.
            parts.append((1 if term.nulls_after else -1, 0))
        else:
            number = _number(value)
            parts.append((0, -number if term.descending else number))
    return tuple(parts)


def can_compare(values: Key) -> bool:
    """Tell whether keys of such values can be sorted here as a database does."""
    kinds = (int, float, Decimal, datetime, date, timedelta)
    return all(value is None or isinstance(value, kinds) for value in values)


def _number(value: Any) -> Any:
    if isinstance(value, datetime):
        # Whole microseconds: a float of seconds would merge neighbours.
        return (value.replace(tzinfo=None) - datetime(1970, 1, 1)) // timedelta(microseconds=1)
    if isinstance(value, date):
        return value.toordinal()
    if isinstance(value, timedelta):
        return value // timedelta(microseconds=1)
    return value


def _times(rng: random.Random, rate: float, span: float) -> list[float]:
    """Return the times of a Poisson process of `rate` a second over `span` seconds."""
    times = []
    t = rng.expovariate(rate) if rate > 0 else span
    while t < span:
        times.append(t)
        t += rng.expovariate(rate)
    return times
