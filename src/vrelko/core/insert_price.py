"""What an index adds to an insert: by where in it new rows fall, and what tells that place."""

from __future__ import annotations

import math
from dataclasses import dataclass

from vrelko.core.facts import BLOCK_BYTES, ServerFacts, TableFacts, usual_width
from vrelko.core.index import IndexFacts

LEAF_FILL = 0.69
"""How full b-tree blocks are after inserts at random places (Yao 1978)."""

_GROWING = 0.9  # correlation of values with the rows' places


@dataclass(frozen=True, slots=True, kw_only=True)
class _InsertPrice:
    """Microseconds at the same leaf, for twice the leaves, to compare texts, per leaf missed.

    Texts of 40 bytes take twice as long to compare as very short ones.
    """

    near: float
    doubled: float
    text: float
    missed: float


_INSERTS = {
    "sqlite": _InsertPrice(near=0.5, doubled=0.08, text=1.2, missed=10.0),
    "postgresql": _InsertPrice(near=1.3, doubled=0.13, text=0.9, missed=20.0),
    "mariadb": _InsertPrice(near=1.3, doubled=0.15, text=0.4, missed=20.0),
}


def insert_us(index: IndexFacts, table: TableFacts, server: ServerFacts) -> float:
    """Return about the microseconds an index adds to an insert, one of many in a transaction.

    It is least where new rows fall into the leaf that the last one fell into, and grows with the
    leaves that they are spread over: see docs/cost.md for the fit. Leaves beyond the block cache
    are fetched and written back; squared, since rows of a transaction share them.
    """
    price = _INSERTS[server.engine]
    block = BLOCK_BYTES[server.engine]
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
        if part.name is None or not table.has_column(part.name):
            return leaves, text
        column = table.column(part.name)
        if part.name == table.row_id or abs(column.correlation or 0.0) >= _GROWING:
            break
        if "char" in column.type.lower() or "text" in column.type.lower():
            text += column.width or usual_width(column.type)
        groups *= max(column.distinct or leaves, 1.0)
    return min(groups, leaves), text
