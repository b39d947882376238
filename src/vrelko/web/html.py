"""Server-rendered pages: controls, fragments and documents as escaped, accessible HTML."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from vrelko.errors import ListingError
from vrelko.web.addresses import Urls, headings, page_urls
from vrelko.web.appearance import USUAL_LOOKS, Looks
from vrelko.web.bodies import rows_of
from vrelko.web.http_options import USUAL, Wire

if TYPE_CHECKING:
    from jinja2 import Environment

    from vrelko.serving.listing import Listing
    from vrelko.serving.pages.page import Page


def render_controls(
    page: Page, url: str, wire: Wire = USUAL, looks: Looks = USUAL_LOOKS, urls: Urls | None = None
) -> str:
    """Return a page's controls: first, previous, numbers with gaps, next, last, from–to, end mark.

    Plain links that work without script; what leads nowhere is no link. Raises ListingError where
    the extra `web` is not installed.
    """
    links = urls or page_urls(page, url, wire)
    return _environment(looks).get_template("controls.html").render(
        page=page, urls=links, looks=looks, words=looks.words, shift=wire.first - 1
    )  # fmt: skip


def render_fragment(
    page: Page,
    url: str,
    listing: Listing,
    wire: Wire = USUAL,
    looks: Looks = USUAL_LOOKS,
    order: str | None = None,
) -> str:
    """Return rows, controls and end mark as one element, to be put in place of the one before."""
    return _render("part.html", page, url, listing, wire, looks, order)


def render_document(
    page: Page,
    url: str,
    listing: Listing,
    wire: Wire = USUAL,
    looks: Looks = USUAL_LOOKS,
    order: str | None = None,
    title: str | None = None,
) -> str:
    """Return a whole HTML document with the same element in it."""
    return _render("document.html", page, url, listing, wire, looks, order, title)


def render_problem(found: Mapping[str, Any], root: str = "", looks: Looks = USUAL_LOOKS) -> str:
    """Return problem details as an HTML document that leads to the list at `root`."""
    template = _environment(looks).get_template("problem.html")
    return template.render(found=found, root=root, looks=looks, title=found["title"])


def render_index(
    title: str, listings: Sequence[Mapping[str, Any]], root: str, looks: Looks = USUAL_LOOKS
) -> str:
    """Return the list of what an application serves as an HTML document."""
    template = _environment(looks).get_template("index.html")
    return template.render(title=title, listings=listings, root=root, looks=looks)


def _render(
    template: str, page: Page, url: str, listing: Listing, wire: Wire, looks: Looks,
    order: str | None, title: str | None = None,
) -> str:  # fmt: skip
    rows = rows_of(page)
    names = list(rows[0]) if rows else [column.name for column in listing.select.selected_columns]
    return _environment(looks).get_template(template).render(
        page=page, rows=rows, urls=page_urls(page, url, wire), looks=looks, words=looks.words,
        headings=headings(names, listing, order, url, wire), shift=wire.first - 1,
        title=title or listing.name.replace("_", " "), name=listing.name,
    )  # fmt: skip


def _environment(looks: Looks) -> Environment:
    return _environment_of(None if looks.templates is None else str(looks.templates))


@lru_cache(maxsize=32)
def _environment_of(templates: str | None) -> Environment:
    try:
        from jinja2 import ChoiceLoader, Environment, FileSystemLoader, PackageLoader
    except ImportError as error:
        raise ListingError(
            "server-rendered pages need jinja2, which is not installed",
            'Install it with: pip install "vrelko[web]"',
            "web-extra",
        ) from error
    loaders: list[Any] = [PackageLoader("vrelko.web", "templates")]
    if templates is not None:
        loaders.insert(0, FileSystemLoader(templates))
    return Environment(
        loader=ChoiceLoader(loaders), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
