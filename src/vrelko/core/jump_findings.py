"""Jumps to page numbers: what they cost as they are served, and when counted anchors pay."""

from __future__ import annotations

from collections.abc import Iterator

from vrelko.core.cost.rates import Clock
from vrelko.core.findings import Finding, make_finding
from vrelko.core.number_format import render_ms
from vrelko.core.reader_load import ANCHORS, VariantModel, jump_costs, jump_strategy
from vrelko.core.workload import Needs, Readers, Writers

SLOW_MS = 20.0
"""What the dearest jump may take by offset before triggers and a worker are worth thinking of."""

MOST_CHANGES = 10_000.0
"""Rows a second that come, go or move, up to which a fold worker keeps up (docs/big.md)."""

_PAYS = 3.0  # times as fast, at least


def find_jumps(
    variant: VariantModel, readers: Readers, writers: Writers, needs: Needs, clock: Clock
) -> Iterator[Finding]:
    """Yield what is to be said of jumps: that they are slow, or that anchors could not keep up."""
    outline = variant.outline
    wanted = readers.depth.jumps > 0 or needs.jump or needs.jump_ms is not None
    if not (wanted and outline.may_have_anchors):
        return
    per_minute = writers.inserts_per_minute + writers.deletes_per_minute
    # A move leaves one key and arrives at another: two rows of the log.
    per_minute += 2 * writers.moves_per_minute
    if outline.jumps == "anchors":
        if per_minute > 60 * MOST_CHANGES:
            yield make_finding(
                "anchors-outrun",
                "jumps",
                f"{per_minute / 60:,.0f} log rows per second come from writers, and a fold worker "
                f"moves about {MOST_CHANGES:,.0f} of them",
                "Serve pages by key without page numbers, or drop the anchors while rows are "
                "loaded",
            )
        return
    now_by = jump_strategy(variant, clock)
    # Compared at the dearest page: readers complain of the slow jump, not of the mean one.
    now, then = (max(jump_costs(one, variant, clock)) for one in (now_by, ANCHORS))
    most = SLOW_MS if needs.jump_ms is None else needs.jump_ms
    if now <= most or now < _PAYS * then or per_minute > 60 * MOST_CHANGES:
        return
    price = "rows do not change as described, so they may be static: no trigger, no worker"
    if per_minute:
        price = f"writers add {per_minute:,.3g} rows per minute to a log, and a worker folds it"
    yield make_finding(
        "slow-jumps",
        "jumps",
        f"a jump takes up to {render_ms(now)} ms by {now_by}; by counted anchors about "
        f"{render_ms(then)} ms; {price}",
        'Say jumps = "anchors", then look at `vrelko anchors plan`',
    )
