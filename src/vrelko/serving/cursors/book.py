"""Cursors: spots as text for URLs.

A cursor is `2`, a base64url text and a check. The text is JSON: the short fingerprint of what the
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
from hmac import compare_digest
from json.encoder import encode_basestring_ascii
from time import time
from typing import Any

from itsdangerous import Signer

from vrelko.core.kept import Kept
from vrelko.core.spot import Spot, SpotKind
from vrelko.errors import CursorError, ListingError, PageError
from vrelko.serving.cursors.encryption import Sealer
from vrelko.serving.cursors.values import PLAIN, decode_values, encode_value, read_values

VERSION = "2"
MOST_CHARACTERS = 8_192
_MOST_KNOWN, _MOST_KNOWN_CHARACTERS = 1_000, 400  # cursors remembered, and their length
_SIGNATURE_BYTES = 16
_CHECKSUM_BYTES = 5
_ABSENT: tuple[Any, ...] = (None,) * 10
_KEY, _TOP = 2, 7  # places among a cursor's parts
_TO_PLAIN = bytes.maketrans(b"-_", b"+/")
_SCAN_JSON = json.JSONDecoder().scan_once  # type: ignore[attr-defined]
_WRITE_JSON = json.JSONEncoder(separators=(",", ":")).encode

_KINDS: dict[SpotKind, str] = {
    "start": "s",
    "end": "e",
    "after": "a",
    "before": "b",
    "number": "n",
    "offset": "o",
}
_FILL, _FILLS = "p", "pP"  # a page before a key that a full first page may replace
_NEAR = "abp"  # these letters are capitals where the key's ties are near
_PLAIN: dict[str, SpotKind] = {letter: kind for kind, letter in _KINDS.items()} | {_FILL: "before"}
_BY_LETTER: dict[str, tuple[SpotKind, bool]] = {
    **{letter: (kind, False) for letter, kind in _PLAIN.items()},
    **{letter.upper(): (_PLAIN[letter], True) for letter in _NEAR},
}
"""The kind of spot of each letter, and whether the key's ties are near."""


