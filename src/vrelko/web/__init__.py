"""Pages over HTTP: plain functions for any framework, an ASGI application, and HTML controls.

The functions need nothing but the base install; HTML and the application need the extra `web`.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from vrelko.web.addresses import Urls, headings, link_header, page_urls
    from vrelko.web.appearance import Appearance, Words
    from vrelko.web.application import make_app
    from vrelko.web.bodies import body_of, to_json
    from vrelko.web.html import render_controls, render_document, render_fragment
    from vrelko.web.http_options import HttpOptions
    from vrelko.web.problems import problem_of
    from vrelko.web.request_params import request_from
    from vrelko.web.site import Site

_HOMES = {
    "Appearance": "appearance",
    "Site": "site",
    "Urls": "addresses",
    "HttpOptions": "http_options",
    "Words": "appearance",
    "body_of": "bodies",
    "headings": "addresses",
    "link_header": "addresses",
    "make_app": "application",
    "page_urls": "addresses",
    "problem_of": "problems",
    "render_controls": "html",
    "render_document": "html",
    "render_fragment": "html",
    "request_from": "request_params",
    "to_json": "bodies",
}

__all__ = [
    "Appearance",
    "HttpOptions",
    "Site",
    "Urls",
    "Words",
    "body_of",
    "headings",
    "link_header",
    "make_app",
    "page_urls",
    "problem_of",
    "render_controls",
    "render_document",
    "render_fragment",
    "request_from",
    "to_json",
]


def __getattr__(name: str) -> Any:
    """Load a public name when it is first used."""
    if name not in _HOMES:
        raise AttributeError(f"module 'vrelko.web' has no attribute {name!r}")
    return getattr(import_module(f"vrelko.web.{_HOMES[name]}"), name)
