"""Site: what an application serves, and how."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Any

from starlette.requests import Request

from vrelko.web.appearance import USUAL_APPEARANCE, Appearance
from vrelko.web.counters import Causes, Counters
from vrelko.web.http_options import USUAL, HttpOptions
from vrelko.web.turns import AT_ONCE, WAIT_S, WALKS_PER_MINUTE, Pace, Turns

if TYPE_CHECKING:
    from vrelko.serving.listing import Listing


@dataclass(frozen=True)
class Site:
    """What an application serves, and how.

    `engine`: an Engine or AsyncEngine. `http_of` by listing, else `http`. `params`: parameters that
    requests must not choose, by listing name or for all under "", each a function of the request or
    a value: a tenant, a visitor. `scope`: what cursors are bound to, of a request. `links`: "path"
    (behind the mount, the default), "relative" (a query alone) or "absolute". `exports`: whether
    /LISTING/export is there. `labels`: the column that names a choice, by listing.

    `time_limit_ms`: milliseconds that one statement may take. `hosts`: names that requests may call
    this server by, None for any. `at_once`: requests of one listing that are under way; another one
    waits `wait_s` seconds for its turn. `walks_per_minute`: frozen lists that one reader, by
    `scope` or by the client's address, may have made; more answer 429. `log_requests` writes a
    line for each request to the logger vrelko.web, without the values in its address unless
    `log_values`.
    """

    listings: Mapping[str, Listing]
    engine: Any
    http: HttpOptions = USUAL
    http_of: Mapping[str, HttpOptions] = field(default_factory=dict)
    appearance: Appearance = USUAL_APPEARANCE
    params: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    scope: Callable[[Request], object] | None = None
    links: str = "path"
    exports: bool = True
    labels: Mapping[str, str] = field(default_factory=dict)
    title: str = "Listings"
    time_limit_ms: float | None = None
    hosts: Sequence[str] | None = None
    at_once: int = AT_ONCE
    wait_s: float = WAIT_S
    walks_per_minute: int = WALKS_PER_MINUTE
    log_requests: bool = False
    log_values: bool = False
    # What one server counted does not make its settings others.
    counters: Counters = field(default_factory=Counters, compare=False)
    causes: Causes = field(default_factory=Causes, compare=False)

    @cached_property
    # (Made when first asked for, as the numbers are known by then, and one a site.)
    def turns(self) -> Turns:
        """The turns that requests take."""
        return Turns(self.at_once, self.wait_s)

    @cached_property
    def pace(self) -> Pace:
        """What bounds how often a reader begins a walk that stores a list."""
        return Pace(self.walks_per_minute)

    def options_of(self, name: str) -> HttpOptions:
        """Return how a listing is served over HTTP."""
        return self.http_of.get(name, self.http)

    def fixed_of(self, name: str, request: Request | None) -> dict[str, Any]:
        """Return the parameters that a request does not choose."""
        # What is said of one listing goes before what is said of all.
        given = {**self.params.get("", {}), **self.params.get(name, {})}
        return {
            # Without a request only the names matter, to whoever describes the site.
            key: value(request) if callable(value) and request is not None else value
            for key, value in given.items()
        }
