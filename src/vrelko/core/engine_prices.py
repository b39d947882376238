"""What was measured of each engine: microseconds, bytes, and how far they may be off."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class InsertPrice:
    """What an index adds to an insert, in microseconds.

    At the same leaf, for twice the leaves, to compare texts, per leaf missed. Texts of 40 bytes
    take twice as long to compare as very short ones.
    """

    near: float
    doubled: float
    text: float
    missed: float


@dataclass(frozen=True, slots=True, kw_only=True)
class EnginePrices:
    """The figures of one engine; no part has a default.

    `us`: microseconds a unit of each count of Work, fitted on tables of other shapes than accuracy
    is shown on (docs/accuracy.md); `misses` there are blocks beyond what the server's cache holds,
    as scans fetch them. `cold_us`: a block when none is in the server's cache: from the operating
    system's cache on PostgreSQL and SQLite, from a disk on MariaDB, which reads past that one.
    `spread`: log standard deviation of a time after calibration on the server: of times measured on
    a shared machine up to a minute later, nine in ten lay within a factor of 1.55 (1.48 on SQLite).
    `slack`: steps, buffers or handler rows that a page may differ by whatever its size.
    `set_branch_us`, `set_sought_us`, `set_walked_us`: a branch of a set filter, a row that is
    fetched and sorted, one that is walked over: from 54 sets of 2 to 60 of 50 to 5,000 values in
    600,000 rows (docs/cost.md). `block_bytes` where facts do not say; `row_header_bytes` of a row.
    """

    us: Mapping[str, float]
    cold_us: float
    spread: float
    slack: float
    set_branch_us: float
    set_sought_us: float
    set_walked_us: float
    insert: InsertPrice
    block_bytes: int
    row_header_bytes: int


SQLITE = EnginePrices(
    # A count that is not priced costs nothing here: the engine never has it, or another one holds
    # its time.
    us={
        "statements": 125, "entries": 0.017, "switches": 0.04, "visits": 0.94, "seeks": 1.15,
        "scanned": 0.012, "checked": 0.023, "sort_units": 0.031, "sort_logs": 0.03,
        "spilled": 0.002, "counted": 0.031, "copied": 0.56, "rows": 0.75, "bytes": 0.0008,
        "values": 0.09, "misses": 1.4,
    },
    cold_us=2.1,
    spread=0.24,
    slack=90.0,
    set_branch_us=20.0,
    set_sought_us=0.1,
    set_walked_us=0.1,
    insert=InsertPrice(near=0.5, doubled=0.08, text=1.2, missed=10.0),
    block_bytes=4_096,
    row_header_bytes=4,
)  # fmt: skip

POSTGRESQL = EnginePrices(
    us={
        "statements": 815, "entries": 0.107, "visits": 0.058, "switches": 0.57, "seeks": 4.7,
        "scanned": 0.099, "scanned_blocks": 1.5, "checked": 0.088, "sort_units": 0.028,
        "sort_logs": 0.019, "spilled": 0.0025, "counted": 0.0036, "gathered": 13_800, "rows": 0.51,
        "bytes": 0.00058, "values": 0.25, "misses": 0.86,
    },
    cold_us=3.0,
    spread=0.265,
    slack=5.0,
    set_branch_us=50.0,
    set_sought_us=1.2,
    set_walked_us=0.6,
    insert=InsertPrice(near=1.3, doubled=0.13, text=0.9, missed=20.0),
    block_bytes=8_192,
    row_header_bytes=28,
)  # fmt: skip

MARIADB = EnginePrices(
    us={
        "statements": 905, "entries": 0.17, "visits": 2.9, "scanned": 0.26, "seeks": 2.0,
        "checked": 0.0096, "sort_units": 0.062, "sort_logs": 0.007, "spilled": 0.0045,
        "copied": 1.9, "counted": 0.019, "dives": 40, "rows": 1.6, "bytes": 0.0039, "values": 1.1,
        "misses": 1.6,
    },
    cold_us=40.0,
    spread=0.265,
    slack=5.0,
    set_branch_us=110.0,
    set_sought_us=2.3,
    set_walked_us=2.0,
    insert=InsertPrice(near=1.3, doubled=0.15, text=0.4, missed=20.0),
    block_bytes=16_384,
    row_header_bytes=18,
)  # fmt: skip
