"""Sealing: encryption of key values that readers are not shown.

AES-SIV (RFC 5297), which is deterministic: a spot keeps its one text. Keys come from the secrets
that sign cursors, by SHA-512 under a name of their own.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Sequence
from typing import Any

from vrelko.errors import CursorError, ListingError


class Sealer:
    """Encrypts and opens key values with secrets, newest first."""

    def __init__(self, secrets: Sequence[bytes]) -> None:
        self._keys = [hashlib.sha512(b"vrelko.seal" + secret).digest() for secret in secrets]
        self._ciphers: list[Any] = []

    def seal(self, text: str, bound: bytes) -> str:
        """Return `text` encrypted with the newest secret, bound to a fingerprint."""
        # Bound to the fingerprint, so that a key sealed for one listing opens in no other.
        raw = self._all()[0].encrypt(text.encode("ascii"), [bound])
        return base64.urlsafe_b64encode(raw).decode("ascii")

    def open(self, sealed: str, bound: bytes) -> Any:
        """Return the data of a sealed text. Raises CursorError."""
        for cipher in self._all():
            try:
                raw = base64.b64decode(sealed, altchars=b"-_", validate=True)
                return json.loads(cipher.decrypt(raw, [bound]))
            except Exception:  # InvalidTag, bad base64: of another secret, or no seal at all
                continue
        raise CursorError(
            "the cursor has been altered or cut short",
            "Take it whole from a page's next, prev, first or last; or start at the first page",
            "cursor-altered",
        )

    def _all(self) -> list[Any]:
        # Made at the first use: most listings seal nothing, and the library takes long to import.
        if not self._ciphers:
            self._ciphers = [load_cipher()(key) for key in self._keys]
        return self._ciphers


def load_cipher() -> Any:
    """Return the cipher's class. Raises ListingError where the extra is not installed."""
    try:
        from cryptography.hazmat.primitives.ciphers.aead import AESSIV
    except ImportError as error:
        raise ListingError(
            "key columns outside the select are encrypted in cursors, which needs cryptography",
            'Install it with: pip install "vrelko[crypto]"; or select them, or name them in '
            "expose=[…]",
            "crypto-extra",
        ) from error
    return AESSIV
