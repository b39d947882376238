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
from itertools import count
from typing import Any

from sqlalchemy import (
    Connection,
    Engine,
    Table,
    bindparam,
    delete,
    func,
    insert,
    select,
    update,
)

from vrelko.engines.registry import database_errors, record_of
from vrelko.errors import DatabaseError
from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.anchors.held_levels import HeldAnchor, HeldLevels
from vrelko.serving.anchors.in_bulk import keys_behind
from vrelko.serving.anchors.locks import alone
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.making import strike_lost
from vrelko.serving.anchors.remembered import Anchor, Key
from vrelko.sql.anchor_tables import LEVELS
from vrelko.sql.parameters import LIMIT

MOST_FOLDED = 5_000
"""Log rows that one transaction folds."""
_AT_ONCE = 500  # rows that a statement names
_WALKED = 200  # anchors that are walked at once, and shown as progress
_LAID = 100  # anchors that one transaction of a build lays
_ALL = 1 << 31  # more than a batch and its anchors are


def fold(engine: Engine, anchors: AnchorSet, most: int = MOST_FOLDED) -> int:
    """Fold up to so many log rows, and lay, split and merge anchors where that is due.

    Into the anchors of all orders that share the log: what is folded is forgotten. Returns how many
    rows it folded. Raises UnavailableError where another worker is at it, and DatabaseError where
    the triggers are gone: then nobody goes by the anchors any more.
    """
    lost, kept = False, []
    with database_errors("fold"), alone(engine, anchors) as connection:
        log = anchors.tables.log
        asked = select(log.c.seq).order_by(log.c.seq).limit(most)
        # Exactly these numbers are forgotten later: a late commit may bring smaller ones.
        done = connection.execute(asked).scalars().all()
        if done:
            kept = _fold_all(connection, anchors, done, most)
        else:
            # Nothing logged may mean that nothing logs: the table was made anew, or its triggers
            # were taken away.
            lost = strike_lost(connection, anchors)
    if lost:
        raise DatabaseError(
            f"the triggers that kept the anchors of {anchors.tables.table.name!r} up are gone, so "
            "pages go by offset",
            "Run `vrelko anchors build`; loads that drop the table want static anchors",
            "anchors-lost",
        )
    for one, held, version in kept:
        if version:  # else somebody else is building them
            one.kept.keep(_HELD, (version, held))
    return len(done)


def _fold_all(
    connection: Connection, anchors: AnchorSet, done: Sequence[int], most: int
) -> list[tuple[AnchorSet, _Held, int]]:
    """Fold log rows into every order's anchors; return these with what is known of them."""
    members = [(one, _take_held(one, version)) for one, version in anchors.members(connection)]
    parts = [(one, held, _fold_into(connection, one, held, most)) for one, held in members]
    forget(connection, anchors.tables.log, done)
    kept = []
    for one, held, touched in parts:
        for part in touched:
            _Part(connection, one, part, held).even_out()
        kept.append((one, held, renew(connection, one)))
    return kept


_Held = dict[tuple[Any, ...], HeldLevels]
_HELD = ("worker",)
"""Where the worker keeps the anchors it knows, with their version."""


def _take_held(anchors: AnchorSet, version: int) -> _Held:
    """Return the anchors that are known of a version, by part.

    They are taken out: if the transaction fails, they are not what the database has.
    """
    known: tuple[int, _Held] | None = anchors.kept.pop(_HELD, None)
    return known[1] if known is not None and known[0] == version else {}


def _fold_into(
    connection: Connection, anchors: AnchorSet, held: _Held, most: int
) -> list[tuple[Any, ...]]:
    """Move log rows into one order's anchors; return the parts that they are of.

    The snapshot is one, so each order reads the same rows under the names of its own keys.
    """
    log, width = anchors.tables.log, len(anchors.parts)
    # Read with the keys of this order: other orders call the same columns by other names.
    parts = [log.c[f"p{i}"] for i in range(width)]
    keys = anchors.log_keys(connection)
    asked = select(log.c.seq, log.c.d, *parts, *keys).order_by(log.c.seq).limit(most)
    by_part: dict[tuple[Any, ...], list[Any]] = defaultdict(list)
    for row in connection.execute(asked):
        by_part[tuple(row[2 : 2 + width])].append(row)
    found = [part for part in by_part if None not in part]  # no equality ever means those
    for part in found:
        _Part(connection, anchors, part, held).fold(by_part[part])
    return found


