"""How long a server waits for a client that has begun a request and does not go on."""

from __future__ import annotations

import asyncio
from typing import Any

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

HEAD_S = 10.0
"""Seconds from the beginning of a connection, or of a request on it, to the end of its headers."""


class PatientProtocol(H11Protocol):
    """HTTP/1.1 that closes connections whose request does not come."""

    _waiting: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        """Begin to wait for the first request."""
        super().connection_made(transport)
        self._wait()

    def data_received(self, data: bytes) -> None:
        """Take what came, and wait no longer once the headers are there."""
        super().data_received(data)
        # Still in its headers: they count as one wait, however many pieces they come in.
        if self.conn.their_state is h11.IDLE:
            # A connection kept alive may rest; the clock starts with the first byte of the next
            # request.
            if self._waiting is None and self.conn.trailing_data[0]:
                self._wait()
        else:
            self._stop()

    def connection_lost(self, exc: Exception | None) -> None:
        """Wait for nothing more."""
        self._stop()
        super().connection_lost(exc)

    def _wait(self) -> None:
        self._waiting = self.loop.call_later(HEAD_S, self._give_up)

    def _stop(self) -> None:
        if self._waiting is not None:
            self._waiting.cancel()
            self._waiting = None

    def _give_up(self) -> None:
        self._waiting = None
        # The timer may have been due when the last bytes came.
        if self.conn.their_state is h11.IDLE and not self.transport.is_closing():
            self.transport.close()
