"""Work: what a statement asks of a server, in counts."""

from __future__ import annotations

from dataclasses import dataclass, fields, replace


@dataclass(frozen=True, slots=True)
class Work:
    """What one page, or one total, asks of a server.

    `statements` run. `entries` of an index walked, `blocks` read, `visits` to table rows that the
    index led to, `switches` of the table block between them (on SQLite: entries that ready a seek
    into the table, done or not), `seeks` by primary key, each from the root. `scanned` table rows
    read one after the other, from `scanned_blocks`. `checked` rows that were tested against a
    condition. `sorted_rows` that went through a sort, in `sort_units` of top-n work and `sort_logs`
    of full sorting (n log2 n), `spilled` bytes written for it. `copied` rows written to a temporary
    table. `counted` rows that were only counted. `dives` into an index to estimate a range.
    `gathered`: 1 where parallel workers are started. `steps` of SQLite's machine. `rows`, `bytes`
    and `values` (rows times columns) handed over. `misses`: blocks to be fetched when none is in
    cache; warm, they cost time where they are more than the cache holds. `elsewhere`: rows that
    parallel workers scan meanwhile, which take no time of their own. `timed_us`: microseconds
    measured for such a page, which stand in place of all that the counts would tell, missing by
    `timed_scatter` (a standard deviation of logarithms).
    """

    statements: float = 1.0
    entries: float = 0.0
    blocks: float = 0.0
    visits: float = 0.0
    switches: float = 0.0
    seeks: float = 0.0
    scanned: float = 0.0
    scanned_blocks: float = 0.0
    checked: float = 0.0
    sorted_rows: float = 0.0
    sort_units: float = 0.0
    sort_logs: float = 0.0
    spilled: float = 0.0
    copied: float = 0.0
    counted: float = 0.0
    dives: float = 0.0
    gathered: float = 0.0
    steps: float = 0.0
    rows: float = 0.0
    bytes: float = 0.0
    values: float = 0.0
    misses: float = 0.0
    elsewhere: float = 0.0
    timed_us: float = 0.0
    timed_scatter: float = 0.0

    def __add__(self, other: Work) -> Work:
        """Return the work of one after the other; blocks that both need are fetched once."""
        both = Work(*(getattr(self, f.name) + getattr(other, f.name) for f in fields(self)))
        # A sum of two uncertain parts is no less certain than the worse of them.
        scatter = max(self.timed_scatter, other.timed_scatter)
        return replace(both, misses=max(self.misses, other.misses), timed_scatter=scatter)

    @property
    def read(self) -> float:
        """Rows or index entries read in all."""
        # Some engines tell of one row twice, as an entry and as scanned: it was read once.
        return max(self.entries, self.scanned + self.elsewhere)

    def times(self, factor: float) -> Work:
        """Return the work done `factor` times."""
        scaled = Work(*(getattr(self, f.name) * factor for f in fields(self)))
        return replace(scaled, timed_scatter=self.timed_scatter)


NO_WORK = Work(statements=0.0)


@dataclass(frozen=True, slots=True)
class Ask:
    """What one statement is for: `rows` rows behind `skip` skipped ones.

    `form`: page (LIMIT and OFFSET), seek (behind a key), deferred (keys by offset, then their
    rows), count, whole, or all (rows that a join reads, in no order). A count stops at `rows`. `at`
    is where in the order a page behind a key begins, in rows, as far as that is known.
    """

    form: str
    skip: float = 0.0
    rows: float = 0.0
    at: float = 0.0
