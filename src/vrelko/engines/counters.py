"""Counting what statements read: rows or index entries, in each engine's own counters.

PostgreSQL: rows that scans returned plus all rows they removed, from EXPLAIN ANALYZE of the same
statements, and shared buffers. MariaDB: Handler_read_* plus Handler_icp_attempts, which counts
entries tested inside the storage engine. SQLite: steps of its virtual machine.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import Connection

from vrelko.engines.reads import Reads
from vrelko.engines.registry import engine_of


def count_reads(connection: Connection, run: Callable[[], Any]) -> Reads:
    """Run a function that sends statements on a connection, and count what they read."""
    return engine_of(connection).count_reads(connection, run)
