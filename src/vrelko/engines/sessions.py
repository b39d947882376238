"""What connections of an engine are told when they are made."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import Engine, event


def forbid_writes_by(statement: str, commits: bool = False) -> Callable[[Engine], None]:
    """Return what makes every transaction of an engine's connections read-only, by a statement."""

    def forbid(engine: Engine) -> None:
        @event.listens_for(engine, "connect")
        def _set(connection: Any, _record: Any) -> None:
            cursor = connection.cursor()
            cursor.execute(statement)
            cursor.close()
            if commits:
                connection.commit()

    return forbid
