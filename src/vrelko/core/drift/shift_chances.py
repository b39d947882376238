"""How far a page boundary shifts: the difference of two Poisson numbers, Skellam's distribution.

X rows come ahead of a boundary in a dwell and Y go; D = X - Y (J. G. Skellam, Journal of the Royal
Statistical Society 109, 1946).
"""

from __future__ import annotations

import math


def chance_of_no_shift(came: float, went: float) -> float:
    """Return P(X = Y) for X and Y Poisson of mean came and went: Skellam's at 0."""
    if came <= 0 or went <= 0:
        return math.exp(-max(came, went, 0.0))
    from scipy.special import ive

    # The scaled Bessel function and the exponent go together: each alone overflows.
    both = 2 * math.sqrt(came * went)
    return float(ive(0, both) * math.exp(both - came - went))


def chance_behind(came: float, went: float, k: int) -> float:
    """Return P(Y - X > k) for X and Y Poisson of mean came and went."""
    import numpy as np
    from scipy.special import gammaln, pdtrc

    if went <= 0:
        return 0.0
    if came <= 0:
        return float(pdtrc(k, went))
    # Terms beyond ten deviations add nothing that a float can hold.
    spread = 10 * math.sqrt(came) + 20
    i = np.arange(max(math.floor(came - spread), 0), math.ceil(came + spread) + 1)
    # By logarithms: factorials of a few hundred overflow.
    weights = np.exp(i * math.log(came) - came - gammaln(i + 1))
    return float((weights * pdtrc(i + k, went)).sum())


def expect_behind(came: float, went: float, k: int) -> float:
    """Return E[max(Y - X - k, 0)] for X and Y Poisson of mean came and went: a sum of tails."""
    total, chance, j = 0.0, 1.0, k
    # Each tail is smaller than the one before, so the sum ends where they vanish.
    while chance > 1e-12 and j < k + 10_000:
        chance = chance_behind(came, went, j)
        total, j = total + chance, j + 1
    return total


def expect_shift(came: float, went: float) -> tuple[float, float]:
    """Return E[max(D, 0)] and E[max(-D, 0)] of D = X - Y, X and Y Poisson of mean came and went.

    D is Skellam's. The smaller mean sums E[(X - j)+] = a P(X >= j) - j P(X > j) over Y = j (no
    term cancels another, whatever the means), the larger follows from E[D] = came - went.
    """
    if came <= 0 or went <= 0:
        return max(came, 0.0), max(went, 0.0)
    # The rarer direction is summed, the other follows from the difference of the means: no
    # cancellation.
    if came > went:
        behind = _expect_excess(went, came)
        return behind + came - went, behind
    ahead = _expect_excess(came, went)
    return ahead, ahead + went - came


def _expect_excess(low: float, high: float) -> float:
    """Return E[max(X - Y, 0)] for X and Y Poisson of mean `low` and `high`."""
    import numpy as np
    from scipy.special import gammaln, pdtrc

    # Terms beyond twelve deviations add nothing that a float can hold.
    spread = 12 * math.sqrt(high) + 30
    j = np.arange(max(math.floor(high - spread), 0), math.ceil(high + spread) + 1)
    weights = np.exp(j * math.log(high) - high - gammaln(j + 1))
    beyond = pdtrc(j, low)  # P(X > j)
    at_least = np.where(j > 0, pdtrc(np.maximum(j - 1, 0), low), 1.0)
    return float((weights * (low * at_least - j * beyond)).sum())
