"""calibrate: the rates of a server, from the pages that verification runs."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import Engine

from vrelko.core.cost.rates import Rates
from vrelko.errors import FactsError
from vrelko.measuring.budget import BUDGET_MS
from vrelko.measuring.verification import verify
from vrelko.planning.plan import Plan


def calibrate(
    engine: Engine,
    plans: Plan | Sequence[Plan],
    thorough: bool = False,
    budget_ms: float = BUDGET_MS,
) -> Rates:
    """Return rates fitted to this server: about ten pages of each plan timed, more if `thorough`.

    Reads only, for `budget_ms` milliseconds of database time at most. Pages that the server counts
    otherwise than predicted are left out. Without any page to time: the shipped rates. Raises
    FactsError without a plan, DatabaseError when the database refuses.
    """
    many = [plans] if isinstance(plans, Plan) else list(plans)
    if not many:
        raise FactsError(
            "calibrate needs at least one plan", "Give a plan of vrelko.plan()", "plan-nothing"
        )
    # Verification times pages anyway, and rates are fitted to those.
    return verify(engine, many, budget_ms, thorough)[0].judgement.rates
