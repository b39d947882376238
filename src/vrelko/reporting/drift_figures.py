"""Figures of rows that change: by strategy, by page, by write rate, and what waiting saves."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from vrelko.reporting.figures import make_figure, shorten, to_svg

if TYPE_CHECKING:
    from vrelko.core.drift.settle_delay import Delays
    from vrelko.measuring.drift import Drift

STRATEGY_COLOURS = {
    "offset": "#c2552d",
    "ceiling": "#d99a2b",
    "overlap": "#5b6abf",
    "keyset": "#0f766e",
    "frozen-ids": "#8a5a83",
    "frozen-view": "#6b7280",
}
_LINES = {"offset": "-", "ceiling": "--", "overlap": "-.", "keyset": "-"}
_MARKS = {"offset": "s", "ceiling": "^", "overlap": "D", "keyset": "o"}
# seconds, where no delay was seen: a scale from 0 to 0 cannot be drawn
_LEAST = 1e-9


def draw_strategies(drift: Drift) -> str:
    """Return repeats and misses per walk by strategy: simulated (bars), estimated, replayed."""
    figure, both = make_figure((5.6, 4.1), panels=2)
    expected = {one.strategy: one for one in drift.expected}
    replayed = {one.strategy: one for one in drift.replayed}
    # Bars stack from the bottom; a reader begins at the top.
    strategies = [one.strategy for one in drift.shown][::-1]
    names = [
        f"overlap of {drift.overlap:,}" if strategy == "overlap" else strategy
        for strategy in strategies
    ]
    for axes, kind in zip(both, ("repeats", "misses"), strict=True):
        top = 0.0
        for at, one in enumerate(reversed(drift.shown)):
            mean, error = one.means[kind], one.errors[kind]
            # Room for the longest bar with its error, and the number beside it.
            top = max(top, mean + error)
            colour = STRATEGY_COLOURS[one.strategy]
            axes.barh(at, mean, 0.62, color=colour, xerr=error or None, ecolor="#111827", capsize=2)
            axes.annotate(
                shorten(mean),
                (mean + error, at),
                xytext=(5, 0),
                va="center",
                textcoords="offset points",
                fontsize=9,
            )
            if one.strategy in expected:
                axes.plot(
                    getattr(expected[one.strategy], kind),
                    at,
                    marker="|",
                    color="#111827",
                    markersize=15,
                    markeredgewidth=1.6,
                )
            if one.strategy in replayed:
                seen = replayed[one.strategy]
                axes.plot(
                    getattr(seen, kind) / seen.walks,
                    at - 0.16,
                    marker="o",
                    markerfacecolor="white",
                    markeredgecolor="#111827",
                    markersize=5,
                )
        # The number beside the longest bar needs the rest; all 0 would be no range at all.
        axes.set_xlim(0, top * 1.3 or 1)
        axes.set_title(f"{kind} per walk", fontsize=10, loc="left")
        axes.grid(True, axis="x", color="#e5e7eb")
    both[0].set_yticks(range(len(strategies)), names, fontsize=9)
    # The names stand once, at the left.
    both[1].set_yticks(range(len(strategies)), [""] * len(strategies))
    _explain(figure, bool(expected), bool(replayed))
    return to_svg(figure)


def _explain(figure: Any, expected: bool, replayed: bool) -> None:
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch

    keys: list[Any] = [Patch(facecolor="#9ca3af", label="simulated, ± its error")]
    if expected:
        keys.append(
            Line2D(
                [],
                [],
                linestyle="none",
                marker="|",
                color="#111827",
                markersize=12,
                markeredgewidth=1.6,
                label="by formula",
            )
        )
    if replayed:
        keys.append(
            Line2D(
                [],
                [],
                linestyle="none",
                marker="o",
                markerfacecolor="white",
                markeredgecolor="#111827",
                markersize=5,
                label="replayed on a copy",
            )
        )
    figure.legend(handles=keys, fontsize=9, loc="outside lower center", ncols=3, frameon=False)


def draw_pages(drift: Drift) -> str:
    """Return where in a walk repeats (up) and misses (down) fall, by page, for three strategies."""
    figure, axes = make_figure()
    # The frozen ones neither repeat nor miss: they would be lines along the axis.
    shown = [one for one in drift.shown if one.strategy in _LINES]
    for one in shown:
        pages = range(1, len(one.by_page) + 1)
        style = {
            "color": STRATEGY_COLOURS[one.strategy],
            "linestyle": _LINES[one.strategy],
            "linewidth": 1.8,
            "marker": _MARKS[one.strategy],
            "markersize": 4,
        }
        axes.plot(pages, [pair[0] for pair in one.by_page], label=one.strategy, **style)
        # Downward, without a label: the legend has each strategy once.
        axes.plot(pages, [-pair[1] for pair in one.by_page], **style)
    axes.axhline(0, color="#4b5563", linewidth=1)
    axes.set_xlabel("page of the walk")
    axes.set_ylabel("misses    |    repeats")
    axes.yaxis.set_major_formatter(lambda value, _: f"{abs(value):g}")
    axes.xaxis.get_major_locator().set_params(integer=True)
    axes.grid(True, color="#e5e7eb")
    figure.legend(fontsize=9, loc="outside upper center", ncols=4, frameon=False)
    return to_svg(figure)


def draw_clean(clean: dict[str, list[float]], factors: tuple[float, ...]) -> str:
    """Return the share of clean walks by how often rows are written, beside today's rate."""
    figure, axes = make_figure()
    for strategy, shares in clean.items():
        if strategy in _LINES:
            axes.plot(
                factors,
                shares,
                label=strategy,
                color=STRATEGY_COLOURS[strategy],
                linestyle=_LINES[strategy],
                linewidth=1.8,
                marker=_MARKS[strategy],
                markersize=4,
            )
    axes.axvline(1, color="#9ca3af", linewidth=1, linestyle=":")
    axes.set_xscale("log")
    axes.set_ylim(-0.03, 1.05)
    axes.set_xlabel("write rates, as a multiple of those given")
    axes.set_ylabel("walks without a repeat or a miss")
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:g}×")
    axes.yaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
    axes.grid(True, which="major", color="#e5e7eb")
    figure.legend(fontsize=9, loc="outside upper center", ncols=4, frameon=False)
    return to_svg(figure)


def draw_settling(delays: Delays, rate: float, every_s: float) -> str:
    """Return the share of rows lost by the seconds that a reader of the tail waits, log axis."""
    # (When it is called, as the name would draw numpy in for every command.)
    from vrelko.core.drift.settle_delay import expect_lost

    figure, axes = make_figure()
    longest = max(delays.quantile(1.0), _LEAST)
    waits = [longest * step / 60 for step in range(61)]
    late = [1 - delays.share_within(wait) for wait in waits]
    lost = [expect_lost(delays, rate, every_s, wait) for wait in waits]
    axes.plot(
        waits,
        # A logarithmic axis has no 0.
        [value or None for value in late],
        color=STRATEGY_COLOURS["offset"],
        linestyle="--",
        linewidth=1.8,
        label="rows later than the wait",
    )
    axes.plot(
        waits,
        [value or None for value in lost],
        color=STRATEGY_COLOURS["keyset"],
        linewidth=2,
        label=f"rows lost, asking every {every_s:g} s",
    )
    axes.set_yscale("log")
    axes.set_xlabel("settle delay, seconds")
    axes.set_ylabel("share of rows")
    axes.grid(True, which="major", color="#e5e7eb")
    figure.legend(fontsize=9, loc="outside upper center", ncols=2, frameon=False)
    return to_svg(figure)
