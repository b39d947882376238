"""Turns and paces: what keeps the requests of one listing, or one reader, from starving others."""

from __future__ import annotations

import asyncio
import threading
import time
from collections import OrderedDict, defaultdict, deque
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from vrelko.errors import PaceError, UnavailableError

AT_ONCE, WAIT_S = 8, 5.0
"""Requests of one listing under way, and seconds that another one waits for its turn."""

WALKS_PER_MINUTE = 60
"""Walks with a stored list that one reader may begin a minute."""

_READERS = 10_000  # remembered

_Waiter = tuple[asyncio.AbstractEventLoop, "asyncio.Future[None]"]


class Turns:
    """Lends turns by name, at most `at_once` of each, first come first served.

    Safe from several event loops of asyncio, each in a thread of its own.
    """

    def __init__(self, at_once: int = AT_ONCE, wait_s: float = WAIT_S) -> None:
        self._most, self._wait_s = at_once, wait_s
        self._lock = threading.Lock()
        self._taken: dict[str, int] = defaultdict(int)
        self._waiting: dict[str, deque[_Waiter]] = defaultdict(deque)

    @asynccontextmanager
    async def take(self, name: str, most: int | None = None) -> AsyncIterator[None]:
        """Hold a turn of a name. Raises UnavailableError where none comes free in time."""
        await self._begin(name, most or self._most)
        try:
            yield
        finally:
            self._give(name)

    async def _begin(self, name: str, most: int) -> None:
        loop = asyncio.get_running_loop()
        with self._lock:
            if self._taken[name] < most:
                self._taken[name] += 1
                return
            # A future belongs to its loop: another thread may not set it but through that loop.
            granted: asyncio.Future[None] = loop.create_future()
            self._waiting[name].append((loop, granted))
        try:
            await asyncio.wait_for(asyncio.shield(granted), self._wait_s)
        except BaseException as error:  # it is too late, or the client left
            with self._lock:
                # The turn may have come in the same moment, and must not be lost.
                given = (loop, granted) not in self._waiting[name]
                if not given:
                    self._waiting[name].remove((loop, granted))
            if given:
                self._give(name)
            granted.cancel()
            if isinstance(error, TimeoutError):
                raise UnavailableError(
                    "too many requests for this listing are under way",
                    "Try again in a while",
                    "listing-busy",
                ) from None
            raise

    def _give(self, name: str) -> None:
        """Pass a turn on to who waits longest, or lay it down."""
        with self._lock:
            while self._waiting[name]:
                loop, granted = self._waiting[name].popleft()
                # Waiters of a server that ended want nothing any more.
                if not loop.is_closed():
                    loop.call_soon_threadsafe(_grant, granted)
                    return
            self._taken[name] -= 1


class Pace:
    """Bounds how often each reader may do something: `per_minute` times in the last 60 s."""

    def __init__(self, per_minute: int) -> None:
        self._most, self._lock = per_minute, threading.Lock()
        self._times: OrderedDict[object, deque[float]] = OrderedDict()

    def count(self, reader: object) -> None:
        """Count one more of a reader. Raises PaceError where that is too many."""
        now = time.monotonic()
        with self._lock:
            times = self._times.setdefault(reader, deque())
            self._times.move_to_end(reader)
            # Whoever was not heard of for longest is forgotten: addresses are without end.
            while len(self._times) > _READERS:
                self._times.popitem(last=False)
            while times and now - times[0] >= 60:
                times.popleft()
            # Those refused are not counted, or a reader who keeps trying would never get through.
            if len(times) >= self._most:
                raise PaceError(
                    f"more than {self._most} walks began within a minute",
                    "Go on by the links of a page that was read, or try again in a minute",
                    "walks-too-many",
                )
            times.append(now)


def _grant(granted: asyncio.Future[None]) -> None:
    # Whoever waited may have given up meanwhile.
    if not granted.done():
        granted.set_result(None)
