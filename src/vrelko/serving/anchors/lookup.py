"""Looking up by counted anchors: where a row number is, what number a row has, and totals.

All statements of one answer must see one snapshot (`anchor_set.snapshot`). Sums: an anchor's `n`
counts the rows behind the anchor before it up to and including its own key, as they stood when the
log was last folded; what the log holds since is added.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from functools import partial
from typing import Any

from sqlalchemy import ColumnElement, Select, bindparam, func, literal_column, select

from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.anchors.key_ranges import KeyRanges
from vrelko.serving.anchors.remembered import Anchor, Count, Key, Remembered
from vrelko.sql.anchor_statements import sums_by_ranges, sums_in_one_pass
from vrelko.sql.parameters import key_parameters
from vrelko.sql.period_filters import shortest_text
from vrelko.sql.range_statements import build_between, build_sum_of

AT, END = "vrelko_at_", "vrelko_end_"


class AnchorsGone(Exception):
    """There are no anchors any more, or their build has not ended."""


@dataclass(frozen=True, slots=True)
class Landing:
    """Where a row number lies: so many rows behind a key, None for the very start."""

    key: Key | None
    skip: int


class AnchorLookup(KeyRanges):
    """Answers about one part of an anchored order, over one connection."""

    def __init__(
        self, anchors: AnchorSet, connection: Any, params: Mapping[str, Any] | None = None
    ) -> None:
        super().__init__(anchors, connection, params)
        self._state: tuple[int, int, int] | None = None
        self._up_to: dict[Key, int] = {}
        self._known: Remembered | None = None

    @property
    def static(self) -> bool:
        """Whether no triggers keep the anchors up."""
        return self._looked()[0] < 0

    @property
    def log_is_used(self) -> bool:
        """Whether the log holds anything of this part."""
        _, came, net = self._looked()
        return bool(came or net)

    def find(self, offset: int) -> Landing:
        """Return where the row at an offset from 0 lies, by anchors and a short skip.

        What the log adds ahead of a place is guessed, and asked for at the anchor that the guess
        leads to: any anchor that no more rows stand ahead of will do. If none is found so, all
        rows that came since are taken to lie ahead, and skipped where they do not.
        """
        known = self._glance(offset)
        # Guessed by what the log added at the last look: mostly right, and checked by its sum
        # below.
        count = known.at_offset(known.goal(offset), self.behind)
        skip = offset - count.rows - self._logged_at(count.anchor)
        for _ in range(3):  # the log told more, or less, than was guessed of it
            if 0 <= skip <= 4 * self.set.k:
                break
            # Too far: back by a whole segment more, as rows can be skipped but not gone back over.
            goal = count.rows + skip - (self.set.k if skip < 0 else 0)
            count = known.at_offset(goal, self.behind)
            skip = offset - count.rows - self._logged_at(count.anchor)
        if skip < 0:
            count = known.at_offset(offset - self._log()[0], self.behind)
            skip = offset - count.rows - self._logged_at(count.anchor)
        known.learn(self._log(), known.at_end(self.behind).rows)
        return Landing(None if count.anchor is None else count.anchor.key, skip)

    def _logged_at(self, anchor: Anchor | None) -> int:
        return 0 if anchor is None else self.log_up_to(anchor.key)

    def rank(self, key: Key) -> int:
        """Return how many rows stand ahead of a key."""

        def nearest(level: int) -> Anchor | None:
            return next(self.ahead(level, key), None)

        last, rows = self._up_to_anchor(self._remembered().ahead_of(key, nearest, self.behind))
        return rows + self.between(last, key)

    def ahead_of_value(self, value: Any, near: ColumnElement[bool], bound: str) -> int | None:
        """Return how many rows stand ahead of a value of the first term, None where it is unknown.

        `near` is the condition of rows ahead of it, `bound` its parameter.
        """
        known = self._remembered()
        last = known.at_end(self.behind).anchor
        key = value
        # Keys hold moments as the database does: as texts where it was found to store such.
        if last is not None and type(last.key[0]) is str and isinstance(value, date):
            key = shortest_text(value) if isinstance(value, datetime) else value.isoformat()
        count = known.ahead_of_value(key, self.behind)
        if count is None:
            return None
        ahead, rows = self._up_to_anchor(count)
        return rows + self.near(ahead, near, {bound: value})

    def total(self, offset: int | None = None) -> int:
        """Return how many rows there are; `offset`: where the answer goes on from here."""
        last, rows = self._up_to_anchor(self._glance(offset).at_end(self.behind))
        return rows + self.between(last, None)

    def _up_to_anchor(self, count: Count) -> tuple[Key | None, int]:
        """Return an anchor's key, and the rows up to it with what the log adds."""
        # Ahead of the first anchor everything is counted live.
        if count.anchor is None:
            return None, count.rows
        return count.anchor.key, count.rows + self.log_up_to(count.anchor.key)

    def _remembered(self) -> Remembered:
        """Return the anchors of this snapshot's version, as far as they are known.

        Raises AnchorsGone.
        """
        if self._known is None:
            version, *_ = self._looked()
            if not version:  # none is laid, or some and more to come
                raise AnchorsGone
            part = tuple(self.part.values())
            found = self.set.remembered.get(part)
            if found is None or found.version != version:
                found = Remembered(version, self.set.key_order(self.connection))
                self.set.remembered.keep(part, found)
            self._known = found
        return self._known

    def _glance(self, offset: int | None) -> Remembered:
        """Ask for all that an answer takes at once, as far as remembered anchors foretell it."""
        if self._state is None:
            known = self.set.remembered.get(tuple(self.part.values()))
            seen = None if known is None else known.glimpse(known.goal(offset or 0))
            if known is not None and seen is not None:
                at, end = seen[0].anchor if offset is not None else None, seen[1].anchor
                if end is not None:
                    self._ask_at_once(at if known.logged else None, end, known.logged)
        return self._remembered()

    def _ask_at_once(self, at: Anchor | None, end: Anchor, logged: bool) -> None:
        """Look at version, log and tail in one statement; `logged`: with the log's sums too."""
        # Version, log and tail come together: apart they would be three journeys to the server.
        tails = self.rows.seek(end.key, False)
        named = {AT: at, END: end} if at is not None else {END: end}
        keys = {prefix: one.key for prefix, one in named.items()} if logged else {}
        behind = tuple(self.logged.naming(name).seek(key, False) for name, key in keys.items())
        first = next(iter(keys.items()), None)
        up_to, given = ((), {}) if first is None else self._logged_up_to(*first)

        def build() -> Select[Any]:
            sums = self._log_columns(behind, up_to)
            tail = build_between(tails, (), self._most).scalar_subquery()
            return select(self._version(), *sums[:2], tail, *sums[2:])

        values = {**self.params, **self.part, **key_parameters(end.key), **given}
        for name, key in keys.items():
            values |= key_parameters(key, name)
        asked = self.kept(("at once", tails, behind, up_to), build)
        version, rows, net, tail, *told = self.connection.execute(asked, values).one()
        if up_to:  # the log on both sides of the first key
            net += told[0]
        self._keep_state(version, rows, net)
        net = self._log()[1]  # all of it, less what lies behind an anchor
        # A count that reached its limit is no count.
        if tail < self._most:
            self._tails[end.key] = int(tail)
        for key, one in zip(keys.values(), told, strict=True):
            self._up_to[key] = net - int(one)

    def _logged_up_to(
        self, name: str, key: Key
    ) -> tuple[tuple[Select[Any], ...], Mapping[str, Any]]:
        """Return the statements for the changes up to a key, where they are summed by ranges."""
        if not self.logged.source.capabilities.streams_unions:
            return (), {}
        itself, values = self.logged.key_by_itself(key)
        every = self.logged.edge(False)[0].limit(None).order_by(None)
        at = self.kept(("log at", itself), lambda: every.where(*itself._where_criteria))
        return (*self.logged.naming(name).seek(key, True), at), values

    def _log_columns(
        self, behind: Sequence[Sequence[Select[Any]]], up_to: Sequence[Select[Any]]
    ) -> list[Any]:
        log = self.set.tables.log
        where = [log.c[name] == bindparam(name, type_=log.c[name].type) for name in self.part]
        if up_to:
            return sums_by_ranges(log, where, behind, up_to)
        return sums_in_one_pass(log, where, behind)

    def log_up_to(self, key: Key) -> int:
        """Return what the log adds to the rows up to and including a key."""
        if not self.log_is_used:
            return 0
        found = self._log()[1]
        if key in self._up_to:
            return self._up_to[key]
        for statement in self.logged.seek(key, False):
            asked = self.kept(("sum", statement), partial(build_sum_of, statement, "d"))
            values = {**self.part, **key_parameters(key)}
            found -= int(self.connection.execute(asked, values).scalar() or 0)
        self._up_to[key] = found
        return found

    def log_between(self, begin: Key | None, end: Key) -> int:
        """Return what the log adds to the rows behind one key and up to another."""
        return self.logged_between(begin, end) if self.log_is_used else 0

    def _log(self) -> tuple[int, int]:
        """Return the rows that the log says came, and those that came less those that went."""
        _, came, net = self._looked()
        return came, net

    def _looked(self) -> tuple[int, int, int]:
        """Return the anchors' version, the rows that came since, and how many more that is."""
        if self._state is None:  # in one snapshot they do not change
            asked = self.kept(("state",), self._state_statement)
            self._keep_state(*self.connection.execute(asked, self.part).one())
        assert self._state is not None
        return self._state

    def _keep_state(self, version: Any, rows: Any, net: Any) -> None:
        # Of so many log rows with such a sum, half of both together came and the rest went.
        rows, net = int(rows), int(net or 0)
        self._state = int(version or 0), (rows + net) // 2, net

    def _state_statement(self) -> Select[Any]:
        return select(self._version(), *self._log_columns((), ()))

    def _version(self) -> Any:
        state = self.set.tables.state
        # Hexadecimal, so it may stand in the text; a parameter would be filled in at each run.
        own = state.c.mark == literal_column(f"'{self.set.tables.mark}'")
        version = select(func.max(state.c.version)).where(own)
        # Of another table, put in the place of the one that was counted, they tell nothing.
        if self.set.identity is not None:
            asked, known = self.set.identity
            quoted = known.replace("'", "''")
            version = version.where(literal_column(asked) == literal_column(f"'{quoted}'"))
        return version.scalar_subquery()
