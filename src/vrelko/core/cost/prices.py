"""What pages cost by their access paths, each strategy's, before anything was counted."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

from vrelko.core.access_path import AccessPath
from vrelko.core.cost.along import seek_blocks, with_lookups, work_along, work_of_branches
from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.groups import Groups, find_groups
from vrelko.core.cost.inputs import CostInputs
from vrelko.core.cost.routes import Routes
from vrelko.core.cost.sqlite import TIE_STEPS
from vrelko.core.cost.work import Ask, Work
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import TableFacts
from vrelko.core.order import Order

ANCHOR_ROWS = 1_000.0
"""Rows of a counted anchor, as they are usually laid."""
_LOGGED = 100.0  # changes that wait in the log of anchors, when it is folded every second
_SMALL_GROUPS = 100.0  # rows; where larger ones begin is told by their values' shares


@dataclass(frozen=True)
class Prices:
    """Computes the Work of one variant's pages.

    `path` is the one of its pages near the start; `routes` holds all.
    """

    table: TableFacts
    path: AccessPath
    routes: Routes
    inputs: CostInputs

    @property
    def matching(self) -> float:
        """Rows the variant has."""
        return self.inputs.matching

    def offset(self, offset: float, size: int) -> Work:
        """A page of `size` rows behind `offset` rows, fetched with one row more."""
        # Behind the last row there is nothing more to skip.
        offset = min(offset, self.matching)
        rows = min(size + 1, max(self.matching - offset, 0.0))
        path = self.path_at(offset, size)
        return self._scattered(self._work(path, Ask("page", offset, rows)), path, offset, False)

    def keyset(self, rows: float, first: bool = False, at: float = 0.0) -> Work:
        """A page that fetches `rows` rows behind a key, `at` rows into the order, or the first."""
        rows = min(rows, self.matching)
        # A key within a long run of ties is continued within the run: most pages never
        # leave it.
        ties = None if first else self.ties_at(rows, at)
        if ties is not None:
            work, chance = self._work(ties, Ask("page", 0, rows)), self.ties_end(rows, at)
            # Where the ties end on the page the next statement runs too: how much that adds is what
            # is uncertain.
            beyond = counted_as(self.inputs.server.engine, self._sought(rows, False, at))
            apart = math.log(
                max(beyond, 1.0) / max(counted_as(self.inputs.server.engine, work), 1.0)
            )
            return replace(work, timed_scatter=abs(apart) * math.sqrt(chance * (1 - chance)))
        return self._sought(rows, first, at)

    def _sought(self, rows: float, first: bool, at: float) -> Work:
        """A page behind a key by the statement that holds all rows behind it."""
        seek = self.seek_at(at)
        traits = TRAITS[self.inputs.server.engine]
        ranges = traits.sorts_behind_key and seek.index is not None
        turned = ranges or seek != self.routes.seek
        if seek.kind == "sorted" and turned and at > 0:  # what lies behind the key is sorted
            left = max(self.matching - at, rows) / max(self.matching, 1.0)
            # Unbounded, all rows are read and those ahead of the key are dropped
            # before the sort.
            if seek.index is None or not _is_bounded(seek, self.inputs.order):
                behind = replace(seek, passing=seek.passing * left)
            else:
                behind = replace(seek, share=seek.share * left)
            return self._work(behind, Ask("seek", 0, rows, at))
        # Where the server does not sort by groups, first pages too are bounded by a statement of
        # their own.
        if first and self.grouped_first:
            return self._work(seek, Ask("seek", 0, rows))
        if first and seek.branches == 1:
            return self._work(self.routes.page, Ask("page", 0, rows))
        if seek.branches == 1:
            return self._scattered(self._work(seek, Ask("seek", 0, rows, at)), seek, at, True)
        return work_of_branches(self.inputs, seek, rows, at)

    def _scattered(self, work: Work, path: AccessPath, at: float, behind: bool) -> Work:
        """Return the work of a page read by small groups, whose beginning and end are by chance.

        The ends of a group of s rows lie up to s rows from where they are expected: s²/6 each in
        variance, for the truth and for the expectation.
        """
        if path.kind == "ordered" and behind and self.inputs.tie > 1 and work.steps:
            # SQLite walks the key's ties again, of which by chance none, or all, lie ahead of it.
            apart = TIE_STEPS * self.inputs.tie / 2 / work.steps
            return replace(work, timed_scatter=math.hypot(work.timed_scatter, min(apart, 0.5)))
        # Only groups end by chance; ordered pages end where they are full.
        if path.kind != "grouped" or not work.entries:
            return work
        groups = find_groups(self.inputs.order, path, self.table)
        size = groups.size(at / max(path.passing, 1e-9))
        if not 1 < size <= _SMALL_GROUPS:
            return work
        apart = size * math.sqrt(1 / 3 if behind else 1 / 6) / max(work.entries, 1.0)
        return replace(work, timed_scatter=math.hypot(work.timed_scatter, min(apart, 0.5)))

    def two_ended(self, offset: float, size: int) -> Work:
        """A page behind an offset from the nearer end, the rows counted before."""
        behind = max(self.matching - offset - size, 0.0)
        # The nearer end is cheaper, the count is paid either way.
        if offset <= behind:
            return _in_turn(self.offset(offset, size), self.count(None))
        return _in_turn(self.far_end(behind, size), self.count(None))

    def far_end(self, behind: float, size: int) -> Work:
        """A page that has `behind` rows behind it, read from the end."""
        rows = min(size, max(self.matching - behind, 0.0))
        ask = Ask("page", behind, rows, self.matching - behind - rows)
        return self._work(self.routes.back_at(behind + size), ask)

    def deferred(self, offset: float, size: int) -> Work:
        """A page of which the keys are found by offset, then its rows by their keys."""
        offset = min(offset, self.matching)
        rows = min(size + 1, max(self.matching - offset, 0.0))
        path = self.keys_at(offset, size)
        work = self._work(path, Ask("deferred", offset, rows))
        # The keys were joined for the filters; the rows are joined for what they show.
        if path.lookups and self.routes.page.lookups:  # the page's rows are joined again
            again = [
                replace(one, first=False, each=True) if one.first else one
                for one in self.routes.page.lookups
            ]
            work = with_lookups(work, again, rows)
        if self.routes.joined is None:
            return work
        read = replace(self._work(self.routes.joined, Ask("all")), statements=0.0)
        # A server that reads all rows for the join does not seek those of the page.
        found = seek_blocks(self.inputs, path, rows)
        return replace(work, seeks=0.0, blocks=work.blocks - found) + read

    def by_counted_anchors(self, offset: float, size: int) -> Work:
        """A page that counted anchors lead to: what changed since, keys skipped, then the page.

        Readers remember the anchors; the rows behind the last one are counted, and half of those
        between two are skipped by their keys.
        """
        # Rows between two anchors are stepped over in the index: at most a segment, half of one on
        # the mean.
        skipped = self.count(round(ANCHOR_ROWS))
        log = Work(statements=1, entries=_LOGGED, rows=1, bytes=32, values=4, steps=8 * _LOGGED)
        return _in_turn(self._behind(max(offset, 1.0), size), skipped + log)

    def frozen_ids(self, size: int) -> Work:
        """A page of a stored list of row ids: its part of the list, then the rows by their keys."""
        rows = min(size + 1, self.matching)
        # A part of the list is one range of its primary key.
        lists = Work(entries=rows, blocks=4, steps=rows * 8)
        inputs = self.inputs
        out = Work(
            0,
            seeks=rows,
            blocks=rows * inputs.table.levels,
            rows=rows,
            bytes=rows * inputs.row_bytes,
            values=rows * inputs.columns,
            steps=rows * (inputs.columns + 12),
            misses=rows,
        )
        return lists + out

    def freeze(self) -> Work:
        """Storing the list of row ids once a walk: every row's key read in order and written."""
        # Keys alone are read: an index that holds the order serves, as for a count.
        walked = self._work(self.routes.whole, Ask("count", 0, math.inf))
        return replace(walked, copied=self.matching, steps=walked.steps + 10 * self.matching)

    def whole(self) -> Work:
        """Every row at once, in order."""
        return self._work(self.routes.whole, Ask("whole"))

    def count(self, cap: int | None) -> Work:
        """Counting the rows, at most `cap` + 1 of them."""
        rows = math.inf if cap is None else cap + 1
        return self._work(self.routes.count, Ask("count", 0, rows))

    def strategy(self, name: str, offset: float, size: int) -> Work:
        """The page of a strategy behind `offset` rows. Raises KeyError for one that has no price.

        "far-end": a page from the end, behind so many rows counted from there.
        """
        return _PRICES[name](self, offset, size)

    def _behind(self, offset: float, size: int) -> Work:
        """A page behind the key of a row, or the first one."""
        left = max(self.matching - offset, 0.0)
        return self.keyset(min(size + 1, left), first=offset <= 0, at=offset)

    def _joined(self, offset: float, size: int) -> Work:
        """A page by deferred join, of which the first is read at once."""
        return self.deferred(offset, size) if offset > 0 else self._behind(offset, size)

    def path_of(self, name: str, offset: float, size: int) -> AccessPath:
        """Return the access path of a strategy's page behind `offset` rows."""
        if name == "keyset" and offset > 0:
            rows = min(size + 1, max(self.matching - offset, 0.0))
            return self.ties_at(rows, offset) or self.seek_at(offset)
        behind = max(self.matching - offset - size, 0.0)
        if name == "two-ended" and offset > behind:
            name, offset = "far-end", behind
        if name == "far-end":
            return self.routes.back_at(offset + size)
        # Such a first page is bounded by Vrelko's own statement, as those behind a key are.
        if offset <= 0 and self.grouped_first:
            return self.routes.seek
        if name == "deferred-join" and offset > 0:
            return self.keys_at(offset, size)
        return self.routes.whole if name == "whole" else self.path_at(offset, size)

    @property
    def grouped_first(self) -> bool:
        """Whether first pages are read by groups that Vrelko bounds itself."""
        own = TRAITS[self.inputs.server.engine].sorts_groups
        return not own and self.routes.seek.kind == "grouped"

    def seek_at(self, at: float) -> AccessPath:
        """Return the access path of a page behind a key, `at` rows into the order."""
        return self.routes.seek_at(at)

    def path_at(self, offset: float, size: int) -> AccessPath:
        """Return the access path of a page behind an offset."""
        return self.routes.page_at(offset + size)

    def keys_at(self, offset: float, size: int) -> AccessPath:
        """Return the access path to the keys of a deferred join's page."""
        routes = self.routes
        if routes.keys_deep:
            return routes.keys_at(offset + size, self.path)
        path = routes.keys or self.path
        # Only where keys come from an index alone do skipped rows cost no visit to the table.
        told = routes.keys is not None and routes.keys.lookups is not None
        return path if told or path.covering or path.inside else self.path_at(offset, size)

    def ties_at(self, rows: float, at: float) -> AccessPath | None:
        """Return the path to the rows that tie with a key, where they fill a page of `rows`.

        Of a group of ties that begins or ends on the page before they are known to be few: so they
        are behind a first page, and most often where a group is no larger than two pages.
        """
        # In order there is nothing to gain by it; behind the first page ties are few.
        if self.seek_at(at).kind == "ordered" or 0 < at <= rows:
            return None
        return self.routes.ties if self.ties_end(rows, at) < 0.5 else None

    def ties_end(self, rows: float, at: float) -> float:
        """Return the chance that the ties of a key begin or end on a page of `rows` around it."""
        groups = self._tied(at)
        # Where nothing is known of ties they are taken to end on the page: the usual statement is
        # priced.
        if groups is None:
            return 1.0
        return min(2 * rows / groups.size(at / max(self.seek_at(at).passing, 1e-9)), 1.0)

    def _tied(self, at: float) -> Groups | None:
        """Return the groups of rows that tie, None where nothing tells how many do."""
        seek = self.seek_at(at)
        # The last term tells ties apart; those ahead of it are what rows tie in.
        names = tuple(name for name in self.inputs.order.names[:-1] if name not in seek.fixed)
        known = self.table.has_column
        if not all(known(name) and self.table.column(name).distinct for name in names):
            return None
        return find_groups(self.inputs.order, replace(seek, presorted=names), self.table)

    def _work(self, path: AccessPath, ask: Ask) -> Work:
        return work_along(self.inputs, path, ask)


