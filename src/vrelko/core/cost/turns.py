"""Turns: the rows from which a server takes another access path for deeper pages.

Where two paths cost about the same a server takes now one, now the other; there a turn has an
`unsure` stretch of rows.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

from vrelko.core.access_path import AccessPath


@dataclass(frozen=True, slots=True)
class Turn:
    """The access path that a server takes from a row on.

    `unsure`: the rows between which it was seen to take this path and the one ahead, too.
    """

    row: float
    path: AccessPath
    unsure: tuple[float, float] | None = None


def path_at(path: AccessPath, turns: Sequence[Turn], row: float) -> AccessPath:
    """Return the path at a row: `path` ahead of all turns."""
    for turn in turns:
        # Turns stand in the order of their rows.
        if row < turn.row:
            break
        path = turn.path
    return path


def unsure_at(turns: Sequence[Turn], row: float) -> bool:
    """Tell whether a row lies where a server takes either of two paths."""
    return any(turn.unsure and turn.unsure[0] <= row <= turn.unsure[1] for turn in turns)


def turned(turns: Sequence[Turn], row: float) -> tuple[Turn, ...]:
    """Return turns by which the other path is taken at a row where either may be, for sure."""
    found = []
    for turn in turns:
        if unsure_at((turn,), row):
            # Moved just past the row, or down to it: whichever makes the other path the one taken
            # there.
            turn = replace(turn, row=row + 1 if turn.row <= row else row, unsure=None)
        found.append(turn)
    return tuple(found)


def turn_seen(
    first: AccessPath, turns: Sequence[Turn], row: float, taken: AccessPath
) -> tuple[Turn, ...]:
    """Return the turns as they are once a page at `row` was seen to take a path.

    The nearer turn from or to that path moves to the row; between where it was and where it is now
    either path may be taken. Where no turn leads to it, it is taken at this one row alone.
    """
    held = list(turns)
    at = sum(turn.row <= row for turn in held)  # the turns ahead of the row, or at it
    told = path_at(first, held, row)
    # As told: nothing to learn. Row 0 is where the first path was asked.
    if told.signature == taken.signature or row <= 0:
        return tuple(held)
    after = held[at] if at < len(held) else None
    if after is not None and after.path.signature == taken.signature:
        # The next path is taken sooner than was told.
        held[at] = replace(after, row=row, unsure=_around(after, row))
    elif at and path_at(first, held[: at - 1], row).signature == taken.signature:
        before = held[at - 1]
        # The path ahead of it lasts longer than was told.
        held[at - 1] = replace(before, row=row + 1, unsure=_around(before, row))
    else:  # up to half of the way, in the logarithm, to what is known on either side
        low = held[at - 1].row if at else 1.0
        high = after.row if after is not None else 4 * row
        unsure = math.sqrt(max(low, 1.0) * row), math.sqrt(row * max(high, row))
        # One page proves one row: behind it the server is taken at its word again.
        held[at:at] = [Turn(row, taken, unsure), Turn(row + 1, told)]
    return tuple(held)


def _around(turn: Turn, row: float) -> tuple[float, float]:
    low, high = turn.unsure or (turn.row, turn.row)
    return min(low, row), max(high, row)
