"""Requests: what the parameters of an address ask of a listing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qsl

from sqlalchemy.types import TypeEngine

from vrelko.core.arithmetic import MOST_NUMBER
from vrelko.core.periods import UNITS
from vrelko.core.spot import Spot
from vrelko.errors import ListingError, PageError, nearest
from vrelko.sql.from_text import value_from_text
from vrelko.web.http_options import USUAL, HttpOptions

if TYPE_CHECKING:
    from vrelko.serving.listing import Listing

# characters of a value, of which a list may hold a hundred
_MOST_TEXT = 1_000


def request_from(
    params: Any,
    listing: Listing,
    http: HttpOptions = USUAL,
    *,
    path_part: str | None = None,
    given: Mapping[str, Any] | None = None,
) -> dict[str, Any]:
    """Return what `Listing.read` takes by name, from the parameters of an address.

    `params`: a query string, pairs, a mapping, or any framework's multi-valued one. `path_part`:
    the position, where it is part of the path. `given`: parameters that the address must not
    choose, such as a tenant. Raises PageError, OrderError, and ListingError for one that is None.
    """
    # A tenant that is None would leave its filter out, and show every tenant's rows.
    unset = [name for name, value in (given or {}).items() if value is None]
    if unset:
        raise ListingError(
            f"the parameter {unset[0]!r}, which requests may not choose, has no value, so all "
            "rows would be shown",
            "Refuse the request where it is not known, or leave the parameter out of params",
            "web-fixed",
        )
    # (As text still: types are known only for names that the listing has.)
    values = _gather(params, listing, http, set(given or {}))
    own = {name: values.pop(http.named(name), None) for name in http.own}
    texts = {name: _single(http.named(name), found) for name, found in own.items()}
    types = listing.filters.types
    read = {
        name: _typed(http.named(name), found, types[name])
        for name in types
        if (found := values.get(http.named(name))) is not None
    }
    # `size=` without a value is what forms send for a field left empty.
    at, size = _position(texts, path_part, http), texts[http.size] or None
    # A range of rows is a position and a size in one; another of them would contradict it.
    if texts[http.rows]:
        if at is not None or size is not None:
            raise PageError(
                f"{http.named(http.rows)!r} says position and size: got another of them as well",
                "Give it alone",
                "web-position",
            )
        at, size = _range(http.named(http.rows), texts[http.rows] or "")
    dated = {} if listing.settings.variants.periods is None else _period(texts, http)
    return {
        "at": at,
        "size": size,
        **dated,
        "order": _order(texts[http.sort], listing),
        "params": {**{k: v for k, v in read.items() if v is not None}, **(given or {})},
        "on_bad_page": http.on_bad_page,
        "past_end": http.past_end,
    }


def periods_from(
    params: Any,
    listing: Listing,
    http: HttpOptions = USUAL,
    *,
    given: Mapping[str, Any] | None = None,
) -> dict[str, Any]:
    """Return what `Listing.periods` takes by name, from the parameters of an address.

    "unit" (year, month or day), "within" (a year or month) and "counts" (1 or 0) beside the
    listing's own filters and time zone. Raises PageError, OrderError and ListingError.
    """
    pairs = pairs_of(params)
    own = {http.named(name): name for name in ("unit", "within", "counts")}
    ours: dict[str, list[str]] = {}
    for name, value in pairs:
        if name in own:
            ours.setdefault(name, []).append(value)
    zone = [value for name, value in pairs if name == http.named(http.zone)]
    left = [pair for pair in pairs if pair[0] not in own and pair[0] != http.named(http.zone)]
    # Filters and order are read as for a page, so that both mean the same rows.
    asked = request_from(left, listing, http, given=given)
    if asked["at"] is not None or asked["size"] is not None or "period" in asked:
        raise PageError(
            "a list of periods takes no position, got one",
            f"Leave out {http.named(http.page)!r}, {http.named(http.cursor)!r} and the like",
            "web-parameter",
        )
    texts = {plain: _single(name, ours.get(name)) for name, plain in own.items()}
    counts = texts["counts"] or "0"
    if counts not in ("0", "1"):
        raise _unfit(http.named("counts"), "is not 0 or 1")
    unit = texts["unit"] or "month"
    if unit not in UNITS:
        raise _unfit(http.named("unit"), f"is not one of {', '.join(UNITS)}")
    return {
        "unit": unit,
        "within": texts["within"] or None,
        "counts": counts == "1",
        "time_zone": _single(http.named(http.zone), zone or None) or None,
        "params": asked["params"],
        "order": asked["order"],
    }


def pairs_of(params: Any) -> list[tuple[str, str]]:
    """Return parameters as pairs, whatever they come in."""
    if isinstance(params, (str, bytes)):
        # ASGI hands over bytes of the request line, of which percent-encoding leaves ASCII alone.
        text = params.decode("latin-1") if isinstance(params, bytes) else params
        return parse_qsl(text.lstrip("?"), keep_blank_values=True)
    # Starlette and its like, then Django's, then any mapping: repeated names must not be lost.
    if hasattr(params, "multi_items"):
        return list(params.multi_items())
    if hasattr(params, "lists"):  # of lists by name
        return [(name, value) for name, many in params.lists() for value in many]
    found: list[tuple[str, str]] = []
    for name, value in params.items() if isinstance(params, Mapping) else params:
        many = value if isinstance(value, (list, tuple)) else [value]
        found += [(name, one) for one in many if one is not None]
    return found


def check_names(name: str, listing: Listing, http: HttpOptions, exports: bool = True) -> None:
    """Raise ListingError where a name of a listing, or of its parameters, means two things."""
    _refuse_clash(listing, http, exports=exports and listing.kind != "choices")
    if name in _OWN or "/" in name:
        raise ListingError(
            f"a listing cannot be served as {name!r}",
            f"Name it otherwise than {', '.join(_OWN)}, and without a slash",
            "web-wire",
        )


_OWN = ("openapi.json", "healthz", "metrics")


def _refuse_clash(listing: Listing, http: HttpOptions, exports: bool = False) -> None:
    """Raise ListingError where a filter has a name that the page itself needs."""
    filters = set(listing.filters.types)
    clash = _own_names(listing, http) & filters
    if exports:
        # Exports take a parameter of their own.
        clash |= {"format"} & {http.named(one) for one in filters}
    if clash:
        raise ListingError(
            f"the parameter {min(clash)!r} of {listing.name!r} is used twice: by a filter and "
            "by the page",
            "Name the filter otherwise, or the position: HttpOptions(page=…)",
            "web-wire",
        )


def _gather(
    params: Any, listing: Listing, http: HttpOptions, fixed: Iterable[str]
) -> dict[str, list[str]]:
    """Return the values of each parameter that the listing knows. Raises PageError."""
    _refuse_clash(listing, http)
    own = _own_names(listing, http)
    # A fixed parameter is not known: whoever sends it is told, rather than overruled in silence.
    known = {http.named(name) for name in own | set(listing.filters.types) - set(fixed)}
    found: dict[str, list[str]] = {}
    for name, value in pairs_of(params):
        if name not in known:
            # With a prefix only its own parameters can be misspelt; others belong to somebody else.
            if http.unknown == "refuse" and name.startswith(http.prefix):
                raise PageError(
                    f"the parameter {_short(name)} is not known here",
                    nearest(name, known),
                    "web-parameter",
                )
            continue
        # PostgreSQL takes no NUL in a text, and says so in an error of the server.
        if "\x00" in value or len(value) > 100 * _MOST_TEXT:
            raise _unfit(name, "holds what no value holds, or is too long")
        found.setdefault(name, []).append(value)
    return found


def _own_names(listing: Listing, http: HttpOptions) -> set[str]:
    """Return the parameters of a listing's page itself, without the prefix."""
    own = set(http.own)
    if listing.settings.variants.periods is None:
        own -= {http.period, http.zone}
    return own if listing.kind == "grid" else own - {http.rows}


