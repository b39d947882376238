"""Settings: what a request needs to know of a listing."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Select, Table

from vrelko.core.arithmetic import Sizes
from vrelko.core.kept import Kept
from vrelko.serving.cursors.book import CursorBook
from vrelko.serving.steady.settings import Steady
from vrelko.serving.variants.held import HeldPages
from vrelko.serving.variants.store import VariantStore


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """What a listing's requests are served by; the fields are those of `Listing`.

    `variants` keeps the statements of each order and set of filters, `book` reads and writes
    cursors, `sealed` tells whether keys are encrypted in them, `held` knows the pages that readers
    still hold. `by_offset`: cursors carry row offsets, not keys. `anchor_sets` are those
    found in the database, by order; `anchor_file` holds them instead, where it is given.
    """

    name: str
    kind: str
    variants: VariantStore
    sizes: Sizes
    total: str
    cap: int
    count: str
    count_ms: float | None
    over_cap: str
    strategy: str
    max_offset: int | None
    steady: Steady
    book: CursorBook
    sealed: bool
    by_offset: bool
    jumps: str = "offset"
    anchor_file: str | None = None
    held: HeldPages = field(default_factory=HeldPages)
    anchor_sets: Kept[tuple[Any, str], Any] = field(default_factory=lambda: Kept(100))

    @property
    def select(self) -> Select[Any]:
        """The select whose rows are paged."""
        return self.variants.select

    @property
    def paged_table(self) -> Table | None:
        """The base table whose rows are paged, the first one the select reads."""
        return self.variants.table
