"""Settle delays: how long a reader of an ascending tail waits for late commits.

A row gets its key when its transaction writes it, and is visible when that commits, a delay C
later. A reader who polls and goes on from the last key it saw has passed a row whose key is lower
and that was not visible yet: the row is lost. Waiting, that is reading only keys older than W,
loses only rows with C > W. Source of the formulas: docs/drift.md.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from vrelko.errors import PageError

_STEPS = 2_000


@dataclass(frozen=True, slots=True)
class Delays:
    """Measured delays between a row's key and its being visible, in seconds, ascending.

    `resolution_s`: each may be too long by as much as that, never too short.
    """

    seconds: tuple[float, ...]
    resolution_s: float = 0.0

    @classmethod
    def of(cls, seconds: Sequence[float], resolution_s: float = 0.0) -> Delays:
        """Return delays in ascending order; negative ones, of clocks that disagree, count as 0."""
        return cls(tuple(sorted(max(one, 0.0) for one in seconds)), resolution_s)

    def share_within(self, wait_s: float) -> float:
        """Return the share of delays of at most `wait_s` seconds."""
        return bisect_right(self.seconds, wait_s) / max(len(self.seconds), 1)

    def quantile(self, share: float) -> float:
        """Return the least delay that a `share` of all do not exceed, 0 where none is known."""
        if not self.seconds:
            return 0.0
        # The least one that enough delays do not exceed: on the safe side, no interpolation.
        place = math.ceil(share * len(self.seconds)) - 1
        return self.seconds[min(max(place, 0), len(self.seconds) - 1)]


def settle_for(delays: Delays, chance: float) -> float:
    """Return the wait with which a row is lost with at most a `chance`, in seconds.

    W = C^-1(1 - chance), on the safe side: a row must also be overtaken to be lost. Raises
    PageError where fewer delays were measured than the chance asks for: the longest of n says
    nothing of chances under 1 / n.
    """
    if not 0 < chance < 1:
        raise PageError(
            f"a chance of {chance} is not between 0 and 1", "Give such as 0.001", "workload-value"
        )
    # Of n delays the longest stands for a chance of 1 / n, and nothing stands for less.
    needed = math.ceil(1 / chance)
    if len(delays.seconds) < needed:
        raise PageError(
            f"{len(delays.seconds):,} delays are too few for a chance of {chance:g}",
            f"Watch until {needed:,} rows have come, or ask for a larger chance",
            "settle-few",
        )
    return delays.quantile(1 - chance)


@dataclass(frozen=True, slots=True)
class Wait:
    """A settle delay: the wait for a `chance` that a row is lost, and the share lost with it."""

    chance: float
    wait_s: float
    lost: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Settling:
    """What a watch of `seconds` says of a tail that a reader asks for every `every_s` seconds.

    `lost` is the share of rows that it loses without waiting; `quantiles` of the delays by share.
    """

    rows: int
    seconds: float
    every_s: float
    resolution_s: float
    lost: float
    quantiles: dict[str, float]
    waits: tuple[Wait, ...]

    def as_dict(self) -> dict[str, Any]:
        """Return this as plain data."""
        return asdict(self)


_CHANCES = (0.1, 0.01, 0.001, 0.0001)
_SHARES = (0.5, 0.9, 0.99, 0.999, 1.0)


def advise_settling(delays: Delays, seconds: float, every_s: float) -> Settling:
    """Return waits for chances as small as the rows watched can tell, and what is lost with them.

    Raises PageError where no row came at all.
    """
    rows = len(delays.seconds)
    if rows < 1 / _CHANCES[0]:
        raise PageError(
            f"{rows:,} rows came in {seconds:g} s of watching: too few to tell delays from",
            f"Watch longer, until {1 / _CHANCES[0]:.0f} rows have come",
            "settle-few",
        )
    rate = rows / seconds
    waits = []
    for chance in _CHANCES:
        # Smaller chances than the watch can tell are left out rather than guessed.
        if chance * rows >= 1:
            # What is lost with a wait is less than its chance: a late row must be overtaken to be
            # lost.
            wait = settle_for(delays, chance)
            waits.append(Wait(chance, wait, expect_lost(delays, rate, every_s, wait)))
    quantiles = {f"{share:g}": delays.quantile(share) for share in _SHARES}
    return Settling(
        rows=rows,
        seconds=seconds,
        every_s=every_s,
        resolution_s=delays.resolution_s,
        lost=expect_lost(delays, rate, every_s),
        quantiles=quantiles,
        waits=tuple(waits),
    )


def expect_lost(delays: Delays, rate: float, every_s: float, wait_s: float = 0.0) -> float:
    """Return the share of rows that a poller loses.

    `rate` rows a second come; it polls every `every_s` seconds (0: without a pause), and waits
    `wait_s`. With Lam(w) = rate times the integral of C from W to w, a poll loses
    rate times the integral over w > W of (C(w + d) - C(w)) (1 - exp(-Lam(w))); without pause a row
    is lost with the chance E[1 - exp(-Lam(C))] over C > W.
    """
    import numpy as np

    if rate <= 0 or not delays.seconds or delays.seconds[-1] <= wait_s:
        return 0.0
    # No row becomes visible later than that, as far as the watch can tell.
    longest = delays.seconds[-1]
    # Measured delays have no density to integrate: their distribution is taken at a fine grid.
    w = np.linspace(wait_s, longest, _STEPS + 1)
    known = np.asarray(delays.seconds)
    # Of a row this old, how likely it is to be visible by now.
    share = np.searchsorted(known, w, side="right") / len(known)
    step = w[1] - w[0]
    inside = np.concatenate([[0.0], np.cumsum((share[1:] + share[:-1]) / 2 * step)])
    # The chance that a row with a higher key became visible first.
    overtaken = -np.expm1(-rate * inside)
    if every_s <= 0:
        late = known[known > wait_s]
        return float(np.interp(late, w, overtaken).sum() / len(known))
    # Only rows that become visible before the next poll can be passed over by this one.
    later = np.searchsorted(known, w + every_s, side="right") / len(known)
    lost = (later - share) * overtaken
    late_share = 1 - delays.share_within(wait_s)  # of which are the lost ones
    return float(min(((lost[1:] + lost[:-1]) / 2 * step).sum() / every_s, late_share))