def renew(connection: Connection, anchors: AnchorSet, *, static: bool | None = None) -> int:
    """Write a new version, so that readers no longer go by anchors they remember; return it.

    `static`: a build is at its end, and no triggers keep its anchors up, or some do; None: whatever
    they were, they stay such. Until a build has ended their version is 0, and nobody goes by them.
    """
    state = anchors.tables.state
    own = state.c.mark == anchors.tables.mark
    row = connection.execute(select(state.c.version, state.c.folded).where(own)).first()
    found, folded = row or (None, 0)
    # A set that is built keeps its sign for good; one that is being built has none yet.
    sign = (found or 0) if static is None or found else -1 if static else 1
    drawn = 1 + secrets.randbelow((1 << 62) - 1)
    version = drawn * ((sign > 0) - (sign < 0))
    # Whole seconds are enough: the age is shown to people, and compared with minutes.
    now = int(time.time())
    values = {"version": version, "folded": -now if folded < 0 and not version else now}
    if found is None:
        made = insert(state).values(mark=anchors.tables.mark, every=anchors.k, **values)
        connection.execute(made)
    else:
        connection.execute(update(state).where(own).values(values))
    return version


def strike(connection: Connection, anchors: AnchorSet) -> None:
    """Stop readers from using anchors that were found wrong, until they are repaired.

    Static ones are as of their last count, and say so: they are left as they are.
    """
    state = anchors.tables.state
    own = (state.c.mark == anchors.tables.mark) & (state.c.version > 0)
    connection.execute(update(state).where(own).values(version=0, folded=-int(time.time())))