class CursorBook:
    """Writes and reads the cursors of one listing."""

    def __init__(self, secrets: Sequence[bytes | str] = (), expires_s: float | None = None) -> None:
        keys = [key.encode() if isinstance(key, str) else key for key in secrets]
        # Shorter secrets can be guessed by trying; a password is not random enough either.
        if any(len(key) < 16 for key in keys):
            raise ListingError(
                "a secret for signing cursors is shorter than 16 bytes",
                "Take one from secrets.token_bytes(32)",
                "secret-short",
            )
        self._digest, *self._older = [_keyed(_derive(key)) for key in keys] or [
            hashlib.blake2b(digest_size=_CHECKSUM_BYTES)
        ]
        # Without secrets a checksum still catches what mail programs and people cut off.
        self._signs = bool(keys)
        self._sealer = Sealer(keys) if keys else None
        self._expires_s = expires_s
        self._known: Kept[tuple[str, bytes, bool], Spot] = Kept(_MOST_KNOWN)
        if expires_s is not None and (not keys or not expires_s > 0):
            raise ListingError(
                f"cursors that expire need secrets, and expires_s above 0, got {expires_s!r}",
                "Give secrets=[…] and expires_s=86400, or leave expires_s out",
                "cursor-expiry",
            )

    def write(self, spot: Spot, fingerprint: bytes, sealed: bool = False) -> str:
        """Return the text of a spot: one for each, unless cursors expire.

        `sealed`: the key's values are encrypted.
        """
        letter = _FILL if spot.fill else _KINDS[spot.kind]
        if spot.near and letter in _NEAR:
            # A letter more in every cursor would be paid by each link of each page.
            letter = letter.upper()
        parts: list[Any] = [short_of(fingerprint), letter]
        key: Any = None if spot.key is None else [encode_value(value) for value in spot.key]
        if sealed and key is not None and self._sealer is not None:
            key = self._sealer.seal(_WRITE_JSON(key), fingerprint)
        # Whole seconds: a finer clock would make cursors longer and expiry no better.
        issued = None if self._expires_s is None else int(time())
        parts += [key, spot.at, spot.rows, spot.total, issued]
        if spot.top is not None or spot.digests is not None or spot.frozen is not None:
            parts += self._walked(spot, fingerprint, sealed)
        # Absent parts at the end are left out: most cursors carry a key and nothing else.
        while parts[-1] is None:
            parts.pop()
        text = VERSION + _pack(parts)
        cursor = f"{text}.{self._check(text.encode('ascii'), fingerprint)}"
        if len(cursor) > MOST_CHARACTERS:
            raise PageError(
                f"the cursor would have {len(cursor):,} characters, more than {MOST_CHARACTERS:,}",
                "Order and identify rows by shorter values",
                "cursor-long",
            )
        # A driver's subclass of a type may compare equal and write another text, so only plain
        # values are kept.
        if spot.key is None or PLAIN.issuperset(map(type, spot.key)):
            self._remember(cursor, fingerprint, sealed, spot)
        return cursor

    def _remember(self, cursor: str, fingerprint: bytes, sealed: bool, spot: Spot) -> None:
        """Keep the spot of a cursor that we wrote or checked: its reader often comes back with it.

        Not of those that expire, which are looked at each time.
        """
        if self._expires_s is None and len(cursor) <= _MOST_KNOWN_CHARACTERS:
            self._known.keep((cursor, fingerprint, sealed), spot)

    def _walked(self, spot: Spot, fingerprint: bytes, sealed: bool) -> list[Any]:
        """Return the parts that tell of the walk so far: top, digests of rows, stored list."""
        top: Any = None if spot.top is None else [encode_value(value) for value in spot.top]
        if sealed and top is not None and self._sealer is not None:
            top = self._sealer.seal(_WRITE_JSON(top), fingerprint)
        digests = (
            None if spot.digests is None else base64.urlsafe_b64encode(spot.digests).decode("ascii")
        )
        return [top, digests, spot.frozen]

    def read(self, cursor: str, fingerprint: bytes, sealed: bool = False) -> Spot:
        """Return the spot a cursor holds. Raises CursorError for any text but its own."""
        # Most cursors come back to the process that wrote them.
        known = self._known.get((cursor, fingerprint, sealed))
        if known is not None:
            return known
        text, dot, check = cursor.rpartition(".")
        if not dot or len(cursor) > MOST_CHARACTERS or not cursor.isascii():
            raise _altered()
        # Before anything is parsed: another version may mean other things by the same parts.
        if not text.startswith(VERSION):
            raise CursorError(
                "the cursor was made by another version of Vrelko",
                "Drop it and start at the first page",
                "cursor-version",
            )
        packed = text.encode("ascii")
        # In constant time: how many characters fit must not show in how long a refusal takes.
        holds = compare_digest(self._check(packed, fingerprint), check)
        if not holds:
            holds = self._held_once(packed, check, fingerprint)
        parts = _unpack(packed)
        if not holds:
            # The cursor itself says whose it was, so a foreign one is told from an altered one.
            if parts[0] != short_of(fingerprint):
                raise CursorError(
                    "this cursor belongs to a different listing, order, filter or user",
                    "Drop it and start at the first page of this one",
                    "cursor-foreign",
                )
            raise _altered()
        # A signed text is one that we wrote; an unsigned one might be another spelling.
        if not self._signs:
            _check_parts(parts)
            if _pack(parts) != text[len(VERSION) :]:
                raise _altered()
        if self._expires_s is not None:
            issued = parts[6] if len(parts) > 6 else None
            if not isinstance(issued, int) or time() - issued > self._expires_s:
                raise CursorError(
                    "the cursor has expired", "Start at the first page", "cursor-expired"
                )
        if sealed and self._sealer is not None:
            # Both hold values of rows; what stands beside them is numbers.
            for place in (_KEY, _TOP):
                if len(parts) > place and _is_text(parts[place]):
                    parts[place] = self._sealer.open(parts[place], fingerprint)
        spot = _spot_of(parts, own=self._signs)
        self._remember(cursor, fingerprint, sealed, spot)
        return spot

    def _check(self, packed: bytes, fingerprint: bytes) -> str:
        """Return what stands behind the dot: a signature by the newest secret, or a checksum."""
        # The keyed state is set up once; a copy of it costs less than a key.
        digest = self._digest.copy()
        digest.update(packed + fingerprint)
        return digest.hexdigest()

    def _held_once(self, packed: bytes, check: str, fingerprint: bytes) -> bool:
        """Tell whether a signature is one of an older secret."""
        # After a secret was replaced, readers still hold cursors signed with the one before.
        for older in self._older:
            digest = older.copy()
            digest.update(packed + fingerprint)
            if compare_digest(digest.hexdigest(), check):
                return True
        return False


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


