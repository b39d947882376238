"""Indexes: what is known of one, for serving pages and for planning them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class IndexColumn:
    """One column of an index; `name` is None for an expression.

    `nulls_first`: NULLs stand ahead of values, read forward; None where the engine has one way.
    """

    name: str | None
    descending: bool = False
    nulls_first: bool | None = None


@dataclass(frozen=True, slots=True)
class IndexFacts:
    """One index, as far as it is known.

    `levels` counts the blocks from the root to a leaf. `included` columns are held but not sorted
    by; `where` is a partial index's condition. Of entries side by side, `switches` is the share
    whose rows lie in another table block than the one before, `far` the share far away from their
    neighbours, `consecutive` the share whose row id follows the one before.
    """

    name: str
    columns: tuple[IndexColumn, ...]
    unique: bool = False
    partial: bool = False
    entry_bytes: float | None = None
    leaf_blocks: float | None = None
    levels: int | None = None
    included: tuple[str, ...] = ()
    where: str | None = None
    switches: float | None = None
    far: float | None = None
    consecutive: float | None = None

    @property
    def held(self) -> set[str | None]:
        """The columns that the index holds."""
        return {*(column.name for column in self.columns), *self.included}

    @property
    def text(self) -> str:
        """The columns as one reads them: "caught_at, id DESC"."""
        return ", ".join(
            (column.name or "(expression)") + (" DESC" if column.descending else "")
            for column in self.columns
        )
