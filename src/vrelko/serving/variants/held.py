"""Pages that their readers still hold, for the keys of their rows."""

from __future__ import annotations

from collections import deque
from typing import Any, Protocol, TypeVar
from weakref import ref

from vrelko.serving.variants.variant import Variant

_MOST = 4_096


class KnowsKeys(Protocol):
    """A page, which knows the keys of its rows."""

    def key_of_row(self, row: Any, variant: Variant) -> tuple[Any, ...] | None:
        """Return the key of one of its rows, None for any other row."""


_Page = TypeVar("_Page", bound=KnowsKeys)


class HeldPages:
    """The pages of one listing, the newest ones, as long as their readers hold them."""

    def __init__(self) -> None:
        # Weak references: to remember a page must not keep it alive.
        self._pages: deque[ref[KnowsKeys]] = deque(maxlen=_MOST)

    def note(self, page: _Page) -> _Page:
        """Keep a page in mind, and return it."""
        self._pages.append(ref(page))
        return page

    def key_of_row(self, row: Any, variant: Variant) -> tuple[Any, ...] | None:
        """Return the key of a row or entity of a page that is still held, None for any other."""
        # A page of entities hands out plain objects; a tuple of one is a row of such a page.
        if type(row) is tuple:
            if len(row) != 1 or not hasattr(row[0], "_sa_instance_state"):
                return None
            row = row[0]
        # A copy: other threads note pages meanwhile. The newest first, as a reader asks about what
        # is shown.
        for held in reversed(self._pages.copy()):
            page = held()
            key = None if page is None else page.key_of_row(row, variant)
            if key is not None:
                return key
        return None
