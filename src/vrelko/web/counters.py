"""Counters of an application, as OpenMetrics text, and causes reported once per minute."""

from __future__ import annotations

import logging
import threading
import time
from collections import defaultdict
from collections.abc import Iterator

from vrelko.core.kept import Kept

log = logging.getLogger("vrelko.web")

# With the version: collectors read anything else as the older format, which has no UNIT.
MEDIA = "application/openmetrics-text; version=1.0.0; charset=utf-8"
_AGAIN_S = 60.0
# Names of causes come from code, but those of listings from addresses that anyone may write.
_MOST_CAUSES = 500


class Counters:
    """Requests, rows, seconds and failures, by listing. Safe to use from several threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._requests: dict[tuple[str, int], int] = defaultdict(int)
        self._seconds: dict[str, float] = defaultdict(float)
        self._rows: dict[str, int] = defaultdict(int)
        self._failures: dict[tuple[str, str], int] = defaultdict(int)

    def count_request(self, listing: str, status: int, seconds: float, rows: int) -> None:
        """Count one answered request; `listing` is empty where it was for none."""
        # `+=` on a dictionary reads and writes in two steps, and threads meet between them.
        with self._lock:
            self._requests[listing, status] += 1
            self._seconds[listing] += seconds
            self._rows[listing] += rows

    def count_failure(self, listing: str, code: str) -> None:
        """Count one failure by its cause."""
        with self._lock:
            self._failures[listing, code] += 1

    def text(self) -> str:
        """Return all counters as OpenMetrics text."""
        with self._lock:
            return "\n".join([*self._lines(), "# EOF", ""])

    def _lines(self) -> Iterator[str]:
        yield "# TYPE vrelko_requests counter"
        for (name, status), many in sorted(self._requests.items()):
            yield f'vrelko_requests_total{{listing="{_label(name)}",status="{status}"}} {many}'
        yield "# TYPE vrelko_request_seconds counter"
        yield "# UNIT vrelko_request_seconds seconds"
        for name, seconds in sorted(self._seconds.items()):
            yield f'vrelko_request_seconds_total{{listing="{_label(name)}"}} {seconds:.6f}'
        yield "# TYPE vrelko_rows counter"
        for name, rows in sorted(self._rows.items()):
            yield f'vrelko_rows_total{{listing="{_label(name)}"}} {rows}'
        yield "# TYPE vrelko_failures counter"
        for (name, code), many in sorted(self._failures.items()):
            yield f'vrelko_failures_total{{listing="{_label(name)}",code="{code}"}} {many}'


class Causes:
    """Tells each cause of failure when it is new, and then once a minute with how many came."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._known: Kept[tuple[str, str], tuple[float, int]] = Kept(_MOST_CAUSES)

    def tell(self, listing: str, code: str, what: str, error: BaseException | None = None) -> None:
        """Log a failure of a listing, unless its cause was told within the last minute."""
        now = time.monotonic()
        with self._lock:
            last, more = self._known.get((listing, code), (float("-inf"), 0))
            # A database that is down fails every request; the log says so once a minute.
            if now - last < _AGAIN_S:
                self._known[listing, code] = last, more + 1
                return
            self._known.keep((listing, code), (now, 0))
        again = f" ({more:,} more since it was last told)" if more else ""
        log.error("%s: %s [%s]%s", listing or "-", what, code, again, exc_info=error)


def _label(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
