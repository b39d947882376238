"""What walks suffer, in words for people who never heard of the distributions behind it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from vrelko.core.drift.simulating import Simulated
from vrelko.core.workload import Readers


def walks_a_day(readers: Readers) -> float:
    """Return the walks of all readers in a day."""
    return readers.pages_per_minute * 1_440 / max(readers.depth.mean, 1.0)


def tell(
    listing: str,
    pages: int,
    dwell_s: float,
    simulated: Sequence[Simulated],
    readers: Readers,
    overlap: int = 0,
) -> Iterator[str]:
    """Yield what readers see by offset and by key, a walk and a day, and what else would help."""
    by_way = {str(one.way): one for one in simulated}
    offset, keyset = by_way["offset"], by_way["keyset"]
    yield (
        f"A reader who goes through {pages} pages of {listing}, {dwell_s:.3g} s each, sees "
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
    walks = walks_a_day(readers)
    repeats, misses = (offset.means[name] * walks for name in ("repeats", "misses"))
    yield (
        f"At {readers.pages_per_minute:g} pages per minute that makes about {_about(repeats)} "
        f"repeats and {_about(misses)} misses a day by offset."
    )
    if repeats or misses:
        yield from _tell_palliatives(by_way, overlap)


def _tell_palliatives(by_way: dict[str, Simulated], overlap: int) -> Iterator[str]:
    """Yield what a ceiling and an overlap do for those who must stay with row offsets."""
    offset = by_way["offset"].means
    ceiling, again = by_way.get("ceiling"), by_way.get("overlap")
    if ceiling is not None:
        means = ceiling.means
        price = means["misses"] - offset["misses"]
        yield (
            f"Where row offsets must stay: with a ceiling {_rows(means['repeats'])} come twice "
            f"and {_rows(means['misses'])} are missed"
            + (
                f" ({price:.2g} more than without it, which is its price)."
                if price > 0.005
                else "."
            )
        )
    if again is not None and overlap:
        yield (
            f"Asking again for {overlap:,} rows and leaving out those seen, none come twice and "
            f"{_rows(again.means['misses'])} are missed."
        )


def _about(value: float) -> str:
    return f"{float(f'{value:.3g}'):,.0f}"


def _rows(mean: float) -> str:
    text = f"{mean:.2g}" if mean < 100 else f"{mean:,.0f}"
    return "none" if mean < 0.005 else f"{text} row{'' if text == '1' else 's'}"
