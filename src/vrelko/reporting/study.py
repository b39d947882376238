"""A study: everything found out about one listing."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from vrelko.measuring.drifting import Drift
from vrelko.measuring.measure import Measurement
from vrelko.serving.planning import Plan


@dataclass(frozen=True, slots=True)
class Study:
    """One listing: planned, measured, and walked while rows change."""

    plan: Plan
    measurement: Measurement
    drift: Drift

    def as_dict(self) -> dict[str, Any]:
        """Return the study as plain data."""
        return {
            "plan": self.plan.as_dict(),
            "measurement": self.measurement.as_dict(),
            "drift": self.drift.as_dict(),
        }
