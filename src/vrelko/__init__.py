"""Vrelko: plan, measure and serve the pages of large database tables."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from vrelko.core.arithmetic import Sizes, Total
    from vrelko.core.spot import Spot
    from vrelko.serving.listing import Listing
    from vrelko.serving.page import Page

_HOMES = {
    "Sizes": "vrelko.core.arithmetic",
    "Total": "vrelko.core.arithmetic",
    "Spot": "vrelko.core.spot",
    "Listing": "vrelko.serving.listing",
    "Page": "vrelko.serving.page",
}

__all__ = ["Listing", "Page", "Sizes", "Spot", "Total"]


def __getattr__(name: str) -> Any:
    """Load a public name when it is first used, so that `vrelko --help` loads no SQLAlchemy."""
    if name not in _HOMES:
        raise AttributeError(f"module 'vrelko' has no attribute {name!r}")
    return getattr(import_module(_HOMES[name]), name)
