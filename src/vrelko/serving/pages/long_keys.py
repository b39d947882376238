"""Long values of keys: a cursor holds their digests, and their row is looked up again."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from vrelko.errors import CursorError
from vrelko.serving.cursors.values import Digest
from vrelko.serving.variants.runner import Runner
from vrelko.serving.variants.variant import Variant

_SHORT = 100
_MOST = 1_200
"""Bytes of text that a key carries into a cursor: twice over, written and sealed, it is read."""


def shorten(variant: Variant, key: Sequence[Any]) -> tuple[Any, ...]:
    """Return a key with digests for long values, the longest first, where it would be too long.

    What identifies the row stays, so that the row can be looked up.
    """
    whole = list(key)
    sizes = {
        place: _size(value)
        for place, value in enumerate(whole)
        if isinstance(value, (str, bytes)) and len(value) > _SHORT
    }
    total = sum(sizes.values())
    # The longest first: few digests are enough, and short values stay readable.
    for place in sorted(sizes, key=lambda place: -sizes[place]):
        if total <= _MOST:
            break
        # What identifies the row is how it is found again, so it stays whole.
        if place not in variant.identity:
            whole[place] = Digest.of(whole[place])
            total -= sizes[place]
    return tuple(whole)


def is_long(key: Sequence[Any]) -> bool:
    """Tell whether a key may need digests."""
    return any(isinstance(value, (str, bytes)) and len(value) > _SHORT for value in key)


def lengthen(runner: Runner, variant: Variant, key: Sequence[Any]) -> tuple[Any, ...]:
    """Return a key whose digests are exchanged for the values of its row, by one statement.

    Raises CursorError where that row is gone or has other values now.
    """
    statement, values = variant.key_by_id(variant.id_of(key))
    rows, _ = runner.fetch(statement, None, values)
    for row in rows:
        # The row must still have the values that the cursor was written for, or it stands elsewhere
        # now.
        found = variant.converted(row)
        if all(_fits(one, other) for one, other in zip(key, found, strict=True)):
            return found
    raise CursorError(
        "the row that the cursor points to is gone or changed, and its text was too long to keep",
        "Start at the first page, or order by shorter values",
        "cursor-lost",
    )


def _fits(kept: Any, found: Any) -> bool:
    if isinstance(kept, Digest):
        return isinstance(found, (str, bytes)) and Digest.of(found) == kept
    return bool(kept == found)


def _size(value: str | bytes) -> int:
    if isinstance(value, bytes):
        return len(value) * 4 // 3
    # JSON writes others as \uXXXX.
    return sum(1 if char.isascii() and char.isprintable() else 6 for char in value)
