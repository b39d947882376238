"""Appearance: the words, class names and templates of server-rendered pages."""

from __future__ import annotations

import enum
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

from vrelko.core.arithmetic import FromTo
from vrelko.web.bodies import to_json


@dataclass(frozen=True, kw_only=True)
class Words:
    """What the controls say; `number` writes a whole number. `{…}` are filled in."""

    pages: str = "Pages"
    page: str = "Page {number}"
    first: str = "First"
    prev: str = "Previous"
    next: str = "Next"
    last: str = "Last"
    end: str = "End of the list"
    earlier: str = "Earlier: {period}"
    later: str = "Later: {period}"
    empty: str = "Nothing matches"
    past_end: str = "This page is past the end of the list"
    rows: str = "{first}–{last}"
    of: str = "{rows} of {total}"
    number: Callable[[int], str] = "{:,}".format

    # (Other languages turn the parts round, so the whole text is a setting.)
    def from_to(self, place: FromTo | None) -> str:
        """Return where a page stands."""
        return "" if place is None else place.text(self.rows, self.of, self.number)


CLASSES = {
    "part": "listing", "table": "listing-rows", "nav": "listing-pages", "list": "", "link": "",
    "off": "off", "current": "current", "gap": "gap", "place": "listing-place",
    "end": "listing-end", "period": "listing-period",
}  # fmt: skip
"""The class of each part of the controls."""


@dataclass(frozen=True)
class Appearance:
    """How server-rendered pages look.

    `classes`: other class names for the parts (CLASSES). `templates`: a folder with templates of
    your own, looked up before ours: rows.html, controls.html, period.html, part.html,
    document.html. `cells`:
    writes a column's value, by column name. `stylesheet`: the address of one for whole documents.
    """

    words: Words = field(default_factory=Words)
    classes: Mapping[str, str] = field(default_factory=dict)
    templates: str | Path | None = None
    cells: Mapping[str, Callable[[Any], str]] = field(default_factory=dict)
    stylesheet: str | None = None
    lang: str = "en"

    def class_of(self, part: str) -> str:
        """Return the class names of a part."""
        return self.classes.get(part, CLASSES[part])

    def cell(self, name: str, value: Any) -> str:
        """Return a value as it is shown."""
        if name in self.cells:
            return self.cells[name](value)
        return _shown(value)


def _shown(value: Any) -> str:
    """Return a value as people read it: no quotes, exponents or brackets of a programme."""
    if value is None:
        return ""
    if isinstance(value, Decimal):
        return f"{value:f}"
    if isinstance(value, enum.Enum):
        return value.name
    # Enough to tell two values apart; a picture of a megabyte is no text.
    if isinstance(value, (bytes, bytearray, memoryview)):
        data = bytes(value)
        start = data[:_BYTES].hex(" ")
        return start if len(data) <= _BYTES else f"{start} … ({len(data):,} bytes)"
    if isinstance(value, (set, frozenset)):
        return ", ".join(sorted(_shown(one) for one in value))
    if isinstance(value, (list, tuple)) and not any(isinstance(one, _NESTED) for one in value):
        return ", ".join(_shown(one) for one in value)
    # What nests needs its brackets to be read at all.
    return to_json(value) if isinstance(value, _NESTED) else str(value)


_BYTES = 16  # shown of a value
_NESTED = (dict, list, tuple)


USUAL_APPEARANCE = Appearance()
