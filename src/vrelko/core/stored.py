"""What a database says of a column: the type it really has, which a model may have otherwise."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Stored:
    """One column as a database has it.

    `kind`: the engine's own name of the type, in lower case, without length or precision (that of
    the base type, for a domain). `nullable`: whether it may hold NULL. `collation`: as the engine
    names it, empty where it has none. `length`: the most characters of a text, None where that
    says nothing. `exact`: the name to cast a value to, where that is another than `kind`.
    """

    kind: str
    nullable: bool = True
    collation: str = ""
    length: int | None = None
    exact: str = ""

    @property
    def pads(self) -> bool:
        """Whether a text's collation takes trailing blanks for nothing."""
        return "nopad" not in self.collation.lower()
