"""The fold worker: moves the change log into the anchors' numbers, and keeps anchors evenly apart.

For every segment and every snapshot: rows alive = n + what the log holds of the segment. The worker
moves log rows that it saw (their exact numbers) into n, in one snapshot; whatever commits meanwhile
stays in the log. So it waits for no writer, and none waits for it.
"""

from __future__ import annotations

import secrets
import time
from collections import defaultdict
from collections.abc import Callable, Sequence
from typing import Any

from sqlalchemy import (
    Connection,
    Engine,
    Table,
    bindparam,
    delete,
    func,
    insert,
    or_,
    select,
    update,
)

from vrelko.engines.registry import database_errors, record_of
from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.anchors.locks import alone
from vrelko.serving.anchors.places import Places
from vrelko.serving.anchors.remembered import Anchor, Key
from vrelko.sql.anchor_tables import LEVELS
from vrelko.sql.statements import LIMIT

MOST_FOLDED = 5_000
"""Log rows that one transaction folds."""
_AT_ONCE = 500  # rows that a statement names
_ALL = 1 << 31  # more than a batch and its anchors are


def fold(engine: Engine, anchors: AnchorSet, most: int = MOST_FOLDED) -> int:
    """Fold up to so many log rows, and lay, split and merge anchors where that is due.

    Returns how many rows it folded. Raises UnavailableError where another worker is at it.
    """
    with database_errors("fold"), alone(engine, anchors) as connection:
        log, width = anchors.tables.log, len(anchors.parts)
        parts = [log.c[f"p{i}"] for i in range(width)]
        keys = anchors.log_keys(connection)
        asked = select(log.c.seq, log.c.d, *parts, *keys).order_by(log.c.seq).limit(most)
        rows = connection.execute(asked).all()
        by_part: dict[tuple[Any, ...], list[Any]] = defaultdict(list)
        for row in rows:
            by_part[tuple(row[2 : 2 + width])].append(row)
        for part, found in by_part.items():
            if None not in part:  # no equality ever means them
                _Part(connection, anchors, part).fold(found)
        forget(connection, log, [row[0] for row in rows])
        for part in by_part:
            if None not in part:
                _Part(connection, anchors, part).even_out()
        if rows:
            renew(connection, anchors)
    return len(rows)


def renew(connection: Connection, anchors: AnchorSet, static: bool = False) -> None:
    """Write a new version, so that readers no longer go by anchors they remember.

    `static`: the first one is of anchors that no triggers keep up; they stay such.
    """
    state = anchors.tables.state
    found = connection.execute(select(state.c.version)).scalar()
    sign = -1 if (static if found is None else found < 0) else 1
    version = sign * (1 + secrets.randbelow((1 << 62) - 1))
    values = {"version": version, "folded": int(time.time())}
    if found is None:
        connection.execute(insert(state).values(every=anchors.k, **values))
    else:
        connection.execute(update(state).values(values))


def forget(connection: Connection, log: Table, done: Sequence[int]) -> None:
    """Delete just the log rows that were folded: late commits have numbers below theirs."""
    name = connection.dialect.identifier_preparer.format_table(log)
    delete = record_of(connection.dialect).anchors.delete.format(name)
    for begin in range(0, len(done), _AT_ONCE):
        which = ", ".join(f"{number:d}" for number in done[begin : begin + _AT_ONCE])
        connection.exec_driver_sql(f"{delete} WHERE seq IN ({which})")


def build(
    engine: Engine,
    anchors: AnchorSet,
    progress: Callable[[int], None] | None = None,
    *,
    static: bool = False,
) -> int:
    """Lay the anchors of rows that are there already, in a short transaction for each hundred.

    May be stopped and called again: it goes on where it stopped. Returns the anchors laid.
    """
    laid = 0
    for part in _parts(engine, anchors):
        while True:
            with database_errors("build"), alone(engine, anchors) as connection:
                now = _Part(connection, anchors, part)
                more = now.lay(100)
                now.raise_tail()
                renew(connection, anchors, static)
            laid += more
            if progress is not None:
                progress(more)
            if more < 100:
                break
    return laid


