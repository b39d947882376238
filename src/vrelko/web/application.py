"""The ASGI application: listings over HTTP, as JSON, documents, fragments and exports."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response, StreamingResponse
from starlette.routing import Route

from vrelko.errors import PageError, VrelkoError, nearest
from vrelko.web.addresses import header_of, page_urls
from vrelko.web.asking import pairs_of, request_from
from vrelko.web.bodies import body_of, rows_of, to_json
from vrelko.web.describing import describe_site
from vrelko.web.exporting import BATCH, FORMATS, check_format, stream_rows
from vrelko.web.looks import USUAL_LOOKS, Looks
from vrelko.web.problems import PROBLEM_TYPE, make_problem, problem_of
from vrelko.web.rendering import render_document, render_fragment
from vrelko.web.wire import USUAL, Wire

if TYPE_CHECKING:
    from vrelko.serving.listing import Listing
    from vrelko.serving.page import Page

PART = "page-part"
"""The request header with which a script asks for a fragment: `Page-Part: fragment`."""


@dataclass(frozen=True)
class Site:
    """What an application serves, and how.

    `engine`: an Engine or AsyncEngine. `wires` by listing, else `wire`. `params`: parameters that
    requests must not choose, by listing name or for all under "", each a function of the request or
    a value: a tenant, a visitor. `scope`: what cursors are bound to, of a request. `links`: "path"
    (behind the mount, the default), "relative" (a query alone) or "absolute". `exports`: whether
    /LISTING/export is there. `labels`: the column that names a choice, by listing.
    """

    listings: Mapping[str, Listing]
    engine: Any
    wire: Wire = USUAL
    wires: Mapping[str, Wire] = field(default_factory=dict)
    looks: Looks = USUAL_LOOKS
    params: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    scope: Callable[[Request], object] | None = None
    links: str = "path"
    exports: bool = True
    labels: Mapping[str, str] = field(default_factory=dict)
    title: str = "Listings"
    time_limit_ms: float | None = None

    def wire_of(self, name: str) -> Wire:
        """Return a listing's wire."""
        return self.wires.get(name, self.wire)

    def fixed_of(self, name: str, request: Request | None) -> dict[str, Any]:
        """Return the parameters that a request does not choose."""
        given = {**self.params.get("", {}), **self.params.get(name, {})}
        return {key: value(request) if callable(value) and request is not None else value
                for key, value in given.items()}  # fmt: skip


def make_app(
    listings: Mapping[str, Listing], engine: Any, *, debug: bool = False, **settings: Any
) -> Starlette:
    """Return an ASGI application that serves listings by name; `settings` are those of `Site`.

    GET /NAME answers as JSON, as a whole document (Accept: text/html), or as a fragment of one
    (with the header Page-Part: fragment too). GET /NAME/export streams all rows, GET /openapi.json
    describes it. What is wrong comes as problem details.
    """
    site = Site(listings, engine, **settings)
    routes = [
        Route("/openapi.json", _openapi(), name="openapi"),
        Route("/{listing}/export", _exporter(site), name="export"),
        Route("/{listing}", _reader(site), name="listing"),
        Route("/{listing}/{position}", _reader(site), name="position"),
    ]
    if not site.exports:
        del routes[1]
    handlers: dict[Any, Any] = {VrelkoError: on_error, HTTPException: on_http,
                                Exception: _on_failure}  # fmt: skip
    app = Starlette(debug=debug, routes=routes, exception_handlers=handlers)
    app.state.site = site
    return app


def _reader(site: Site) -> Callable[[Request], Any]:
    async def read(request: Request) -> Response:
        listing, wire = _find(site, request)
        part = request.path_params.get("position")
        if part is not None and not wire.in_path:
            raise HTTPException(404)
        asked = request_from(
            request.query_params, listing, wire, path_part=part,
            given=site.fixed_of(listing_name(request), request),
        )  # fmt: skip
        page = await _read(site, request, listing, asked)
        return _answer(site, request, listing, wire, page, asked)

    return read


async def _read(site: Site, request: Request, listing: Listing, asked: dict[str, Any]) -> Page:
    scope = None if site.scope is None else site.scope(request)
    more = {**asked, "scope": scope, "time_limit_ms": site.time_limit_ms}
    if hasattr(site.engine, "sync_engine"):
        return await listing.aread(site.engine, **more)
    return await run_in_threadpool(listing.read, site.engine, **more)


def _answer(
    site: Site, request: Request, listing: Listing, wire: Wire, page: Page, asked: dict[str, Any]
) -> Response:
    url = address_of(site, request, wire)
    urls = page_urls(page, url, wire)
    order = asked["order"] or listing.variety.default_order(asked["params"])
    kind = _wanted(request)
    headers = {"Link": header_of(urls), "Vary": "Accept, Page-Part"}
    if kind == "json" and listing.kind == "choices":
        text, media = to_json(_choices(site, request, page)), "application/json"
    elif kind == "json":
        text = to_json(body_of(page, url, wire, order=order, urls=urls))
        media = "application/json"
    else:
        draw = render_fragment if kind == "fragment" else render_document
        text, media = draw(page, url, listing, wire, site.looks, order), "text/html; charset=utf-8"
    return _tagged(request, text.encode(), media, headers)


def _tagged(request: Request, content: bytes, media: str, headers: dict[str, str]) -> Response:
    """Return the content with its ETag, or 304 where the reader has it."""
    tag = f'"{hashlib.blake2b(content, digest_size=12).hexdigest()}"'
    known = request.headers.get("if-none-match", "")
    headers = {**headers, "ETag": tag, "Cache-Control": "private, no-cache"}
    if known.strip() == "*" or tag in [one.strip().removeprefix("W/") for one in known.split(",")]:
        return Response(status_code=304, headers=headers)
    return Response(content, media_type=media, headers=headers)


