"""One order and one set of filters of a listing, with its statements built once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from operator import itemgetter
from typing import Any, TypeVar

from sqlalchemy import Column, ColumnElement, Integer, Select, literal_column
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.kept import Kept
from vrelko.engines.record import EngineRecord
from vrelko.engines.registry import record_of
from vrelko.serving.variants.grouping import Grouping
from vrelko.serving.variants.row_keys import RowKeys
from vrelko.serving.variants.runner import Runner
from vrelko.sql.counts import build_count, build_count_behind, build_rows
from vrelko.sql.entities import has_whole_entity
from vrelko.sql.fixed_values import FixedValues
from vrelko.sql.indexes import without_hint
from vrelko.sql.key_filters import (
    IDS,
    build_by_ids,
    build_key_by_id,
    has_forms,
    id_parameters,
    keep_behind,
)
from vrelko.sql.page_source import Source
from vrelko.sql.parameters import LIMIT, OFFSET, key_parameters
from vrelko.sql.period_filters import PeriodStatements
from vrelko.sql.rows import Cutter
from vrelko.sql.set_filters import SetFilter, build_branches
from vrelko.sql.sources import base_table
from vrelko.sql.statements import (
    build_ahead_of_value,
    build_deferred,
    build_edge,
    build_key_at,
    build_keys,
    build_offset,
    build_seek,
    build_whole,
    flag_behind,
)
from vrelko.sql.unions import NO_MEMBERS, Members, build_union

_Made = TypeVar("_Made")
_MOST_BUILT = 500
_MOST_LIMITED = 200
"""Statements kept with their limit; beyond them the limit is filled in."""


class Variant(RowKeys):
    """The statements of one variant on one engine.

    Statements are built when first needed and kept, so that SQLAlchemy finds its compiled form
    of them again.
    """

    def __init__(
        self,
        source: Source,
        counted: Select[Any],
        unique: Sequence[ColumnElement[Any]],
        *,
        among: SetFilter | None = None,
        members: Members = NO_MEMBERS,
        identity: Sequence[int] = (),
        joinable: bool = True,
    ) -> None:
        """`joinable`: rows may be joined again by what identifies them."""
        super().__init__(source, identity)
        self.among = among
        self._members = members
        self.joinable = joinable
        self._unique = tuple(unique)
        self.apart = itemgetter(*source.places) if has_whole_entity(source.select) else None
        """What tells rows with entities apart, None where there are none."""
        self._counted = counted
        self._spread: tuple[float, float] | None = None
        self._built: Kept[tuple[Any, ...], Any] = Kept(_MOST_BUILT)
        """Statements by their kind and shape: the NULLs of a key, the direction, a cap."""
        self.cutter = Cutter(source.width) if source.hidden else None
        self._limited: dict[tuple[Select[Any], int], Select[Any]] = {}
        self.grouping: Grouping | None = None
        """What bounds pages of an order that an index gives in part; MariaDB alone needs it."""
        self.wires: tuple[tuple[Any, Any, bool], ...] = ()
        """Columns of a result, what the protocol says of them, and if NULL may come."""
        self.named = False
        """Whether those columns are given by their names, else by their places."""
        self.record: EngineRecord | None = None
        self.dialect: Dialect | None = None
        """The engine's record and dialect, where its catalog was asked."""
        self.schemas: str | None = None
        """The schemas that unqualified names mean; kept where results may be of no table."""
        self.moments: tuple[tuple[int, bool], ...] = ()
        """Places of moments that the driver may misread, and if the order begins there."""
        self.ends_unseen = (False, False)
        """Whether rows with a NULL, were there any, would stand at the end, and at the start."""
        self.fixed = FixedValues()
        """What decides on its rows beside a request's parameters."""
        self.private = False
        """Whether two users of the database may see other rows of it: a policy, or a view."""
        self.doubtful = False
        """Whether the first page is to ask if rows are found by their own keys."""
        self.literals: list[Any] = []
        """Values that stand in the select, with the columns beside them: cursors are bound to."""
        self._filled = (False,) * self.terms  # of which value of a key is NULL: of none
        self.nested = bool(members.selects)
        """Whether limits stand inside the statements, and are filled in as parameters."""

    def edge(self, backward: bool) -> tuple[Select[Any], ...]:
        """The statements for the first page, or the last when `backward`."""
        return self._kept(("edge", backward), lambda: self._build(None, backward, False))

    def offset(self, backward: bool = False) -> Select[Any]:
        """The statement for a page behind an offset, from the end when `backward`."""
        return self._kept(("offset", backward), lambda: build_offset(self.source, backward))

    def deferred(self) -> Select[Any]:
        """The statement for a page behind an offset, by keys alone first.

        The plain one where no key joins a row with itself: NULLs, merged rows.
        """
        if not self.joinable:
            return self.offset()
        return self._kept(
            ("deferred",), lambda: build_deferred(self.source, self._counted, self._unique)
        )

    def rows(self) -> Select[Any]:
        """The select without order, one literal a row."""
        return build_rows(self._counted)

    def flagging(self, last: Sequence[Any]) -> Variant:
        """Return this variant with a last column that flags rows behind a key."""
        shape = tuple(value is None for value in last)

        def build() -> Variant:
            # One variant a shape of NULLs: the key's values themselves are parameters.
            flagged = flag_behind(self.source, shape)
            made = Variant(
                flagged, self._counted, self._unique, among=self.among, identity=self.identity
            )
            made.wires, made.record, made.dialect = self.wires, self.record, self.dialect
            made.named = self.named
            made.moments, made.schemas = self.moments, self.schemas
            return made

        return self._kept(("flagging", shape), build)

    def under(self, top: Sequence[Any]) -> Variant:
        """Return this variant without the rows ahead of a key; parameters `vrelko_top_0`, …."""
        shape = tuple(value is None for value in top)

        def build() -> Variant:
            source, counted = keep_behind(self.source, self._counted, shape)
            return Variant(source, counted, self._unique, among=self.among, identity=self.identity)

        return self._kept(("under", shape), build)

    def naming(self, prefix: str) -> Variant:
        """Return this variant with other names for a key's parameters, to stand beside it."""

        def build() -> Variant:
            return Variant(replace(self.source, prefix=prefix), self._counted, self._unique)

        return self._kept(("naming", prefix), build)

    def split(self) -> Variant:
        """Return this variant with a statement for each range behind a key, by plain comparisons.

        A server that compares row values seeks by them, and then once more with each row.
        """

        def build() -> Variant:
            form = replace(self.source.capabilities, form="split")
            return Variant(replace(self.source, capabilities=form), self._counted, self._unique)

        return self._kept(("split",), build)

    def by_ids(self, ids: Sequence[Sequence[Any]]) -> tuple[Select[Any], dict[str, Any]]:
        """Return the statement for the rows with these ids, in no order, and its parameters."""
        count = len(ids) if has_forms(self.source, self.identity) else 0
        build = partial(build_by_ids, self.source, self.identity, count)
        statement = self._kept(("by ids", count), build)
        return statement, id_parameters(self.source, self.identity, ids)

    def keys(self) -> Select[Any]:
        """The statement for the key of every row, in order, reading nothing else."""
        return build_keys(self.source, self._counted)

    def branches(
        self, count: int, key: Sequence[Any] | None, backward: bool
    ) -> tuple[Select[Any], ...]:
        """The statement for a page over a set of values: behind a key, or at the edge."""
        assert self.among is not None
        nulls = None if key is None else tuple(value is None for value in key)
        shape, among = (count, nulls, backward), self.among
        build = partial(build_branches, self.source, self._counted, self._unique, among, *shape)
        return (self._kept(("branches", *shape), build),)

    def spread_of(self, column: Column[Any], runner: Runner) -> tuple[float, float]:
        """Return about the rows of a set filter's table, and the distinct values of its column.

        The catalog is asked once; 0 where it has no statistics of them.
        """
        table, name = base_table(column.table), column.name

        def read(lender: Any, dialect: Dialect) -> tuple[float, float]:
            if table is None:
                return 0.0, 0.0
            return record_of(dialect).read_spread(lender, table, name, dialect)

        # Statistics change slowly, and reading them costs as much as a page.
        if self._spread is None:
            self._spread = runner.look(self.source.select, read)
        return self._spread

    def key_at(self, runner: Runner, offset: int) -> tuple[Any, ...] | None:
        """Return the key of the row at an offset, None behind the end."""
        statement = self._kept(("key at",), lambda: build_key_at(self.source, self._counted))
        rows, _ = runner.fetch(statement, None, {LIMIT: 1, OFFSET: offset})
        if not rows:
            return None
        return self.converted(rows[0])

    def ahead_of_value(self) -> tuple[Select[Any], ...]:
        """The statements for the key of the last row ahead of a value of the first term.

        Run them until one gives a row. Parameter: `vrelko_key_0`.
        """
        return self._kept(
            ("ahead of value",), lambda: build_ahead_of_value(self.source, self._counted)
        )

    def periods(self, column: ColumnElement[Any]) -> PeriodStatements:
        """The statements that ask which periods of a date/time column have rows."""
        return self._kept(("periods",), lambda: PeriodStatements(self._counted, column))

    def key_by_id(self, found: Sequence[Any]) -> tuple[Select[Any], dict[str, Any]]:
        """Return the statement for the key of a row with this identity, and its parameters."""
        shape = tuple(value is None for value in found)
        build = partial(build_key_by_id, self.source, self._counted, self.identity, shape)
        return self._kept(("key by id", shape), build), key_parameters(found, IDS)

    def key_by_itself(self, key: Sequence[Any]) -> tuple[Select[Any], dict[str, Any]]:
        """Return the statement for the key of a row by all of its key, and its parameters."""
        shape = tuple(value is None for value in key)
        everything = tuple(range(self.terms))
        build = partial(build_key_by_id, self.source, self._counted, everything, shape)
        return self._kept(("key by itself", shape), build), key_parameters(key, IDS)

    def count_behind(
        self, key: Sequence[Any], backward: bool, cap: int | None
    ) -> tuple[Select[Any], ...]:
        """The statements that together count the rows behind a key, or ahead of it."""
        # NULLs of the key change the statement's form; all other values are parameters.
        shape = tuple(value is None for value in key), backward, cap
        return self._kept(("behind", *shape), lambda: build_count_behind(self.source, *shape))

    def bare(self) -> Source:
        """The source without hidden columns, for statements whose rows are only looked at."""
        return replace(self.source, select=self._counted.order_by(None))

    def whole(self) -> Select[Any]:
        """The statement for every row."""
        return build_whole(self.source)

    def count(self, cap: int | None) -> Select[Any]:
        """The statement that counts the rows, at most `cap` + 1."""
        return self._kept(("count", cap), lambda: build_count(self._counted, cap))

    def counted(self, statement: Select[Any]) -> Select[Any]:
        """The statement that counts the rows of one of the variant's own, without its limit."""
        # The index it names is for a page in order; a count may find a shorter one.
        return build_count(without_hint(statement.limit(None)), None)

    def seek(
        self, key: Sequence[Any], backward: bool, near: bool = False
    ) -> tuple[Select[Any], ...]:
        """The statements for the rows behind a key, or ahead of it when `backward`."""
        # Which values are NULL decides on the statement; mostly none is.
        nulls = tuple([value is None for value in key]) if None in key else self._filled
        shape = "seek", nulls, backward, near and self.splits_ties
        # Looked up here and not by _kept: this is every page's way, and a function a call dearer.
        found: tuple[Select[Any], ...] | None = self._built.get(shape)
        return found or self._built.keep(shape, self._build(*shape[1:]))

    def _kept(self, shape: tuple[Any, ...], build: Callable[[], _Made]) -> _Made:
        """Return what was built for a shape, built now where it is new."""
        found: _Made | None = self._built.get(shape)
        return self._built.keep(shape, build()) if found is None else found

    def _build(
        self, null_keys: tuple[bool, ...] | None, backward: bool, near: bool
    ) -> tuple[Select[Any], ...]:
        # Members of a UNION ALL have their limits inside, one statement in all.
        if self.nested:
            return (build_union(self.source, self._members, null_keys, backward),)
        if null_keys is None:
            return build_edge(self.source, backward)
        return build_seek(self.source, null_keys, backward, near)

    def limited(self, select: Select[Any], rows: int) -> Select[Any]:
        """Return a statement with the limit written in, kept for the sizes in use.

        That saves filling in the limit at each execution.
        """
        # A literal limit spares the driver a parameter, and PostgreSQL plans by it.
        known = self._limited.get((select, rows))
        if known is None:
            # Sizes come from addresses: without a bound anybody could fill the memory.
            if len(self._limited) >= _MOST_LIMITED:
                return select
            known = select.limit(literal_column(str(int(rows)), Integer()))
            self._limited[select, rows] = known
        return known
