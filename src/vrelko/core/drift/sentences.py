"""What walks suffer, in words for people who never heard of the distributions behind it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from vrelko.core.drift.number_errors import NumberError
from vrelko.core.drift.simulating import Simulated
from vrelko.core.number_format import render_many
from vrelko.core.workload import Readers


def walks_per_day(readers: Readers) -> float:
    """Return the walks of all readers in a day."""
    return readers.pages_per_minute * 1_440 / max(readers.depth.mean, 1.0)


def no_changes(listing: str) -> str:
    """Return what is said where neither writers nor recorded changes are described."""
    return (
        f"{listing}: no changes are described, so the table is taken as static. Describe its "
        "writers, or record changes, to see what readers suffer."
    )


def tell(
    listing: str,
    pages: int,
    dwell_s: float,
    simulated: Sequence[Simulated],
    readers: Readers,
    overlap: int = 0,
) -> Iterator[str]:
    """Yield what readers see by offset and by key, per walk and per day, and what would help."""
    by_strategy = {str(one.strategy): one for one in simulated}
    offset, keyset = by_strategy["offset"], by_strategy["keyset"]
    yield (
        f"{listing}: a reader who pages through {render_many(pages, 'page')} by offset, "
        f"{dwell_s:.3g} s each, "
        f"sees {_rows(offset.means['repeats'])} twice and misses "
        f"{_rows(offset.means['misses'])}."
    )
    # Keys that do not change leave nothing to suffer: that is said plainly, without a figure.
    if keyset.means["repeats"] or keyset.means["dodges"]:
        yield (
            f"By keyset only rows whose keys change are seen again ({keyset.means['repeats']:.2g} "
            f"per walk) or slip behind the reader ({keyset.means['dodges']:.2g} per walk)."
        )
    else:
        yield "By keyset a reader sees none twice and misses none."
    walks = walks_per_day(readers)
    repeats, misses = (offset.means[name] * walks for name in ("repeats", "misses"))
    yield (
        f"At {readers.pages_per_minute:g} pages per minute, offset causes about "
        f"{_about(repeats)} repeats and {_about(misses)} misses per day."
    )
    if repeats or misses:
        yield from _tell_palliatives(by_strategy, overlap)


def _tell_palliatives(by_strategy: dict[str, Simulated], overlap: int) -> Iterator[str]:
    """Yield what a ceiling and an overlap do for those who must stay with row offsets."""
    offset = by_strategy["offset"].means
    ceiling, again = by_strategy.get("ceiling"), by_strategy.get("overlap")
    # A ceiling takes repeats away and adds misses, since rows that come no longer make up for rows
    # that go.
    if ceiling is not None:
        means = ceiling.means
        price = means["misses"] - offset["misses"]
        yield (
            f"If you must keep row offsets: a ceiling leaves {_rows(means['repeats'])} seen twice "
            f"and {_rows(means['misses'])} missed"
            + (f" ({price:.2g} more misses than without it)." if price > 0.005 else ".")
        )
    if again is not None and overlap:
        yield (
            f"Fetching {overlap:,} rows again per page and dropping those already shown leaves "
            f"none seen twice and {_rows(again.means['misses'])} missed."
        )


def tell_jumps(error: NumberError, age_s: float) -> str:
    """Return what those suffer who jump to page numbers by anchors."""
    told = (
        "A jump by counted anchors shows the page that has the number at that moment, and readers "
        "go on from it by keyset."
    )
    if error.most < 0.5:
        return told
    # An hour is the usual time between two builds.
    hours = f"{age_s / 3_600:g} hour{'' if age_s == 3_600 else 's'}"
    return (
        f"{told} Static anchors fall behind: {hours} after each build, numbers in the middle are "
        f"off by about {_about(abs(error.mean))} rows (9 times in 10 by at most "
        f"{_about(error.most)})."
    )


def _about(value: float) -> str:
    return f"{float(f'{value:.3g}'):,.0f}"


def _rows(mean: float) -> str:
    text = f"{mean:.2g}" if mean < 100 else f"{mean:,.0f}"
    return "none" if mean < 0.005 else f"{text} row{'' if text == '1' else 's'}"
