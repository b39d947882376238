"""Routes: the access path of each kind of statement of one variant, told or predicted."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

from vrelko.core.access import choose_keys, choose_path
from vrelko.core.access_path import AccessPath
from vrelko.core.cost.turns import Turn, path_at, turn_seen, turned, unsure_at
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ServerFacts, TableFacts
from vrelko.core.order import Order
from vrelko.core.outline import Outline


@dataclass(frozen=True, slots=True)
class Routes:
    """The access path of each kind of statement of one variant.

    `page` near the start by offset, then those of `deep` where offset and size together reach their
    rows; `seek` behind a key, then those of `seek_deep`; `ties` to the rows that differ from a key
    in its last term alone, where they are a statement of their own; `back` by an offset from the
    end, then those of `back_deep`. `count`, `whole`, and `keys` for those of a deferred join, then
    `keys_deep`, whose rows are found one by one, or by reading all that `joined` gives.
    `explained`: the server itself told them.
    """

    page: AccessPath
    seek: AccessPath
    count: AccessPath
    whole: AccessPath
    deep: tuple[Turn, ...] = ()
    keys: AccessPath | None = None
    keys_deep: tuple[Turn, ...] = ()
    joined: AccessPath | None = None
    seek_deep: tuple[Turn, ...] = ()
    ties: AccessPath | None = None
    back: AccessPath | None = None
    back_deep: tuple[Turn, ...] = ()
    explained: bool = False

    @property
    def switch(self) -> float | None:
        """The row from which pages by offset take another path, None where they never do."""
        return self.deep[0].row if self.deep else None

    @property
    def leaves(self) -> float | None:
        """The row from which pages by offset no longer walk the index of those near the start."""
        walked = _walked(self.page)
        # A turn to another scan of the same index still walks it.
        gone = (turn.row for turn in self.deep if _walked(turn.path) != walked)
        return None if walked is None else next(gone, None)

    def page_at(self, reach: float) -> AccessPath:
        """Return the path of a page by offset whose offset and size together are `reach`."""
        return path_at(self.page, self.deep, reach)

    def seek_at(self, at: float) -> AccessPath:
        """Return the path of a page behind a key that is `at` rows into the order."""
        return path_at(self.seek, self.seek_deep, at)

    def keys_at(self, reach: float, otherwise: AccessPath) -> AccessPath:
        """Return the path to the keys of a deferred join's page, `otherwise` where none is told."""
        return path_at(self.keys or otherwise, self.keys_deep, reach)

    def back_at(self, reach: float) -> AccessPath:
        """Return the path of a page by an offset from the end; offset and size together `reach`."""
        return path_at(self.back, self.back_deep, reach) if self.back else self.page_at(reach)

    def told(self, strategy: str, reach: float, taken: AccessPath) -> Routes:
        """Return the routes with a path that a page at `reach` was seen to take.

        `reach` is what the path of the strategy's pages is told by: offset and size together,
        behind a key the rows ahead of it.
        """
        first, turns = self._turning(strategy)
        return self._with_turns(strategy, turn_seen(first, turns, reach, taken))

    def unsure(self, strategy: str, reach: float) -> bool:
        """Tell whether the server was seen to take either of two paths around a page at `reach`."""
        return unsure_at(self._turning(strategy)[1], reach)

    def turned(self, strategy: str, reach: float) -> Routes:
        """Return the routes by which the other of two paths is taken at `reach`."""
        return self._with_turns(strategy, turned(self._turning(strategy)[1], reach))

    def _turning(self, strategy: str) -> tuple[AccessPath, tuple[Turn, ...]]:
        # Each kind of statement turns by itself: what offsets teach says nothing of keys.
        if strategy == "keyset":
            return self.seek, self.seek_deep
        if strategy == "deferred-join" and self.keys is not None:
            return self.keys, self.keys_deep
        if strategy == "far-end" and self.back is not None:
            return self.back, self.back_deep
        return self.page, self.deep

    def _with_turns(self, strategy: str, turns: tuple[Turn, ...]) -> Routes:
        if strategy == "keyset":
            return replace(self, seek_deep=turns)
        if strategy == "deferred-join" and self.keys is not None:
            return replace(self, keys_deep=turns)
        if strategy == "far-end" and self.back is not None:
            return replace(self, back_deep=turns)
        return replace(self, deep=turns)

    def each(self, change: Callable[[AccessPath], AccessPath]) -> Routes:
        """Return the routes with every path changed."""

        def turns(several: tuple[Turn, ...]) -> tuple[Turn, ...]:
            return tuple(replace(turn, path=change(turn.path)) for turn in several)

        return replace(
            self,
            page=change(self.page),
            seek=change(self.seek),
            count=change(self.count),
            whole=change(self.whole),
            keys=change(self.keys) if self.keys else None,
            deep=turns(self.deep),
            keys_deep=turns(self.keys_deep),
            seek_deep=turns(self.seek_deep),
            back_deep=turns(self.back_deep),
            back=change(self.back) if self.back else None,
        )


