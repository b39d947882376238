"""Rows of the Larkmere scheme, computed from a seed and a row's number alone.

Values come from a counter-based integer mixer (splitmix64, Steele, Lea and Flood 2014), not from
a library's random streams, so a seed gives the same rows under every version and in any order.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

from sqlalchemy import Engine, insert
from sqlalchemy.schema import CreateIndex, CreateTable

from vrelko.larkmere import schema
from vrelko.larkmere.names import NOTES, SPECIES, STATIONS

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

EPOCH = datetime(2022, 3, 1)
DAYS = 1_600
"""The scheme has run for this many days."""

# (A station enters a morning's birds at once, so neighbours by number share their station.)
_BATCH = 12  # birds a station uploads together, on the mean


def build(
    engine: Engine,
    captures: int = 200_000,
    seed: int = 1,
    progress: Callable[[int], None] | None = None,
) -> None:
    """Create the tables on `engine` and fill them; `progress` hears of rows done.

    Raises SQLAlchemy's errors when a table exists already.
    """
    with engine.begin() as connection:
        for table in schema.metadata.sorted_tables:
            connection.execute(CreateTable(table))
        connection.execute(insert(schema.station), _named("LK", STATIONS))
        connection.execute(insert(schema.species), _named("SP", SPECIES))
        connection.execute(insert(schema.follow), list(_follows()))
        statement = insert(schema.capture)
        # In pieces, so that ten million captures need no more memory than a few thousand.
        for low in range(0, captures, 20_000):
            rows = list(capture_rows(low, min(low + 20_000, captures), captures, seed))
            connection.execute(statement, rows)
            if progress is not None:
                progress(len(rows))
        for index in sorted(schema.capture.indexes, key=lambda index: str(index.name)):
            connection.execute(CreateIndex(index))  # after the rows: sooner done


def _named(prefix: str, names: tuple[str, ...]) -> list[dict[str, Any]]:
    return [
        {"id": i, "code": f"{prefix}{i:02d}", "name": name} for i, name in enumerate(names, start=1)
    ]


def _follows() -> Iterator[dict[str, int]]:
    for visitor in range(1, 201):
        for station in range(1, len(STATIONS) + 1):
            # By arithmetic, not by chance: two stations of eleven for each visitor, without a
            # generator.
            if (visitor * 31 + station * 17) % 11 < 2:
                yield {"visitor_id": visitor, "station_id": station}


def capture_rows(low: int, high: int, total: int, seed: int) -> Iterator[dict[str, Any]]:
    """Yield captures number `low` up to `high` (counted from 0) of `total`, in upload order."""
    import numpy as np

    number = np.arange(low, high, dtype=np.uint64)

    def share(field: int, of: NDArray[np.uint64] = number) -> NDArray[np.float64]:
        return _uniform(seed, field, of)

    batch = number // np.uint64(_BATCH)
    station = _skewed(share(1, batch), len(STATIONS), 1.6)
    uploaded = (number.astype(np.float64) + share(2)) / total * DAYS
    late = share(3, batch)
    # Most stations upload the same day, some after days, a few after weeks.
    mean_days = np.where(late < 0.75, 0.2, np.where(late < 0.95, 2.0, 15.0))
    day = np.floor(np.maximum(uploaded + mean_days * np.log1p(-share(4, batch)), 0.0))
    hour = 5 + np.floor(share(5) * share(6) * 7)
    species = _skewed(share(7), len(SPECIES), 2.2)
    weight = np.round(6 + species * 1.7 + share(8) * 4 + share(9) * 4, 1)
    weighed = share(10) > 0.15
    wing = np.floor(45 + species * 2.5 + share(11) * 9)
    status = np.searchsorted((0.05, 0.25, 0.30, 0.95), share(12))
    looked = share(13) * 20
    ring = np.floor(share(14) ** 2 * total * 0.8)
    note = _skewed(share(15), len(NOTES), 1.8) - 1
    age = 1 + np.floor(share(16) * 6)

    # Another seed has other rings, or two databases could be taken for one.
    first = 10_000_000 + seed % 7
    for i, n in enumerate(range(low, high)):
        caught = EPOCH + timedelta(days=int(day[i]), hours=int(hour[i]))
        seen = EPOCH + timedelta(days=float(np.round(uploaded[i] + looked[i], 6)))
        yield {
            "id": n + 1,
            "ring": f"L{first + int(ring[i])}",
            "species_id": int(species[i]),
            "station_id": int(station[i]),
            "caught_at": caught,
            "weight_g": float(weight[i]) if weighed[i] else None,
            "wing_mm": int(wing[i]),
            "age_code": int(age[i]),
            "status": int(status[i]),
            "looked_at": seen.replace(microsecond=0) if status[i] > 1 else None,
            "note": NOTES[int(note[i])],
        }


def _uniform(seed: int, field: int, number: NDArray[np.uint64]) -> NDArray[np.float64]:
    """Return a float in [0, 1) for each number: splitmix64 of seed, field and number."""
    import numpy as np

    with np.errstate(over="ignore"):
        # Another stream for each field, so that values of one row are independent.
        z = number + np.uint64((seed * 0x9E3779B97F4A7C15 + field * 0xD1342543DE82EF95) % 2**64)
        z = z * np.uint64(0x9E3779B97F4A7C15)
        z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        z = z ^ (z >> np.uint64(31))
    return (z >> np.uint64(11)).astype(np.float64) / float(1 << 53)


def _skewed(share: NDArray[np.float64], count: int, power: float) -> NDArray[np.float64]:
    """Return numbers 1 to `count`, the low ones far more often."""
    import numpy as np

    return 1 + np.floor(share**power * count)
