"""Bodies of answers: a page as plain data, and values as exact JSON."""

from __future__ import annotations

import base64
import enum
import json
import math
from collections.abc import Sequence
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any
from uuid import UUID

from sqlalchemy import inspect
from sqlalchemy.exc import NoInspectionAvailable

from vrelko.web.addresses import Urls, page_urls, period_url
from vrelko.web.http_options import USUAL, HttpOptions

if TYPE_CHECKING:
    from vrelko.serving.pages.page import Page
    from vrelko.serving.pages.periods import Period


def body_of(
    page: Page,
    url: str,
    http: HttpOptions = USUAL,
    *,
    order: str | None = None,
    urls: Urls | None = None,
) -> dict[str, Any]:
    """Return a page as the plain data that is sent: rows, place, total and links.

    `url`: the address that readers see. `order`: the order to name as its sort; left out, the one
    that the page was read in. Names are those of `http.fields`.
    """
    # Given where the Link header needed them already.
    links = urls or page_urls(page, url, http)
    from_to = page.from_to
    # Clients that count pages from 0 get numbers as they send them.
    shift = http.first - 1
    body: dict[str, Any] = {
        "rows": rows_of(page),
        "size": page.size,
        "number": None if page.number is None else page.number + shift,
        "last_number": None if page.last_number is None else page.last_number + shift,
        "offset": page.offset,
        "from_to": None
        if from_to is None
        else {"first": from_to.first, "last": from_to.last, "text": str(from_to)},
        "total": {"value": page.total.value, "kind": page.total.kind},
        "sort": order or page.order,
        "links": {
            "self": links.self,
            "first": links.first,
            "prev": links.prev,
            "next": links.next,
            "last": links.last,
        },
        "strip": _strip_of(links, shift),
        # Pages with a number are reached by it; a raw cursor beside it would be a second address.
        "before": page.before if page.number is None else None,
        "after": page.after if page.number is None else None,
        "clamped": page.clamped,
    }
    # Left out where there are none: most pages have neither notes nor a period.
    if page.notes:
        body["notes"] = list(page.notes)
    if page.period is not None:
        told = page.period
        body["period"] = {
            "label": told.label,
            "earlier": _period_link(url, http, told.earlier),
            "later": _period_link(url, http, told.later),
        }
    if not http.fields:
        return body
    # None as a name leaves a field out.
    named = ((http.fields.get(name, name), value) for name, value in body.items())
    return {name: value for name, value in named if name is not None}


def _strip_of(links: Urls, shift: int) -> list[dict[str, Any]]:
    """Return the numbered links round the page, gaps without number and address."""
    return [
        {
            "number": None if one.number is None else one.number + shift,
            "url": one.url,
            "current": one.current,
        }
        for one in links.strip
    ]


def _period_link(url: str, http: HttpOptions, label: str | None) -> dict[str, str] | None:
    """Return a neighbouring period with its address."""
    if label is None:
        return None
    return {"label": label, "url": period_url(url, label, http)}


def periods_body(
    periods: Sequence[Period], url: str, http: HttpOptions = USUAL
) -> list[dict[str, Any]]:
    """Return periods as plain data, each with the address of its first page.

    `url`: the address of the listing, as readers see it.
    """
    return [
        {
            "label": one.label,
            "begin": one.begin,
            "end": one.end,
            "rows": one.rows,
            "url": period_url(url, one.label, http),
        }
        for one in periods
    ]


def rows_of(page: Page) -> list[dict[str, Any]]:
    """Return each row by name; entities by their columns."""
    rows = page.rows
    # One row tells of all: a select gives either tuples or entities.
    if not rows or not hasattr(rows[0], "_fields"):
        return [_entity(row) for row in rows]
    names = rows[0]._fields
    found = [dict(zip(names, row, strict=True)) for row in rows]
    # Most rows hold plain values alone, and need no second pass.
    if {type(value) for row in rows for value in row} <= _SIMPLE:
        return found
    return [{name: _entity(value) for name, value in row.items()} for row in found]


def _entity(value: Any) -> Any:
    if value is None or isinstance(value, _PLAIN):
        return value
    try:
        mapper = inspect(value).mapper
    except (NoInspectionAvailable, AttributeError):
        return value
    # Columns alone: to look at a relationship would send a statement a row.
    return {one.key: getattr(value, one.key) for one in mapper.column_attrs}


def to_json(data: Any) -> str:
    """Return data as JSON, exactly: times in ISO 8601, decimals and UUIDs as text, bytes in base64.

    Numbers that JSON has not (infinite ones, NaN) come as text too. Half of a surrogate pair, which
    JSON columns may hold, is escaped: no encoding has bytes for it.
    """
    try:
        text = json.dumps(
            data, default=_exact, ensure_ascii=False, allow_nan=False, separators=(",", ":")
        )
    except ValueError:
        # Seldom needed, so it is not looked for each time: most data has no NaN.
        text = json.dumps(_finite(data), default=_exact, ensure_ascii=False, separators=(",", ":"))
    return text if text.isascii() else to_utf8(text).decode()


def to_utf8(text: str) -> bytes:
    """Return a text as UTF-8, halves of surrogate pairs as JSON escapes them: \\ud83d."""
    return text.encode("utf-8", "backslashreplace")


def _finite(data: Any) -> Any:
    if isinstance(data, dict):
        return {name: _finite(value) for name, value in data.items()}
    if isinstance(data, (list, tuple)):
        return [_finite(value) for value in data]
    if isinstance(data, float) and not math.isfinite(data):
        return "NaN" if math.isnan(data) else "Infinity" if data > 0 else "-Infinity"
    return data


def _exact(value: Any) -> Any:
    """Return what JSON has for a value that it has not itself."""
    if isinstance(value, (datetime, date, time)):
        return value.isoformat()
    # By name, as databases have them: values are the programme's own affair.
    if isinstance(value, enum.Enum):
        return value.name
    if isinstance(value, timedelta):
        return _duration(value)
    if isinstance(value, (bytes, bytearray, memoryview)):
        return base64.b64encode(bytes(value)).decode("ascii")
    if isinstance(value, (set, frozenset)):
        # In one order, or the same page would have another ETag each time.
        return sorted(value, key=str)
    return str(value)


def _duration(value: timedelta) -> str:
    """Return an ISO 8601 duration."""
    sign, left = ("-", -value) if value < timedelta(0) else ("", value)
    # 10 seconds keep their 0: the point stands between.
    seconds = f"{left.seconds}.{left.microseconds:06d}".rstrip("0").rstrip(".")
    return f"{sign}P{left.days}DT{seconds}S"


_PLAIN = (str, int, float, bool, bytes, datetime, date, time, timedelta, Decimal, UUID, enum.Enum,
          list, dict, tuple)  # fmt: skip
_SIMPLE = {type(None), str, int, float, bool, datetime, date, Decimal, UUID}
