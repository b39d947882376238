"""Clocks and budgets for tests, which must not depend on how fast the machine is."""

ENOUGH_MS = 60_000
"""A budget of database time that no machine spends on the tables of tests."""


class SleepingClock:
    """Stands in for the module `time`: moves when somebody sleeps, and calls `wakes(now)` then."""

    def __init__(self, wakes, now=1_800_000_000.0):
        self.now, self.wakes = now, wakes

    def time(self):
        """Return the seconds since 1970."""
        return self.now

    def monotonic(self):
        """Return the same seconds."""
        return self.now

    def sleep(self, seconds):
        """Let time go by."""
        self.now += seconds
        self.wakes(self.now)
