"""Places by counted anchors: where a row number is, which number a row has, how many there are.

All statements of one answer must see one snapshot (`anchor_set.snapshot`). Sums: an anchor's `n`
counts the rows behind the anchor before it up to and including its own key, as they stood when the
log was last folded; what the log holds since is added.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from sqlalchemy import Integer, Select, bindparam, case, func, literal_column, select

from vrelko.core.key_order import KeyOrder
from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.anchors.remembered import Anchor, Key, Remembered
from vrelko.serving.variants.variant import Variant
from vrelko.sql.indexes import without_hint
from vrelko.sql.statements import LIMIT, OFFSET, UNTIL, integer, key_parameters

AT, END = "vrelko_at_", "vrelko_end_"
_AT_ONCE = 5_000  # anchors that a statement reads where all are wanted


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
        self._state: tuple[int | None, int, int] | None = None
        self._up_to: dict[Key, int] = {}
        self._tails: dict[Key | None, int] = {}
        self._known: Remembered | None = None

    @property
    def static(self) -> bool:
        """Whether no triggers keep the anchors up."""
        version = self._looked()[0]
        return version is not None and version < 0

    def find(self, offset: int) -> Landing:
        """Return where the row at an offset from 0 lies, by anchors and a short skip.

        What the log adds ahead of a place is guessed, and asked for at the anchor that the guess
        leads to: any anchor that no more rows stand ahead of will do. If none is found so, all
        rows that came since are taken to lie ahead, and skipped where they do not.
        """
        known = self._glance(offset)
        count = known.at_offset(known.goal(offset), self.behind)
        skip = offset - count.rows - self._logged_at(count.anchor)
        for _ in range(3):  # the log told more, or less, than was guessed of it
            if 0 <= skip <= 4 * self.set.k:
                break
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

        count = self._remembered().ahead_of(key, nearest, self.behind)
        last = None if count.anchor is None else count.anchor.key
        counted = count.rows + (0 if last is None else self.log_up_to(last))
        return counted + self.between(last, key)

    def total(self, offset: int | None = None) -> int:
        """Return how many rows there are; `offset`: where the answer goes on from here."""
        count = self._glance(offset).at_end(self.behind)
        last = None if count.anchor is None else count.anchor.key
        counted = count.rows + (0 if last is None else self.log_up_to(last))
        return counted + self.between(last, None)

    def _remembered(self) -> Remembered:
        """Return the anchors of this snapshot's version, as far as they are known."""
        if self._known is None:
            version, *_ = self._looked()
            part = tuple(self.part.values())
            found = self.set.remembered.get(part)
            if found is None or version is None or found.version != version:
                found = Remembered(version, KeyOrder(self.anchored.order.terms))
                if version is not None:
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
        tails = self._forward(self.rows, end.key)
        sums_at = () if at is None else self._logged_as(AT).seek(at.key, False)
        sums_end = self._logged_as(END).seek(end.key, False) if logged else ()

        def build() -> Select[Any]:
            parts = [_count_between(tails, (), self._most).scalar_subquery()]
            parts += [self._summed(_sum_of(one) for one in sums) for sums in (sums_at, sums_end)]
            return self._state_statement().add_columns(*parts)

        values = {**self.params, **self.part, **key_parameters(end.key)}
        if at is not None:
            values |= key_parameters(at.key, AT)
        if logged:
            values |= key_parameters(end.key, END)
        asked = self._kept(("at once", tails, sums_at, sums_end), build)
        found = self.connection.execute(asked, values).one()
        version, rows, net, tail, up_to_at, up_to_end = found
        self._keep_state(version, rows, net)
        net = self._log()[1]  # all of it, less what lies behind an anchor
        if tail < self._most:
            self._tails[end.key] = int(tail)
        if logged:
            self._up_to[end.key] = net - int(up_to_end)
        if at is not None:
            self._up_to[at.key] = net - int(up_to_at)

    @staticmethod
    def _summed(asked: Iterable[Select[Any]]) -> Any:
        found: Any = literal_column("0")
        for one in asked:
            found = found + one.scalar_subquery()
        return found

    def _logged_as(self, prefix: str) -> Variant:
        return self.logged.naming(prefix)

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
        came, found = self._log()
        if not came and not found:
            return 0
        if key in self._up_to:
            return self._up_to[key]
        for statement in self.logged.seek(key, False):
            asked = self._kept(("sum", statement), partial(_sum_of, statement))
            values = {**self.part, **key_parameters(key)}
            found -= int(self.connection.execute(asked, values).scalar() or 0)
        self._up_to[key] = found
        return found

    def between(self, begin: Key | None, end: Key | None) -> int:
        """Return the rows behind one key and ahead of another; None: from the start, to the end."""
        if end is None and begin in self._tails:
            return self._tails[begin]
        ahead = () if end is None else self.rows.naming(UNTIL).seek(end, True)
        behind = self._forward(self.rows, begin)
        values = {**self.params, **key_parameters(begin or ()), **key_parameters(end or (), UNTIL)}

        def counted(most: int | None) -> int:
            build = partial(_count_between, behind, ahead, most)
            asked = self._kept(("between", behind, ahead, most), build)
            return int(self.connection.execute(asked, values).scalar() or 0)

        found = counted(self._most)
        if found >= self._most:
            found = counted(None)
        if end is None:
            self._tails[begin] = found
        return found

    @property
    def _most(self) -> int:
        """Rows of a range that are counted in order: with a limit no server sorts, or reads all."""
        return 20 * self.set.k

    def _forward(self, variant: Variant, key: Key | None) -> Sequence[Select[Any]]:
        return variant.edge(False) if key is None else variant.seek(key, False)

    def key_behind(self, key: Key | None, skip: int) -> Key | None:
        """Return the key of the row that `skip` rows behind a key stands; None behind the end.

        Reads keys alone, which an index holds.
        """
        return self.land(key, skip)[0]

    def land(self, key: Key | None, skip: int) -> tuple[Key | None, bool]:
        """Return the key that `skip` rows behind a key stands, and whether few rows tie with it."""
        values = {**self.params, **key_parameters(key or ()), LIMIT: 2, OFFSET: skip}
        statements = self._forward(self.rows, key)
        if len(statements) == 2 and self.rows.source.capabilities.offset_expressions:
            asked = self._kept(("tied", statements), partial(self._behind_ties, *statements))
            found = self.connection.execute(asked, values).all()
            if found and found[0][-1] <= skip:
                keys = [self.rows.converted(row[:-1]) for row in found]
                return keys[0], keys[0][:-1] != keys[-1][:-1] or len(keys) == 1
        for statement in statements:
            narrow = self._kept(("keys", statement), partial(self._keys_of, statement))
            row = self.connection.execute(narrow, values).first()
            if row is not None:
                return self.rows.converted(row), False
            if values[OFFSET]:
                values[OFFSET] = max(values[OFFSET] - self._count(statement, values), 0)
        return None, False

    def _behind_ties(self, tied: Select[Any], others: Select[Any]) -> Select[Any]:
        """Return one statement for keys behind some that tie: fewer of these, fewer to skip."""
        skip = integer(OFFSET)
        one: Any = literal_column("1").label("vrelko_one")
        narrow = tied.with_only_columns(one, maintain_column_froms=True).limit(skip + 1)
        ties = select(func.count()).select_from(narrow.subquery("vrelko_ties")).scalar_subquery()
        keys = self._keys_of(others).add_columns(ties.label("vrelko_tied"))
        return keys.offset(case((ties > skip, 0), else_=skip - ties))

    def _keys_of(self, statement: Select[Any]) -> Select[Any]:
        """Return a statement that reads keys alone."""
        keys = [key.read.label(f"vrelko_k{i}") for i, key in enumerate(self.rows.source.keys)]
        narrow = statement.with_only_columns(*keys, maintain_column_froms=True)
        return narrow.offset(integer(OFFSET))

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

    def _log(self) -> tuple[int, int]:
        """Return the rows that the log says came, and those that came less those that went."""
        _, came, net = self._looked()
        return came, net

    def _looked(self) -> tuple[int | None, int, int]:
        """Return the anchors' version, the rows that came since, and how many more that is."""
        if self._state is None:  # in one snapshot they do not change
            asked = self._kept(("state",), self._state_statement)
            self._keep_state(*self.connection.execute(asked, self.part).one())
        assert self._state is not None
        return self._state

    def _keep_state(self, version: Any, rows: Any, net: Any) -> None:
        rows, net = int(rows), int(net or 0)
        self._state = None if version is None else int(version), (rows + net) // 2, net

    def _state_statement(self) -> Select[Any]:
        log, state = self.set.tables.log, self.set.tables.state
        where = [log.c[name] == bindparam(name, type_=log.c[name].type) for name in self.part]
        version = select(func.max(state.c.version)).scalar_subquery()
        sums = select(func.count().label("rows"), func.sum(log.c.d).label("net"))
        summed = sums.select_from(log).where(*where).subquery("vrelko_log")
        return select(version, summed.c.rows, summed.c.net)

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


def _count_of(statement: Select[Any]) -> Select[Any]:
    """Return the statement that counts the rows of a range."""
    one: Any = literal_column("1").label("vrelko_one")
    narrow = statement.limit(None).with_only_columns(one, maintain_column_froms=True)
    inner = without_hint(narrow).order_by(None).subquery("vrelko_count")
    return select(func.count()).select_from(inner)


def _count_between(
    behind: Sequence[Select[Any]], ahead: Sequence[Select[Any]], most: int | None
) -> Select[Any]:
    """Return the statement that counts rows behind one key and ahead of another.

    Both keys bound the range in each part, so an index is read between them alone.
    """
    one: Any = literal_column("1").label("vrelko_one")
    found: Any = literal_column("0")
    for begin in behind:
        for end in ahead or (None,):
            narrow = begin.with_only_columns(one, maintain_column_froms=True)
            if end is not None:
                narrow = narrow.where(*end._where_criteria)
            limit = None if most is None else literal_column(str(most), Integer())
            narrow = without_hint(narrow.limit(limit))
            inner = (narrow if most is not None else narrow.order_by(None)).subquery()
            found = found + select(func.count()).select_from(inner).scalar_subquery()
    return select(found)
