"""A stream of changes on an order: how many rows come and go, and where they land."""

from __future__ import annotations

import math
from dataclasses import dataclass

from vrelko.core.workload import Landing, Writers


@dataclass(frozen=True, slots=True)
class Stream:
    """Changes a second on an order of `rows` rows; deletes hit every row alike."""

    rows: float
    inserts: float
    deletes: float
    lands: Landing
    moves: float = 0.0

    @classmethod
    def of(cls, rows: float, writers: Writers) -> Stream:
        """Return the stream of a listing with `rows` rows."""
        return cls(
            rows,
            writers.inserts_per_minute / 60,
            writers.deletes_per_minute / 60,
            writers.lands,
            writers.moves_per_minute / 60,
        )

    def share_ahead(self, rank: float) -> float:
        """Return the share of inserts that land ahead of a rank."""
        if rank <= 0:
            return 0.0
        # All that lands at the head is ahead of any row but the first.
        if self.lands.kind == "head":
            return 1.0
        if self.lands.kind == "tail":
            return 0.0
        if self.lands.kind == "uniform":
            return min(rank / max(self.rows, 1.0), 1.0)
        return -math.expm1(-self._age(rank) / self.lands.mean_s)

    def density(self, rank: float) -> float:
        """Return the share of inserts that land on one rank."""
        if self.lands.kind == "uniform":
            return 1 / max(self.rows, 1.0)
        # At one end they land on no rank between the rows that were there.
        if self.lands.kind != "late" or self.inserts == 0:
            return 0.0
        share = self.share_ahead(max(rank, 0.5))
        return (1 - share) / (self.lands.mean_s * self.inserts * max(share, 1e-12))

    def rank_of(self, share: float) -> float:
        """Return the rank ahead of which `share` of the inserts land: the inverse of the above."""
        if self.lands.kind == "head":
            return 0.0
        if self.lands.kind == "tail":
            return self.rows
        if self.lands.kind == "uniform":
            return share * self.rows
        return self._rank(-self.lands.mean_s * math.log1p(-min(share, 1 - 1e-12)))

    def _rank(self, age: float) -> float:
        """Rows younger than `age` seconds, at a steady rate of inserts that come late."""
        mean = self.lands.mean_s
        return self.inserts * (age + mean * math.expm1(-age / mean))

    def _age(self, rank: float) -> float:
        """Return the age of the row at a rank: the inverse of `_rank`, by Newton's method.

        x + e^-x - 1 = y with x = age / mean and y = rank / (inserts mean) is convex and rises, so
        that the steps come down to the root from min(y + 1, y + sqrt(2 y)), which is no less.
        """
        if self.inserts <= 0:
            return math.inf
        y = rank / (self.inserts * self.lands.mean_s)
        x = min(y + 1, y + math.sqrt(2 * y))
        for _ in range(60):
            step = (x + math.expm1(-x) - y) / -math.expm1(-x)
            x -= step
            if step <= 1e-13 * x:
                break
        return x * self.lands.mean_s
