"""What a database says of a column: the type it really has, which a model may have otherwise."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Stored:
    """One column as a database has it.

    `kind`: the engine's own name of the type, in lower case, without length or precision (that of
    the base type, for a domain). `nullable`: whether it may hold NULL. `collation`: as the engine
    names it, empty where it has none. `length`: the most characters of a text, None where that
    says nothing. `exact`: the name to cast a value to, where that is another than `kind`.
    `nondeterministic`: the collation takes different texts for equal, so that LIKE may be refused.
    `mixed`: rows come from columns of several types, which convert what they are compared with.
    `of_view`: the column is a view's, which has no row ids. `composite`: a row of fields, which is
    no NULL where all its fields are. `as_text`: the driver cannot read each value. `rounded`: the
    session's settings cut the digits of floating-point numbers. `wire`: what the engine's protocol
    says of a result's column that shows this one, None where it says nothing. `sorts`: the bytes of
    a value that sorting looks at, None where it looks at all.
    """

    kind: str
    nullable: bool = True
    collation: str = ""
    length: int | None = None
    exact: str = ""
    nondeterministic: bool = False
    mixed: bool = False
    of_view: bool = False
    wire: Any = None
    composite: bool = False
    as_text: bool = False
    rounded: bool = False
    sorts: int | None = None

    @property
    def pads(self) -> bool:
        """Whether a text's collation takes trailing blanks for nothing."""
        return "nopad" not in self.collation.lower()
