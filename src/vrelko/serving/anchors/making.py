"""Tables and triggers of anchors: made, and taken away so that nothing is left."""

from __future__ import annotations

import random
import re
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import replace

from sqlalchemy import Connection, Engine, delete, inspect, select
from sqlalchemy.exc import DBAPIError

from vrelko.engines.anchoring import AnchorEngine
from vrelko.engines.registry import database_errors, record_of
from vrelko.engines.troubles import explain
from vrelko.errors import DatabaseError, ListingError
from vrelko.serving.anchors.anchor_set import AnchorSet
from vrelko.serving.anchors.locks import alone
from vrelko.sql.anchor_tables import AnchorNames

_PATIENCE_S = 30.0
"""How long a build or drop waits for a fold worker, whose transactions are short."""


def create_statements(engine: Engine, anchors: AnchorSet, *, static: bool = False) -> list[str]:
    """Return the statements that make all of it; without triggers when `static`."""
    parts, names = _of(engine, anchors)
    facts = parts.read_facts(engine, anchors.tables)
    # Triggers last: what they write into is there by then.
    triggers: Iterable[str] = () if static else parts.create_triggers(names, facts)
    return [*parts.create_log(names, facts), *parts.create_anchors(names, facts), *triggers]


def grant_statements(engine: Engine, anchors: AnchorSet, role: str, folds: bool) -> list[str]:
    """Return the statements that let a role read the anchors, or fold changes into them too."""
    parts, names = _of(engine, anchors)
    return list(parts.grants(names, role, folds))


def grant(engine: Engine, anchors: AnchorSet, role: str, folds: bool) -> None:
    """Let a role read the anchors, or fold changes into them too. Raises DatabaseError."""
    statements = grant_statements(engine, anchors, role, folds)
    try:
        with database_errors("granting of rights"), engine.begin() as connection:
            run(connection, statements)
    except DatabaseError as error:
        if error.code != "database-rights":
            raise
        raise DatabaseError(
            f"the database user may not grant rights on the anchors to {role!r}",
            f"Have who may run: {'; '.join(statements)}",
            "anchors-grant",
        ) from error


def drop_statements(engine: Engine, anchors: AnchorSet) -> list[str]:
    """Return the statements that leave nothing, where no other order has anchors."""
    parts, names = _of(engine, anchors)
    return [*parts.drop_anchors(names), *parts.drop_log(names)]


def create(engine: Engine, anchors: AnchorSet, *, static: bool = False) -> None:
    """Make tables and triggers; anchors are built afterwards. Raises DatabaseError.

    The log and its triggers are made once for all orders. What an earlier attempt left of this
    order is taken away first. `static`: without triggers.
    """
    parts, names = _of(engine, anchors)
    # Read before anything is locked: SQLite would wait for its own reader.
    facts = parts.read_facts(engine, anchors.tables)
    with (
        _builder_errors("making of anchors"),
        alone(engine, anchors, _PATIENCE_S) as connection,
    ):
        # The state is made last, so where it is all was there.
        there = _has(connection, anchors, names.tables.state.name)
        if not there or _are_lost(connection, names):
            _drop(connection, parts, parts.drop_triggers(names))
            _drop(connection, parts, [*parts.drop_anchors(names), *parts.drop_log(names)])
            _change(connection, parts, parts.create_log(names, facts))
        else:
            # Readers go by the state, so it is forgotten before the anchors are.
            _drop(connection, parts, [names.forget_state(), *parts.drop_anchors(names)])
        _change(connection, parts, parts.create_anchors(names, facts))
        if not static and not parts.has_triggers(connection, names):
            # With a builder's trigger that may not write the log nobody could write the table.
            parts.may_write(connection, names)
            triggers = [*parts.drop_triggers(names), *parts.create_triggers(names, facts)]
            _change(connection, parts, triggers)


def refuse_policies(engine: Engine, anchors: AnchorSet) -> None:
    """Raise ListingError where two users of the database may see other rows of the table."""
    record, table = record_of(engine.dialect), anchors.tables.table
    with database_errors("look into the catalog"), engine.connect() as connection:
        hides = record.hides_rows(connection, table, engine.dialect)
    if hides:
        raise ListingError(
            f"the table {table.fullname!r} has policies: anchors would count rows that a reader "
            "may not see",
            "Page by key or offset; or name the tenant by a required parameter of the listing, and "
            "read without policies as a user who may see all",
            "anchors-policy",
        )


def are_lost(engine: Engine, anchors: AnchorSet) -> bool:
    """Tell whether the triggers are gone that should keep anchors up: the table was made anew."""
    _, names = _of(engine, anchors)
    with database_errors("look for anchors"), engine.connect() as connection:
        there = _has(connection, anchors, names.tables.state.name)
        return there and _are_lost(connection, names)


def _are_lost(connection: Connection, names: AnchorNames) -> bool:
    version = names.tables.state.c.version
    counted = connection.execute(select(version).where(version > 0).limit(1)).first()
    parts = record_of(connection.dialect).anchors
    return counted is not None and not parts.has_triggers(connection, names)


def strike_lost(connection: Connection, anchors: AnchorSet) -> bool:
    """Have nobody go by counted anchors whose triggers are gone; tell whether there were such."""
    names = AnchorNames(anchors.tables, connection.dialect)
    if not _are_lost(connection, names):
        return False
    state = anchors.tables.state
    # Without their state they are none to readers; a build makes tables and triggers again.
    connection.execute(delete(state).where(state.c.version > 0))
    return True


