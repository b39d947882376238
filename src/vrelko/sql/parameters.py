"""Our own bind parameters: their names, and the values that carry a key."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import BindParameter, Integer, bindparam

LIMIT = "vrelko_limit"
OFFSET = "vrelko_offset"
KEY = "vrelko_key_"
UNTIL = "vrelko_until_"
"""Names of our own bind parameters; a user's may not begin like them."""

_KEYS = tuple(f"{KEY}{i}" for i in range(16))


def key_parameters(key: Sequence[Any], prefix: str = KEY) -> dict[str, Any]:
    """Return the bind parameters that carry a key."""
    # The usual case, of every page: no name is made anew.
    if prefix == KEY and None not in key and len(key) <= len(_KEYS):
        return dict(zip(_KEYS, key, strict=False))
    return {f"{prefix}{i}": value for i, value in enumerate(key) if value is not None}


def integer(name: str) -> BindParameter[int]:
    """Return a parameter written into the SQL as a literal: for integers we computed ourselves."""
    return bindparam(name, type_=Integer, literal_execute=True)
