"""Routes: the access path of each kind of statement of one variant, told or predicted."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from vrelko.core.access import AccessPath, choose_keys, choose_path
from vrelko.core.facts import ServerFacts, TableFacts
from vrelko.core.order import Order
from vrelko.core.outline import Outline


@dataclass(frozen=True, slots=True)
class Routes:
    """The access path of each kind of statement of one variant.

    `page` near the start by offset, `deep` where offset and size together reach `switch` rows
    (None: it never changes), `seek` behind a key, `count`, `whole`, and `keys` for those of a
    deferred join, `keys_deep` from `keys_switch` rows on, whose rows are found one by one, or by
    reading all that `joined` gives. `seek_deep` behind keys from row `seek_switch` on. `seen`: the
    server itself told them.
    """

    page: AccessPath
    seek: AccessPath
    count: AccessPath
    whole: AccessPath
    deep: AccessPath | None = None
    switch: float | None = None
    keys: AccessPath | None = None
    keys_deep: AccessPath | None = None
    keys_switch: float | None = None
    joined: AccessPath | None = None
    seek_deep: AccessPath | None = None
    seek_switch: float | None = None
    seen: bool = False


def opaque_routes(outline: Outline, table: TableFacts, rows: float | None) -> Routes:
    """Return the paths of a select that cannot be read: all of its first table, then a sort.

    That is what computing it whole for each page takes, an upper bound. Without `rows` from the
    server it is taken to give the distinct values it shows, at most the table's rows.
    """
    if rows is None:
        shown = [name for owner, name in outline.columns if owner == table.name]
        known = [table.column(name).distinct for name in shown if table.has_column(name)]
        rows = math.prod(one or table.rows for one in known) if known else table.rows
    passing = min(rows / max(table.rows, 1.0), 1.0)
    path = AccessPath("sorted", None, (), 1.0, (), passing, covering=False, scan="table")
    return Routes(path, path, path, path)


def with_rows(routes: Routes, table: TableFacts, rows: float) -> Routes:
    """Return the routes with what conditions let pass such that `rows` remain."""

    all_rows = max(table.rows, 1.0)

    def told(path: AccessPath) -> AccessPath:
        if not path.residual:
            return path if path.share == 1 else replace(path, share=min(rows / all_rows, 1.0))
        return replace(path, passing=min(rows / max(all_rows * path.share, 1.0), 1.0))

    return replace(
        routes, page=told(routes.page), seek=told(routes.seek), count=told(routes.count),
        whole=told(routes.whole), deep=told(routes.deep) if routes.deep else None,
        keys=told(routes.keys) if routes.keys else None,
        keys_deep=told(routes.keys_deep) if routes.keys_deep else None,
        seek_deep=told(routes.seek_deep) if routes.seek_deep else None,
    )  # fmt: skip


def predict_routes(
    outline: Outline, order: Order, table: TableFacts, server: ServerFacts
) -> Routes:
    """Return the access paths that the server is expected to take, from facts alone.

    MariaDB leaves the index for a full scan with a sort where offset and size together pass the
    pages of the table, unless the index covers or an equality leads it (measured within 4 %).
    """
    path = choose_path(outline, order, table, server.engine)
    seek = choose_path(outline, order, table, server.engine, served=True)
    counting = choose_path(outline, None, table, server.engine)
    deep, switch = None, None
    leaves = path.kind == "ordered" and path.index is not None and path.index.name != "PRIMARY"
    if server.engine == "mariadb" and leaves and not path.covering and not path.fixed:
        deep = choose_path(outline, order, replace(table, indexes=()), server.engine)
        switch = table.blocks
    keys = choose_keys(outline, order, table, server.engine)
    return Routes(path, seek, counting, path, deep, switch, keys)