def _walked(path: AccessPath) -> str | None:
    """Return the name of the index that is walked in order, or by groups; None for no such walk."""
    if path.index is None or path.kind not in ("ordered", "grouped"):
        return None
    return path.index.name


def opaque_routes(outline: Outline, table: TableFacts, rows: float | None) -> Routes:
    """Return the paths of a select that cannot be read: all of its first table, then a sort.

    That is what computing it whole for each page takes, an upper bound. Without `rows` from the
    server it is taken to give the distinct values it shows, at most the table's rows.
    """
    if rows is None:
        shown = [name for owner, name in outline.columns if owner == table.name]
        known = [table.column(name).distinct for name in shown if table.has_column(name)]
        rows = math.prod(one or table.rows for one in known) if known else table.rows
    # It may give more rows than its first table has, and no path reads more than all.
    passing = min(rows / max(table.rows, 1.0), 1.0)
    path = AccessPath(
        kind="sorted",
        index=None,
        fixed=(),
        share=1.0,
        residual=(),
        passing=passing,
        covering=False,
        scan="table",
    )
    return Routes(path, path, path, path)


def with_rows(routes: Routes, table: TableFacts, rows: float) -> Routes:
    """Return the routes with what conditions let pass such that `rows` remain."""

    all_rows = max(table.rows, 1.0)

    def told(path: AccessPath) -> AccessPath:
        # Nothing is checked behind the index, so the estimate is of what the index itself leaves.
        if not path.residual:
            return path if path.share == 1 else replace(path, share=min(rows / all_rows, 1.0))
        passing = min(rows / max(all_rows * path.share, 1.0), 1.0)
        # What passes of the table's own conditions, before the join drops any.
        own = path.passing / path.joined
        # Conditions on other tables drop rows only after the join has found them.
        looked_up = any("." in name for name in path.residual)
        joined = min(passing / max(own, 1e-9), 1.0) if looked_up else 1.0
        return replace(path, passing=passing, joined=max(joined, 1e-9))

    return routes.each(told)


def predict_routes(
    outline: Outline, order: Order, table: TableFacts, server: ServerFacts
) -> Routes:
    """Return the access paths that the server is expected to take, from facts alone.

    MariaDB leaves the index for a full scan with a sort where offset and size together pass the
    pages of the table, unless the index covers or an equality leads it (measured within 4 %).
    """
    path = choose_path(outline, order, table, server.engine)
    seek = choose_path(outline, order, table, server.engine, served=True)
    # To count needs no order, so a smaller index may do.
    counting = choose_path(outline, None, table, server.engine)
    deep: tuple[Turn, ...] = ()
    leaves = path.kind == "ordered" and path.index is not None and path.index.name != "PRIMARY"
    if TRAITS[server.engine].leaves_index and leaves and not path.covering and not path.fixed:
        deep = (
            Turn(
                table.blocks, choose_path(outline, order, replace(table, indexes=()), server.engine)
            ),
        )
    keys = choose_keys(outline, order, table, server.engine)
    return Routes(page=path, seek=seek, count=counting, whole=path, deep=deep, keys=keys)
