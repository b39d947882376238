"""Server-rendered pages: controls, fragments and documents as escaped, accessible HTML."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from vrelko.core.numbered_page import NumberedPage
from vrelko.errors import ListingError
from vrelko.web.addresses import Urls, headings, page_urls, period_url
from vrelko.web.appearance import USUAL_APPEARANCE, Appearance
from vrelko.web.bodies import rows_of
from vrelko.web.http_options import USUAL, HttpOptions

if TYPE_CHECKING:
    from jinja2 import Environment

    from vrelko.serving.listing import Listing
    from vrelko.serving.pages.page import Page


def render_controls(
    page: Page | NumberedPage,
    url: str,
    http: HttpOptions = USUAL,
    appearance: Appearance = USUAL_APPEARANCE,
    urls: Urls | None = None,
) -> str:
    """Return a page's controls: first, previous, numbers with gaps, next, last, from–to, end mark.

    Plain links that work without script; what leads nowhere is no link. `page` is one that a
    listing read, or one by its number, size and total alone (`vrelko.arithmetic.numbered_page`).
    Raises ListingError where the extra `web` is not installed.
    """
    links = urls or page_urls(page, url, http)
    return (
        _environment(appearance)
        .get_template("controls.html")
        .render(
            page=page,
            urls=links,
            appearance=appearance,
            words=appearance.words,
            shift=http.first - 1,
        )
    )


def render_fragment(
    page: Page,
    url: str,
    listing: Listing,
    http: HttpOptions = USUAL,
    appearance: Appearance = USUAL_APPEARANCE,
    order: str | None = None,
) -> str:
    """Return rows, controls and end mark as one element, to be put in place of the one before."""
    # The same template within a document and alone, so that a script can exchange one for the
    # other.
    return _render("part.html", page, url, listing, http, appearance, order)


def render_document(
    page: Page,
    url: str,
    listing: Listing,
    http: HttpOptions = USUAL,
    appearance: Appearance = USUAL_APPEARANCE,
    order: str | None = None,
    title: str | None = None,
) -> str:
    """Return a whole HTML document with the same element in it."""
    return _render("document.html", page, url, listing, http, appearance, order, title)


def render_problem(
    found: Mapping[str, Any], root: str = "", appearance: Appearance = USUAL_APPEARANCE
) -> str:
    """Return problem details as an HTML document that leads to the list at `root`."""
    template = _environment(appearance).get_template("problem.html")
    return template.render(found=found, root=root, appearance=appearance, title=found["title"])


def render_index(
    title: str,
    listings: Sequence[Mapping[str, Any]],
    root: str,
    appearance: Appearance = USUAL_APPEARANCE,
) -> str:
    """Return the list of what an application serves as an HTML document."""
    template = _environment(appearance).get_template("index.html")
    return template.render(title=title, listings=listings, root=root, appearance=appearance)


def _render(
    template: str,
    page: Page,
    url: str,
    listing: Listing,
    http: HttpOptions,
    appearance: Appearance,
    order: str | None,
    title: str | None = None,
) -> str:
    rows = rows_of(page)
    # Headings stand over an empty page too.
    names = list(rows[0]) if rows else [column.name for column in listing.select.selected_columns]
    return (
        _environment(appearance)
        .get_template(template)
        .render(
            page=page,
            rows=rows,
            urls=page_urls(page, url, http),
            appearance=appearance,
            words=appearance.words,
            headings=headings(names, listing, order or page.order, url, http),
            shift=http.first - 1,
            title=title or listing.name.replace("_", " "),
            name=listing.name,
            period_url=lambda label: period_url(url, label, http),
        )
    )


def _environment(appearance: Appearance) -> Environment:
    return _environment_of(None if appearance.templates is None else str(appearance.templates))


# Templates are compiled once: jinja2 takes longer for that than for a page.
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
        # First, so that any of ours can be replaced without the others being copied.
        loaders.insert(0, FileSystemLoader(templates))
    return Environment(
        loader=ChoiceLoader(loaders), autoescape=True, trim_blocks=True, lstrip_blocks=True
    )
