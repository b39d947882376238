"""Stores of bounded size: what was put in first goes when one too many comes."""

from __future__ import annotations

from collections.abc import Hashable
from typing import TypeVar

_Key = TypeVar("_Key", bound=Hashable)
_Value = TypeVar("_Value")


class Kept(dict[_Key, _Value]):
    """A dict of at most `most` entries: `keep` makes room by dropping the oldest one.

    Looked up as any dict is, since requests do so on their way. Threads may share it: what is lost
    by two at once is made again.
    """

    def __init__(self, most: int) -> None:
        super().__init__()
        self.most = most

    def keep(self, key: _Key, value: _Value) -> _Value:
        """Put a value in, and return it."""
        # A key that is held already needs no room.
        while len(self) >= self.most and key not in self:
            try:
                self.pop(next(iter(self)), None)
            except (StopIteration, RuntimeError):  # another thread made room
                break
        self[key] = value
        return value
