"""Rows without the hidden columns at their end, of the same type and names as the user's own.

SQLAlchemy's public way (freezing the result and selecting columns of it) costs more than a page's
whole execution, so rows are made from its own parts where these are as we know them; else the
public way is taken. Both are held equal by a test, on every supported release.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy.engine import Result, Row

from vrelko.core.kept import Kept

_MOST_KNOWN = 16


class Cutter:
    """Cuts rows of one statement after another to their first `width` columns."""

    def __init__(self, width: int) -> None:
        self.width = width
        self._known: Kept[Any, Any] = Kept(_MOST_KNOWN)

    def split(self, result: Result[Any]) -> tuple[list[Any], list[Any]]:
        """Return the rows cut, and the whole rows."""
        try:
            reduced = self._reduced(result._metadata)
            index = reduced._key_to_index
        except (AttributeError, TypeError, NotImplementedError):
            return split_publicly(result, self.width)
        full = list(result.all())
        width = self.width
        return [Row(reduced, None, index, row[:width]) for row in full], full

    def _reduced(self, metadata: Any) -> Any:
        """Return what describes the cut rows, kept beside the statement's own."""
        known = self._known.get(metadata)
        if known is None:
            known = self._known.keep(metadata, metadata._reduce(range(self.width)))
        return known


def split_publicly(result: Result[Any], width: int) -> tuple[list[Any], list[Any]]:
    """Do the same by public means alone."""
    frozen = result.freeze()
    full: Sequence[Any] = frozen().all()
    return list(frozen().columns(*range(width)).all()), list(full)
