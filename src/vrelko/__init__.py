"""Vrelko: plan, measure and serve the pages of large database tables."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from vrelko import errors

if TYPE_CHECKING:
    from vrelko.core.access_log import LogQuestion, readers_from_log
    from vrelko.core.arithmetic import Sizes, Total
    from vrelko.core.drift.recorded import read_events
    from vrelko.core.drift.settle_delay import Delays, settle_for
    from vrelko.core.facts import Facts
    from vrelko.core.periods import Periods
    from vrelko.core.spot import Spot
    from vrelko.core.workload import Depth, Landing, Needs, Readers, Use, Workload, Writers
    from vrelko.measuring.calibrate import calibrate
    from vrelko.measuring.commits import watch_commits
    from vrelko.measuring.concurrent import Crowd, run_crowd
    from vrelko.measuring.drift import Drift, drift
    from vrelko.measuring.engines import try_indexes
    from vrelko.measuring.measure import Measurement, measure
    from vrelko.measuring.plans import plan
    from vrelko.pagesfile.load import Pages, load
    from vrelko.planning.plan import Plan
    from vrelko.serving.listing import Listing
    from vrelko.serving.pages.page import Page
    from vrelko.serving.steady.frozen import FrozenIds, reading_for
    from vrelko.serving.steady.settings import Settle, Steady
    from vrelko.sql.search import Search
    from vrelko.surveying.survey import survey
    from vrelko.surveying.writes import Writes, survey_writes

_HOMES = {
    "Crowd": "vrelko.measuring.concurrent",
    "Delays": "vrelko.core.drift.settle_delay",
    "Depth": "vrelko.core.workload",
    "Drift": "vrelko.measuring.drift",
    "Facts": "vrelko.core.facts",
    "FrozenIds": "vrelko.serving.steady.frozen",
    "Landing": "vrelko.core.workload",
    "Listing": "vrelko.serving.listing",
    "LogQuestion": "vrelko.core.access_log",
    "Measurement": "vrelko.measuring.measure",
    "Needs": "vrelko.core.workload",
    "Page": "vrelko.serving.pages.page",
    "Pages": "vrelko.pagesfile.load",
    "Periods": "vrelko.core.periods",
    "Plan": "vrelko.planning.plan",
    "Readers": "vrelko.core.workload",
    "Search": "vrelko.sql.search",
    "Settle": "vrelko.serving.steady.settings",
    "Sizes": "vrelko.core.arithmetic",
    "Spot": "vrelko.core.spot",
    "Steady": "vrelko.serving.steady.settings",
    "Total": "vrelko.core.arithmetic",
    "Use": "vrelko.core.workload",
    "Workload": "vrelko.core.workload",
    "Writers": "vrelko.core.workload",
    "Writes": "vrelko.surveying.writes",
    "calibrate": "vrelko.measuring.calibrate",
    "drift": "vrelko.measuring.drift",
    "load": "vrelko.pagesfile.load",
    "measure": "vrelko.measuring.measure",
    "plan": "vrelko.measuring.plans",
    "read_events": "vrelko.core.drift.recorded",
    "readers_from_log": "vrelko.core.access_log",
    "reading_for": "vrelko.serving.steady.frozen",
    "run_crowd": "vrelko.measuring.concurrent",
    "settle_for": "vrelko.core.drift.settle_delay",
    "survey": "vrelko.surveying.survey",
    "survey_writes": "vrelko.surveying.writes",
    "try_indexes": "vrelko.measuring.engines",
    "watch_commits": "vrelko.measuring.commits",
}

__all__ = [
    "Crowd",
    "Delays",
    "Depth",
    "Drift",
    "Facts",
    "FrozenIds",
    "Landing",
    "Listing",
    "LogQuestion",
    "Measurement",
    "Needs",
    "Page",
    "Pages",
    "Periods",
    "Plan",
    "Readers",
    "Search",
    "Settle",
    "Sizes",
    "Spot",
    "Steady",
    "Total",
    "Use",
    "Workload",
    "Writers",
    "Writes",
    "calibrate",
    "drift",
    "errors",
    "load",
    "measure",
    "plan",
    "read_events",
    "readers_from_log",
    "reading_for",
    "run_crowd",
    "settle_for",
    "survey",
    "survey_writes",
    "try_indexes",
    "watch_commits",
]


def __getattr__(name: str) -> Any:
    """Load a public name when it is first used, so that `vrelko --help` loads no SQLAlchemy."""
    if name not in _HOMES:
        raise AttributeError(f"module 'vrelko' has no attribute {name!r}")
    return getattr(import_module(_HOMES[name]), name)
