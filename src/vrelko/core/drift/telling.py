"""What walks suffer, in words for people who never heard of the distributions behind it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from vrelko.core.drift.simulating import Simulated
from vrelko.core.workload import Readers


def tell(
    listing: str, pages: int, dwell_s: float, simulated: Sequence[Simulated], readers: Readers
) -> Iterator[str]:
    """Yield what readers see by offset and by key, a walk and a day, and which keys move."""
    by_way = {one.way: one for one in simulated}
    offset, keyset = by_way["offset"], by_way["keyset"]
    yield (
        f"A reader who goes through {pages} pages of {listing}, {dwell_s:g} s each, sees "
        f"{_rows(offset.means['repeats'])} twice by offset and misses "
        f"{_rows(offset.means['misses'])}; {offset.clean:.0%} of such walks are clean."
    )
    if keyset.means["repeats"] or keyset.means["dodges"]:
        yield (
            f"By key no row at its place is seen twice or missed; rows whose keys change are seen "
            f"again ({keyset.means['repeats']:.2g} a walk) or slip behind the reader "
            f"({keyset.means['dodges']:.2g} a walk)."
        )
    else:
        yield "By key it sees none twice and misses none."
    walks = readers.a_minute * 1_440 / max(readers.depth.mean, 1.0)
    repeats, misses = (offset.means[name] * walks for name in ("repeats", "misses"))
    yield (
        f"At {readers.a_minute:g} pages a minute that makes about {repeats:,.0f} repeats and "
        f"{misses:,.0f} misses a day by offset."
    )


def _rows(mean: float) -> str:
    return "none" if mean < 0.005 else f"{mean:.2g} rows"
