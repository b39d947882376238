"""Key and parameter values as text, exactly and in one spelling each.

A value is one letter for its type and its text: `i12`, `f0.1`, `sred`, `d2026-03-01`. What is not
listed here cannot be kept in a cursor.
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
        # A text and bytes that read alike must not share a digest.
        kind = b"s" if isinstance(value, str) else b"x"
        return cls(hashlib.blake2b(kind + whole, digest_size=16).hexdigest())


def encode_value(value: Any) -> str:
    """Return a value as text that `decode_values` reads back equal and of the same type.

    Raises PageError for types that no cursor can hold.
    """
    exact = _WRITE.get(type(value))
    if exact is not None:
        return exact[0] + exact[1](value)
    # The exact type is looked up first; this loop is for drivers that subclass it.
    for kind, (letter, write) in _WRITE.items():
        if isinstance(value, kind):  # a driver's own subclass of a plain type
            return letter + write(value)
    raise PageError(
        f"a value of type {type(value).__name__} cannot be kept in a cursor",
        "Order and filter by numbers, text, bytes, dates, times, UUIDs or NULL",
        "value-type",
    )


def decode_values(texts: Sequence[str]) -> tuple[Any, ...]:
    """Return the values that `encode_value` wrote, in that spelling alone. Raises CursorError."""
    # Written once more and compared: a number has many spellings, and a spot one text.
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
        # A set has no order, and a fingerprint must not depend on one.
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


@dataclass(frozen=True, slots=True)
class KeyType:
    """How values of one type stand in a cursor: the letter ahead of them, written and read."""

    letter: str
    write: Callable[[Any], str]
    read: Callable[[str], Any]


KEY_TYPES: dict[type, KeyType] = {
    type(None): KeyType("n", lambda value: "", lambda text: None),
    bool: KeyType("b", lambda value: "1" if value else "0", lambda text: text == "1"),
    int: KeyType("i", int.__repr__, int),  # refuses more digits than it can read in no time
    float: KeyType("f", float.__repr__, float),
    str: KeyType("s", str.__str__, lambda text: text),
    bytes: KeyType("x", lambda value: base64.b64encode(value).decode("ascii"), _read_bytes),
    datetime: KeyType("t", datetime.isoformat, datetime.fromisoformat),
    date: KeyType("d", date.isoformat, date.fromisoformat),
    time: KeyType("h", time.isoformat, time.fromisoformat),
    timedelta: KeyType("v", _write_delta, _read_delta),
    Decimal: KeyType("m", Decimal.__str__, Decimal),
    UUID: KeyType("u", UUID.__str__, UUID),
    Digest: KeyType("l", lambda value: value.hex, lambda text: Digest(bytes.fromhex(text).hex())),
}

_WRITE = {kind: (one.letter, one.write) for kind, one in KEY_TYPES.items()}
_READ = {one.letter: one.read for one in KEY_TYPES.values()}

PLAIN = frozenset(KEY_TYPES)
"""The types of values that are read back as just what they were."""
