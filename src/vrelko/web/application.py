"""The ASGI application: listings over HTTP, as JSON, documents, fragments and exports."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Mapping
from contextlib import AbstractAsyncContextManager
from dataclasses import fields
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.requests import Request
from starlette.responses import Response, StreamingResponse
from starlette.routing import Route

from vrelko.errors import ListingError, PageError, VrelkoError, nearest
from vrelko.serving.steady.frozen import reading_for
from vrelko.web.addresses import header_of, page_urls
from vrelko.web.bodies import body_of, periods_body, rows_of, to_json, to_utf8
from vrelko.web.error_answers import on_error, on_failure, on_http
from vrelko.web.exports import BATCH, FORMATS, check_format, stream_rows
from vrelko.web.guard import Guard, Told
from vrelko.web.html import (
    render_document,
    render_fragment,
)
from vrelko.web.http_options import HttpOptions
from vrelko.web.openapi import describe_site
from vrelko.web.request_params import (
    check_names,
    in_request_terms,
    pairs_of,
    periods_from,
    request_from,
)
from vrelko.web.site import Site
from vrelko.web.status_pages import (
    answer_health,
    answer_index,
    answer_metrics,
    wanted,
)

if TYPE_CHECKING:
    from vrelko.serving.listing import Listing
    from vrelko.serving.pages.page import Page

# Proxies refuse headers of 8 kB in all, as many come.
_MOST_LINK = 4_000  # characters of a Link header


def make_app(
    listings: Mapping[str, Listing], engine: Any, *, debug: bool = False, **settings: Any
) -> Starlette:
    """Return an ASGI application that serves listings by name; `settings` are those of `Site`.

    GET /NAME answers as JSON, as a whole document (Accept: text/html), or as a fragment of one
    (with the header Page-Part: fragment too). GET /NAME/periods lists the years, months or days
    that have rows, where the listing has periods. GET /NAME/export streams all rows, GET
    /openapi.json describes it, GET / lists what is here, /healthz tells whether the database
    answers, and /metrics counts, as OpenMetrics. What is wrong comes as problem details. Raises
    ListingError for names that mean two things.
    """
    # A misspelt setting would otherwise be a TypeError of a class that the user never named.
    known = [one.name for one in fields(Site) if one.name not in ("listings", "engine")]
    wrong = [name for name in settings if name not in known]
    wrong += [name for name in settings.get("http_of", {}) if name not in listings]
    if wrong:
        raise ListingError(
            f"an application takes no {wrong[0]!r}",
            nearest(wrong[0], known if wrong[0] in settings else listings),
            "web-wire",
        )
    # Anyone can write any Host: a link made of it would lead readers, and caches, elsewhere.
    if settings.get("links") == "absolute" and not settings.get("hosts"):
        raise ListingError(
            "absolute links need to know your host names; without them they would name "
            "whatever host a request claims",
            'Say which names are yours: hosts=["pages.example.org"]; or use links="path"',
            "web-hosts",
        )
    site = Site(listings, engine, **settings)
    for name in listings:
        check_names(name, listings[name], site.options_of(name), site.exports)
    # Fixed names first: a listing by one of them could never be reached (`check_names` refuses it).
    routes = [
        Route("/", answer_index(site), name="index"),
        Route("/openapi.json", _openapi(), name="openapi"),
        Route("/healthz", answer_health(site), name="health"),
        Route("/metrics", answer_metrics(site), name="metrics"),
        Route("/{listing}/export", _exporter(site), name="export"),
        Route("/{listing}/periods", _periods(site), name="periods"),
        Route("/{listing}", _reader(site), name="listing"),
        Route("/{listing}/{position}", _reader(site), name="position"),
    ]
    if not site.exports:
        routes = [one for one in routes if one.name != "export"]
    handlers: dict[Any, Any] = {
        VrelkoError: on_error,
        HTTPException: on_http,
        Exception: on_failure,
    }
    told = Told(site.log_requests, site.log_values)
    guard: Any = Middleware(Guard, hosts=site.hosts, told=told, counters=site.counters)
    app = Starlette(debug=debug, routes=routes, exception_handlers=handlers, middleware=[guard])
    app.state.site = site
    return app


def _reader(site: Site) -> Callable[[Request], Any]:
    async def read(request: Request) -> Response:
        listing, http = _find(site, request)
        request.state.vrelko_listing = listing_name(request)
        part = request.path_params.get("position")
        # Else the same page would have two addresses.
        if part is not None and not http.in_path:
            raise HTTPException(404)
        asked = request_from(
            request.query_params,
            listing,
            http,
            path_part=part,
            given=site.fixed_of(listing_name(request), request),
        )
        # Before a thread is taken, so that those who wait hold none.
        async with site.turns.take(listing_name(request)):
            try:
                page = await _read(site, request, listing, asked)
            except PageError as error:
                # In the words of the address: its reader never wrote `size=` as an argument.
                raise in_request_terms(error, asked["at"], http) from error
        request.state.vrelko_rows, request.state.vrelko_statements = len(page), len(page.statements)
        return _answer(site, request, listing, http, page)

    return read


async def _read(site: Site, request: Request, listing: Listing, asked: dict[str, Any]) -> Page:
    scope = None if site.scope is None else site.scope(request)
    more = {**asked, "scope": scope, "time_limit_ms": site.time_limit_ms}
    # Whoever begins walks without end fills a store: counted by reader, so that others still may.
    reader = (request.client.host if request.client else "?") if scope is None else scope
    if listing.strategy == "frozen-ids" and not isinstance(asked["at"], str):  # it begins a walk
        site.pace.count(reader)
    with reading_for(reader):
        # Blocking drivers run in a thread, or all other requests would wait.
        if hasattr(site.engine, "sync_engine"):
            return await listing.aread(site.engine, **more)
        return await run_in_threadpool(listing.read, site.engine, **more)


def _answer(
    site: Site, request: Request, listing: Listing, http: HttpOptions, page: Page
) -> Response:
    url = address_of(site, request, http)
    urls = page_urls(page, url, http)
    kind = wanted(request)
    headers = {"Link": header_of(urls, http.prefetch), "Vary": "Accept, Page-Part"}
    if len(headers["Link"]) > _MOST_LINK:  # which proxies would refuse; the body has them too
        del headers["Link"]
    # A picker wants value and label; pages and links mean nothing to it.
    if kind == "json" and listing.kind == "choices":
        text, media = to_json(_choices(site, request, page)), "application/json"
    elif kind == "json":
        text = to_json(body_of(page, url, http, urls=urls))
        media = "application/json"
    else:
        draw = render_fragment if kind == "fragment" else render_document
        text, media = (
            draw(page, url, listing, http, site.appearance),
            "text/html; charset=utf-8",
        )
    return _tagged(request, to_utf8(text), media, headers)


def _tagged(request: Request, content: bytes, media: str, headers: dict[str, str]) -> Response:
    """Return the content with its ETag, or 304 where the reader has it."""
    # Of the very bytes: whatever a row, its words or its links change, changes it.
    tag = f'"{hashlib.blake2b(content, digest_size=12).hexdigest()}"'
    known = request.headers.get("if-none-match", "")
    # Private: scope and filters may hold rows that only this reader may see.
    headers = {**headers, "ETag": tag, "Cache-Control": "private, no-cache"}
    if known.strip() == "*" or tag in [one.strip().removeprefix("W/") for one in known.split(",")]:
        return Response(status_code=304, headers=headers)
    return Response(content, media_type=media, headers=headers)


def _choices(site: Site, request: Request, page: Page) -> dict[str, Any]:
    """Return value and label of each row: the first column, and the one named, else the second."""
    rows = rows_of(page)
    label = site.labels.get(listing_name(request))
    found = []
    for row in rows:
        # A picker selects its value first; more columns are for searching.
        values = list(row.values())
        text = row.get(label) if label else values[min(1, len(values) - 1)]
        found.append({"value": values[0], "label": "" if text is None else str(text)})
    return {"choices": found, "complete": page.total.kind != "capped"}


def _periods(site: Site) -> Callable[[Request], Any]:
    async def answer(request: Request) -> Response:
        listing, http = _find(site, request)
        request.state.vrelko_listing = listing_name(request)
        given = site.fixed_of(listing_name(request), request)
        asked = periods_from(request.query_params, listing, http, given=given)
        engine = getattr(site.engine, "sync_engine", site.engine)
        async with site.turns.take(listing_name(request)):
            if engine is not site.engine:
                async with site.engine.connect() as lent:
                    found = await lent.run_sync(lambda one: listing.periods(one, **asked))
            else:
                found = await run_in_threadpool(listing.periods, engine, **asked)
        url = address_of(site, request, http)
        text = to_json({"periods": periods_body(found, url, http)})
        return _tagged(request, text.encode(), "application/json", {"Vary": "Accept"})

    return answer


def _exporter(site: Site) -> Callable[[Request], Any]:
    async def export(request: Request) -> Response:
        listing, http = _find(site, request)
        # A picker's rows come whole in one answer already.
        if listing.kind == "choices":
            raise HTTPException(404)
        request.state.vrelko_listing = listing_name(request)
        pairs = [pair for pair in pairs_of(request.query_params) if pair[0] != "format"]
        # Not a parameter of the listing, so it is taken off before those are read.
        kind = check_format(request.query_params.get("format"))
        sized = {http.named(one) for one in (http.page, http.size, http.rows)}
        refused = sized & {name for name, _ in pairs}
        # An export is all rows; a page of it would be taken for the whole.
        if refused:
            raise PageError(
                f"an export takes no {min(refused)!r}", "Resume it with a cursor", "web-parameter"
            )
        given = site.fixed_of(listing_name(request), request)
        asked = request_from(pairs, listing, http, given=given)
        scope = None if site.scope is None else site.scope(request)
        engine = getattr(site.engine, "sync_engine", site.engine)
        if engine is not site.engine:
            raise PageError(
                "exports need a blocking engine", "Give the application an Engine", "web-async"
            )
        headers = {"Cache-Control": "private, no-store", "Vary": "Accept, Page-Part"}
        # Nothing is read: a walk would have to be begun to be thrown away.
        if request.method == "HEAD":
            return Response(media_type=FORMATS[kind], headers=headers)
        params = asked["params"]
        if "period" in asked:
            period, zone = asked["period"], asked["time_zone"]
            params = listing.params_within(engine, period, params=params, time_zone=zone)
        pages = await run_in_threadpool(
            listing.walk,
            engine,
            size=BATCH,
            start=asked["at"],
            params=params,
            order=asked["order"],
            scope=scope,
            time_limit_ms=site.time_limit_ms,
        )
        # For an export without rows, which has a line of headings all the same.
        names = [column.name for column in listing.select.selected_columns]
        # Exports last; they may hold a quarter of the connections, so that pages find some.
        turn = site.turns.take(f"{listing_name(request)}/export", max(site.at_once // 4, 1))
        body = stream_rows(pages, kind, http, run_in_threadpool, names, request.state)
        return _Export(turn, body, media_type=FORMATS[kind], headers=headers)

    return export


class _Export(StreamingResponse):
    """A streamed answer that holds a turn from its first byte to its last, or until it is left."""

    def __init__(self, turn: AbstractAsyncContextManager[None], *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self._turn = turn

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        async with self._turn:
            await super().__call__(scope, receive, send)


def describe_app(app: Starlette) -> dict[str, Any]:
    """Return the OpenAPI description of an application that `make_app` made."""
    site: Site = app.state.site
    known = {
        name: (listing, site.options_of(name), frozenset(site.fixed_of(name, None)))
        for name, listing in site.listings.items()
    }
    return describe_site(site.title, known, site.exports)


def _openapi() -> Callable[[Request], Any]:
    async def describe(request: Request) -> Response:
        document = describe_app(request.app)
        # Behind a mount or a proxy: only the request knows where the application hangs.
        root = request.scope.get("root_path") or ""
        text = to_json({**document, "servers": [{"url": root or "/"}]})
        return _tagged(request, text.encode(), "application/json", {})

    return describe


def listing_name(request: Request) -> str:
    """Return the name of the listing that a request is for."""
    return str(request.path_params["listing"])


def _find(site: Site, request: Request) -> tuple[Listing, HttpOptions]:
    name = listing_name(request)
    if name not in site.listings:
        raise HTTPException(
            404, f"there is no listing here by that name. {nearest(name[:60], site.listings)}"
        )
    return site.listings[name], site.options_of(name)


def address_of(site: Site, request: Request, http: HttpOptions) -> str:
    """Return the address of a request as readers see it, without a position in its path."""
    query = request.url.query
    # "?page=2" alone works under any proxy; with the position in the path it would grow at each
    # step.
    if site.links == "relative" and not http.in_path:
        return f"?{query}" if query else ""
    path = str(request.scope.get("root_path") or "") + "/" + quote(listing_name(request))
    address = f"{path}?{query}" if query else path
    if site.links == "absolute":
        return f"{request.url.scheme}://{request.url.netloc}{address}"
    return address
