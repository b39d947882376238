"""Figures of a study, as SVG text."""

from __future__ import annotations

import io
import re
from typing import TYPE_CHECKING, Any

from vrelko.core.cost.counted import counted_as

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from vrelko.reporting.study import Study

COLOURS = {
    "offset": "#c2552d",
    "two-ended": "#b8860b",
    "deferred-join": "#5b6abf",
    "keyset": "#0f766e",
    "whole": "#6b7280",
}
"""One colour a strategy, told apart without colour by marker and line too."""

# Told apart by shape too: not every reader tells these colours apart, and prints are grey.
_MARKS = {"offset": "s", "two-ended": "^", "deferred-join": "D", "keyset": "o"}
_LINES = {"offset": "--", "two-ended": ":", "deferred-join": "-.", "keyset": "-"}


def draw_work(study: Study) -> str:
    """Return the work of a page by its depth, estimated (lines) and measured (marks), log axes."""
    figure, axes = make_figure()
    engine = study.plan.facts.server.engine
    counted: dict[str, list[tuple[int, float]]] = {}
    for page in study.measurement.pages:
        counted.setdefault(page.strategy, []).append((page.page, page.counted))
    for candidate in study.plan.candidates:
        # All rows at once have one depth, which is no line.
        if candidate.strategy not in _MARKS:
            continue
        colour = COLOURS[candidate.strategy]
        pages = [rung.page for rung in candidate.ladder]
        axes.plot(
            pages,
            [counted_as(engine, rung.work) for rung in candidate.ladder],
            color=colour,
            linewidth=2,
            linestyle=_LINES[candidate.strategy],
        )
        points = counted.get(candidate.strategy, [])
        mark = {
            "color": colour,
            "marker": _MARKS[candidate.strategy],
            "markersize": 7,
            "markerfacecolor": "white",
            "markeredgewidth": 1.8,
        }
        pairs = [page for page, _ in points], [count for _, count in points]
        # White within, so that a mark shows where the line passes through it.
        axes.plot(*pairs, linestyle="none", **mark)
        axes.plot(
            [],
            [],
            linestyle=_LINES[candidate.strategy],
            linewidth=2,
            # An empty line for the legend, which then shows line and mark together.
            label=candidate.strategy,
            **mark,
        )
    _draw_crossovers(axes, study)
    axes.set_xscale("log")
    axes.set_yscale("log")
    axes.set_xlabel("page number")
    axes.set_ylabel(f"{study.measurement.unit} per page")
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    low, high = axes.get_ylim()
    # From a whole power of ten, so that the lowest grid line has a number.
    axes.set_ylim(10 ** int(_log10(low)), high)
    axes.grid(True, which="major", color="#e5e7eb")
    figure.legend(fontsize=9, loc="outside upper center", ncols=4, frameon=False, handlelength=3)
    return to_svg(figure)


def _draw_crossovers(axes: Any, study: Study) -> None:
    """Mark the pages from which on offset takes several times as long as keyset."""
    for crossover in study.plan.judgement.crossovers:
        if crossover.page is not None:
            axes.axvline(crossover.page, color="#9ca3af", linewidth=1, linestyle=":")
            # By share of the height, as the range of the other axis is not known yet.
            axes.annotate(
                f"{crossover.factor:g}×",
                (crossover.page, 1),
                xycoords=("data", "axes fraction"),
                xytext=(3, -12),
                textcoords="offset points",
                color="#4b5563",
                fontsize=9,
            )


def make_figure(inches: tuple[float, float] = (5.6, 3.7), panels: int = 1) -> tuple[Figure, Any]:
    """Return a figure of our own and its panels, without touching pyplot's global state."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=inches, layout="constrained")
    axes = figure.subplots(1, panels)
    for one in [axes] if panels == 1 else axes:
        one.set_axisbelow(True)
        one.spines[["top", "right"]].set_visible(False)
    return figure, axes


def to_svg(figure: Figure) -> str:
    """Return the figure as an SVG element to stand inside HTML, the same for the same data."""
    from matplotlib import rc_context

    out = io.StringIO()
    # Text stays text and ids come from the salt: the same study gives the same file.
    with rc_context(
        {"svg.fonttype": "none", "svg.hashsalt": "vrelko", "font.family": "sans-serif"}
    ):
        figure.savefig(out, format="svg", metadata={"Date": None})
    # From the element on: a declaration and a doctype have no place inside HTML.
    text = out.getvalue()
    return re.sub(r"<metadata>.*?</metadata>", "", text[text.index("<svg") :], flags=re.DOTALL)


def shorten(value: float) -> str:
    """Return a number for a label."""
    return "0" if value == 0 else f"{value:.2g}" if value < 10 else f"{value:,.0f}"


def _log10(value: float) -> float:
    import math

    return math.floor(math.log10(max(value, 1.0)))
