"""The clock that budgets of database time and time limits go by.

A module of its own, so that whoever tests a budget can put another clock in its place.
"""

from __future__ import annotations

from time import perf_counter


def now_s() -> float:
    """Return the seconds since some fixed moment; they never go back."""
    return perf_counter()
