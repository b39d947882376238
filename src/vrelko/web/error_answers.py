"""What an application answers where a request fails: problem details, or a page of them."""

from __future__ import annotations

from typing import Any

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import Response

from vrelko.errors import VrelkoError
from vrelko.web.bodies import to_json
from vrelko.web.html import render_problem
from vrelko.web.problems import PROBLEM_TYPE, make_problem, problem_of, retry_of
from vrelko.web.status_pages import wanted

_TODO = {
    404: "See /openapi.json for what is here",
    405: "Use GET",
    406: "Accept application/json or text/html",
}


async def on_error(request: Request, error: Exception) -> Response:
    """Answer with problem details, and tell causes that are the server's own."""
    assert isinstance(error, VrelkoError)
    found = problem_of(error, str(request.url.path))
    site = getattr(request.app.state, "site", None)
    # What a reader did wrong is the reader's to know; logs of it drown what matters.
    if found["status"] >= 500 and site is not None:
        # From the address, so anybody may make it as long as they like.
        name = str(request.path_params.get("listing", ""))[:80]
        site.counters.count_failure(name, error.code)
        site.causes.tell(name, error.code, error.what)
    return _problem(request, found, retry_of(found["status"]))


async def on_http(request: Request, error: Exception) -> Response:
    """Answer with problem details where there is nothing, or no such method."""
    assert isinstance(error, HTTPException)
    todo = _TODO.get(error.status_code, "Correct it")
    detail = str(error.detail)
    found = make_problem(
        error.status_code, detail, todo, f"http-{error.status_code}", request.url.path
    )
    return _problem(request, found, dict(error.headers or {}))


async def on_failure(request: Request, error: Exception) -> Response:
    """Answer for what nobody foresaw, without a word of what it was."""
    return _problem(
        request,
        make_problem(
            500, "something failed in the server", "Tell who runs it; its log says more", "http-500"
        ),
    )


def _problem(
    request: Request, found: dict[str, Any], headers: dict[str, str] | None = None
) -> Response:
    """Return problem details, as a page for those who ask for HTML."""
    headers = {"Cache-Control": "no-store", "Vary": "Accept", **(headers or {})}
    try:
        # Programs often send no Accept at all; a browser always does.
        plain = wanted(request) == "json" or not request.headers.get("accept")
    # Accept names nothing that is served: JSON is the least wrong.
    except HTTPException:
        plain = True
    if plain:
        return Response(to_json(found), found["status"], headers, media_type=PROBLEM_TYPE)
    text = render_problem(found, str(request.scope.get("root_path") or ""))
    return Response(text, found["status"], headers, media_type="text/html; charset=utf-8")
