"""Key ranges of one part of an anchored order: its rows, its anchors and its log, by their keys."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property, partial
from typing import Any, TypeVar

from sqlalchemy import ColumnElement, Select, select

from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.anchors.remembered import Anchor, Key
from vrelko.serving.variants.variant import Variant
from vrelko.sql.parameters import LIMIT, OFFSET, UNTIL, key_parameters
from vrelko.sql.range_statements import (
    build_between,
    build_chained,
    build_count_of,
    build_keys_of,
    build_sum_of,
)

_Built = TypeVar("_Built")
_AT_ONCE = 5_000  # anchors that a statement reads where all are wanted


class KeyRanges:
    """What stands between keys, over one connection."""

    def __init__(
        self, anchors: AnchorSet, connection: Any, params: Mapping[str, Any] | None = None
    ) -> None:
        self.set, self.connection = anchors, connection
        self.part = anchors.part_params(params)
        self.params = anchors.source.run_values(anchors.source.filters.check(params))
        self.rows = anchors.variant(connection)
        self._tails: dict[Key | None, int] = {}

    @cached_property
    def logged(self) -> Variant:
        """The statements over the log."""
        found = self.set.logged(self.connection)
        # Compared once more with each row of a range, row values would cost most of its sum.
        return found.split() if found.source.capabilities.streams_unions else found

    @cached_property
    def anchored(self) -> Variant:
        """The statements over the anchors of a level."""
        return self.set.anchored(self.connection)

    def between(self, begin: Key | None, end: Key | None) -> int:
        """Return the rows behind one key and ahead of another; None: from the start, to the end."""
        # Total and last page both ask for it, within one snapshot.
        if end is None and begin in self._tails:
            return self._tails[begin]
        found = self._in_order(partial(self._between, self.rows, begin, end))
        if end is None:
            self._tails[begin] = found
        return found

    def near(self, begin: Key | None, near: ColumnElement[bool], values: Mapping[str, Any]) -> int:
        """Return the rows behind a key up to where a condition bounds them from the far side."""
        behind = _forward(self.rows, begin)
        given = {**self.params, **key_parameters(begin or ()), **values}

        def counted(most: int | None) -> int:
            build = partial(build_between, behind, (select().where(near),), most)
            asked = self.kept(("near", behind, most), build)
            return int(self.connection.execute(asked, given).scalar() or 0)

        return self._in_order(counted)

    def _in_order(self, counted: Callable[[int | None], int]) -> int:
        """Count up to a limit, for which servers read in order; once more without at the limit."""
        found = counted(self._most)
        # At the limit it may be more; counted whole, the server may scan as it likes.
        return found if found < self._most else counted(None)

    def logged_between(self, begin: Key | None, end: Key) -> int:
        """Return what the log adds to the rows behind one key and up to another."""
        found = self._between(self.logged, begin, end, None, "d")
        # A change of the row at the end itself stands at its key, not ahead of it.
        statement, values = self.logged.key_by_itself(end)
        changes = self.logged.edge(False)[0].limit(None).order_by(None)
        build = partial(build_sum_of, changes.where(*statement._where_criteria), "d")
        asked = self.kept(("logged at", statement), build)
        return found + int(self.connection.execute(asked, {**self.part, **values}).scalar() or 0)

    def keys_ahead(self, key: Key) -> Iterator[Key]:
        """Yield the keys of rows ahead of a key, the nearest first, read from an index alone."""
        read = [one.read for one in self.rows.source.keys]
        at: Key | None = key
        while at is not None:
            last = None
            for statement in self.rows.seek(at, True):
                narrow = self.kept(("keys", statement), partial(build_keys_of, statement, read))
                # As many as a segment has: mostly the anchor is among them.
                values = {**self.params, **key_parameters(at), LIMIT: self.set.k, OFFSET: 0}
                for row in self.connection.execute(narrow, values).all():
                    last = self.rows.converted(row)
                    yield last
            at = last

    def is_there(self, key: Key) -> int:
        """Return 1 where a row has just this key."""
        statement, values = self.rows.key_by_itself(key)
        return len(self.connection.execute(statement, {**self.params, **values}).all()[:1])

    def _between(
        self,
        variant: Variant,
        begin: Key | None,
        end: Key | None,
        most: int | None,
        summed: str | None = None,
    ) -> int:
        ahead = () if end is None else variant.naming(UNTIL).seek(end, True)
        behind = _forward(variant, begin)
        build = partial(build_between, behind, ahead, most, summed)
        asked = self.kept(("between", behind, ahead, most), build)
        given = self.params if variant is self.rows else self.part
        values = {**given, **key_parameters(begin or ()), **key_parameters(end or (), UNTIL)}
        return int(self.connection.execute(asked, values).scalar() or 0)

    @property
    def _most(self) -> int:
        """Rows of a range that are counted in order, more than any but a new part's tail has."""
        return 20 * self.set.k

    def key_behind(self, key: Key | None, skip: int) -> Key | None:
        """Return the key of the row that `skip` rows behind a key stands; None behind the end.

        Reads keys alone, which an index holds.
        """
        return self.land(key, skip)[0]

    def land(self, key: Key | None, skip: int) -> tuple[Key | None, bool]:
        """Return the key that `skip` rows behind a key stands, and whether few rows tie with it."""
        # Two keys: whether the second ties with the first tells how the page behind is read.
        values = {**self.params, **key_parameters(key or ()), LIMIT: 2, OFFSET: skip}
        read = [one.read for one in self.rows.source.keys]
        if self.rows.source.capabilities.streams_unions:
            apart = _forward(self.rows.split(), key)
            asked = self.kept(("chained", apart), partial(build_chained, apart, read))
            keys = [self.rows.converted(row) for row in self.connection.execute(asked, values)]
            if not keys:
                return None, False
            return keys[0], keys[0][:-1] != keys[-1][:-1] or len(keys) == 1
        statements = _forward(self.rows, key)
        for statement in statements:
            narrow = self.kept(("keys", statement), partial(build_keys_of, statement, read))
            row = self.connection.execute(narrow, values).first()
            if row is not None:
                return self.rows.converted(row), False
            # Fewer rows were there than skipped: how many, the next range must know.
            if values[OFFSET]:
                values[OFFSET] = max(values[OFFSET] - self._count(statement, values), 0)
        return None, False

    def rows_behind(self, key: Key | None, skip: int, size: int) -> list[Any]:
        """Return full rows behind a key, after so many that are skipped."""
        statements = _forward(self.rows, key)
        values = {**self.params, **key_parameters(key or ())}
        found: list[Any] = []
        for statement in statements:
            given = {**values, LIMIT: size - len(found)}
            rows = self.connection.execute(statement.offset(skip), given).all()
            found += rows
            if len(found) >= size:
                break
            # None of this statement's rows are on the page: how many it skipped, the next must
            # know.
            if skip and not rows:
                skip = max(skip - self._count(statement, values), 0)
            elif rows:
                skip = 0
        return found

    def behind(self, level: int, key: Key | None) -> Iterator[Anchor]:
        """Yield the anchors of a level behind a key, or all, in order."""
        return self._walk(level, key, False, self.set.fan)

    def all(self, level: int) -> list[Anchor]:
        """Return every anchor of a level, in order."""
        return list(self._walk(level, None, False, _AT_ONCE))

    def one(self, number: int) -> Anchor:
        """Return the anchor of level 1 that has a number."""
        column = self.set.tables.anchors.c.id
        for statement in self.anchored.edge(False):
            values = {**self.part, "lvl": 1, LIMIT: 1}
            row = self.connection.execute(statement.where(column == number), values).first()
            if row is not None:
                return Anchor(row[0], row[1], self.anchored.key_from(row))
        raise KeyError(number)

    def ahead(self, level: int, key: Key | None) -> Iterator[Anchor]:
        """Yield the anchors of a level ahead of a key, the nearest first; all from the end."""
        return self._walk(level, key, True, self.set.fan)

    def _walk(self, level: int, key: Key | None, backward: bool, many: int) -> Iterator[Anchor]:
        variant, at = self.anchored, key
        given = {**self.part, "lvl": level}
        # Page by page, so that a caller who stops early has read little.
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

    def kept(self, name: tuple[Any, ...], build: Callable[[], _Built]) -> _Built:
        """Return a statement, built once: that takes longer than to run it."""
        found: _Built | None = self.set.kept.get(name)
        return self.set.kept.keep(name, build()) if found is None else found

    def _count(self, statement: Select[Any], values: Mapping[str, Any]) -> int:
        asked = self.kept(("count", statement), partial(build_count_of, statement))
        return int(self.connection.execute(asked, {**self.params, **values}).scalar() or 0)


def _forward(variant: Variant, key: Key | None) -> Sequence[Select[Any]]:
    return variant.edge(False) if key is None else variant.seek(key, False)
