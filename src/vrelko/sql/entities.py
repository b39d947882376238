"""What the ORM adds to a select: entities, mapped names, loader options."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sqlalchemy import ColumnElement, Join, Select, inspect, literal_column
from sqlalchemy.sql.elements import ClauseList
from sqlalchemy.sql.selectable import FromClause

from vrelko.errors import ListingError
from vrelko.sql.sources import base_table


def entities_of(select: Select[Any]) -> tuple[Any, ...]:
    """Return the mapped classes and aliases that a select names, whole or by attribute."""
    # Once each: a select may name several attributes of one class.
    found = (entry.get("entity") for entry in select.column_descriptions)
    return tuple(dict.fromkeys(one for one in found if one is not None))


def whole_entities(select: Select[Any]) -> list[Any]:
    """Return the mapped classes and aliases that stand whole in a row."""
    return [
        entry["entity"]
        for entry in select.column_descriptions
        if entry.get("entity") is not None and entry["expr"] is entry["entity"]
    ]


def holds_entities(select: Any) -> bool:
    """Tell whether rows hold entities or bundles."""
    # Set operations have no entities of their own.
    if not isinstance(select, Select):
        return False
    found = [entry["expr"] for entry in select.column_descriptions]
    return has_whole_entity(select) or any(getattr(one, "is_bundle", False) for one in found)


def has_whole_entity(select: Select[Any]) -> bool:
    """Tell whether rows hold whole entities."""
    return bool(whole_entities(select))


def mapped_columns(entity: Any) -> list[ColumnElement[Any]]:
    """Return the columns that an entity's attributes hold."""
    return [element for _, element in _columns_by_name(entity)]


def mapped_names(select: Select[Any]) -> Iterator[tuple[str, ColumnElement[Any]]]:
    """Yield attribute names of a select's entities with their columns; synonyms too."""
    for entity in entities_of(select):
        yield from _columns_by_name(entity)
        for synonym in inspect(entity).mapper.synonyms:
            # A synonym may also stand for a relationship, which has no one column.
            attribute = getattr(entity, synonym.key)
            if hasattr(attribute, "__clause_element__"):
                element = attribute.__clause_element__()
                if isinstance(element, ColumnElement):
                    yield synonym.key, element


def order_terms(clause: Any) -> tuple[Any, ...]:
    """Return the ORDER BY expressions that a clause stands for: several for a composite()."""
    made = clause.__clause_element__() if hasattr(clause, "__clause_element__") else clause
    if getattr(made, "is_bundle", False):
        made = made.__clause_element__()
    # Plain, or turned round as a whole by desc().
    listed = type(made).__name__ == "OrderByList" or isinstance(made, ClauseList)
    return tuple(made.clauses) if listed else (clause,)


def mapped_composites(select: Select[Any]) -> Iterator[tuple[str, tuple[ColumnElement[Any], ...]]]:
    """Yield the composite() attributes of a select's entities with their columns."""
    for entity in entities_of(select):
        for composite in inspect(entity).mapper.composites:
            yield composite.key, order_terms(getattr(entity, composite.key))


def _columns_by_name(entity: Any) -> Iterator[tuple[str, ColumnElement[Any]]]:
    inspected = inspect(entity)
    for attribute in inspected.mapper.column_attrs:
        # The column that tells concrete classes apart is mapped, and no attribute of the class.
        found = getattr(entity, attribute.key, None)
        element = attribute.columns[0] if found is None else found.__clause_element__()
        base = base_table(inspected.selectable)
        # A concrete class is read from a union of its tables, whatever its attributes name.
        if not isinstance(inspected.selectable, Join) and base is None:
            element = inspected.selectable.corresponding_column(element)
        if isinstance(element, ColumnElement):
            yield attribute.key, element


def adds_criteria(select: Any) -> bool:
    """Tell whether the ORM adds conditions that stand nowhere in a select.

    Those of a subclass that shares its table with others, and of with_loader_criteria().
    """
    if not isinstance(select, Select):
        return False
    options = {type(one).__name__ for one in getattr(select, "_with_options", ())}
    shared = any(inspect(one).mapper.single for one in entities_of(select))
    return shared or "LoaderCriteriaOption" in options


def adds_by_events(lender: Any) -> bool:
    """Tell whether a Session may add conditions to each select as it runs it, unseen here."""
    events = getattr(getattr(lender, "dispatch", None), "do_orm_execute", ())
    return bool(events)


def plain_froms(select: Select[Any]) -> list[FromClause]:
    """Return what a select reads from, without the joins that loader options add."""
    # joinedload() adds its tables when entities are shown, and only then. An order by the name of a
    # label could not be compiled without the label.
    bare: Select[Any] = select.order_by(None).with_only_columns(
        literal_column("1"), maintain_column_froms=True
    )
    return list(bare.get_final_froms())


def refuse_cut_collections(select: Select[Any]) -> None:
    """Raise ListingError for contains_eager() of a collection: a page would cut it short."""
    for option in getattr(select, "_with_options", ()):
        for element in getattr(option, "context", ()):
            local = getattr(element, "local_opts", {})
            # Read by name and with defaults: loader options have no public form, and versions
            # differ.
            path = getattr(getattr(element, "path", None), "path", ())
            cut = [part.key for part in path if getattr(part, "uselist", False)]
            if "eager_from_alias" in local and cut:
                raise ListingError(
                    f"contains_eager() of the collection {cut[-1]!r} would be cut by a page",
                    "Use selectinload() or joinedload() for it",
                    "select-collection",
                )


def core_connection(lender: Any, select: Any) -> Any:
    """Return the Connection that a select runs on: a Session may have several databases."""
    # A Connection is used as it is; a Session lends the one for this select.
    if not hasattr(lender, "get_bind"):
        return lender
    return lender.connection(bind_arguments=bind_arguments(select))


def bind_arguments(select: Any) -> dict[str, Any]:
    """Return what tells a Session of several databases which one a select is for."""
    entities = entities_of(select) if isinstance(select, Select) else ()
    found = {"mapper": inspect(entities[0]).mapper} if entities else {"clause": select}
    shard = shard_of(select)
    return found if shard is None else {**found, "shard_id": shard}


def shard_of(select: Any) -> Any:
    """Return the shard that a select is for by the option set_shard_id(), None without one."""
    options = getattr(select, "_with_options", ())
    return next(
        (getattr(one, "shard_id", None) for one in options if hasattr(one, "shard_id")), None
    )


def refuse_shards(lender: Any, select: Any) -> None:
    """Raise ListingError for a Session that would run a page's statement on several databases.

    Each would give a page of its own rows, and nothing would sort and cut them together.
    """
    if hasattr(lender, "execute_chooser") and shard_of(select) is None:
        raise fanned_out()


def fanned_out() -> ListingError:
    """Return the error for a statement that was run on several databases."""
    return ListingError(
        "a sharded Session runs a page's statement on each of its databases, and their rows are "
        "not one order",
        "Name one of them: select(…).options(set_shard_id(…)), or let the database itself "
        "distribute the table",
        "session-shards",
    )
