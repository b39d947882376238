"""A study: everything found out about one listing."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from vrelko.measuring.drift import Drift
from vrelko.measuring.measure import Measurement
from vrelko.planning.plan import Plan

RATE_FACTORS = (0.01, 0.03, 0.1, 0.3, 1.0, 3.0)
"""Multiples of the write rates at which clean walks are counted."""


@dataclass(frozen=True, slots=True)
class Study:
    """One listing: planned, measured, and walked while rows change.

    `clean`: each strategy's share of clean walks where write rates are multiplied by RATE_FACTORS.
    `notes` say what was left out, and why.
    """

    plan: Plan
    measurement: Measurement
    drift: Drift
    clean: dict[str, list[float]] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """Return the study as plain data."""
        return {
            "plan": self.plan.as_dict(),
            "measurement": self.measurement.as_dict(),
            "drift": self.drift.as_dict(),
            "clean_walks": {"rate_factors": list(RATE_FACTORS), **self.clean},
            "notes": list(self.notes),
        }
