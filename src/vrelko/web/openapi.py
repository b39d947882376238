"""The OpenAPI description of listings served over HTTP."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlencode
from uuid import UUID

from vrelko.core.periods import UNITS
from vrelko.serving.pages.read import SPOTS
from vrelko.sql.search import PARAMETER
from vrelko.web.exports import FORMATS
from vrelko.web.http_options import HttpOptions
from vrelko.web.problems import PROBLEM_TYPE

if TYPE_CHECKING:
    from vrelko.serving.listing import Listing

_SCHEMAS: dict[type, dict[str, Any]] = {
    bool: {"type": "boolean"},
    # With bounds, or generated clients take 32 bits and fail at a large key.
    int: {"type": "integer", "minimum": -(2**63), "maximum": 2**63 - 1},
    float: {"type": "number"},
    # Text, as a JSON number is a float to most clients.
    Decimal: {"type": "string", "pattern": r"^-?\d+(\.\d+)?$"},
    datetime: {"type": "string", "format": "date-time"},
    date: {"type": "string", "format": "date"},
    time: {"type": "string", "format": "time"},
    timedelta: {"type": "string", "format": "duration"},
    UUID: {"type": "string", "format": "uuid"},
    str: {"type": "string"},
    bytes: {"type": "string", "contentEncoding": "base64"},
}


def describe_site(
    title: str, listings: Mapping[str, tuple[Listing, HttpOptions, frozenset[str]]], exports: bool
) -> dict[str, Any]:
    """Return an OpenAPI 3.1 document, of each listing with its options and given parameters."""
    paths: dict[str, Any] = {}
    for name, (listing, http, fixed) in listings.items():
        asked = _parameters(listing, http, fixed)
        paths[f"/{name}"] = {"get": _operation(name, listing, asked)}
        # A page that stands in the path is not asked for in the query as well.
        if http.in_path and listing.strategy != "whole":
            here = {http.named(http.page), http.named(http.cursor)}
            left = [one for one in asked if one["name"] not in here]
            behind = _operation(name, listing, [_POSITION, *left])
            # Generated clients name a function after it, so each must be another's only once.
            behind["operationId"] += "_at"
            paths[f"/{name}/{{position}}"] = {"get": behind}
        if listing.settings.variants.periods is not None:
            paths[f"/{name}/periods"] = {"get": _periods(name, listing, http, fixed)}
        if exports and listing.kind != "choices":
            kept = [one for one in asked if one["name"] not in _sizes(http)]
            paths[f"/{name}/export"] = {"get": _export(name, kept)}
    return {
        "openapi": "3.1.0",
        "info": {"title": title, "version": "1"},
        "paths": paths,
        "components": {"schemas": {"Problem": _PROBLEM, "Page": _PAGE, "Choices": _CHOICES}},
    }


def describe_listing(
    name: str, listing: Listing, http: HttpOptions, root: str, exports: bool
) -> dict[str, Any]:
    """Return what a list of listings says of one: its address, parameters and orders."""
    required = listing.filters.required
    usual = {
        key: value
        for key, value in listing.workload.params.items()
        # So that the example opens: without required parameters it would be an error.
        if key in required and isinstance(value, (int, str))
    }
    query = urlencode({http.named(key): value for key, value in usual.items()})
    address, example = f"{root}/{quote(name)}", f"?{query}" if query else ""
    found = {
        "name": name,
        "kind": listing.kind,
        "url": address + example,
        "orders": [str(order) for order in listing.given_orders],
        "parameters": [
            {"name": one["name"], "what": one["description"], "required": one["required"]}
            for one in _parameters(listing, http, frozenset())
        ],
    }
    if exports and listing.kind != "choices":
        found["export"] = f"{address}/export{example}"
    return found


def _sizes(http: HttpOptions) -> set[str]:
    return {http.named(one) for one in (http.size, http.page, http.rows)}


def _parameters(listing: Listing, http: HttpOptions, fixed: frozenset[str]) -> list[dict[str, Any]]:
    found = []
    whole = listing.strategy == "whole"
    if not whole and "number" in SPOTS[listing.kind]:
        # As the listing counts them, which a client of another habit has to know.
        low = 0 if http.offsets or http.first == 0 else 1
        what = "Row offset" if http.offsets else "Page number"
        found.append(_parameter(http.named(http.page), {"type": "integer", "minimum": low}, what))
    if not whole:
        found.append(
            _parameter(
                http.named(http.cursor), {"type": "string"}, "Position, from a link of another page"
            )
        )
        # The bound is the listing's own, so that a client learns it before it is refused.
        most = {} if listing.sizes.max is None else {"maximum": listing.sizes.max}
        size = {"type": "integer", "minimum": 1, "default": listing.sizes.default, **most}
        found.append(_parameter(http.named(http.size), size, "Rows per page"))
    if not whole and listing.kind == "grid":
        rows = {"type": "string", "pattern": "^\\d+-\\d+$"}
        told = "A range of rows from 0 for virtual scrolling, such as 120-179; alone"
        found.append(_parameter(http.named(http.rows), rows, told))
    if listing.settings.variants.periods is not None and not whole:
        # (A pattern, as OpenAPI has no format for a month.)
        label = {"type": "string", "pattern": r"^\d{4}(-\d{2}){0,2}$"}
        found.append(_parameter(http.named(http.period), label, "A year, month or day: 2026-07"))
        zone = {"type": "string"}
        found.append(_parameter(http.named(http.zone), zone, "Time zone in which days begin"))
    orders = [str(order) for order in listing.given_orders]
    found.append(
        _parameter(
            http.named(http.sort),
            {"type": "string", "enum": orders},
            "Order: columns after each other, - before one that descends",
        )
    )
    filters = listing.filters
    for name, (kind, many) in filters.types.items():
        # What the application fills in itself is nobody's to send.
        if name not in fixed:
            what = "Text to search for" if name == PARAMETER else f"Filter: {name}"
            found.append(
                _parameter(http.named(name), _schema(kind, many), what, name in filters.required)
            )
    return found


def _schema(kind: Any, many: bool) -> dict[str, Any]:
    try:
        wanted = kind.python_type
    except NotImplementedError:
        # A type of the user's own: whatever it is, an address can only hold text.
        wanted = str
    known = _SCHEMAS.get(wanted, {"type": "string"})
    # An enum of Python's is written by its members' names.
    if getattr(wanted, "__members__", None):
        known = {"type": "string", "enum": list(wanted.__members__)}
    return {"type": "array", "items": known} if many else known


def _parameter(
    name: str, schema: dict[str, Any], text: str, required: bool = False
) -> dict[str, Any]:
    return {
        "name": name,
        "in": "query",
        "required": required,
        "schema": schema,
        "description": text,
    }


def _operation(name: str, listing: Listing, parameters: list[dict[str, Any]]) -> dict[str, Any]:
    schema = "Choices" if listing.kind == "choices" else "Page"
    return {
        "operationId": f"read_{name}",
        "summary": f"A page of {name.replace('_', ' ')}",
        "parameters": parameters,
        "responses": {
            "200": {
                "description": "The page, with links to others in the Link header too",
                "headers": {
                    "Link": {"schema": {"type": "string"}, "description": "RFC 8288"},
                    "ETag": {"schema": {"type": "string"}},
                },
                "content": {
                    "application/json": {"schema": {"$ref": f"#/components/schemas/{schema}"}},
                    "text/html": {"schema": {"type": "string"}},
                },
            },
            "304": {"description": "As it was: the ETag given matches"},
            **_FAULTS,
            **(_PACED if listing.strategy == "frozen-ids" else {}),
        },
    }


def _periods(
    name: str, listing: Listing, http: HttpOptions, fixed: frozenset[str]
) -> dict[str, Any]:
    # A list of periods is no page, and has no position.
    own = {http.named(one) for one in (http.page, http.cursor, http.size, http.rows, http.period)}
    kept = [one for one in _parameters(listing, http, fixed) if one["name"] not in own]
    unit = {"type": "string", "enum": list(UNITS), "default": "month"}
    counts = {"type": "string", "enum": ["0", "1"], "default": "0"}
    within = {"type": "string", "pattern": r"^\d{4}(-\d{2}){0,2}$"}
    asked = [
        _parameter(http.named("unit"), unit, "Length of a period"),
        _parameter(http.named("within"), within, "Only periods of this year or month"),
        _parameter(http.named("counts"), counts, "Whether rows are counted"),
    ]
    return {
        "operationId": f"periods_{name}",
        "summary": f"Years, months or days that {name.replace('_', ' ')} has rows in",
        "parameters": [*kept, *asked],
        "responses": {
            "200": {
                "description": "Periods, the newest first, each with the address of its first page",
                "content": {"application/json": {"schema": {"type": "object"}}},
            },
            "304": {"description": "As it was: the ETag given matches"},
            **_FAULTS,
        },
    }


def _export(name: str, parameters: list[dict[str, Any]]) -> dict[str, Any]:
    formats = {"type": "string", "enum": list(FORMATS), "default": "ndjson"}
    return {
        "operationId": f"export_{name}",
        "summary": f"All rows of {name.replace('_', ' ')}, as a stream",
        "parameters": [*parameters, _parameter("format", formats, "NDJSON can be resumed")],
        "responses": {
            "200": {
                "description": "Rows; in NDJSON with lines that say where to resume",
                "content": {
                    kind.split(";")[0]: {"schema": {"type": "string"}} for kind in FORMATS.values()
                },
            },
            **_FAULTS,
        },
    }


_POSITION = {
    "name": "position", "in": "path", "required": True, "schema": {"type": "string"},
    "description": "Page number, or position from a link of another page",
}  # fmt: skip


def _faults(texts: Mapping[str, str]) -> dict[str, Any]:
    content = {PROBLEM_TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}}}
    return {status: {"description": text, "content": content} for status, text in texts.items()}


_PACED = _faults({"429": "Too many walks that store a list were begun in a minute"})
_FAULTS = _faults(
    {
        "400": "A bad request, and what to do",
        "404": "There is no such listing, or nothing behind that address",
        "406": "Neither JSON nor HTML is accepted",
        # (What the guard before the application answers belongs to the contract too.)
        "413": "The body is too large",
        "414": "The address is too long",
        "421": "Another host was asked for",
        "500": "What somebody has to mend",
        "503": "The database did not answer, or is too busy; Retry-After tells when to ask again",
        "504": "A statement ran too long",
    }
)
_PROBLEM = {
    "type": "object",
    "description": "RFC 9457",
    "required": ["type", "title", "status", "detail", "todo", "code"],
    "properties": {
        "type": {"type": "string"}, "title": {"type": "string"}, "status": {"type": "integer"},
        "detail": {"type": "string"}, "todo": {"type": "string"}, "code": {"type": "string"},
        "instance": {"type": "string"},
    },
}  # fmt: skip
_PAGE = {"type": "object", "description": "Rows, where they stand, and links"}
_CHOICES = {
    "type": "object",
    "required": ["choices", "complete"],
    "properties": {
        "choices": {
            "type": "array",
            "items": {"type": "object", "required": ["value", "label"],
                      "properties": {"value": {}, "label": {"type": "string"}}},
        },
        "complete": {"type": "boolean"},
    },
}  # fmt: skip