# By name of method, so that a model's corrected pages are found, not those of this class.
_PRICES: dict[str, Callable[[Prices, float, int], Work]] = {
    "offset": lambda prices, offset, size: prices.offset(offset, size),
    "two-ended": lambda prices, offset, size: prices.two_ended(offset, size),
    "far-end": lambda prices, offset, size: prices.far_end(offset, size),
    "deferred-join": lambda prices, offset, size: prices._joined(offset, size),
    "keyset": lambda prices, offset, size: prices._behind(offset, size),
    "whole": lambda prices, offset, size: prices.whole(),
    "counted anchors": lambda prices, offset, size: prices.by_counted_anchors(offset, size),
}
"""The price of a strategy's page behind so many rows."""


def _is_bounded(path: AccessPath, order: Order) -> bool:
    """Tell whether a key bounds the index: the order's first term follows what is fixed in it."""
    if path.index is None:
        return False
    free = [column.name for column in path.index.columns if column.name not in path.fixed]
    terms = [name for name in order.names if name not in path.fixed]
    return bool(free) and bool(terms) and free[0] == terms[0]


def _in_turn(page: Work, count: Work) -> Work:
    """Return the work of a page and a count; measured times stand where both were measured."""
    both = page + count
    return both if page.timed_us and count.timed_us else replace(both, timed_us=0.0)