def _range(name: str, text: str) -> tuple[Spot, str]:
    """Return where a range of rows such as "120-179" begins, and how many rows it has."""
    first, dash, last = text.partition("-")
    # Each part by itself: int() would take "1_000", "+5" and digits of other scripts.
    if not (dash and _is_digits(first) and _is_digits(last)) or int(last) < int(first):
        raise _unfit(name, 'is not a range of row offsets, such as "120-179"')
    return Spot.offset(first), str(int(last) - int(first) + 1)


def _is_digits(text: str) -> bool:
    # Not one of them: the listing refuses it, and names those that it allows.
    return text.isascii() and text.isdigit() and len(text) < 20


def _period(texts: Mapping[str, str | None], http: HttpOptions) -> dict[str, str | None]:
    """Return the period that is asked for; a time zone alone changes nothing."""
    found = texts[http.period] or None
    return {} if found is None else {"period": found, "time_zone": texts[http.zone] or None}


def _single(name: str, values: list[str] | None) -> str | None:
    if values is None:
        return None
    # The same value twice is harmless; two values have no one meaning.
    if len(set(values)) > 1:
        raise PageError(
            f"the parameter {name!r} is given more than once", "Give it once", "web-repeated"
        )
    return values[0].strip()


def _position(
    texts: Mapping[str, str | None], part: str | None, http: HttpOptions
) -> Spot | str | None:
    number, cursor = texts[http.page], texts[http.cursor]
    if part:
        # A part of the path is told by its look: no cursor is a number.
        number, cursor = (part, cursor) if _is_number(part) else (number, part)
    if cursor and number:
        raise PageError(
            "a cursor and a page number are two positions at once", "Give one", "web-position"
        )
    if cursor or not number:
        return cursor or None
    if http.offsets:
        return Spot.offset(number)
    # Passed on as it is: the listing's own error says what a page number looks like.
    if not _is_number(number):
        return Spot.number(number)
    wanted = int(number) + 1 - http.first
    if 1 <= wanted <= MOST_NUMBER:
        return Spot.number(wanted)
    bound = f"; pages start at {http.first}" if wanted < 1 else ""
    # An absurd number is not repeated at full length.
    shown = f"{int(number):,}" if len(number) < 22 else "of that number"
    fault = PageError(
        f"page {shown} does not exist{bound}",
        f"Ask for {http.first} to {MOST_NUMBER - 1 + http.first:,}",
        "page-range",
    )
    # An error once it is read; with on_bad_page="clamp" the nearest page there is.
    return Spot("number", asked=wanted, fault=fault)