def _wanted(request: Request) -> str:
    """Return json, document or fragment. Raises HTTPException where none will do."""
    accept = request.headers.get("accept", "*/*")
    best, kind = -1.0, ""
    for entry in accept.split(","):
        media, *rest = (part.strip() for part in entry.split(";"))
        found = _MEDIA.get(media.lower())
        quality = next((_quality(one[2:]) for one in rest if one.startswith("q=")), 1.0)
        if found and quality > best and quality > 0:
            best, kind = quality, found
    if not kind:
        raise HTTPException(406)
    if kind == "html":
        return "fragment" if request.headers.get(PART, "") == "fragment" else "document"
    return "json"


_MEDIA = {
    "application/json": "json", "application/*": "json", "*/*": "json", "": "json",
    "text/html": "html", "application/xhtml+xml": "html", "text/*": "html",
}  # fmt: skip


def _quality(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return 0.0


def _choices(site: Site, request: Request, page: Page) -> dict[str, Any]:
    """Return value and label of each row: the first column, and the one named, else the second."""
    rows = rows_of(page)
    label = site.labels.get(listing_name(request))
    found = []
    for row in rows:
        values = list(row.values())
        text = row.get(label) if label else values[min(1, len(values) - 1)]
        found.append({"value": values[0], "label": "" if text is None else str(text)})
    return {"choices": found, "complete": page.total.kind != "capped"}


def _exporter(site: Site) -> Callable[[Request], Any]:
    async def export(request: Request) -> Response:
        listing, wire = _find(site, request)
        if listing.kind == "choices":
            raise HTTPException(404)
        pairs = [pair for pair in pairs_of(request.query_params) if pair[0] != "format"]
        kind = check_format(request.query_params.get("format"))
        refused = {wire.named(wire.page), wire.named(wire.size)} & {name for name, _ in pairs}
        if refused:
            raise PageError(
                f"an export takes no {min(refused)!r}", "Resume it with a cursor", "web-parameter"
            )
        given = site.fixed_of(listing_name(request), request)
        asked = request_from(pairs, listing, wire, given=given)
        scope = None if site.scope is None else site.scope(request)
        engine = getattr(site.engine, "sync_engine", site.engine)
        if engine is not site.engine:
            raise PageError("exports need a blocking engine", "Give the application an Engine",
                            "web-async")  # fmt: skip
        pages = await run_in_threadpool(
            listing.walk, engine, size=BATCH, start=asked["at"], params=asked["params"],
            order=asked["order"], scope=scope,
        )  # fmt: skip
        body = stream_rows(pages, kind, wire.export_rows_s, run_in_threadpool)
        return StreamingResponse(body, media_type=FORMATS[kind])

    return export


def describe_app(app: Starlette) -> dict[str, Any]:
    """Return the OpenAPI description of an application that `make_app` made."""
    site: Site = app.state.site
    known = {
        name: (listing, site.wire_of(name), frozenset(site.fixed_of(name, None)))
        for name, listing in site.listings.items()
    }
    return describe_site(site.title, known, site.exports)


def _openapi() -> Callable[[Request], Any]:
    async def describe(request: Request) -> Response:
        document = describe_app(request.app)
        root = request.scope.get("root_path") or ""
        return JSONResponse({**document, "servers": [{"url": root or "/"}]})

    return describe


def listing_name(request: Request) -> str:
    """Return the name of the listing that a request is for."""
    return str(request.path_params["listing"])


def _find(site: Site, request: Request) -> tuple[Listing, Wire]:
    name = listing_name(request)
    if name not in site.listings:
        raise HTTPException(404, f"there is no listing here by that name. "
                            f"{nearest(name[:60], site.listings)}")  # fmt: skip
    return site.listings[name], site.wire_of(name)


def address_of(site: Site, request: Request, wire: Wire) -> str:
    """Return the address of a request as readers see it, without a position in its path."""
    query = request.url.query
    if site.links == "relative" and not wire.in_path:
        return f"?{query}" if query else ""
    path = str(request.scope.get("root_path") or "") + "/" + quote(listing_name(request))
    address = f"{path}?{query}" if query else path
    if site.links == "absolute":
        return f"{request.url.scheme}://{request.url.netloc}{address}"
    return address


_TODO = {
    404: "See /openapi.json for what is here",
    405: "Use GET",
    406: "Accept application/json or text/html",
}


async def on_error(request: Request, error: Exception) -> Response:
    """Answer with problem details."""
    assert isinstance(error, VrelkoError)
    return _problem(problem_of(error, str(request.url.path)))


async def on_http(request: Request, error: Exception) -> Response:
    """Answer with problem details where there is nothing, or no such method."""
    assert isinstance(error, HTTPException)
    todo = _TODO.get(error.status_code, "Correct it")
    detail = str(error.detail)
    found = make_problem(error.status_code, detail, todo, f"http-{error.status_code}",
                         request.url.path)  # fmt: skip
    return _problem(found, dict(error.headers or {}))


async def _on_failure(request: Request, error: Exception) -> Response:
    return _problem(make_problem(500, "something failed in the server",
                                 "Tell who runs it; its log says more", "http-500"))  # fmt: skip


def _problem(found: dict[str, Any], headers: dict[str, str] | None = None) -> Response:
    return Response(to_json(found), found["status"], headers, media_type=PROBLEM_TYPE)