def _keyed(key: bytes) -> hashlib.blake2b:
    """Return keyed BLAKE2b (RFC 7693, section 2.9), 16 bytes: one digest where HMAC takes two.

    It took 1.4 µs hot, HMAC-SHA256 4.5 with the key's blocks digested ahead, 6.3 without.
    """
    return hashlib.blake2b(key=key, digest_size=_SIGNATURE_BYTES)


def _unpack(packed: bytes) -> list[Any]:
    body = packed[len(VERSION) :].translate(_TO_PLAIN)
    try:
        raw = binascii.a2b_base64(body + b"===")  # a surplus of padding is passed over
        parts, end = _SCAN_JSON(raw.decode("ascii"), 0)
    except (ValueError, binascii.Error, RecursionError, StopIteration) as error:
        raise _altered() from error
    # Text behind the JSON, or an absent part spelled out, would be a second spelling.
    if end != len(raw) or type(parts) is not list or len(parts) < 2 or parts[-1] is None:
        raise _altered()
    return parts


def _pack(parts: list[Any]) -> str:
    """Return the one text of a cursor's parts.

    JSON put together here: the standard encoder is made anew at each call, which takes longer than
    all else in a cursor.
    """
    body = f"[{','.join([_write(part) for part in parts])}]".encode("ascii")
    return base64.urlsafe_b64encode(body).decode("ascii").rstrip("=")


def _write(part: Any) -> str:
    if type(part) is str:
        return encode_basestring_ascii(part)
    if type(part) is list:
        return f"[{','.join([encode_basestring_ascii(text) for text in part])}]"
    return "null" if part is None else str(part)


def _spot_of(parts: list[Any], own: bool) -> Spot:
    """Return the spot of a cursor's parts; `own` ones carry our signature, so we wrote them."""
    walked = len(parts) > _TOP
    _, letter, key, at, rows, total, _, top, digests, frozen = (*parts, *_ABSENT[len(parts) :])
    if type(key) is str or type(top) is str:
        raise _altered()  # sealed, but this listing's keys are not: it was served otherwise once
    kind, near = _BY_LETTER[letter]
    read = read_values if own else decode_values
    values = None if key is None else read(key)
    if not walked:
        fields = kind, values, at, letter in _FILLS, rows, near, total, None, None, None, None, None
        return tuple.__new__(Spot, fields)  # as Spot(…) does it, without a call of Python's
    try:
        digests = None if digests is None else base64.urlsafe_b64decode(digests)
    except (binascii.Error, ValueError) as error:
        raise _altered() from error
    begin = None if top is None else read(top)
    return Spot(
        kind,
        key=values,
        at=at,
        fill=letter in _FILLS,
        rows=rows,
        near=near,
        total=total,
        top=begin,
        digests=digests,
        frozen=frozen,
    )


def _check_parts(parts: list[Any]) -> None:
    """Raise CursorError unless the parts are ones that a cursor can have."""
    letter, key, at = [*parts[1:4], None, None][:3]
    if len(parts) > 10 or not _is_text(letter) or letter not in _BY_LETTER:
        raise _altered()
    if any(n is not None and (type(n) is not int or n < 0) for n in parts[3:_TOP]):
        raise _altered()
    top, digests, frozen = [*parts[_TOP:], None, None, None][:3]
    for values in (key, top):
        if values is not None and not (isinstance(values, list) and all(map(_is_text, values))):
            raise _altered()
    if any(text is not None and not _is_text(text) for text in (digests, frozen)):
        raise _altered()
    kind, _ = _BY_LETTER[letter]
    # A spot behind a row needs a key, and no other spot has one.
    if (key is None) != (kind not in ("after", "before")):
        raise _altered()
    if kind in ("number", "offset") and at is None:
        raise _altered()


def _is_text(value: object) -> bool:
    return isinstance(value, str)
