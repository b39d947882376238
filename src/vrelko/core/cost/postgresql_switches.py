"""How often an index scan of PostgreSQL comes to another table block.

By probed neighbours, by the order without an equality, by the statistics' correlation, and by the
lists in which an index keeps entries that are alike.
"""

from __future__ import annotations

from vrelko.core.cost.inputs import CostInputs
from vrelko.core.index import IndexFacts

_LISTED = 220.0
"""Entries alike that PostgreSQL keeps in one list: a sixth of a block of 6 bytes each."""

_NO_LISTS = ("numeric", "real", "double", "json", "float")  # of types whose alike may differ


def table_misses(inputs: CostInputs, visits: float) -> float:
    """Return distinct table blocks behind `visits` entries side by side.

    Jumps far away go by Mackert and Lohman (1989); the others fill a window w of blocks with
    u = w (1 - exp(-n / w)), u their distinct blocks by switches.
    """
    blocks = max(inputs.table.blocks, 1.0)
    index = inputs.path.index
    # What was probed tells jumps far away from neighbours; without a probe each switch counts as
    # far.
    far = index.far if index is not None and index.far is not None else switch_share(inputs)
    jumps, near = visits * far, visits * (1 - far)
    apart = min(2 * blocks * jumps / (2 * blocks + jumps), blocks) if jumps else 0.0
    return min(apart + near / inputs.rows_per_block + min(near, 1.0), blocks)


def switch_share(inputs: CostInputs, begin: float = 0.0, end: float = 0.0) -> float:
    """Return the share of neighbouring entries in different table blocks.

    From row `begin` to `end` of the order: NULLs stand by the row's id, which is about its place.
    """
    usual = usual_switches(inputs)
    if inputs.path.backward:
        usual = min(usual + turned_back(inputs, usual), 1.0)
    if inputs.nulls is None or end <= begin or not inputs.matching:
        return usual
    first, last = (share * inputs.matching for share in inputs.nulls)
    inside = max(min(end, last) - max(begin, first), 0.0) / (end - begin)
    # NULLs are alike, so the index keeps them in the order of their places in the table.
    null_run = min(1 / (inputs.rows_per_block * max(inputs.nulls[1] - inputs.nulls[0], 1e-9)), 1.0)
    return usual + inside * (min(null_run, usual) - usual)


def turned_back(inputs: CostInputs, switches: float) -> float:
    """Return the switches an entry that reading an index of many alike from its end adds.

    Entries alike are kept in lists (PostgreSQL 13 on), each of which is read in the order of its
    rows' places, forward, whichever way the index is read: so every list begins in the first of its
    blocks, behind the last one of the list ahead.
    """
    together = min(alike_entries(inputs), _LISTED)
    if together <= 1:
        return 0.0
    # A list of entries alike spans several blocks with this chance.
    across = min(together * switches, 1.0)
    return (1 - (1 - across) ** 2) * (1 - switches) / together


def alike_entries(inputs: CostInputs) -> float:
    """Return the mean number of an index's entries that are alike and kept in lists, 1 for none."""
    index = inputs.path.index
    # Entries that differ are not put into lists.
    if index is None or index.unique or not index.columns:
        return 1.0
    alike = inputs.table.rows
    for column in index.columns:
        name = column.name or ""
        known = inputs.table.column(name) if inputs.table.has_column(name) else None
        if known is None or not known.distinct or known.type.lower().startswith(_NO_LISTS):
            return 1.0
        alike /= known.distinct
    return max(alike, 1.0)


def usual_switches(inputs: CostInputs) -> float:
    """Return the share as probed, or behind an equality as the order without it tells.

    Of rows that the equality picks with a share s, phi lie as the order's own neighbours do: of
    these (1 - (1 - s)^R) / (s R) switch, of the others each.
    """
    least = 1 / inputs.rows_per_block
    index = inputs.path.index
    if index is None:
        return least
    # Behind an equality the probed neighbours are no longer neighbours: rows of other values lie
    # between.
    whole = _without_fixed(inputs)
    if whole is not None and whole.switches is not None and least < 1:
        phi = min(max((1 - max(whole.switches, least)) / (1 - least), 0.0), 1.0)
        share = min(max(inputs.path.share, 1e-9), 1.0)
        near = (1 - (1 - share) ** inputs.rows_per_block) / (share * inputs.rows_per_block)
        return float(min(phi * near + 1 - phi, 1.0))
    if index.switches is not None:
        return max(index.switches, least)
    lead = next((c.name for c in index.columns if c.name not in inputs.path.fixed), None)
    known = (
        inputs.table.column(lead).correlation if lead and inputs.table.has_column(lead) else None
    )
    # Without a probe the statistics' correlation stands in, squared as the server's own costing has
    # it.
    spread = 1 - (known or 0.0) ** 2
    return least + (1 - least) * spread


def _without_fixed(inputs: CostInputs) -> IndexFacts | None:
    """Return an index on the columns behind those that equality fixes."""
    index, fixed = inputs.path.index, inputs.path.fixed
    if index is None or not fixed:
        return None
    rest = [column.name for column in index.columns[len(fixed) :]]
    for other in inputs.table.indexes:
        names = [column.name for column in other.columns]
        if rest and names[: len(rest)] == rest and not other.partial:
            # An index in the same order without the equality tells how rows lie there.
            return other
    return None


def apart_share(inputs: CostInputs) -> float:
    """Return the share of a bitmap's rows that lie in blocks of their own.

    By the correlation of the column that an equality fixes, where it is the index's only one: the
    neighbours that were probed may be those of another value, shared by many rows.
    """
    index = inputs.path.index
    if index is None or len(index.columns) != 1 or not inputs.path.fixed:
        return switch_share(inputs)
    name = index.columns[0].name or ""
    known = inputs.table.column(name).correlation if inputs.table.has_column(name) else None
    if known is None:
        return switch_share(inputs)
    least = 1 / inputs.rows_per_block
    return max(switch_share(inputs), least + (1 - least) * (1 - known**2))
