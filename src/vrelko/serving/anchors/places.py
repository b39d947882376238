"""Places by counted anchors: where a row number is, which number a row has, how many there are.

All statements of one answer must see one snapshot (`anchor_set.snapshot`). Sums: an anchor's `n`
counts the rows behind the anchor before it up to and including its own key, as they stood when the
log was last folded; what the log holds since is added.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from sqlalchemy import Select, bindparam, case, func, literal_column, select

from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.variants.variant import Variant
from vrelko.sql.anchor_tables import LEVELS
from vrelko.sql.indexes import without_hint
from vrelko.sql.statements import LIMIT, UNTIL, key_parameters

Key = tuple[Any, ...]
_AT_ONCE = 5_000  # anchors that a statement reads where all are wanted


@dataclass(frozen=True, slots=True)
class Anchor:
    """One anchor as stored."""

    id: int
    n: int
    key: Key


@dataclass(frozen=True, slots=True)
class Landing:
    """Where a row number lies: so many rows behind a key, None for the very start."""

    key: Key | None
    skip: int


class Places:
    """Answers about one part of an anchored order, over one connection."""

    def __init__(
        self, anchors: AnchorSet, connection: Any, params: Mapping[str, Any] | None = None
    ) -> None:
        self.set, self.connection = anchors, connection
        self.part = anchors.part_params(params)
        self.params = anchors.source.run_values(anchors.source.filters.check(params))
        self.rows = anchors.variant(connection)
        self.logged = anchors.logged(connection)
        self.anchored = anchors.anchored(connection)
        self._sums: tuple[int, int] | None = None

    def find(self, offset: int) -> Landing:
        """Return where the row at an offset from 0 lies, by anchors and a short skip.

        Only forward: rows that came since, of which the log tells, may lie anywhere, so they are
        all taken to lie ahead, and skipped where they do not.
        """
        goal = offset - self._log()[0]
        lo, counted = None, 0
        for level in range(LEVELS, 0, -1):
            for anchor in self.behind(level, lo):
                if counted + anchor.n > goal:
                    break
                counted, lo = counted + anchor.n, anchor.key
        if lo is not None:
            counted += self.log_up_to(lo)
        return Landing(lo, offset - counted)

    def rank(self, key: Key) -> int:
        """Return how many rows stand ahead of a key."""
        last, counted = self._sum_up_to(key)
        if last is not None:
            counted += self.log_up_to(last)
        return counted + self.between(last, key)

    def total(self) -> int:
        """Return how many rows there are."""
        last, counted = self._sum_up_to(None)
        if last is not None:
            counted += self.log_up_to(last)
        return counted + self.between(last, None)

    def behind(self, level: int, key: Key | None) -> Iterator[Anchor]:
        """Yield the anchors of a level behind a key, or all, in order."""
        return self._walk(level, key, False, self.set.fan)

    def all(self, level: int) -> list[Anchor]:
        """Return every anchor of a level, in order."""
        return list(self._walk(level, None, False, _AT_ONCE))

    def ahead(self, level: int, key: Key | None) -> Iterator[Anchor]:
        """Yield the anchors of a level ahead of a key, the nearest first; all from the end."""
        return self._walk(level, key, True, self.set.fan)

    def _walk(self, level: int, key: Key | None, backward: bool, many: int) -> Iterator[Anchor]:
        variant, at = self.anchored, key
        given = {**self.part, "lvl": level}
        while True:
            found = 0
            statements = variant.edge(backward) if at is None else variant.seek(at, backward)
            for statement in statements:
                values = {**given, **key_parameters(at or ()), LIMIT: many - found}
                for row in self.connection.execute(statement, values).all():
                    found += 1
                    last = variant.key_from(row)
                    yield Anchor(row[0], row[1], last)
                if found >= many:
                    break
            if found < many:
                return
            at = last

    def first_from(self, level: int, key: Key) -> Anchor | None:
        """Return the first anchor of a level at a key or behind it."""
        before = next(self.ahead(level, key), None)
        return next(self.behind(level, None if before is None else before.key), None)

    def log_up_to(self, key: Key) -> int:
        """Return what the log adds to the rows up to and including a key."""
        came, all_of_it = self._log()
        if not came and not all_of_it:
            return 0
        found = all_of_it
        for statement in self.logged.seek(key, False):
            asked = self._kept(("sum", statement), partial(_sum_of, statement))
            values = {**self.part, **key_parameters(key)}
            found -= int(self.connection.execute(asked, values).scalar() or 0)
        return found

    def between(self, begin: Key | None, end: Key | None) -> int:
        """Return the rows behind one key and ahead of another; None: from the start, to the end.

        Walked forward in steps, so that no more than a step behind the end is read.
        """
        if end is None:
            statements = self._forward(self.rows, begin)
            return sum(self._count(one, key_parameters(begin or ())) for one in statements)
        flagged, at, found = self.rows.flagging(end), begin, 0
        until = key_parameters(end, UNTIL)
        while True:
            step, beyond = 0, 0
            for statement in self._forward(flagged, at):
                values = {
                    **self.params,
                    **until,
                    **key_parameters(at or ()),
                    LIMIT: self._step - step,
                }
                asked = self._kept(("step", statement), partial(_step_of, statement))
                many, flags = self.connection.execute(asked, values).one()
                step, beyond = step + many, beyond + int(flags)
                if beyond or step >= self._step:
                    break
            found += step - beyond
            if beyond or step < self._step:
                return found - self.is_there(end)
            at = self.key_behind(at, self._step - 1)

    @property
    def _step(self) -> int:
        return 2 * self.set.k

    def _forward(self, variant: Variant, key: Key | None) -> Sequence[Select[Any]]:
        return variant.edge(False) if key is None else variant.seek(key, False)

    def key_behind(self, key: Key | None, skip: int) -> Key | None:
        """Return the key of the row that `skip` rows behind a key stands; None behind the end.

        Reads keys alone, which an index holds.
        """
        values = {**self.params, **key_parameters(key or ()), LIMIT: 1}
        for statement in self._forward(self.rows, key):
            narrow = self._kept(("keys", statement), partial(self._keys_of, statement))
            row = self.connection.execute(narrow.offset(skip), values).first()
            if row is not None:
                return self.rows.converted(row)
            if skip:
                skip = max(skip - self._count(statement, values), 0)
        return None

    def _keys_of(self, statement: Select[Any]) -> Select[Any]:
        """Return a statement that reads keys alone."""
        keys = [key.read.label(f"vrelko_k{i}") for i, key in enumerate(self.rows.source.keys)]
        return statement.with_only_columns(*keys, maintain_column_froms=True)

    def rows_behind(self, key: Key | None, skip: int, size: int) -> list[Any]:
        """Return full rows behind a key, after so many that are skipped."""
        statements = self._forward(self.rows, key)
        values = {**self.params, **key_parameters(key or ())}
        found: list[Any] = []
        for statement in statements:
            given = {**values, LIMIT: size - len(found)}
            rows = self.connection.execute(statement.offset(skip), given).all()
            found += rows
            if len(found) >= size:
                break
            if skip and not rows:
                skip = max(skip - self._count(statement, values), 0)
            elif rows:
                skip = 0
        return found

    def _sum_up_to(self, key: Key | None) -> tuple[Key | None, int]:
        """Return the last anchor of level 1 ahead of a key, and the rows counted up to it."""
        counted = 0
        bound: Key | None = None
        for level in range(LEVELS, 0, -1):
            nearest = None
            for anchor in self.ahead(level, key):
                if anchor.key == bound:
                    break
                nearest = nearest or anchor.key
                counted += anchor.n
            bound = nearest or bound
        return bound, counted

    def _log(self) -> tuple[int, int]:
        """Return the rows that the log says came, and those that came less those that went."""
        if self._sums is None:  # in one snapshot they do not change
            asked = self._kept(("log",), self._log_statement)
            came, gone = self.connection.execute(asked, self.part).one()
            self._sums = int(came or 0), int(came or 0) - int(gone or 0)
        return self._sums

    def _log_statement(self) -> Select[Any]:
        log = self.set.tables.log
        where = [log.c[name] == bindparam(name, type_=log.c[name].type) for name in self.part]
        parts = [func.sum(case((log.c.d == d, 1), else_=0)) for d in (1, -1)]
        return select(*parts).where(*where)

    def _kept(self, name: tuple[Any, ...], build: Callable[[], Select[Any]]) -> Select[Any]:
        """Return a statement, built once: that takes longer than to run it."""
        found: Select[Any] | None = self.set.kept.get(name)
        return self.set.kept.keep(name, build()) if found is None else found

    def _count(self, statement: Select[Any], values: Mapping[str, Any]) -> int:
        asked = self._kept(("count", statement), partial(_count_of, statement))
        return int(self.connection.execute(asked, {**self.params, **values}).scalar() or 0)

    def is_there(self, key: Key) -> int:
        """Return 1 where a row has just this key."""
        statement, values = self.rows.key_by_itself(key)
        return len(self.connection.execute(statement, {**self.params, **values}).all()[:1])


def _sum_of(statement: Select[Any]) -> Select[Any]:
    """Return the statement that sums the log's changes of a range."""
    inner = without_hint(statement.limit(None)).order_by(None).subquery("vrelko_sum")
    return select(func.coalesce(func.sum(inner.c.d), 0))


def _step_of(statement: Select[Any]) -> Select[Any]:
    """Return the statement that counts a step's rows, and how many of them lie beyond its end."""
    last = list(statement.selected_columns)[-1]
    narrow = statement.with_only_columns(last, maintain_column_froms=True)
    inner = without_hint(narrow).subquery("vrelko_step")
    return select(func.count(), func.coalesce(func.sum(inner.c[0]), 0)).select_from(inner)


def _count_of(statement: Select[Any]) -> Select[Any]:
    """Return the statement that counts the rows of a range."""
    one: Any = literal_column("1").label("vrelko_one")
    narrow = statement.limit(None).with_only_columns(one, maintain_column_froms=True)
    inner = without_hint(narrow).order_by(None).subquery("vrelko_count")
    return select(func.count()).select_from(inner)
