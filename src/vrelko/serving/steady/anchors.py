"""Anchors: the stored key of the last row of every page, so that numbered pages need no offset."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from vrelko.errors import CursorError, PageError
from vrelko.serving.cursors.values import decode_values, encode_value

SCHEMA = "vrelko.anchors/1"


@dataclass(frozen=True, slots=True)
class Segments:
    """The pages of one variant: the key of the last row of each but the last one.

    `rows` there were when it was built, at `built_at` (seconds since 1970).
    """

    bounds: tuple[tuple[Any, ...], ...]
    rows: int
    built_at: float

    @property
    def pages(self) -> int:
        """Pages that the segments make, at least 1."""
        return len(self.bounds) + 1


@dataclass
class Anchors:
    """Segments of `size` rows for any number of variants of a listing, kept in a JSON file.

    A page is all rows of its segment as they stand, so pages grow and shrink a little as rows come
    and go, and no row is on two pages or on none. Build them anew when they have grown uneven.
    """

    size: int
    segments: dict[str, Segments] = field(default_factory=dict)

    def to_json(self) -> str:
        """Return the anchors as JSON text (schema `vrelko.anchors/1`)."""
        segments = {
            name: {
                "rows": one.rows,
                "built_at": one.built_at,
                "bounds": [[encode_value(value) for value in key] for key in one.bounds],
            }
            for name, one in self.segments.items()
        }
        return json.dumps({"schema": SCHEMA, "size": self.size, "segments": segments})

    @classmethod
    def from_json(cls, text: str) -> Anchors:
        """Return the anchors that `to_json` wrote. Raises PageError."""
        try:
            data = json.loads(text)
            if data["schema"] != SCHEMA:
                raise KeyError(data["schema"])
            segments = {
                name: Segments(
                    tuple(decode_values(key) for key in one["bounds"]),
                    int(one["rows"]),
                    float(one["built_at"]),
                )
                for name, one in data["segments"].items()
            }
            return cls(int(data["size"]), segments)
        except (ValueError, KeyError, TypeError, AttributeError, CursorError) as error:
            raise PageError(
                "the text holds no anchors",
                "Build them with `vrelko anchors segments`",
                "anchors-read",
            ) from error

    @classmethod
    def load(cls, path: str | Path) -> Anchors:
        """Return the anchors of a file. Raises PageError."""
        try:
            return cls.from_json(Path(path).read_text(encoding="utf-8"))
        except (OSError, UnicodeDecodeError) as error:
            raise PageError(
                f"the anchors file {str(path)!r} cannot be read: {error}",
                "Build it with `vrelko anchors segments`",
                "anchors-read",
            ) from error
