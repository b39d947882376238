"""What an index adds to an insert: by where in it new rows fall, and what tells that place."""

from __future__ import annotations

import math

from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ServerFacts, TableFacts, usual_width
from vrelko.core.index import IndexFacts

LEAF_FILL = 0.69
"""How full b-tree blocks are after inserts at random places (Yao 1978)."""

_GROWING = 0.9  # correlation of values with the rows' places


def insert_us(index: IndexFacts, table: TableFacts, server: ServerFacts) -> float:
    """Return about the microseconds an index adds to an insert, one of many in a transaction.

    It is least where new rows fall into the leaf that the last one fell into, and grows with the
    leaves that they are spread over: see docs/cost.md for the fit. Leaves beyond the block cache
    are fetched and written back; squared, since rows of a transaction share them.
    """
    prices = TRAITS[server.engine].prices
    price, block = prices.insert, prices.block_bytes
    bytes_ = table.rows * (index.entry_bytes or 20.0) / LEAF_FILL
    touched, text = _spread(index, table, max(bytes_ / block, 1.0))
    missed = max(1 - (server.cache_bytes or bytes_) / max(touched * block, 1.0), 0.0)
    spread = price.doubled * math.log2(touched)
    return (
        price.near
        + spread
        + price.text * (1 + text / 40 if text else 0.0)
        + price.missed * missed**2
    )


def _spread(index: IndexFacts, table: TableFacts, leaves: float) -> tuple[float, float]:
    """Return the leaves that new rows are spread over, and the bytes of texts that tell which.

    A column that grows with the rows' places sends new rows to one place of each group ahead of it.
    """
    groups, text = 1.0, 0.0
    for part in index.columns:
        # Values of an expression may fall anywhere, so all leaves count.
        if part.name is None or not table.has_column(part.name):
            return leaves, text
        column = table.column(part.name)
        if part.name == table.row_id or abs(column.correlation or 0.0) >= _GROWING:
            break
        if "char" in column.type.lower() or "text" in column.type.lower():
            text += column.width or usual_width(column.type)
        groups *= max(column.distinct or leaves, 1.0)
    return min(groups, leaves), text
