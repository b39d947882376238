"""Cursors: spots as text for URLs.

A cursor is `1`, a base64url text and a check. The text is JSON: the short fingerprint of what the
cursor is bound to, the kind of spot, the key's values, and offset and rows where they are known.
The check is a signature when the listing has secrets, else a short checksum; both cover the full
fingerprint too. A spot has one spelling: any other is refused.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
from collections.abc import Sequence
from hmac import compare_digest, digest
from time import time
from typing import Any

from itsdangerous import Signer
from itsdangerous.encoding import base64_encode

from vrelko.core.spot import Spot, SpotKind
from vrelko.errors import CursorError, ListingError
from vrelko.serving.sealing import Sealer
from vrelko.serving.values import decode_value, encode_value, read_value

VERSION = "1"
MOST_CHARACTERS = 8_192
_CHECK_CHARACTERS = 8
_WRITE_JSON = json.JSONEncoder(separators=(",", ":")).encode

_KINDS: dict[SpotKind, str] = {
    "start": "s",
    "end": "e",
    "after": "a",
    "before": "b",
    "number": "n",
    "offset": "o",
}
_FILL = "p"  # a page before a key that a full first page may replace
_BY_LETTER: dict[str, SpotKind] = {letter: kind for kind, letter in _KINDS.items()} | {
    _FILL: "before"
}
_NEAR = "abp"  # these letters are capitals where the key's ties are near


class CursorBook:
    """Writes and reads the cursors of one listing."""

    def __init__(self, secrets: Sequence[bytes | str] = (), expires_s: float | None = None) -> None:
        keys = [key.encode() if isinstance(key, str) else key for key in secrets]
        if any(len(key) < 16 for key in keys):
            raise ListingError(
                "a secret for signing cursors is shorter than 16 bytes",
                "Take one from secrets.token_bytes(32)",
                "secret-short",
            )
        self._keys = [_derive(key) for key in keys]
        self._sealer = Sealer(keys) if keys else None
        self._expires_s = expires_s
        if expires_s is not None and (not keys or not expires_s > 0):
            raise ListingError(
                "cursors that expire need secrets and a time above 0",
                "Give secrets=[…] and expires_s=86400, or leave expires_s out",
                "cursor-expiry",
            )

    def write(self, spot: Spot, fingerprint: bytes, sealed: bool = False) -> str:
        """Return the text of a spot: one for each, unless cursors expire.

        `sealed`: the key's values are encrypted.
        """
        letter = _FILL if spot.fill else _KINDS[spot.kind]
        if spot.near and letter in _NEAR:
            letter = letter.upper()
        parts: list[Any] = [short_of(fingerprint), letter]
        key: Any = None if spot.key is None else [encode_value(value) for value in spot.key]
        if sealed and key is not None and self._sealer is not None:
            key = self._sealer.seal(_WRITE_JSON(key), fingerprint)
        issued = None if self._expires_s is None else int(time())
        parts += [key, spot.at, spot.rows, spot.total, issued]
        while parts[-1] is None:
            parts.pop()
        text = VERSION + _pack(parts)
        return f"{text}.{self._check(text, fingerprint)}"

    def read(self, cursor: str, fingerprint: bytes, sealed: bool = False) -> Spot:
        """Return the spot a cursor holds. Raises CursorError for any text but its own."""
        text, dot, check = cursor.rpartition(".")
        if not dot or len(cursor) > MOST_CHARACTERS or not cursor.isascii():
            raise _altered()
        if not text.startswith(VERSION):
            raise CursorError(
                "the cursor is of a version that is not read here",
                "Drop it and start at the first page",
                "cursor-version",
            )
        parts = _unpack(text)
        if not self._holds(text, check, fingerprint):
            if parts[0] != short_of(fingerprint):
                raise CursorError(
                    "the cursor was made for another listing, order, filter or reader",
                    "Drop it and start at the first page of this one",
                    "cursor-foreign",
                )
            raise _altered()
        # A signed text is one that we wrote; an unsigned one might be another spelling.
        if not self._keys and _pack(parts) != text[len(VERSION) :]:
            raise _altered()
        if self._expires_s is not None:
            issued = parts[6] if len(parts) == 7 else None
            if not isinstance(issued, int) or time() - issued > self._expires_s:
                raise CursorError(
                    "the cursor has expired", "Start at the first page", "cursor-expired"
                )
        if sealed and len(parts) > 2 and _is_text(parts[2]) and self._sealer is not None:
            parts[2] = self._sealer.open(parts[2], fingerprint)
        return _spot_of(parts, own=bool(self._keys))

    def _check(self, text: str, fingerprint: bytes) -> str:
        message = text.encode("ascii") + fingerprint
        if self._keys:
            return _sign(self._keys[0], message)
        checksum = hashlib.sha256(message).digest()
        return base64.urlsafe_b64encode(checksum).decode("ascii")[:_CHECK_CHARACTERS]

    def _holds(self, text: str, check: str, fingerprint: bytes) -> bool:
        if not self._keys:
            return check == self._check(text, fingerprint)
        message = text.encode("ascii") + fingerprint
        return any(compare_digest(_sign(key, message), check) for key in self._keys)


def fingerprint_of(parts: Sequence[Any]) -> bytes:
    """Return the digest of what a cursor is bound to: nested lists of text."""
    return hashlib.sha256(json.dumps(parts, separators=(",", ":")).encode("ascii")).digest()


def short_of(fingerprint: bytes) -> str:
    """Return the part of a fingerprint that stands in the cursor."""
    return base64.urlsafe_b64encode(fingerprint[:6]).decode("ascii")


def _altered() -> CursorError:
    return CursorError(
        "the cursor has been altered or cut short",
        "Take it whole from a page's next, prev, first or last; or start at the first page",
        "cursor-altered",
    )


def _derive(secret: bytes) -> bytes:
    """Return the signing key of a secret, derived once: it is the same for every cursor."""
    signer = Signer(secret, salt=b"vrelko.cursor", digest_method=hashlib.sha256)
    return signer.derive_key()


def _sign(key: bytes, message: bytes) -> str:
    return base64_encode(digest(key, message, "sha256")).decode("ascii")


def _unpack(text: str) -> list[Any]:
    body = text[len(VERSION) :]
    try:
        raw = base64.urlsafe_b64decode(body + "=" * (-len(body) % 4))
        parts = json.loads(raw)
    except (ValueError, binascii.Error, RecursionError) as error:
        raise _altered() from error
    if not isinstance(parts, list) or len(parts) < 2 or parts[-1] is None:
        raise _altered()
    return parts


def _pack(parts: list[Any]) -> str:
    """Return the one text of a cursor's parts."""
    body = _WRITE_JSON(parts).encode("ascii")
    return base64.urlsafe_b64encode(body).decode("ascii").rstrip("=")


def _spot_of(parts: list[Any], own: bool) -> Spot:
    """Return the spot of a cursor's parts; `own` ones carry our signature, so we wrote them."""
    letter, key, at, rows, total = [*parts[1:6], None, None, None, None][:5]
    near = _is_text(letter) and letter.isupper() and letter.lower() in _NEAR
    if near:
        letter = letter.lower()
    kind = _BY_LETTER.get(letter) if _is_text(letter) else None
    texts = key is None or (isinstance(key, list) and all(map(_is_text, key)))
    for n in (at, rows, total):
        if n is not None and (type(n) is not int or n < 0):
            raise _altered()
    if kind is None or not texts or len(parts) > 7:
        raise _altered()
    read = read_value if own else decode_value
    values = None if key is None else tuple(map(read, key))
    if (values is None) != (kind not in ("after", "before")):
        raise _altered()
    if (at is None) and kind in ("number", "offset"):
        raise _altered()
    return Spot(kind, values, at, letter == _FILL, rows, near, total)


def _is_text(value: object) -> bool:
    return isinstance(value, str)
