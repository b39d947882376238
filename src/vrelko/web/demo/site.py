"""The application of the demo page."""

from __future__ import annotations

import math
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager, suppress
from importlib.resources import files
from typing import Any

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import HTMLResponse, Response
from starlette.routing import Mount, Route

from vrelko.errors import PageError, VrelkoError
from vrelko.web.application import make_app
from vrelko.web.bodies import to_json
from vrelko.web.demo.comparing import Comparisons
from vrelko.web.demo.listings import FEED, LISTINGS, STATUSES
from vrelko.web.demo.live import Live
from vrelko.web.error_answers import on_error, on_http
from vrelko.web.guard import Guard
from vrelko.web.http_options import HttpOptions
from vrelko.web.request_params import request_from

ASSETS = {
    "demo.css": "text/css", "main.js": "text/javascript", "common.js": "text/javascript",
    "grid.js": "text/javascript", "feed.js": "text/javascript", "compare.js": "text/javascript",
    "live.js": "text/javascript",
}  # fmt: skip
# "99+ new" says as much to a reader as the number, and costs a hundred entries
_MOST_NEW = 99
_MOST_NUMBER = 2**63
_WIRE = HttpOptions(past_end="last")


def make_demo(live: Live, hosts: Sequence[str] | None = None) -> Starlette:
    """Return the demo page's application over a live database, for `hosts` or for any."""
    answers = _Answers(live)

    @asynccontextmanager
    async def lifespan(app: Starlette) -> AsyncIterator[None]:
        yield
        live.close()

    # The application that users get, mounted as they would mount it: the demo has no other pages.
    data = make_app(LISTINGS, live.engine, http=_WIRE, title="Larkmere")
    routes = [
        Route("/", _asset("index.html", "text/html; charset=utf-8")),
        Route("/favicon.ico", lambda request: Response(status_code=204)),
        Route("/live", answers.tell),
        Route("/live", answers.change_rate, methods=["POST"]),
        Route("/captures", answers.add, methods=["POST"]),
        Route("/captures/{number:int}", answers.remove, methods=["DELETE"]),
        Route("/new", answers.count_new),
        Route("/walks", answers.begin, methods=["POST"]),
        Route("/walks/{walk}/{strategy}", answers.turn),
        Mount("/data", data),
        *(Route(f"/assets/{name}", _asset(name, kind)) for name, kind in ASSETS.items()),
    ]
    handlers: dict[Any, Any] = {VrelkoError: on_error, HTTPException: on_http}
    # Around the demo's own calls too, which write.
    guard: Any = Middleware(Guard, hosts=hosts)
    app = Starlette(
        routes=routes, exception_handlers=handlers, lifespan=lifespan, middleware=[guard]
    )
    app.state.site = data.state.site  # what describes the page's listings
    return app


class _Answers:
    """What the demo page asks for beside pages: writers, captures, new rows, walks side by side."""

    def __init__(self, live: Live) -> None:
        self._live, self._comparisons = live, Comparisons(live)

    async def tell(self, request: Request) -> Response:
        """How the writers stand."""
        return _json({**self._live.state(), "statuses": STATUSES})

    async def change_rate(self, request: Request) -> Response:
        """Change how fast the table is written to."""
        self._live.set_rate(_number(await _body(request), "rate"))
        return _json(self._live.state())

    async def add(self, request: Request) -> Response:
        """Insert a capture."""
        body = await _body(request)
        known = {name: _whole(body, name) for name in ("species_id", "station_id") if name in body}
        return _json(await run_in_threadpool(lambda: self._live.add(**known)), 201)

    async def remove(self, request: Request) -> Response:
        """Delete a capture."""
        number = request.path_params["number"]
        # SQLite's integers end there; a larger one would be an error of the driver's.
        there = number < _MOST_NUMBER and await run_in_threadpool(self._live.remove, number)
        if not there:
            raise HTTPException(404, "there is no such capture")
        return Response(status_code=204)

    async def count_new(self, request: Request) -> Response:
        """Count the captures ahead of a place of the feed."""
        # before= is a place to count from here, and a filter nowhere.
        pairs = [pair for pair in request.query_params.multi_items() if pair[0] != "before"]
        params, before = request_from(pairs, FEED)["params"], request.query_params.get("before", "")
        if not before:
            raise PageError(
                "before= is missing: the row to count from", "Give before=", "demo-place"
            )
        found = await run_in_threadpool(
            lambda: FEED.count_ahead(self._live.engine, before, most=_MOST_NEW, params=params)
        )
        return _json({"new": found.value, "more": found.kind == "capped"})

    async def begin(self, request: Request) -> Response:
        """Begin two walks side by side."""
        return _json({"walk": self._comparisons.begin()}, 201)

    async def turn(self, request: Request) -> Response:
        """Read the next page of one of two walks."""
        name, strategy = request.path_params["walk"], request.path_params["strategy"]
        size = _whole(dict(request.query_params), "size")
        return _json(await run_in_threadpool(self._comparisons.turn, name, strategy, size))


def _asset(name: str, kind: str) -> Callable[[Request], Response]:
    # Read once, at the start: a missing file shows there, not to a reader.
    content = files("vrelko.web.demo").joinpath("assets", name).read_text(encoding="utf-8")

    async def answer(request: Request) -> Response:
        if kind.startswith("text/html"):
            return HTMLResponse(content)
        return Response(content, media_type=kind, headers={"Cache-Control": "no-cache"})

    return answer  # type: ignore[return-value]


async def _body(request: Request) -> dict[str, Any]:
    try:
        found = await request.json()
    except (ValueError, RecursionError) as error:
        raise PageError("the body is not JSON", "Send an object", "demo-body") from error
    if not isinstance(found, dict):
        raise PageError("the body is not a JSON object", "Send an object", "demo-body")
    return found


def _number(body: dict[str, Any], name: str) -> float:
    value = body.get(name)
    number = float("nan")
    # JSON's true would count as 1.
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        with suppress(OverflowError):  # of a whole number that is larger than any float
            number = float(value)
    if not math.isfinite(number):
        raise PageError(f"{name} is not a number", "Give a number", "demo-body")
    return number


def _whole(body: dict[str, Any], name: str) -> int:
    try:
        value = int(body[name])
    except (KeyError, TypeError, ValueError, OverflowError) as error:
        raise PageError(f"{name} is not a whole number", "Give digits", "demo-body") from error
    if not -_MOST_NUMBER <= value < _MOST_NUMBER:
        raise PageError(f"{name} is too large", "Give a number that is there", "demo-body")
    return value


def _json(data: Any, status: int = 200) -> Response:
    return Response(to_json(data), status, media_type="application/json")
