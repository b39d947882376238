"""Writes docs/accuracy.md and its picture from what `run.py` and `foreign_run.py` found.

python bench/accuracy/write.py [results.json [foreign.json]]
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from foreign_run import lines_of
from summary import report

DOCS = Path(__file__).parents[2] / "docs"
NAMES = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}
UNITS = {"sqlite": "VM steps", "postgresql": "buffers", "mariadb": "handler rows"}
COLOURS = {"offset": "#c2552d", "two-ended": "#b8860b", "deferred-join": "#5b6abf",
           "keyset": "#0f766e"}  # fmt: skip
MARKS = {"offset": "s", "two-ended": "^", "deferred-join": "D", "keyset": "o"}

HEAD = (Path(__file__).parent / "head.md").read_text()
FOREIGN = (Path(__file__).parent / "foreign.md").read_text()


def main():
    path = Path(sys.argv[1] if len(sys.argv) > 1 else "bench/accuracy/results.json")
    results = json.loads(path.read_text())
    units = ", ".join(f"{UNITS[name]} on {NAMES[name]}" for name in results)
    lines = [HEAD.format(units=units)]
    for engine, rows in results.items():
        tables = len({row["shape"] for row in rows})
        lines += [f"## {NAMES[engine]}", "", f"{len(rows)} pages over {tables} tables.", ""]
        lines += [*report(rows), ""]
    path = Path(sys.argv[2] if len(sys.argv) > 2 else "bench/accuracy/foreign.json")
    lines.append(FOREIGN)
    for engine, rows in json.loads(path.read_text()).items():
        tables = len({row["shape"] for row in rows})
        lines += [
            f"### {NAMES[engine]}",
            "",
            f"{len(rows)} pages over {tables} kinds of table.",
            "",
        ]
        lines += [*lines_of(rows), ""]
    (DOCS / "accuracy.md").write_text("\n".join(lines))
    draw(results).savefig(DOCS / "accuracy.png", dpi=110)


def draw(results):
    from matplotlib.figure import Figure

    figure = Figure(figsize=(11.6, 4.2), layout="constrained")
    for i, (engine, rows) in enumerate(results.items()):
        axes = figure.add_subplot(1, len(results), i + 1)
        for strategy, colour in COLOURS.items():
            mine = [row for row in rows if row["strategy"] == strategy]
            axes.plot(
                [row["predicted"] for row in mine],
                [row["ms"] for row in mine],
                linestyle="none",
                marker=MARKS[strategy],
                markersize=3.5,
                color=colour,
                alpha=0.7,
                label=strategy,
            )
        ends = [min(r["ms"] for r in rows) / 1.5, max(r["ms"] for r in rows) * 1.5]
        axes.plot(ends, ends, color="#374151", linewidth=1)
        for factor in (0.5, 2):
            axes.plot(
                ends, [end * factor for end in ends], color="#9ca3af", linewidth=0.8, linestyle=":"
            )
        axes.set_xscale("log")
        axes.set_yscale("log")
        axes.set_title(NAMES[engine])
        axes.set_xlabel("expected ms")
        if i == 0:
            axes.set_ylabel("measured ms (dotted: twice, half)")
            axes.legend(fontsize=8, frameon=False)
        axes.grid(True, color="#e5e7eb")
    return figure


if __name__ == "__main__":
    main()