def drop(engine: Engine, anchors: AnchorSet) -> None:
    """Leave nothing of an order's anchors, and no log where it was the last one's.

    Raises DatabaseError.
    """
    parts, names = _of(engine, anchors)
    with (
        _builder_errors("dropping of anchors"),
        alone(engine, anchors, _PATIENCE_S) as connection,
    ):
        if _has(connection, anchors, names.tables.state.name):
            _drop(connection, parts, [names.forget_state()])
        begun, own = names.tables.anchors_of_group, anchors.tables.anchors.name
        others = [name for name in _tables(connection, anchors) if name.startswith(begun)]
        # Another order's anchors still need the log; else writers are let go of it first.
        if not set(others) - {own}:
            _drop(connection, parts, parts.drop_triggers(names))
        _drop(connection, parts, parts.drop_anchors(names))
        if not set(others) - {own}:
            _drop(connection, parts, parts.drop_log(names))


def leftovers(engine: Engine, anchors: AnchorSet) -> list[str]:
    """Return the groups of anchors that an earlier description of the listing has left."""
    with database_errors("look for anchors"), engine.connect() as connection:
        # By their names alone: what an earlier description was, nobody knows any more.
        found = _tables(connection, anchors)
    of_owner = re.compile(rf"vrelko_(?:state|log)_({re.escape(anchors.owner)}[0-9a-f]{{8}})")
    groups = {told[1] for told in map(of_owner.fullmatch, found) if told}
    return sorted(groups - {anchors.tables.group})


def sweep(engine: Engine, anchors: AnchorSet) -> list[str]:
    """Leave nothing of what earlier descriptions of the listing have left; return its groups."""
    groups = leftovers(engine, anchors)
    for group in groups:
        # Only names matter here: what the old description was is not known any more.
        old = replace(anchors, tables=replace(anchors.tables, group=group))
        parts, names = _of(engine, old)
        with (
            _builder_errors("dropping of anchors"),
            alone(engine, old, _PATIENCE_S) as connection,
        ):
            begun = names.tables.anchors_of_group
            _drop(connection, parts, parts.drop_triggers(names))
            for one in _tables(connection, old):
                if one.startswith(begun):
                    mark = one.removeprefix(begun)
                    own = AnchorNames(replace(old.tables, mark=mark), engine.dialect)
                    _drop(connection, parts, parts.drop_anchors(own))
            _drop(connection, parts, parts.drop_log(names))
    return groups


def exists(engine: Engine, anchors: AnchorSet) -> bool:
    """Tell whether an order's tables are there."""
    with database_errors("look for anchors"), engine.connect() as connection:
        return _has(connection, anchors, anchors.tables.anchors.name)


@contextmanager
def _builder_errors(what: str) -> Iterator[None]:
    """Turn errors into DatabaseError; a right that the builder lacks is no reader's."""
    try:
        with database_errors(what):
            yield
    except DatabaseError as error:
        if error.code != "database-rights":
            raise
        raise DatabaseError(
            f"the database user has not all rights for the {what}",
            "Grant those that `vrelko anchors plan` names, or take another user",
            "anchors-rights",
        ) from error


def _drop(connection: Connection, parts: AnchorEngine, statements: Iterable[str]) -> None:
    """Run statements that take something away, each in a transaction of its own.

    A reader holds the log while it asks for the anchors: two locks at once could deadlock with it.
    """
    for statement in statements:
        _change(connection, parts, [statement])


def _change(connection: Connection, parts: AnchorEngine, statements: Iterable[str]) -> None:
    """Run statements in a transaction of their own, which waits for no lock for long.

    A statement that waits for the whole table makes everybody behind it wait too; one that holds a
    lock and waits for a second one may make somebody else's fail.
    """
    todo, until = list(statements), time.monotonic() + _PATIENCE_S
    if parts.short_waits is None:  # within the transaction that keeps all others out
        run(connection, todo)
        return
    begin, end = parts.short_waits
    connection.commit()
    while True:
        done = 0
        try:
            run(connection, [begin])
            for statement in todo:
                run(connection, [statement])
                done += 1
            connection.commit()
        except DBAPIError as error:
            connection.rollback()
            if not parts.aborts:  # each statement by itself is there to stay
                del todo[:done]
            found = explain(error)
            if found is None or found.code != "database-busy" or time.monotonic() > until:
                raise
            time.sleep(random.uniform(0.1, 0.5))
        else:
            break
        finally:
            run(connection, [end])
            connection.commit()


def run(connection: Connection, statements: Iterable[str]) -> None:
    """Run statements as they are."""
    for statement in statements:
        # Drivers take a lone % for a parameter.
        connection.exec_driver_sql(statement.replace("%", "%%"))


def _of(engine: Engine, anchors: AnchorSet) -> tuple[AnchorEngine, AnchorNames]:
    return record_of(engine.dialect).anchors, AnchorNames(anchors.tables, engine.dialect)


def _has(connection: Connection, anchors: AnchorSet, name: str) -> bool:
    return inspect(connection).has_table(name, schema=anchors.tables.table.schema)


def _tables(connection: Connection, anchors: AnchorSet) -> list[str]:
    return inspect(connection).get_table_names(schema=anchors.tables.table.schema)
