"""Rates: microseconds a unit of work, with how far a time from them may be off."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

from vrelko.core.cost.work import Work
from vrelko.core.facts import ServerFacts

PRIORS: dict[str, dict[str, float]] = {
    "postgresql": {
        "statements": 815, "entries": 0.107, "visits": 0.058, "switches": 0.57, "seeks": 4.7,
        "scanned": 0.099, "scanned_blocks": 1.5, "checked": 0.088, "sort_units": 0.028,
        "sort_logs": 0.019, "spilled": 0.0025, "counted": 0.0036, "gathered": 13_800, "rows": 0.51,
        "bytes": 0.00058, "values": 0.25, "misses": 0.86,
    },
    "mariadb": {
        "statements": 905, "entries": 0.17, "visits": 2.9, "scanned": 0.26, "seeks": 2.0,
        "checked": 0.0096, "sort_units": 0.062, "sort_logs": 0.007, "spilled": 0.0045,
        "copied": 1.9, "counted": 0.019, "dives": 40, "rows": 1.6, "bytes": 0.0039, "values": 1.1,
        "misses": 1.6,
    },
    "sqlite": {
        "statements": 125, "entries": 0.017, "switches": 0.04, "visits": 0.94, "seeks": 1.15,
        "scanned": 0.012, "checked": 0.023, "sort_units": 0.031, "sort_logs": 0.03,
        "spilled": 0.002, "counted": 0.031, "copied": 0.56, "rows": 0.75, "bytes": 0.0008,
        "values": 0.09, "misses": 1.4,
    },
}  # fmt: skip
"""Microseconds a unit, fitted on tables of other shapes than accuracy is shown on; see
docs/accuracy.md. `misses` are blocks beyond what the server's cache holds, as scans fetch them."""

COLD_US = {"postgresql": 3.0, "mariadb": 40.0, "sqlite": 2.1}
"""Microseconds a block when none is in the server's cache: from the operating system's cache on
PostgreSQL and SQLite, from a disk on MariaDB, which reads past that one."""

SPREAD_PRIOR = 0.85
"""Log standard deviation of a time from shipped rates alone: a factor of 4 nine times in ten."""

SPREAD_FITTED = {"postgresql": 0.265, "mariadb": 0.265, "sqlite": 0.24}
"""The same after calibration on the server, by engine: of times measured on a shared machine up to
a minute later, nine in ten lay within a factor of 1.55 (1.48 on SQLite)."""

_NINE_IN_TEN = 1.645
_UNSEEN = 0.35  # more log spread for an access path that was never run
_COUNTED = 0.3  # more between the depths at which a page was counted
_CLIFF = 0.5  # more where the blocks in play are about as many as the cache has


@dataclass(frozen=True, slots=True)
class Rates:
    """Microseconds a unit of each count of Work, on one server.

    `spread` is the log standard deviation of what they predict; `paths` are the signatures of
    access paths that were run for it, none where the rates are the shipped ones.
    """

    engine: str
    us: Mapping[str, float]
    spread: float = SPREAD_PRIOR
    paths: tuple[str, ...] = ()

    @property
    def calibrated(self) -> bool:
        """Whether these rates were fitted on the server."""
        return bool(self.paths)


@dataclass(frozen=True, slots=True)
class Time:
    """An expected time in milliseconds, with the bounds it keeps nine times in ten."""

    ms: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Clock:
    """Tells the time of works on one server, warm or cold."""

    rates: Rates
    server: ServerFacts
    cold: bool = False

    def ms(self, work: Work) -> float:
        """Return the expected time of a work in milliseconds."""
        if work.timed_us and not self.cold:
            return work.timed_us / 1000
        us: float = sum(
            rate * getattr(work, name) for name, rate in self.rates.us.items() if name != "misses"
        )
        a_miss = COLD_US[self.rates.engine] if self.cold else self.rates.us["misses"]
        return (us + a_miss * self.misses(work)) / 1000

    def time(self, work: Work, passing: float = 1.0, path: str | None = None) -> Time:
        """Return the time with its bounds.

        Wider where few rows pass a condition the index does not hold, as the rows walked until a
        page is full then scatter (negative binomial: relative variance (1 - s) / rows), for an
        access path that calibration has not run, and near the size of the cache.
        """
        ms = self.ms(work)
        measured = bool(work.timed_us) and not self.cold
        variance = (SPREAD_FITTED[self.rates.engine] if measured else self.rates.spread) ** 2
        if measured:
            variance += _COUNTED**2
        elif passing < 1 and work.rows:
            variance += math.log1p((1 - passing) / max(work.rows, 1.0))
        if self.rates.calibrated and path is not None and path not in self.rates.paths:
            variance += _UNSEEN**2
        variance += work.timed_scatter**2
        if self._near_cliff(work):
            variance += _CLIFF**2
        factor = math.exp(_NINE_IN_TEN * math.sqrt(variance))
        return Time(ms, ms / factor, ms * factor)

    def when_cold(self) -> Clock:
        """Return a clock for a cache that holds none of the blocks."""
        return replace(self, cold=True)

    def misses(self, work: Work) -> float:
        """Return blocks that are not in the cache: all when cold, else those it cannot hold."""
        if self.cold or work.misses > self._cache_blocks:
            return work.misses
        return 0.0

    def _near_cliff(self, work: Work) -> bool:
        return not self.cold and 0.8 < work.misses / max(self._cache_blocks, 1.0) < 1.25

    @property
    def _cache_blocks(self) -> float:
        if not self.server.cache_bytes:
            return math.inf
        return self.server.cache_bytes / self.server.block_bytes


def shipped_rates(engine: str) -> Rates:
    """Return the rates shipped for an engine."""
    return Rates(engine, PRIORS[engine])


def features(clock: Clock, work: Work) -> list[float]:
    """Return the counts that rates are multiplied with, in the order of `feature_names`."""
    return [
        clock.misses(work) if name == "misses" else getattr(work, name)
        for name in feature_names(clock.rates.engine)
    ]


def feature_names(engine: str) -> tuple[str, ...]:
    """Return the counts of Work that take time on an engine."""
    return tuple(PRIORS[engine])
