"""The cost of one variant: what its pages ask, corrected by what was counted of them."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from vrelko.core.cost.checks import TOLERANCE, Check
from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.groups import find_groups
from vrelko.core.cost.inputs import make_inputs
from vrelko.core.cost.prices import Prices
from vrelko.core.cost.profiles import entries_apart
from vrelko.core.cost.routes import Routes, opaque_routes, predict_routes, with_rows
from vrelko.core.cost.work import Work
from vrelko.core.facts import ServerFacts, TableFacts
from vrelko.core.order import Order
from vrelko.core.outline import Outline

_ALIKE = ("keyset", "deferred-join")  # whose first pages are read alike
_COUNTS = ("count", "capped count")
_PLACED = 0.01  # of the rows, to which facts place where a group begins
_STEEP = 3.0  # times as many entries, by what a sample along the order leaves open


@dataclass(frozen=True)
class CostModel(Prices):
    """Computes the Work of one variant's pages, and tells which of them is believed.

    `checks` are of strategies whose pages were counted; those that are not believed are costed by
    their counts. What is composed of other pages (two-ended, deferred join) is of corrected parts.
    """

    checks: Mapping[str, Check] = field(default_factory=dict)

    def offset(self, offset: float, size: int) -> Work:
        """A page of `size` rows behind `offset` rows, fetched with one row more."""
        return self._checked("offset", Prices.offset(self, offset, size), offset, size)

    def keyset(self, rows: float, first: bool = False, at: float = 0.0) -> Work:
        """A page that fetches `rows` rows behind a key, `at` rows into the order, or the first."""
        work = Prices.keyset(self, rows, first, at)
        name = "first" if first else "keyset"
        return self._checked(name, work, at, max(round(rows) - 1, 1))

    def far_end(self, behind: float, size: int) -> Work:
        """A page that has `behind` rows behind it, read from the end."""
        return self._checked("far-end", Prices.far_end(self, behind, size), behind, size)

    def deferred(self, offset: float, size: int) -> Work:
        """A page of which the keys are found by offset, then its rows by their keys."""
        return self._checked("deferred-join", Prices.deferred(self, offset, size), offset, size)

    def whole(self) -> Work:
        """Every row at once, in order."""
        return self._checked("whole", Prices.whole(self), 0, 0)

    def count(self, cap: int | None) -> Work:
        """Counting the rows, at most `cap` + 1 of them."""
        name = "count" if cap is None else "capped count"
        return self._checked(name, Prices.count(self, cap), 0, 0)

    def believes(self, name: str, offset: float, size: int) -> bool | None:
        """Tell whether pages of a strategy by this page's access path were run and agreed.

        None where none was run by that path, or none of the strategy.
        """
        # Its page is one of two others, and its count a third: it is believed where both
        # are.
        if name == "two-ended":
            behind = max(self.matching - offset - size, 0.0)
            part = ("offset", offset) if offset <= behind else ("far-end", behind)
            both = self.believes(*part, size), self.believes("count", 0, 0)
            if part[0] == "far-end":
                far = self._far_check(behind, size)
                both = None if far is None else far.believed, both[1]
            return False if False in both else None if None in both else True
        check = self._check("first" if offset <= 0 and name in _ALIKE else name, offset, size)
        if check is None or not check.believed:
            return None if check is None else check.believed
        # The server may take either path there, and no count tells which it will take
        # next.
        if self._near_a_turn(name, offset, size):
            return None
        if self._near_a_bound(name, offset, size):
            engine = self.inputs.server.engine
            predicted = counted_as(engine, self._raw(name, offset, size))
            return True if check.surrounds(offset, predicted, engine) else None
        if self._near_a_step(name, offset, size):
            return None
        if name != "keyset":
            return True
        rows = min(size + 1, max(self.matching - offset, 0.0))
        # Where ties may or may not end on the page, the work is either of two.
        unsure = self.routes.ties is not None and self.seek_at(offset).kind != "ordered"
        if unsure and (0.05 < self.ties_end(rows, offset) < 0.95 or self._ties_near(rows, offset)):
            return None
        return True

    def _ties_near(self, rows: float, at: float) -> bool:
        """Tell whether the ties of a key may begin or end on a page, by where facts place them.

        Of groups too small to be placed nothing is known but how often one ends on a page.
        """
        groups = self._tied(at)
        if groups is None or self.ties_end(rows, at) >= 0.95:
            return False
        place = at / max(self.seek_at(at).passing, 1e-9)
        changed = (self.table.changed_rows or 0.0) / max(self.table.rows, 1.0)
        # Rows that came or went since move each group by as much, and none by more than half.
        apart = groups.rows * min(max(_PLACED, changed), 0.5)
        if 2 * apart > groups.size(place):
            return False
        begin, end = groups.begin(place), groups.end(place)
        return place - begin < apart or end - place < rows + apart

    def crossover(self, factor: float, size: int, price: Callable[[Work], float]) -> float | None:
        """Rows of offset at which offset costs `factor` times keyset by `price`; None: never."""
        # Behind a key a page costs about the same everywhere, so one price stands for all.
        goal = factor * price(self.keyset(size + 1))
        low, high = 0.0, max(self.matching - size, 0.0)
        # Even the last page is cheap enough by offset.
        if price(self.offset(high, size)) < goal:
            return None
        # Then sorting costs as much everywhere, and there is no row from which offset
        # falls behind.
        if price(self.offset(0, size)) >= goal:
            return 0.0 if self.path.kind == "ordered" else None
        while high - low > max(1.0, high * 1e-4):
            middle = (low + high) / 2
            if price(self.offset(middle, size)) < goal:
                low = middle
            else:
                high = middle
        return high

    def _near_a_bound(self, name: str, offset: float, size: int) -> bool:
        """Tell whether a page may lie in another group of rows than facts place it in.

        Where groups begin is known as well as their shares are: to one per cent of the rows, or
        what has changed since statistics were taken.
        """
        path = None if name in _COUNTS else self.path_of(name, offset, size)
        if path is None or path.kind != "grouped":
            return False
        groups = find_groups(self.inputs.order, path, self.table)
        at, rows = (number / max(path.passing, 1e-9) for number in (offset, size))
        changed = (self.table.changed_rows or 0.0) / max(self.table.rows, 1.0)
        apart = groups.rows * min(max(_PLACED, changed), 0.5)
        walked = rows if name == "keyset" else at + rows

        def read(place: float) -> float:
            place = min(max(place, 1.0), max(groups.rows - rows, 1.0))
            before = place - groups.begin(place) if name == "keyset" else 0.0
            return walked + before + groups.end(place + rows) - (place + rows)

        # Where a group begins is known to about a per cent: a page near a bound may be of either
        # group.
        told = [read(at - apart), read(at), read(at + apart)]
        return max(told) > TOLERANCE * min(told)

    def _near_a_step(self, name: str, offset: float, size: int) -> bool:
        """Tell whether a page lies where rows that pass a filter turn from dense to rare.

        As far as a sample along the order tells: see `profiles.entries_apart`.
        """
        counts = name in (*_COUNTS, "whole")
        path = None if counts else self.path_of(name, offset, size)
        if path is None or not path.profile:
            return False
        begin, rows = (offset if name == "keyset" else 0.0), self.matching
        end = min(offset + size, rows)
        return entries_apart(path.profile, self.inputs.reached, rows, begin, end) > _STEEP

    def _near_a_turn(self, name: str, offset: float, size: int) -> bool:
        """Tell whether the server takes now one access path, now another, around a page."""
        reach = offset if name == "keyset" else offset + size
        return name not in (*_COUNTS, "first", "whole") and self.routes.unsure(name, reach)

    def _check(self, name: str, offset: float, size: int) -> Check | None:
        """Return the check of the pages of a strategy that were read as this one is."""
        check = self.checks.get(name)
        if check is None or name in _COUNTS:
            return check
        path = self.path_of("keyset" if name == "first" else name, offset, size)
        return check.by_path(path.signature, self.inputs.server.engine, offset)

    def _far_check(self, behind: float, size: int) -> Check | None:
        """Return the check of pages from the end; none was run: of those from the beginning."""
        check = self._check("far-end", behind, size)
        ahead = self.checks.get("offset")
        path = self.path_of("far-end", behind, size)
        if check is not None or ahead is None or path.kind == "grouped":
            return check
        return ahead.by_path(path.signature, self.inputs.server.engine, behind)

    def _checked(self, name: str, work: Work, offset: float, size: int) -> Work:
        """Return the work of a page as its counts tell it, where its prediction is not believed."""
        if self._near_a_turn(name, offset, size):
            reach = offset if name == "keyset" else offset + size
            # Either path may be taken next time, so a page there costs the middle of both, with
            # bounds that hold both.
            other = replace(self, routes=self.routes.turned(name, reach))
            told = other._counted(name, other._raw(name, offset, size), offset, size)
            return self._between(self._counted(name, work, offset, size), told)
        return self._counted(name, work, offset, size)

    def _counted(self, name: str, work: Work, offset: float, size: int) -> Work:
        """Return the work of a page as counts of its own access path tell it."""
        check = self._check(name, 0.0 if name == "first" else offset, size)
        if check is None or check.believed or not check.counts:
            return work
        factor, counted_size = 1.0, check.size
        # One depth tells no slope: that of the model holds, from the count on.
        alone = check.shallowest(offset)
        if alone is not None and name != "keyset":
            engine = self.inputs.server.engine
            here, there = (self._raw(name, at, counted_size) for at in (offset, alone))
            factor = counted_as(engine, here) / max(counted_as(engine, there), 1e-9)
            return check.correct(work, alone, factor, engine, self._most_read)
        # Pages of another size were counted: the model says how much more or less they
        # read, within what sizes alone explain.
        if size and counted_size and size != counted_size:
            engine = self.inputs.server.engine
            usual = counted_as(engine, self._raw(name, offset, counted_size))
            most = size / counted_size
            now = counted_as(engine, self._raw(name, offset, size))
            factor = now / max(usual, 1e-9)
            # A page of twice the rows reads at most twice as much, and never less.
            factor = min(max(factor, min(most, 1.0)), max(most, 1.0))
        engine, most_read = self.inputs.server.engine, self._most_read
        by_offset = name not in (*_COUNTS, "keyset")  # a page behind a key reads its group alone
        in_steps = by_offset and self.path_of(name, offset, size).kind == "grouped"
        return check.correct(work, offset, factor, engine, most_read, in_steps=in_steps)

    def _between(self, one: Work, other: Work) -> Work:
        """Return the work of a page that either of two is, no more likely than the other."""
        engine = self.inputs.server.engine
        low, high = sorted((one, other), key=lambda work: counted_as(engine, work))
        apart = max(counted_as(engine, high), 1.0) / max(counted_as(engine, low), 1.0)
        scatter = math.hypot(high.timed_scatter, math.log(apart) / 2)
        # What is sent does not depend on the path; only what is read does.
        kept = {name: getattr(high, name) for name in ("statements", "rows", "bytes", "values")}
        return replace(high.times(1 / math.sqrt(apart)), **kept, timed_scatter=scatter)

    @property
    def _most_read(self) -> float:
        """Rows that a page reads at most: all that its path comes to."""
        return max(self.inputs.reached, self.matching)

    def _raw(self, name: str, offset: float, size: int) -> Work:
        """Return the work of a page as facts and access paths tell it, whatever was counted."""
        bare = Prices(self.table, self.path, self.routes, self.inputs)
        return bare.keyset(size + 1, True) if name == "first" else bare.strategy(name, offset, size)


def make_model(
    outline: Outline,
    order: Order,
    table: TableFacts,
    server: ServerFacts,
    routes: Routes | None = None,
    rows: float | None = None,
    checks: Mapping[str, Check] | None = None,
) -> CostModel:
    """Return the cost model of a listing's order.

    `routes` as the server told them; None: as facts predict them. `rows` the listing has, where
    the server told them because conditions cannot be read. `checks` of strategies that were run.
    """
    # What cannot be read is priced as computed whole: an upper bound, and said so in a finding.
    if outline.opaque:
        routes = opaque_routes(outline, table, rows)
    elif routes is None:
        routes = predict_routes(outline, order, table, server)
    if rows is not None and not outline.opaque:
        if not outline.conditions and len(outline.tables) == 1:
            table = replace(table, rows=float(rows))
        routes = with_rows(routes, table, rows)
    inputs = make_inputs(outline, order, routes.page, table, server)
    return CostModel(table, routes.page, routes, inputs, dict(checks or {}))
