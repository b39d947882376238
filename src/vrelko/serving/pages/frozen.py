"""Pages of frozen lists: the ids stored when a walk began, those rows that are still there."""

from __future__ import annotations

from typing import Any

from vrelko.core.arithmetic import Total, offset_of
from vrelko.core.spot import Spot
from vrelko.errors import PageError, UnavailableError
from vrelko.serving.pages.batch import Batch
from vrelko.serving.pages.request import BoundRequest
from vrelko.serving.steady.frozen import FrozenIds
from vrelko.serving.variants.row_keys import tied


def freeze(opened: BoundRequest, frozen: FrozenIds) -> str:
    """Store the ids of a variant's rows as they stand; return the list's name.

    Raises PageError where there are more than may be stored, UnavailableError where all lists
    together are too many now.
    """
    # The fingerprint holds parameters, order and scope, which is what walks must share.
    known = frozen.recent(opened.fingerprint)
    if known is not None:
        return known
    variant, room = opened.variant, frozen.room()
    # One more than may be stored tells that there are more, without counting them.
    statement = variant.keys().limit(min(frozen.most, room) + 1)
    rows, _ = opened.runner.fetch(statement, None, {})
    if room < frozen.most and len(rows) > room:
        raise UnavailableError(
            "too many frozen lists are in use for another walk to begin",
            "Try again when some have expired, or raise FrozenIds(most_in_all=…)",
            "frozen-full",
        )
    if len(rows) > frozen.most:
        raise PageError(
            f"the listing has more than {frozen.most:,} rows, too many for a frozen list",
            "Filter it, raise FrozenIds(most=…), or serve it by key",
            "frozen-most",
        )
    name = frozen.store([variant.id_of(variant.converted(row)) for row in rows])
    frozen.remember(opened.fingerprint, name)
    return name


def read_frozen(opened: BoundRequest, frozen: FrozenIds, name: str, spot: Spot, size: int) -> Batch:
    """Return the rows of a stored list's page that are still there, with their present values."""
    if spot.kind == "end":
        _, total = frozen.fetch(name, 0, 0)
        begin = max(-(-total // size) - 1, 0) * size
    elif spot.kind == "number":
        begin = offset_of(spot.at or 1, size)
    else:
        begin = spot.at or 0
    wanted, total = frozen.fetch(name, begin, begin + size)
    variant = opened.variant
    found: dict[tuple[Any, ...], tuple[Any, Any]] = {}
    if wanted:
        statement, ids = variant.by_ids(wanted)
        rows, full = opened.runner.fetch(statement, variant.cutter, ids, variant.apart)
        for row, whole in zip(rows, full, strict=True):
            key = variant.id_of(variant.key_from(whole))
            # A list of ids cannot tell which of two rows was in it.
            if key in found:
                raise tied(str(variant.order))
            found[key] = row, whole
    # In the order of the list: rows come as the engine finds them.
    kept = [found[key] for key in wanted if key in found]
    return Batch(
        rows=[row for row, _ in kept],
        full=[whole for _, whole in kept],
        before=begin > 0,
        after=begin + size < total,
        offset=begin,
        exact=True,
        total=Total(total, "exact"),
    )
