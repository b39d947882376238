"""What an application tells of itself: its listings, health and counters; and in which form."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import anyio
import anyio.to_thread
from sqlalchemy import select
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from vrelko.engines.registry import database_errors
from vrelko.errors import VrelkoError
from vrelko.web.counters import MEDIA
from vrelko.web.html import render_index
from vrelko.web.openapi import describe_listing
from vrelko.web.problems import retry_of

if TYPE_CHECKING:
    from vrelko.web.site import Site

# less than the patience of those who ask, such as a balancer's usual 5 s
_HEALTH_S = 3.0
PART = "page-part"
"""The request header with which a script asks for a fragment: `Page-Part: fragment`."""


def wanted(request: Request) -> str:
    """Return json, document or fragment. Raises HTTPException where none will do."""
    accept = request.headers.get("accept", "*/*")
    asked: dict[str, float] = {}
    for entry in accept.split(","):
        media, *rest = (part.strip() for part in entry.split(";"))
        quality = next((_quality(one[2:]) for one in rest if one.startswith("q=")), 1.0)
        # No Accept, or an empty one, takes anything.
        asked.setdefault(media.lower() or "*/*", quality)
    best, kind = 0.0, ""
    for found, names in _MEDIA.items():  # the most exact name that is given counts (RFC 9110)
        quality = next((asked[name] for name in names if name in asked), 0.0)
        if quality > best:
            best, kind = quality, found
    if not kind:
        raise HTTPException(406)
    if kind == "html":
        return "fragment" if request.headers.get(PART, "") == "fragment" else "document"
    return "json"


_MEDIA = {
    "json": ("application/json", "application/*", "*/*"),
    "html": ("text/html", "application/xhtml+xml", "text/*", "*/*"),
}
"""What is answered, and the names it goes by, the most exact first."""


def _quality(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return 0.0


def answer_index(site: Site) -> Callable[[Request], Any]:
    """Return what lists the listings, as JSON or as a document."""

    async def index(request: Request) -> Response:
        root = str(request.scope.get("root_path") or "")
        found = [
            describe_listing(name, one, site.options_of(name), root, site.exports)
            for name, one in site.listings.items()
        ]
        if wanted(request) == "json":
            return JSONResponse({"title": site.title, "listings": found})
        text = render_index(site.title, found, root)
        return Response(text, media_type="text/html; charset=utf-8", headers={"Vary": "Accept"})

    return index


def answer_health(site: Site) -> Callable[[Request], Any]:
    """Return what tells whether the database answers."""

    async def health(request: Request) -> Response:
        try:
            with anyio.fail_after(_HEALTH_S):
                await _ask(site.engine)
        except TimeoutError:
            state, status = "gives no answer", 503
        except VrelkoError as error:
            state, status = error.code, 503
        else:
            state, status = "answers", 200
        # By its code alone: what the database said may name hosts and users.
        body = {"status": "ok" if status == 200 else "failing", "database": state}
        return JSONResponse(body, status, {"Cache-Control": "no-store", **retry_of(status)})

    return health


async def _ask(engine: Any) -> None:
    """Ask the database for 1. Raises DatabaseError."""
    with database_errors("health check"):
        if hasattr(engine, "sync_engine"):
            async with engine.connect() as connection:
                await connection.execute(select(1))
            return

        def ask() -> None:
            with engine.connect() as connection:
                connection.execute(select(1))

        # A driver that hangs cannot be stopped; its thread is left to end by itself.
        await anyio.to_thread.run_sync(ask, abandon_on_cancel=True)


def answer_metrics(site: Site) -> Callable[[Request], Any]:
    """Return what shows the counters, as OpenMetrics."""

    async def metrics(request: Request) -> Response:
        return Response(
            site.counters.text(), headers={"Cache-Control": "no-store", "Content-Type": MEDIA}
        )

    return metrics
