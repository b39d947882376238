"""What stands before the application: whose requests are taken, how large, and what is told."""

from __future__ import annotations

import logging
import time
from collections.abc import Awaitable, Callable, MutableMapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qsl, urlsplit

import anyio

from vrelko.web.bodies import to_json
from vrelko.web.counters import Counters
from vrelko.web.problems import PROBLEM_TYPE, make_problem

log = logging.getLogger("vrelko.web")

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
App = Callable[[MutableMapping[str, Any], Receive, Send], Awaitable[None]]

MOST_QUERY, MOST_PARAMETERS, MOST_BODY = 16_384, 200, 65_536
"""Bytes of a query string, parameters in it, and bytes of a body."""

BODY_S = 20.0
"""Seconds to wait for each part of a body."""

# Methods that change nothing by the standard (RFC 9110), and are taken from anywhere.
_SAFE = ("GET", "HEAD", "OPTIONS")


@dataclass(frozen=True)
class Told:
    """What the log tells of each request: nothing, its names, or its values too."""

    requests: bool = False
    values: bool = False


class Guard:
    """An ASGI application before another: refuses, counts and logs.

    `hosts`: names by which requests may call this server; None takes any. Requests that change
    something must come from a page of the same host.
    """

    def __init__(
        self,
        app: App,
        hosts: Sequence[str] | None = None,
        told: Told | None = None,
        counters: Counters | None = None,
    ) -> None:
        self._app = app
        self._hosts = None if hosts is None else frozenset(one.lower() for one in hosts)
        self._told = told or Told()
        self._counters = counters or Counters()

    async def __call__(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        """Answer one request, or pass on what is none."""
        if scope["type"] != "http":
            # Start and stop of the server: no request to refuse or count.
            await self._app(scope, receive, send)
            return
        began, status = time.perf_counter(), 0

        async def sent(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                # The application alone knows it; the counters hear of it here.
                status = int(message["status"])
            await send(message)

        refusal = self._refusal(scope)
        try:
            if refusal is not None:
                await _answer(sent, *refusal)
            else:
                await self._app(scope, _bounded(receive, MOST_BODY), sent)
        # Once an answer has begun it cannot be another one.
        except _TooLarge:
            if not status:
                await _answer(sent, 413, "the body is too large", f"Send at most {MOST_BODY} bytes")
        except _TooSlow:
            if not status:
                await _answer(sent, 408, "the body did not come in time", "Send it again")
        finally:
            seconds = time.perf_counter() - began
            # What the application notes down: only it knows the listing and the rows.
            state = scope.get("state") or {}
            self._counters.count_request(
                str(state.get("vrelko_listing", "")),
                status,
                seconds,
                int(state.get("vrelko_rows", 0)),
            )
            if self._told.requests:
                self._tell(scope, status, seconds, state)

    def _refusal(self, scope: MutableMapping[str, Any]) -> tuple[int, str, str] | None:
        headers = {
            name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]
        }
        host = headers.get("host", "")
        # A page of another site could name its own host with our address (DNS rebinding).
        if self._hosts is not None and _name_of(host) not in self._hosts:
            return 421, "this server does not answer for that host", "Use the name it was given"
        if len(scope.get("query_string", b"")) > MOST_QUERY:
            return 414, "the address is too long", f"Send at most {MOST_QUERY} bytes"
        # Counted before anything is parsed: parsing is what an attacker wants to be long.
        if scope.get("query_string", b"").count(b"&") >= MOST_PARAMETERS:
            return 400, "the address has too many parameters", f"Send at most {MOST_PARAMETERS}"
        if scope["method"] not in _SAFE and not _same_origin(headers, host):
            return 403, "a page of another site may change nothing here", "Use this site's own page"
        # A body without a length, or with a false one, is counted as it comes.
        length = headers.get("content-length", "0")
        if length.isdigit() and int(length) > MOST_BODY:
            return 413, "the body is too large", f"Send at most {MOST_BODY} bytes"
        return None

    def _tell(
        self, scope: MutableMapping[str, Any], status: int, seconds: float, state: dict[str, Any]
    ) -> None:
        client = (scope.get("client") or ("?",))[0]
        query = scope.get("query_string", b"").decode("latin-1")
        # Values may be personal; which parameters were used is enough to find a fault.
        if query and not self._told.values:
            names = [name for name, _ in parse_qsl(query, keep_blank_values=True)]
            query = ",".join(dict.fromkeys(names))
        address = f"{scope['path']}?{query}" if query else scope["path"]
        log.info(
            "%s %s %s %d, %d rows, %.1f ms, %d statements",
            client,
            scope["method"],
            _plain(address),
            status,
            state.get("vrelko_rows", 0),
            seconds * 1e3,
            state.get("vrelko_statements", 0),
        )


class _TooLarge(Exception):
    pass


class _TooSlow(Exception):
    pass


def _bounded(receive: Receive, most: int) -> Receive:
    """Return what receives a body of at most so many bytes, and waits so long for each part."""
    taken, whole = 0, False

    async def next_part() -> Message:
        nonlocal taken, whole
        if whole:  # what comes now is that the client left
            return await receive()
        # A client that sends a byte a minute would hold the request open for hours.
        with anyio.move_on_after(BODY_S):
            message = await receive()
            taken += len(message.get("body", b""))
            whole = not message.get("more_body", False)
            if taken > most:
                raise _TooLarge
            return message
        raise _TooSlow

    return next_part


def _same_origin(headers: dict[str, str], host: str) -> bool:
    """Tell whether a request comes from a page of this host, or from no page at all.

    By the headers Sec-Fetch-Site and Origin, which browsers set and pages cannot.
    """
    # Browsers set it, pages cannot: a form on another site is told apart.
    site = headers.get("sec-fetch-site")
    if site is not None and site not in ("same-origin", "none"):
        return False
    origin = headers.get("origin")
    return origin is None or (origin != "null" and urlsplit(origin).netloc.lower() == host.lower())


def _name_of(host: str) -> str:
    """Return a Host header's name without its port and brackets."""
    try:
        return (urlsplit(f"//{host}").hostname or "").lower()
    except ValueError:
        return ""


def _plain(text: str) -> str:
    """Return a text that cannot write a line of its own."""
    # An address with a line break could otherwise write what looks like another entry of the log.
    return text.encode("unicode_escape").decode("ascii")[:1_000]


async def _answer(send: Send, status: int, detail: str, todo: str) -> None:
    body = to_json(make_problem(status, detail, todo, f"http-{status}")).encode()
    headers = [
        (b"content-type", PROBLEM_TYPE.encode()),
        (b"cache-control", b"no-store"),
        (b"content-length", str(len(body)).encode()),
    ]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})
