"""What each engine's own counters show of a work."""

from __future__ import annotations

from vrelko.core.cost.engine_work import ENGINE_WORK
from vrelko.core.cost.work import Work


def counted_as(engine: str, work: Work) -> float:
    """Return what an engine's counter is expected to show for a work."""
    return ENGINE_WORK[engine].counted(work)
