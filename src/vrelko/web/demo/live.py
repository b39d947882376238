"""A copy of the Larkmere database that is written to while it is read."""

from __future__ import annotations

import random
import shutil
import tempfile
import threading
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, create_engine, delete, event, func, insert, select

from vrelko.errors import DatabaseError, PageError
from vrelko.larkmere.names import SPECIES, STATIONS
from vrelko.larkmere.schema import capture, metadata
from vrelko.web.demo.listings import GRID

MOST_RATE = 1_200.0
"""The most captures per minute that the writer inserts."""

# short enough that rows seem to come one by one, at 1,200 a minute one a tick
_TICK_S = 0.05
_FOLD_TICKS = 20


class Live:
    """A database of captures and its writer: most arrive at the head, some a few hours late.

    Works on a copy of an SQLite file, which is left alone; or on `engine`, which is written to.
    """

    def __init__(
        self, source: Path | None = None, engine: Engine | None = None, seed: int = 1
    ) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="vrelko-demo-")
        self._lent = engine is not None
        if engine is None:
            engine = _copy(source, Path(self._folder.name) / "live.db")
        self.engine = engine
        self._rng = random.Random(seed)
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self.rate = 0.0
        self.inserted = self.deleted = 0
        with engine.connect() as connection:
            newest, last = connection.execute(
                select(func.max(capture.c.caught_at), func.max(capture.c.id))
            ).one()
        # An empty table is a demo too: rows begin at the season's first day.
        self._newest, self._last = newest or datetime(2026, 7, 1), last or 0
        self._anchors = GRID.counted_anchors(engine)  # of its first order; the others say so
        self._anchors.build()

    def state(self) -> dict[str, Any]:
        """Return how fast rows come, and how many came and went."""
        return {"rate": self.rate, "inserted": self.inserted, "deleted": self.deleted}

    def set_rate(self, rate: float) -> None:
        """Set how many captures arrive per minute. Raises PageError."""
        if not 0 <= rate <= MOST_RATE:
            raise PageError(
                f"{rate:g} captures per minute is out of range",
                f"Give 0 to {MOST_RATE:,.0f}",
                "demo-rate",
            )
        self.rate = float(rate)
        if self._thread is None and rate > 0:
            # (A daemon: a server that is killed must not wait for its demo.)
            self._thread = threading.Thread(target=self._write, daemon=True)
            self._thread.start()

    def add(self, **given: Any) -> dict[str, Any]:
        """Add a capture, at the head unless told; return its values. Raises PageError."""
        for name, known in (("species_id", SPECIES), ("station_id", STATIONS)):
            number = given.get(name)
            if number is not None and not 1 <= number <= len(known):
                raise PageError(
                    f"there is no {name} {number}", f"Give 1 to {len(known)}", "demo-body"
                )
        rng = self._rng
        # The writer adds beside whoever presses the button, and numbers must not meet.
        with self._lock:
            self._last += 1
            # Three in ten are entered some hours after the capture, so pages change in their middle
            # too.
            late = rng.expovariate(1 / 6) if rng.random() < 0.3 else 0.0
            self._newest += timedelta(minutes=1)
            hour = (self._newest - timedelta(hours=late)).replace(minute=0, second=0)
            row = {
                "id": self._last,
                "ring": f"N{10_000_000 + self._last}",
                # Squared, as a few species make most captures: filters then differ in what they
                # cost.
                "species_id": 1 + int(rng.random() ** 2 * len(SPECIES)),
                "station_id": 1 + int(rng.random() ** 2 * len(STATIONS)),
                "caught_at": hour,
                "weight_g": round(rng.uniform(6, 40), 1),
                "wing_mm": 60,
                "age_code": 1,
                "status": 0,
                "looked_at": None,
                "note": "",
                **{name: value for name, value in given.items() if value is not None},
            }
            with self.engine.begin() as connection:
                connection.execute(insert(capture), row)
            self.inserted += 1
        return row

    def remove(self, number: int) -> bool:
        """Delete a capture; tell whether it was there."""
        with self._lock, self.engine.begin() as connection:
            gone = connection.execute(delete(capture).where(capture.c.id == number)).rowcount
            self.deleted += gone
        return bool(gone)

    @property
    def last(self) -> int:
        """The highest number of a capture."""
        return self._last

    def close(self) -> None:
        """Stop the writer, and remove the copy."""
        self._stop.set()
        if self._thread is not None:
            self._thread.join()
        # The database goes on living: nothing of the demo's may stay in it.
        if self._lent:
            self._lent = False
            self._anchors.drop()  # nothing of them is left
        self.engine.dispose()
        self._folder.cleanup()

    def _write(self) -> None:
        due, ticks = 0.0, 0
        while not self._stop.wait(_TICK_S):
            # Shares of a capture add up: at 60 a minute one comes every twentieth tick.
            due, ticks = due + self.rate / 60 * _TICK_S, ticks + 1
            while due >= 1:
                due -= 1
                self.add()
            if ticks % _FOLD_TICKS == 0:
                with self._lock:
                    self._anchors.fold()


def _copy(source: Path | None, target: Path) -> Engine:
    """Return an engine on a copy of a Larkmere file, in a mode that lets readers read on."""
    try:
        if source is not None:
            shutil.copy(source, target)
    except OSError as error:
        raise DatabaseError(
            f"{str(source)!r} cannot be copied: {error.strerror}",
            "Make it with: vrelko demo",
            "demo-folder",
        ) from error
    engine = create_engine(f"sqlite:///{target}", connect_args={"timeout": 30})

    @event.listens_for(engine, "connect")
    def _set(connection: Any, _record: Any) -> None:
        # A copy that is thrown away need not outlive a power cut.
        for pragma in ("journal_mode=WAL", "synchronous=OFF"):
            connection.execute(f"PRAGMA {pragma}")

    metadata.create_all(engine)
    return engine
