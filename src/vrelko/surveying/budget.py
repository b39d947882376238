"""The time a survey may take."""

from __future__ import annotations

from vrelko.engines import clock


class Budget:
    """Milliseconds for sampling and probing, counted from when it is made."""

    def __init__(self, ms: float) -> None:
        self._began = clock.now_s()
        self._ms = ms

    @property
    def left_ms(self) -> float:
        """Milliseconds left, 0 when spent."""
        return max(self._ms - (clock.now_s() - self._began) * 1e3, 0.0)

    @property
    def spent(self) -> bool:
        """Whether nothing is left."""
        return self.left_ms <= 0
