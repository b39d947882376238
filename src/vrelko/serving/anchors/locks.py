"""One worker at a time: transactions that no other one has."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Connection, Engine, text

from vrelko.engines.registry import record_of
from vrelko.errors import UnavailableError
from vrelko.serving.anchors.anchor_set import AnchorSet


@contextmanager
def alone(engine: Engine, anchors: AnchorSet, patience_s: float = 0.0) -> Iterator[Connection]:
    """Lend a connection in a transaction that no other worker has: locked first, begun then.

    A lock taken inside might come after the snapshot that it is to guard. `patience_s`: how long
    to wait for another worker. Raises UnavailableError.
    """
    name = f"vrelko {anchors.tables.log.fullname}"
    until = time.monotonic() + patience_s
    parts = record_of(engine.dialect).anchors
    begin, lock, unlock = parts.isolation, parts.lock, parts.unlock
    with engine.connect() as raw:
        connection = raw if not begin else raw.execution_options(isolation_level=begin)
        # SQLite has no named locks; a transaction that writes from its start keeps other writers
        # out.
        if parts.begin_alone is not None:
            parts.begin_alone(connection)
        elif lock is not None:
            while not connection.execute(text(lock), {"name": name}).scalar():
                if time.monotonic() < until:
                    time.sleep(0.05)
                    continue
                raise UnavailableError(
                    f"another fold worker is at the anchors {anchors.tables.group!r}",
                    "Let one run at a time",
                    "fold-busy",
                )
            # Asking for the lock began a transaction, whose snapshot would be too old.
            connection.commit()
        try:
            yield connection
            connection.commit()
        except BaseException:
            connection.rollback()
            raise
        finally:
            # A session's lock outlives its transaction, and the pool keeps the session.
            if unlock is not None:
                connection.execute(text(unlock), {"name": name})
                connection.commit()
