"""Rows a walk has seen, as digests that fit into a cursor."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Any

from vrelko.serving.cursors.values import encode_value
from vrelko.serving.variants.variant import Variant

_BYTES = 6  # a row is taken for another one of 256 once in 10^12 rows
MOST = 256
"""Rows that a cursor remembers, the latest: about 2,700 characters."""


def digest_of(variant: Variant, full: Sequence[Any]) -> bytes:
    """Return the digest of a full row's id."""
    text = "\n".join(encode_value(value) for value in variant.id_of(variant.key_from(full)))
    return hashlib.blake2b(text.encode("utf-8"), digest_size=_BYTES).digest()


def split_digests(digests: bytes) -> list[bytes]:
    """Return the digests that a cursor carries."""
    return [digests[i : i + _BYTES] for i in range(0, len(digests), _BYTES)]


def add_digests(variant: Variant, digests: bytes | None, full: Sequence[Any]) -> bytes:
    """Return what the next cursor carries: the latest rows that were served."""
    # The oldest fall out: rows that far back have slipped past all that an overlap asks for again.
    every = (digests or b"") + b"".join(digest_of(variant, row) for row in full)
    return every[-MOST * _BYTES :]
