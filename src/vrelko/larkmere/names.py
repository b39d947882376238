"""Made-up names of places and birds."""

from __future__ import annotations

_FIRST = ("Alder", "Bracken", "Cinder", "Dapple", "Elm", "Fallow", "Gorse", "Hazel")
_LAST = ("mere", "holt", "wick", "fen", "combe", "ness")

STATIONS = tuple(f"{first}{last}" for first in _FIRST for last in _LAST)
"""48 ringing stations."""

_COLOUR = ("Amber", "Brindled", "Cream", "Dusky", "Frosted", "Mottled", "Pied", "Rusty")
_KIND = ("Fenlet", "Hedgewick", "Larkin", "Mereling", "Reedrill", "Sedgewink", "Tussock", "Willet")

SPECIES = tuple(f"{colour} {kind}" for kind in _KIND for colour in _COLOUR)
"""64 species of bird."""

NOTES = (
    "",
    "ring read twice",
    "light moult on the wing",
    "released at the net",
    "photographed, see sheet",
    "old ring replaced, number kept in the register",
)
"""What ringers write."""
