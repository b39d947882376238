"""Fits shipped rates to what `run.py --learn` found, on tables that no accuracy is reported of.

    python bench/accuracy/learn.py [learnt.json]

A speed factor for each table is taken out, so that rates are those of the middle table.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np

from vrelko.core.engine_traits import TRAITS

_DEVIATION = 1.2
_NOISE = 0.15


def main() -> None:
    path = sys.argv[1] if len(sys.argv) > 1 else "bench/accuracy/learnt.json"
    for engine, rows in json.loads(Path(path).read_text()).items():
        rates = fit(engine, rows)
        print(f'    "{engine}": {{')
        print("        " + ", ".join(f'"{n}": {v:.3g}' for n, v in rates.items()) + ",\n    },")


def fit(engine, rows):
    names = list(TRAITS[engine].prices.us)
    prior = np.array([TRAITS[engine].prices.us[name] for name in names])
    x = np.array([[value(row, name) for name in names] for row in rows])
    y = np.log([row["ms"] * 1000 for row in rows])
    shapes = sorted({row["shape"] for row in rows})
    which = np.array([shapes.index(row["shape"]) for row in rows])
    moved = np.zeros(len(names) + len(shapes))
    member = np.eye(len(shapes))[which]
    for _ in range(60):
        theta = prior * np.exp(moved[: len(names)])
        parts = x * theta
        sums = np.maximum(parts.sum(axis=1), 1e-9)
        off = np.log(sums) + member @ moved[len(names) :] - y
        soft = 1 / np.sqrt(1 + (off / (3 * _NOISE)) ** 2)  # outliers count less
        top = np.hstack([parts / sums[:, None], member]) / _NOISE * soft[:, None]
        ridge = np.diag([1 / _DEVIATION] * len(names) + [1 / 0.2] * len(shapes))
        residual = np.concatenate([off / _NOISE * soft, np.diag(ridge) * moved])
        step = np.linalg.lstsq(np.vstack([top, ridge]), -residual, rcond=None)[0]
        moved += step * min(1.0, 0.7 / max(np.abs(step).max(), 1e-12))
        if np.abs(step).max() < 1e-5:
            break
    fitted = prior * np.exp(moved[: len(names)])
    off = np.abs(
        np.log(np.maximum((x * fitted).sum(axis=1), 1e-9)) + member @ moved[len(names) :] - y
    )
    print(
        f"# {engine}: q-error {np.exp(np.median(off)):.2f} / {np.exp(np.percentile(off, 95)):.2f}"
    )
    return dict(zip(names, map(float, fitted), strict=True))


def value(row, name):
    if name == "misses":
        return row.get("missed", 0.0)
    return row["work"].get(name, 0.0)


if __name__ == "__main__":
    main()
