"""Key and parameter values as text, exactly and in one spelling each.

A value is one letter for its type and its text: `i12`, `f0.1`, `sred`, `d2026-03-01`. What is not
listed here cannot stand in a cursor.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any
from uuid import UUID

from vrelko.errors import CursorError, PageError


@dataclass(frozen=True, slots=True)
class Digest:
    """What stands in a cursor for a long text or bytes: BLAKE2b of it, 16 bytes as hex."""

    hex: str

    @classmethod
    def of(cls, value: str | bytes) -> Digest:
        """Return the digest of a value."""
        whole = value.encode("utf-8", "surrogatepass") if isinstance(value, str) else value
        kind = b"s" if isinstance(value, str) else b"x"
        return cls(hashlib.blake2b(kind + whole, digest_size=16).hexdigest())


def encode_value(value: Any) -> str:
    """Return a value as text that `decode_values` reads back equal and of the same type.

    Raises PageError for types that no cursor can hold.
    """
    exact = _WRITE.get(type(value))
    if exact is not None:
        return exact[0] + exact[1](value)
    for kind, (letter, write) in _WRITE.items():
        if isinstance(value, kind):  # a driver's own subclass of a plain type
            return letter + write(value)
    raise PageError(
        f"a value of type {type(value).__name__} cannot stand in a cursor",
        "Order and filter by numbers, text, bytes, dates, times, UUIDs or NULL",
        "value-type",
    )


def decode_values(texts: Sequence[str]) -> tuple[Any, ...]:
    """Return the values that `encode_value` wrote, in that spelling alone. Raises CursorError."""
    values = read_values(texts)
    if any(encode_value(value) != text for value, text in zip(values, texts, strict=True)):
        raise _damaged()
    return values


def read_values(texts: Sequence[str]) -> tuple[Any, ...]:
    """Return the values of texts in any spelling. Raises CursorError."""
    try:
        return tuple([_READ[text[:1]](text[1:]) for text in texts])
    except (KeyError, ValueError, OverflowError, InvalidOperation, binascii.Error) as error:
        raise _damaged() from error


def describe(value: Any) -> Any:
    """Return parameters and the like as nested lists of text, in one spelling, for fingerprints."""
    if isinstance(value, Mapping):
        return [[str(key), describe(value[key])] for key in sorted(value, key=str)]
    if isinstance(value, (set, frozenset)):
        return sorted(describe(item) for item in value)
    if isinstance(value, Iterable) and not isinstance(value, (str, bytes)):
        return [describe(item) for item in value]
    return encode_value(value)


def _damaged() -> CursorError:
    return CursorError(
        "the cursor holds a value that cannot be read",
        "Drop it and start at the first page",
        "cursor-altered",
    )


def _write_delta(value: timedelta) -> str:
    return f"{value.days}:{value.seconds}:{value.microseconds}"


def _read_delta(text: str) -> timedelta:
    days, seconds, micros = (int(part) for part in text.split(":"))
    return timedelta(days, seconds, micros)


def _read_bytes(text: str) -> bytes:
    return base64.b64decode(text, validate=True)


_WRITE: dict[type, tuple[str, Callable[[Any], str]]] = {
    type(None): ("n", lambda value: ""),
    bool: ("b", lambda value: "1" if value else "0"),
    int: ("i", int.__repr__),
    float: ("f", float.__repr__),
    str: ("s", str.__str__),
    bytes: ("x", lambda value: base64.b64encode(value).decode("ascii")),
    datetime: ("t", datetime.isoformat),
    date: ("d", date.isoformat),
    time: ("h", time.isoformat),
    timedelta: ("v", _write_delta),
    Decimal: ("m", Decimal.__str__),
    UUID: ("u", UUID.__str__),
    Digest: ("l", lambda value: value.hex),
}

PLAIN = frozenset(_WRITE)
"""The types of values that are read back as just what they were."""

_READ: dict[str, Callable[[str], Any]] = {
    "n": lambda text: None,
    "b": lambda text: text == "1",
    "i": int,  # which refuses more digits than it can read in no time
    "f": float,
    "s": lambda text: text,
    "x": _read_bytes,
    "t": datetime.fromisoformat,
    "d": date.fromisoformat,
    "h": time.fromisoformat,
    "v": _read_delta,
    "m": Decimal,
    "u": UUID,
    "l": lambda text: Digest(bytes.fromhex(text).hex()),
}
