"""Places: which database, and which of its schemas, a connection sees; and what is known of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from vrelko.core.kept import Kept
from vrelko.serving.variants.catalog import Catalog
from vrelko.serving.variants.variant import Variant

RECHECK_S = 10.0
"""Seconds after which a place's columns are read from the catalog again."""

_MOST_KEPT = 1_000
"""Variants, and requests with their fingerprints, kept to be used again."""

_NOTED = "vrelko_database"
"""Where a connection's own notes tell its database."""


@dataclass(slots=True)
class Place:
    """What is known of one place: its catalog, with the variants and requests that rely on it.

    `key` tells it from others. `checked_s`: when its columns were last read, in seconds of a clock
    that never goes back.
    """

    key: Any
    catalog: Catalog
    checked_s: float
    variants: Kept[tuple[Any, ...], Variant] = field(default_factory=lambda: Kept(_MOST_KEPT))
    requests: Kept[Any, Any] = field(default_factory=lambda: Kept(_MOST_KEPT))


def key_of(connection: Any, database_of: Any) -> tuple[Any, ...]:
    """Return what tells the database and schemas of a connection from others; asks no server.

    Names of schemas that the connection translates count. `database_of` reads what the driver
    knows, once a connection.
    """
    notes = connection.info
    where = notes.get(_NOTED)
    if where is None:
        where = notes[_NOTED] = database_of(connection)
    translated = connection.get_execution_options().get("schema_translate_map")
    # The dialect is that of one Engine: another one may log in as somebody else.
    # SQLAlchemy writes None down by this name too, once it has compiled a statement by the map.
    names = frozenset(item for item in (translated or {}).items() if item[0] != "_none")
    return connection.dialect, where, names or None
