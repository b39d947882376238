"""One order and one set of filters of a listing, with its statements built once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from operator import itemgetter
from typing import Any

from sqlalchemy import ColumnElement, Integer, Select, literal_column
from sqlalchemy.engine.interfaces import Dialect

from vrelko.core.order import Order
from vrelko.errors import PageError
from vrelko.serving.running import Runner
from vrelko.sql.branches import SetFilter, build_branches
from vrelko.sql.entities import has_whole_entity
from vrelko.sql.rows import Cutter
from vrelko.sql.statements import (
    LIMIT,
    OFFSET,
    Source,
    build_count,
    build_count_behind,
    build_deferred,
    build_edge,
    build_key_at,
    build_keys,
    build_offset,
    build_rows,
    build_seek,
    build_whole,
    flag_behind,
)
from vrelko.sql.unions import build_union
from vrelko.sql.within import build_by_ids, keep_behind

_MOST_LIMITED = 200
"""Statements kept with their limit; beyond them the limit is filled in."""


class Variant:
    """The statements of one variant on one engine.

    Statements are built when first needed and kept, so that SQLAlchemy finds its compiled form
    of them again.
    """

    def __init__(
        self,
        source: Source,
        counted: Select[Any],
        unique: Sequence[ColumnElement[Any]],
        among: SetFilter | None = None,
        members: Sequence[Select[Any]] = (),
        dialect: Dialect | None = None,
        identity: Sequence[int] = (),
    ) -> None:
        self.identity = tuple(identity) or tuple(range(len(source.order)))
        self.among = among
        self._members, self._dialect = tuple(members), dialect
        self._branches: dict[Any, Select[Any]] = {}
        self.source = source
        self._unique = tuple(unique)
        self.orm = has_whole_entity(source.select)
        self._counted = counted
        self._seeks: dict[tuple[tuple[bool, ...], bool, bool], tuple[Select[Any], ...]] = {}
        self._edges: dict[bool, tuple[Select[Any], ...]] = {}
        self._offsets: dict[bool, Select[Any]] = {}
        self._counts: dict[int | None, Select[Any]] = {}
        self._deferred: Select[Any] | None = None
        self._key_at: Select[Any] | None = None
        self._by_ids: Select[Any] | None = None
        self._under: dict[tuple[bool, ...], Variant] = {}
        self._behind: dict[tuple[tuple[bool, ...], bool, int | None], tuple[Select[Any], ...]] = {}
        self._converts = tuple((i, key.to_key) for i, key in enumerate(source.keys) if key.to_key)
        self.cutter = Cutter(source.width) if source.hidden else None
        self._limited: dict[tuple[int, int], tuple[Select[Any], Select[Any]]] = {}
        self._take = itemgetter(*source.places)
        alone = source.alone() - {i for i, key in enumerate(source.keys) if key.alone}
        self.terms = len(source.order)
        self._filled = (False,) * self.terms  # of which value of a key is NULL: of none
        self.splits_ties = bool(alone) and self.terms > 1
        self.nested = bool(self._members)
        """Whether limits stand inside the statements, and are filled in as parameters."""

    @property
    def order(self) -> Order:
        """The total order, NULL placement settled."""
        return self.source.order

    def edge(self, backward: bool) -> tuple[Select[Any], ...]:
        """The statements for the first page, or the last when `backward`."""
        if backward not in self._edges:
            self._edges[backward] = self._build(None, backward, False)
        return self._edges[backward]

    def offset(self, backward: bool = False) -> Select[Any]:
        """The statement for a page behind an offset, from the end when `backward`."""
        if backward not in self._offsets:
            self._offsets[backward] = build_offset(self.source, backward)
        return self._offsets[backward]

    def deferred(self) -> Select[Any]:
        """The statement for a page behind an offset, by keys alone first."""
        if self._deferred is None:
            self._deferred = build_deferred(self.source, self._counted, self._unique)
        return self._deferred

    def rows(self) -> Select[Any]:
        """The select without order, one literal a row."""
        return build_rows(self._counted)

    def flagging(self, last: Sequence[Any]) -> Variant:
        """Return this variant with a last column that flags rows behind a key."""
        shape = tuple(value is None for value in last)
        flagged = flag_behind(self.source, shape)
        return Variant(flagged, self._counted, self._unique, self.among, identity=self.identity)

    def under(self, top: Sequence[Any]) -> Variant:
        """Return this variant without the rows ahead of a key; parameters `vrelko_top_0`, …."""
        shape = tuple(value is None for value in top)
        if shape not in self._under:
            source, counted = keep_behind(self.source, self._counted, shape)
            self._under[shape] = Variant(
                source, counted, self._unique, self.among, identity=self.identity
            )
        return self._under[shape]

    def by_ids(self) -> Select[Any]:
        """The statement for the rows of a list of ids, in no order."""
        if self._by_ids is None:
            self._by_ids = build_by_ids(self.source, self.identity)
        return self._by_ids

    def keys(self) -> Select[Any]:
        """The statement for the key of every row, in order, reading nothing else."""
        return build_keys(self.source, self._counted)

    def id_of(self, key: Sequence[Any]) -> tuple[Any, ...]:
        """Return the part of a key that identifies its row."""
        return tuple([key[place] for place in self.identity])

    def branches(
        self, count: int, key: Sequence[Any] | None, backward: bool
    ) -> tuple[Select[Any], ...]:
        """The statement for a page over a set of values: behind a key, or at the edge."""
        assert self.among is not None
        nulls = None if key is None else tuple(value is None for value in key)
        shape = count, nulls, backward
        if shape not in self._branches:
            self._branches[shape] = build_branches(
                self.source, self._counted, self._unique, self.among, *shape
            )
        return (self._branches[shape],)

    def key_at(self, runner: Runner, offset: int) -> tuple[Any, ...] | None:
        """Return the key of the row at an offset, None behind the end."""
        if self._key_at is None:
            self._key_at = build_key_at(self.source, self._counted)
        rows, _ = runner.fetch(self._key_at, None, {LIMIT: 1, OFFSET: offset})
        if not rows:
            return None
        return self.converted(rows[0])

    def converted(self, values: Sequence[Any]) -> tuple[Any, ...]:
        """Return a key as read from the database, its values as keys hold them."""
        found = list(values)
        for position, convert in self._converts:
            found[position] = convert(found[position])
        return tuple(found)

    def count_behind(
        self, key: Sequence[Any], backward: bool, cap: int | None
    ) -> tuple[Select[Any], ...]:
        """The statements that together count the rows behind a key, or ahead of it."""
        shape = tuple(value is None for value in key), backward, cap
        if shape not in self._behind:
            self._behind[shape] = build_count_behind(self.source, *shape)
        return self._behind[shape]

    def bare(self) -> Source:
        """The source without hidden columns, for statements whose rows are only looked at."""
        return replace(self.source, select=self._counted.order_by(None))

    def whole(self) -> Select[Any]:
        """The statement for every row."""
        return build_whole(self.source)

    def count(self, cap: int | None) -> Select[Any]:
        """The statement that counts the rows, at most `cap` + 1."""
        if cap not in self._counts:
            self._counts[cap] = build_count(self._counted, cap)
        return self._counts[cap]

    def seek(
        self, key: Sequence[Any], backward: bool, near: bool = False
    ) -> tuple[Select[Any], ...]:
        """The statements for the rows behind a key, or ahead of it when `backward`."""
        nulls = tuple([value is None for value in key]) if None in key else self._filled
        shape = nulls, backward, near and self.splits_ties
        found = self._seeks.get(shape)
        if found is None:
            found = self._seeks[shape] = self._build(*shape)
        return found

    def _build(
        self, null_keys: tuple[bool, ...] | None, backward: bool, near: bool
    ) -> tuple[Select[Any], ...]:
        if self._members and self._dialect is not None:
            return (build_union(self.source, self._members, self._dialect, null_keys, backward),)
        if null_keys is None:
            return build_edge(self.source, backward)
        return build_seek(self.source, null_keys, backward, near)

    def limited(self, select: Select[Any], rows: int) -> Select[Any]:
        """Return a statement with the limit written in, kept for the sizes in use.

        That saves filling in the limit at each execution.
        """
        known = self._limited.get((id(select), rows))
        if known is None:
            if len(self._limited) >= _MOST_LIMITED:
                return select
            known = select, select.limit(literal_column(str(int(rows)), Integer()))
            self._limited[id(select), rows] = known
        return known[1]

    def key_from(self, row: Sequence[Any]) -> tuple[Any, ...]:
        """Return the key of a full row."""
        taken = self._take(row)
        key = taken if len(self.source.places) > 1 else (taken,)
        if not self._converts:
            return tuple(key)
        return self.converted(key)

    def near(self, full: Sequence[Any], index: int, edge: int, whole: bool) -> bool:
        """Tell whether the rows that tie with row `index` on all but a row id are few.

        They are where their group begins or ends between the row and the page's `edge` row, or
        where the page is `whole` at that edge.
        """
        if not self.splits_ties:
            return False
        return whole or self.key_from(full[edge])[:-1] != self.key_from(full[index])[:-1]

    def key_of(self, given: Sequence[Any]) -> tuple[Any, ...]:
        """Return the key that a caller gave: the order's values, or a row of a page.

        Raises PageError when it has another shape.
        """
        if type(given) is tuple and len(given) == self.terms:
            return given
        if hasattr(given, "_mapping"):
            missing = [
                term.name
                for term, place in zip(self.order.terms, self.source.shown, strict=True)
                if place is None
            ]
            if missing:
                raise PageError(
                    f"the row lacks {', '.join(missing)}, which the order needs",
                    "Select these columns, or use page.cursor(i) of the row's page",
                    "spot-row",
                )
            if len(given) != self.source.width:
                raise PageError(
                    "the row is not one of this listing's select",
                    "Pass a row of its pages, or the values of its order as a tuple",
                    "spot-row",
                )
            return tuple(given[place] for place in self.source.shown if place is not None)
        if len(given) != len(self.order):
            raise PageError(
                f"a key of {len(given)} values does not fit the order {str(self.order)!r}",
                f"Give {len(self.order)} values: {', '.join(self.order.names)}",
                "spot-key",
            )
        return tuple(given)
