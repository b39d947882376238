"""What the ORM adds to a select: entities, mapped names, loader options."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from sqlalchemy import ColumnElement, Select, inspect, literal_column
from sqlalchemy.sql.selectable import FromClause

from vrelko.errors import ListingError


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
    keys = [attribute.key for attribute in inspect(entity).mapper.column_attrs]
    return [getattr(entity, key).__clause_element__() for key in keys]


def mapped_names(select: Select[Any]) -> Iterator[tuple[str, ColumnElement[Any]]]:
    """Yield attribute names of a select's entities with their columns."""
    for entity in entities_of(select):
        for attribute in inspect(entity).mapper.column_attrs:
            element = getattr(entity, attribute.key).__clause_element__()
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
    return {"mapper": inspect(entities[0]).mapper} if entities else {"clause": select}
