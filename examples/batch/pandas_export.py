"""Export a listing to Parquet-sized frames: batch after batch, resumable, in bounded memory.

After `make demo`: python examples/batch/pandas_export.py larkmere/larkmere.db out
"""

import sys
from pathlib import Path

import pandas
from sqlalchemy import create_engine, select

import vrelko
from vrelko.larkmere.schema import capture

everything = vrelko.Listing(
    select(capture.c.id, capture.c.ring, capture.c.caught_at, capture.c.weight_g),
    name="everything",
    kind="export",
    orders="id",
)


def export(engine, folder, size=5_000):
    """Write one CSV file a batch, and where to go on; what was written before is not done again."""
    folder.mkdir(exist_ok=True)
    mark = folder / "resume"
    start = mark.read_text() if mark.exists() else None
    done = len(list(folder.glob("*.csv")))
    for number, page in enumerate(everything.walk(engine, size=size, start=start), done + 1):
        frame = pandas.DataFrame([row._asdict() for row in page])
        frame.to_csv(folder / f"part-{number:04d}.csv", index=False)
        mark.write_text(page.after)
        yield frame


if __name__ == "__main__":
    database, folder = sys.argv[1], Path(sys.argv[2])
    rows = weights = 0
    for frame in export(create_engine(f"sqlite:///{database}"), folder):
        rows += len(frame)
        weights += frame["weight_g"].count()
    print(f"{rows:,} rows in {folder}, {weights:,} of them weighed")
