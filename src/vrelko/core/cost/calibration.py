"""Calibration: rates fitted to a few timed statements, kept near the shipped ones.

θ = S θ₀ exp(d): one speed factor S for the machine and a deviation d for each rate, found by
minimising Σ (log x·θ − log y)² / 0.15² + (log S / 1.5)² + Σ (d / 0.3)² with Gauss–Newton steps
(a maximum a posteriori estimate with log-normal priors). Without them a count that none of the
few timed statements has could take any rate.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from vrelko.core.cost.rates import Clock, Rates, feature_names, features
from vrelko.core.cost.work import Work
from vrelko.core.engine_traits import TRAITS

_NOISE = 0.15
_SPEED = 1.5
_DEVIATION = 0.3
_STEPS = 30


@dataclass(frozen=True, slots=True)
class Timing:
    """One timed statement: its work, the fastest of its runs in milliseconds, its access path."""

    work: Work
    ms: float
    path: str


def fit_rates(clock: Clock, timings: Sequence[Timing]) -> Rates:
    """Return rates fitted to timings; those of `clock` are the priors. None timed: the priors."""
    if not timings:
        return clock.rates
    import numpy as np

    names = feature_names(clock.rates.engine)
    prior = np.array([clock.rates.us[name] for name in names], dtype=float)
    # Times are compared as logarithms: a page of 1 ms and one of 1 s weigh alike.
    x = np.array([features(clock, timing.work) for timing in timings], dtype=float)
    y = np.log([max(timing.ms, 1e-4) * 1000 for timing in timings])
    count = len(names)
    moved = np.zeros(count + 1)  # log S, then the deviations
    # The machine's speed first, by the median: one page that was disturbed does not move it.
    moved[0] = float(np.median(y - np.log(np.maximum(x @ prior, 1e-6))))
    weights = np.array([1 / _SPEED, *[1 / _DEVIATION] * count])
    for _ in range(_STEPS):
        theta = np.exp(moved[0]) * prior * np.exp(moved[1:])
        parts = x * theta
        sums = np.maximum(parts.sum(axis=1), 1e-9)
        slopes = parts / sums[:, None]
        jacobian = np.vstack([np.hstack([np.ones((len(y), 1)), slopes]) / _NOISE, np.diag(weights)])
        residual = np.concatenate([(np.log(sums) - y) / _NOISE, moved * weights])
        # Least squares of the linearized problem: more unknowns than timings, which the priors
        # hold.
        step = np.linalg.lstsq(jacobian, -residual, rcond=None)[0]
        size = float(np.abs(step).max())
        # No step beyond a factor of e: further away the linearization means nothing.
        moved += step * min(1.0, 1.0 / max(size, 1e-12))
        if size < 1e-6:
            break
    theta = np.exp(moved[0]) * prior * np.exp(moved[1:])
    # Where even the fitted rates miss the timings, the bounds are widened by as much.
    off = float(np.sqrt(np.mean((np.log(np.maximum(x @ theta, 1e-9)) - y) ** 2)))
    usual = TRAITS[clock.rates.engine].prices.spread
    spread = math.hypot(usual, max(off - _NOISE, 0.0))
    fitted = {name: float(value) for name, value in zip(names, theta, strict=True)}
    return Rates(clock.rates.engine, fitted, spread, tuple(sorted({t.path for t in timings})))