def in_request_terms(error: PageError, at: Spot | str | None, http: HttpOptions) -> PageError:
    """Return an error about a page number as it stood in the address."""
    # With offsets, and from 0, the client's own number is not the one that was read.
    number = at.at if isinstance(at, Spot) and at.kind == "number" else None
    if error.code != "page-past-end" or number is None or http.offsets:
        return error
    return PageError(f"page {number - 1 + http.first:,} is past the end", error.todo, error.code)


def _is_number(text: str) -> bool:
    digits = text[1:] if text[:1] in "+-" else text
    # Twenty digits are more than any engine counts; int() itself refuses thousands.
    return digits.isascii() and digits.isdigit() and len(digits) < 20


def _order(text: str | None, listing: Listing) -> str | None:
    """Return the allowed order that a reader means: NULLs need not be mentioned."""
    if not text:
        return None
    for order in listing.given_orders:
        plain = ",".join(f"{'-' if t.descending else ''}{t.name}" for t in order.terms)
        # Links of other makers know nothing of where NULLs stand.
        if text in (plain, str(order)):
            return str(order)
    return text


def _typed(name: str, values: list[str], asked: tuple[TypeEngine[Any], bool]) -> Any:
    """Return a filter's value in the type of its column; nothing at all for an empty text."""
    kind, many = asked
    if many:
        # Repeated or with commas between: clients of both habits are about.
        parts = [part for value in values for part in value.split(",") if part.strip()]
        return [_value(name, part, kind) for part in parts] or None
    text = _single(name, values)
    return None if not text else _value(name, text, kind)


def _value(name: str, text: str, kind: TypeEngine[Any]) -> Any:
    try:
        return value_from_text(text, kind)
    except ValueError as error:
        raise _unfit(name, str(error)) from error


def _unfit(name: str, what: str) -> PageError:
    return PageError(
        f"the value of {name!r} {what}", "Correct it, or leave the parameter out", "web-value"
    )


def _short(name: str) -> str:
    # A name comes from the address, of any length, and goes into logs and answers.
    return repr(name if len(name) <= 40 else name[:40] + "…")
