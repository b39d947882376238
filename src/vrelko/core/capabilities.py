"""What an engine can do, as one flat record: one question a field."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

SeekForm = Literal["row-value", "split", "expanded-or"]


@dataclass(frozen=True, slots=True)
class Capabilities:
    """What page statements may rely on for one engine.

    `nulls_low`: NULL sorts below every value. `nulls_syntax`: NULLS FIRST and LAST are understood.
    `row_value_seek`: `(a, b) > (x, y)` is served from an index. `or_seek`: an OR of ranges is
    served from an index. `hidden_rowid`: an INTEGER primary key is the row id, which ends every
    index entry but never takes part in a row-value seek. `offset_defers_table`: rows skipped by
    OFFSET never touch the table.
    """

    engine: str
    nulls_low: bool
    nulls_syntax: bool
    row_value_seek: bool
    or_seek: bool
    hidden_rowid: bool
    offset_defers_table: bool
