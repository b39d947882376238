"""Draws how many times as long as by a known key pages take, from the tables of a Markdown file.

    python bench/big_figure.py docs/big.md docs/big.png

Of each engine the table of 10,000,000 rows, as `bench/big.py` prints it.
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

import matplotlib

matplotlib.use("Agg")
import matplotlib.pyplot as plt

DEPTHS = ("page 1", "page 100", "page 10,000", "page middle", "page last")
LIMIT, RIVAL = "a known key", "OFFSET at the middle"
LOGS = (("log empty", "#1b5e8c"), ("1,000 log rows", "#3d9970"), ("10,000 log rows", "#c77d1e"))


def main(source: str, target: str) -> None:
    text = Path(source).read_text(encoding="utf-8")
    found = re.findall(r"^## (\w+), 10,000,000 rows\n(.*?)(?=^## |\Z)", text, re.M | re.S)
    figure, panels = plt.subplots(1, len(found), figsize=(12.8, 4.6), sharey=True)
    for panel, (engine, section) in zip(panels, found, strict=True):
        draw(panel, engine, first_table(section))
    panels[0].set_ylabel("times the page behind a known key")
    handles, labels = panels[0].get_legend_handles_labels()
    figure.legend(handles, labels, loc="lower center", ncol=5, frameon=False)
    figure.suptitle("A page of 25 rows with its total, by its depth in 10,000,000 rows")
    figure.tight_layout(rect=(0, 0.07, 1, 1))
    figure.savefig(target, dpi=100)


def first_table(section: str) -> dict[str, list[float]]:
    """Return the least milliseconds by row of the first table that tells of pages."""
    rows: dict[str, list[float]] = {}
    for line in section.splitlines():
        cells = [cell.strip() for cell in line.strip("|").split("|")]
        if cells[0] in (*DEPTHS, LIMIT, RIVAL) and cells[0] not in rows:
            rows[cells[0]] = [float(cell.split("/")[0].replace(",", "")) for cell in cells[1:]]
    return rows


def draw(panel, engine: str, rows: dict[str, list[float]]) -> None:
    places = range(len(DEPTHS))
    for i, (label, colour) in enumerate(LOGS):
        # Each column was measured at a moment of its own, so it is held against its own limit.
        times = [rows[depth][i] / rows[LIMIT][i] for depth in DEPTHS]
        panel.plot(places, times, marker="o", color=colour, label=f"by anchors, {label}")
    panel.axhline(1, color="#555555", linestyle="--", label="behind a known key")
    middle, rival = DEPTHS.index("page middle"), rows[RIVAL][0] / rows[LIMIT][0]
    panel.plot([middle], [rival], "X", color="#b03a2e", markersize=10, label="OFFSET")
    panel.annotate(
        f"{rows[RIVAL][0]:,.0f} ms",
        (middle, rival),
        xytext=(-8, 0),
        textcoords="offset points",
        ha="right",
        va="center",
    )
    panel.set_yscale("log")
    panel.yaxis.set_major_formatter(lambda value, _: f"{value:,g}")
    panel.set_title(engine)
    panel.set_xticks(places, [depth.removeprefix("page ") for depth in DEPTHS])
    panel.set_xlabel("page")
    panel.grid(True, which="major", axis="y", color="#dddddd")


if __name__ == "__main__":
    main(*sys.argv[1:])