class _Part:
    """One part of the table, in one transaction of the worker."""

    def __init__(self, connection: Connection, anchors: AnchorSet, part: tuple[Any, ...]) -> None:
        self.connection, self.set = connection, anchors
        self.places = Places(anchors, connection, dict(zip(anchors.parts, part, strict=True)))
        self.k, self.fan = anchors.k, anchors.fan
        self.table = anchors.tables.anchors

    def fold(self, rows: list[Any]) -> None:
        """Move log rows into the numbers of the first anchor at or behind each key.

        Those behind the last anchor are of the tail, which is counted live.
        """
        levels = {level: self.places.all(level) for level in range(1, LEVELS + 1)}
        change = self._changes(levels[1], rows)
        moved = list(change.items())
        for level in range(1, LEVELS):
            uppers = {anchor.key: anchor.id for anchor in levels[level + 1]}
            above: dict[int, int] = {}
            since = 0
            for anchor in levels[level]:
                since += change.get(anchor.id, 0)
                if anchor.key in uppers:  # its keys are some of this level's
                    above[uppers[anchor.key]], since = since, 0
            change = above
            moved += above.items()
        self._add([(number, d) for number, d in moved if d])

    def _changes(self, anchors: list[Anchor], rows: list[Any]) -> dict[int, int]:
        """Return what log rows add to the anchors of level 1, by their numbers.

        In memory where Python sorts the keys as the database does, else the database sorts both.
        """
        net: dict[Key, int] = defaultdict(int)
        begin = 2 + len(self.set.parts)
        for row in rows:
            net[self.places.logged.converted(row[begin:])] += row[1]
        order = self.set.key_order(self.connection)
        keys = [anchor.key for anchor in anchors]
        if not order.sorts([*keys, *net]):
            return self._merged(rows[-1][0])
        sorted_keys = [order.sortable(key) for key in keys]
        found: dict[int, int] = defaultdict(int)
        for key, d in net.items():
            at = order.first_from(sorted_keys, key)
            if d and at < len(anchors):
                found[anchors[at].id] += d
        return found

    def _merged(self, last: int) -> dict[int, int]:
        """Return what log rows up to a number add to anchors, both sorted by the database.

        The batch has the lowest numbers that this snapshot sees, so none beside it is read.
        """
        found: dict[int, int] = {}
        since = 0
        variant = self.set.merged(self.connection)
        for statement in variant.edge(False):
            values = {**self.places.part, "last": last, LIMIT: _ALL}
            for number, d, of_anchor, *_ in self.connection.execute(statement, values):
                since += d
                if of_anchor:
                    found[number], since = since, 0
        return found

    def even_out(self) -> None:
        """Lay anchors along the tail, split long segments, merge short ones, fill the levels."""
        if self.lay(10_000):
            self.raise_tail()
        if not self._is_uneven():
            return
        before: Key | None = None
        anchors = self.places.all(1)
        upper = {anchor.key for anchor in self.places.all(2)}
        for i, anchor in enumerate(anchors):
            if anchor.n > 2 * self.k:
                self._split(before, anchor)
            short = anchor.n < self.k / 4 and anchor.key not in upper and i + 1 < len(anchors)
            if short and anchor.n + anchors[i + 1].n <= 1.5 * self.k:
                self._merge(anchor, anchors[i + 1])
                anchors[i + 1] = Anchor(
                    anchors[i + 1].id, anchors[i + 1].n + anchor.n, anchors[i + 1].key
                )
                continue
            before = anchor.key
        self.raise_levels()

    def _is_uneven(self) -> bool:
        """Tell whether any segment is long enough to split, or short enough to merge."""
        c = self.table.c
        part = [c[name] == value for name, value in self.places.part.items()]
        odd = or_(c.n > 2 * self.k, c.n < self.k / 4)
        found = self.connection.execute(select(c.id).where(c.lvl == 1, *part, odd).limit(1))
        return found.first() is not None

    def lay(self, most: int) -> int:
        """Lay anchors of k rows along the tail, which keeps at least k; return how many."""
        last = next(self.places.ahead(1, None), None)
        key = None if last is None else last.key
        laid: list[tuple[Key, int]] = []
        found = self.places.key_behind(key, self.k - 1)
        while len(laid) < most and found is not None:
            following = self.places.key_behind(found, self.k - 1)
            if following is None:
                break
            laid.append((found, self.k - self.places.log_between(key, found)))
            key, found = found, following
        self._insert(1, laid)
        return len(laid)

    def raise_tail(self) -> None:
        """Lay anchors of the next level behind its last one, as laying along the tail needs."""
        for level in range(1, LEVELS):
            last = next(self.places.ahead(level + 1, None), None)
            run = list(self.places.behind(level, None if last is None else last.key))
            self._break(level, run, None)

    def raise_levels(self) -> None:
        """Lay an anchor of the next level behind every so many of one that has none."""
        for level in range(1, LEVELS):
            uppers = self.places.all(level + 1)
            keys = {anchor.key: anchor for anchor in uppers}
            run: list[Anchor] = []
            for anchor in self.places.all(level):
                run.append(anchor)
                above = keys.get(anchor.key)
                if above is None:
                    continue
                self._break(level, run[:-1], above)
                run = []
            self._break(level, run, None)

    def _break(self, level: int, run: list[Anchor], above: Anchor | None) -> None:
        while len(run) > 2 * self.fan:
            part, run = run[: self.fan], run[self.fan :]
            rows = sum(anchor.n for anchor in part)
            self._insert(level + 1, [(part[-1].key, rows)])
            if above is not None:
                self._add([(above.id, -rows)])

    def _split(self, before: Key | None, anchor: Anchor) -> None:
        live = anchor.n + self.places.log_between(before, anchor.key)
        left = live
        while left > 2 * self.k:
            found = self.places.key_behind(before, self.k - 1)
            if found is None or found == anchor.key:
                return
            rows = self.k - self.places.log_between(before, found)
            self._insert(1, [(found, rows)])
            self._add([(anchor.id, -rows)])
            before, left = found, left - self.k

    def _merge(self, anchor: Anchor, into: Anchor) -> None:
        self.connection.execute(delete(self.table).where(self.table.c.id == anchor.id))
        self._add([(into.id, anchor.n)])

    def _insert(self, level: int, found: Sequence[tuple[Key, int]]) -> None:
        """Insert anchors, their keys just as the rows have them, with the rows up to each."""
        if not found:
            return
        bound = {
            f"k{i}": column.parameter(f"key_{i}")
            for i, column in enumerate(self.places.anchored.source.keys)
        }
        fixed = {"lvl": level, **self.places.part}
        made = insert(self.table).values(**{one: bindparam(one) for one in (*fixed, "n")}, **bound)
        rows = [
            {**fixed, "n": n, **{f"key_{i}": value for i, value in enumerate(key)}}
            for key, n in found
        ]
        self.connection.execute(made, rows)

    def _add(self, changes: Sequence[tuple[int, int]]) -> None:
        """Add to the rows of anchors; many at once, since each statement is a round trip."""
        name = self.connection.dialect.identifier_preparer.format_table(self.table)
        for begin in range(0, len(changes), _AT_ONCE):
            some = changes[begin : begin + _AT_ONCE]
            cases = " ".join(f"WHEN {number:d} THEN {d:d}" for number, d in some)
            which = ", ".join(f"{number:d}" for number, _ in some)
            self.connection.exec_driver_sql(
                f"UPDATE {name} SET n = n + CASE id {cases} ELSE 0 END WHERE id IN ({which})"
            )


def _parts(engine: Engine, anchors: AnchorSet) -> list[tuple[Any, ...]]:
    """Return the parts that have rows enough for an anchor."""
    columns = anchors.tables.parts
    if not columns:
        return [()]
    with engine.connect() as connection:
        asked = select(*columns).group_by(*columns).having(func.count() > 2 * anchors.k)
        return [tuple(row) for row in connection.execute(asked) if None not in row]
