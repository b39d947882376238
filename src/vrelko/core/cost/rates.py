"""Rates: microseconds a unit of work, with how far a time from them may be off."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

from vrelko.core.cost.work import Work
from vrelko.core.engine_traits import TRAITS
from vrelko.core.facts import ServerFacts

SPREAD_PRIOR = 0.85
"""Log standard deviation of a time from shipped rates alone: a factor of 4 nine times in ten."""

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
        # It was run: its time is known better than any sum of parts. Warm, though.
        if work.timed_us and not self.cold:
            return work.timed_us / 1000
        # Misses are apart: whether a block is in the cache is the clock's to say, not the work's.
        us: float = sum(
            rate * getattr(work, name) for name, rate in self.rates.us.items() if name != "misses"
        )
        a_miss = TRAITS[self.rates.engine].prices.cold_us if self.cold else self.rates.us["misses"]
        return (us + a_miss * self.misses(work)) / 1000

    def time(self, work: Work, passing: float = 1.0, path: str | None = None) -> Time:
        """Return the time with its bounds.

        Wider where few rows pass a condition the index does not hold, as the rows walked until a
        page is full then scatter (negative binomial: relative variance (1 - s) / rows), for an
        access path that calibration has not run, and near the size of the cache.
        """
        ms = self.ms(work)
        measured = bool(work.timed_us) and not self.cold
        variance = (TRAITS[self.rates.engine].prices.spread if measured else self.rates.spread) ** 2
        if measured:
            variance += _COUNTED**2
        elif passing < 1 and work.rows:
            variance += math.log1p((1 - passing) / max(work.rows, 1.0))
        # Fitted on other paths, the rates are a guess for this one.
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
        # What fits stays there; what does not pushes itself out at each round.
        if self.cold or work.misses > self._cache_blocks:
            return work.misses
        return 0.0

    def _near_cliff(self, work: Work) -> bool:
        return not self.cold and 0.8 < work.misses / max(self._cache_blocks, 1.0) < 1.25

    @property
    def _cache_blocks(self) -> float:
        # Of unknown size it is taken to hold everything, which warm measurements show.
        if not self.server.cache_bytes:
            return math.inf
        return self.server.cache_bytes / self.server.block_bytes


def shipped_rates(engine: str) -> Rates:
    """Return the rates shipped for an engine."""
    return Rates(engine, TRAITS[engine].prices.us)


def features(clock: Clock, work: Work) -> list[float]:
    """Return the counts that rates are multiplied with, in the order of `feature_names`."""
    return [
        clock.misses(work) if name == "misses" else getattr(work, name)
        for name in feature_names(clock.rates.engine)
    ]


def feature_names(engine: str) -> tuple[str, ...]:
    """Return the counts of Work that take time on an engine."""
    return tuple(TRAITS[engine].prices.us)
