"""Clocks for tests, in the place of the machine's: how fast it is then tells nothing."""


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