def is_struck(connection: Connection, anchors: AnchorSet) -> bool:
    """Tell whether an order's anchors were found wrong, and not repaired since."""
    state = anchors.tables.state
    own = (state.c.mark == anchors.tables.mark) & (state.c.folded < 0)
    return connection.execute(select(state.c.mark).where(own)).first() is not None


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

    May be stopped and called again: it goes on where it stopped. Readers go by the anchors once it
    has ended. Returns the anchors laid.
    """
    laid = 0
    for part in parts_of(engine, anchors):
        for turn in count():
            with database_errors("build"), alone(engine, anchors) as connection:
                now = _Part(connection, anchors, part)
                more = now.lay(_LAID)
                # Raised for each hundred, most of a run would be read again and again.
                if more < _LAID or turn % 10 == 9:
                    now.raise_tail()
                renew(connection, anchors)
            laid += more
            if progress is not None:
                progress(more)
            if more < _LAID:
                break
    with database_errors("build"), alone(engine, anchors) as connection:
        if not is_struck(connection, anchors):
            renew(connection, anchors, static=static)
    return laid


class _Part:
    """One part of the table, in one transaction of the worker."""

    def __init__(
        self,
        connection: Connection,
        anchors: AnchorSet,
        part: tuple[Any, ...],
        held: _Held | None = None,
    ) -> None:
        """`held`: the anchors of parts that are known already, to which this one's are added."""
        self.connection, self.set, self.part = connection, anchors, part
        self.lookup = AnchorLookup(anchors, connection, dict(zip(anchors.parts, part, strict=True)))
        self.k, self.fan = anchors.k, anchors.fan
        self.table = anchors.tables.anchors
        self._held = held

    @property
    def levels(self) -> HeldLevels:
        """The part's anchors, read where they are not known."""
        held = {} if self._held is None else self._held
        if self.part not in held:
            held[self.part] = HeldLevels(self.lookup, self.set.key_order(self.connection))
        return held[self.part]

    def fold(self, rows: list[Any]) -> None:
        """Move log rows into the numbers of the first anchor at or behind each key.

        Those behind the last anchor are of the tail, which is counted live.
        """
        # A row that came and went within the batch adds nothing.
        net: dict[Key, int] = defaultdict(int)
        begin = 2 + len(self.set.parts)
        for row in rows:
            net[self.lookup.logged.converted(row[begin:])] += row[1]
        levels = self.levels
        change = levels.places_of(net)
        if change is None:  # the database sorts both
            change = levels.places_by_id(self._merged(rows[-1][0]))
        self._add(levels.add(change))

    def _merged(self, last: int) -> dict[int, int]:
        """Return what log rows up to a number add to anchors, both sorted by the database.

        The batch has the lowest numbers that this snapshot sees, so none beside it is read.
        """
        found: dict[int, int] = {}
        since = 0
        variant = self.set.merged(self.connection)
        for statement in variant.edge(False):
            values = {**self.lookup.part, "last": last, LIMIT: _ALL}
            for number, d, of_anchor, *_ in self.connection.execute(statement, values):
                since += d
                if of_anchor:
                    found[number], since = since, 0
        return found

    def even_out(self) -> None:
        """Lay anchors along the tail, split long segments, merge short ones, fill the levels."""
        if self.lay(10_000):
            self.raise_tail()
        before: Key | None = None
        levels, changed = self.levels, False
        # Gone through in order, since a segment is split or merged with what follows it.
        anchors = levels.of(1)
        for i, anchor in enumerate(anchors):
            if anchor.n > 2 * self.k:
                self._split(before, anchor)
                changed = True
            short = anchor.n < self.k / 4 and i + 1 < len(anchors)
            if short and not levels.has(2, anchor.key):
                following = anchors[i + 1]
                if anchor.n + following.n <= 1.5 * self.k:
                    self._merge(anchor, following)
                    following.n += anchor.n
                    changed = True
                    continue
            before = anchor.key
        if changed:
            self.raise_levels()
            if self._held is not None:  # others stand between them now
                del self._held[self.part]

    def lay(self, most: int) -> int:
        """Lay anchors of k rows along the tail, which keeps fewer than k; return how many."""
        last = next(self.lookup.ahead(1, None), None)
        key = None if last is None else last.key
        laid: list[tuple[Key, int]] = []
        while len(laid) < most:
            some = min(most - len(laid), _WALKED)
            # Some at a time, so that a long tail is not held in memory whole.
            found = keys_behind(self.lookup, key, self.k, some)
            for one in found:
                laid.append((one, self.k - self.lookup.log_between(key, one)))
                key = one
            if len(found) < some:
                break
        self._insert(1, laid)
        self._read_new(1)
        return len(laid)

    def _read_new(self, level: int) -> None:
        """Read the anchors that were laid behind the last one that is known of a level."""
        if self._held is not None and self.part in self._held:
            levels = self._held[self.part]
            levels.append(level, list(self.lookup.behind(level, levels.last(level))))

    def raise_tail(self) -> None:
        """Lay anchors of the next level behind its last one, as laying along the tail needs."""
        for level in range(1, LEVELS):
            last = next(self.lookup.ahead(level + 1, None), None)
            run = list(self.lookup.behind(level, None if last is None else last.key))
            self._break(level, run, None)
            self._read_new(level + 1)

    def raise_levels(self) -> None:
        """Lay an anchor of the next level behind every so many of one that has none."""
        for level in range(1, LEVELS):
            uppers = self.lookup.all(level + 1)
            keys = {anchor.key: anchor for anchor in uppers}
            run: list[Anchor] = []
            for anchor in self.lookup.all(level):
                run.append(anchor)
                # Each anchor of a level is one of the level below, so a run ends where it stands.
                above = keys.get(anchor.key)
                if above is None:
                    continue
                self._break(level, run[:-1], above)
                run = []
            self._break(level, run, None)

    def _break(self, level: int, run: list[Anchor], above: Anchor | None) -> None:
        # Twice the fan before anything is laid: else the next split would undo it.
        made: list[tuple[Key, int]] = []
        begin = 0
        while len(run) - begin > 2 * self.fan:
            part = run[begin : begin + self.fan]
            made.append((part[-1].key, sum(anchor.n for anchor in part)))
            begin += self.fan
        self._insert(level + 1, made)
        if above is not None and made:
            self._add([(above.id, -sum(rows for _, rows in made))])

    def _split(self, before: Key | None, anchor: HeldAnchor) -> None:
        # Of n alone nothing may be split off: rows that are in the log are in the table already.
        live = anchor.n + self.lookup.log_between(before, anchor.key)
        left = live
        while left > 2 * self.k:
            found = self.lookup.key_behind(before, self.k - 1)
            # Rows were deleted since the log was summed, and there is nothing left to split off.
            if found is None or found == anchor.key:
                return
            rows = self.k - self.lookup.log_between(before, found)
            self._insert(1, [(found, rows)])
            self._add([(anchor.id, -rows)])
            before, left = found, left - self.k

    def _merge(self, anchor: HeldAnchor, into: HeldAnchor) -> None:
        self.connection.execute(delete(self.table).where(self.table.c.id == anchor.id))
        self._add([(into.id, anchor.n)])

    def _insert(self, level: int, found: Sequence[tuple[Key, int]]) -> None:
        """Insert anchors, their keys just as the rows have them, with the rows up to each."""
        if not found:
            return
        bound = {
            f"k{i}": column.parameter(f"key_{i}")
            for i, column in enumerate(self.lookup.anchored.source.keys)
        }
        fixed = {"lvl": level, **self.lookup.part}
        made = insert(self.table).values(**{one: bindparam(one) for one in (*fixed, "n")}, **bound)
        rows = [
            {**fixed, "n": n, **{f"key_{i}": value for i, value in enumerate(key)}}
            for key, n in found
        ]
        self.connection.execute(made, rows)

    def _add(self, changes: Sequence[tuple[int, int]]) -> None:
        """Add to the rows of anchors; many at once, since each statement is a round trip."""
        name = self.connection.dialect.identifier_preparer.format_table(self.table)
        add = record_of(self.connection.dialect).anchors.add
        for begin in range(0, len(changes), _AT_ONCE):
            add(self.connection, name, changes[begin : begin + _AT_ONCE])


def parts_of(engine: Engine, anchors: AnchorSet) -> list[tuple[Any, ...]]:
    """Return the parts that have rows enough for an anchor."""
    columns = anchors.tables.parts
    if not columns:
        return [()]
    with engine.connect() as connection:
        asked = select(*columns).group_by(*columns).having(func.count() >= anchors.k)
        return [tuple(row) for row in connection.execute(asked) if None not in row]
