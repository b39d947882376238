"""Optional filters: applied only when their parameters are given."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, DateTime, Enum, Select, String
from sqlalchemy.types import NullType, TypeEngine

from vrelko.errors import ListingError, PageError, nearest
from vrelko.sql.conditions import bound_parameters, parameter_types
from vrelko.sql.search import PARAMETER, Search

_OURS = "vrelko_"

SEARCH = "(search)"
"""How an active search stands among the names of active filters."""


def as_mapping(params: Any) -> dict[str, Any]:
    """Return parameters as a dict. Raises PageError for what is no mapping of names."""
    if not isinstance(params, Mapping):
        raise PageError(
            f"params must be a mapping, not a {type(params).__name__}",
            "Pass params={'name': value}",
            "parameter-kind",
        )
    return dict(params)


class Filters:
    """The parameters of a select and its optional filters."""

    def __init__(
        self,
        select: Select[Any],
        optional: Mapping[str, ColumnElement[bool]],
        search: Search | None = None,
    ) -> None:
        self.search = search
        self.select = select
        self.base = bound_parameters(select)
        self._take(dict(optional))

    def include(self, name: str, clause: ColumnElement[bool]) -> None:
        """Take one more optional filter. Raises ListingError where name or parameters are taken."""
        # Ours comes last, so a clash is told with the user's own name.
        new = set(bound_parameters(clause))
        if name in self.optional or new & self.known:
            taken = name if name in self.optional else min(new & self.known)
            raise ListingError(
                f"the name {taken!r} is used by the listing's periods and by a filter of yours",
                "Rename your filter or parameter",
                "period-column",
            )
        self._take({**self.optional, name: clause})

    def _take(self, optional: dict[str, ColumnElement[bool]]) -> None:
        select, search = self.select, self.search
        self.optional = optional
        self.needs = {name: bound_parameters(clause) for name, clause in optional.items()}
        # Parameters with a value of their own may be left out; SQLAlchemy then takes that value.
        self.required = {name for name, must in self.base.items() if must}
        self.known = set(self.base).union(*self.needs.values())
        if search is not None:
            self.known.add(PARAMETER)
        self.types = parameter_types(select)
        for clause in optional.values():
            self.types.update(parameter_types(clause))
        if search is not None:
            self.types[PARAMETER] = String(), False
        if optional and not isinstance(select, Select):
            raise ListingError(
                "optional filters cannot be added to a set operation",
                "Put them into its members, or page select(….subquery())",
                "filter-select",
            )
        for name, needed in self.needs.items():
            if not needed:
                raise ListingError(
                    f"the filter {name!r} takes no parameter, so it could never be left out",
                    "Use bindparam('name') in it, or move it into the select's WHERE",
                    "filter-parameter",
                )
        for name in self.known:
            if name.startswith(_OURS):
                raise ListingError(
                    f"the parameter name {name!r} begins with {_OURS!r}, which Vrelko uses itself",
                    "Choose another name",
                    "parameter-name",
                )

    def check(self, params: Mapping[str, Any] | None, partly: bool = False) -> dict[str, Any]:
        """Return the parameters in force, None ones left out.

        Raises PageError for unknown ones, and for missing ones unless given `partly`.
        """
        if params is not None and type(params) is not dict:
            params = as_mapping(params)
        # None leaves a filter out; a filter for NULL is a condition of its own.
        given = {name: value for name, value in (params or {}).items() if value is not None}
        # An empty search box is no search.
        if self.search is not None and not str(given.get(PARAMETER, "")).strip():
            given.pop(PARAMETER, None)
        for name in given:
            if not isinstance(name, str) or name not in self.known:
                raise PageError(
                    f"parameter {name!r} is not known to this listing",
                    nearest(str(name), self.known),
                    "parameter-unknown",
                )
            given[name] = self._fitting(name, given[name])
        if not partly:
            self._check_whole(given)
        if not partly and not self.required <= given.keys():
            missing = min(self.required - given.keys())
            raise PageError(
                f"parameter {missing!r} is missing",
                f"Pass params={{{missing!r}: …}}",
                "parameter-missing",
            )
        return given

    def _fitting(self, name: str, value: Any) -> Any:
        """Return a parameter's value as it is run and bound. Raises PageError."""
        kind, several = self.types.get(name, (NullType(), False))
        if several:
            # A text is iterable too, and would be taken for a set of letters.
            if isinstance(value, (str, bytes, Mapping)) or not isinstance(value, Iterable):
                raise PageError(
                    f"parameter {name!r} takes several values, not a {type(value).__name__}",
                    f"Pass a list: params={{{name!r}: [ … ]}}",
                    "parameter-kind",
                )
            return [self._one(name, one, kind) for one in value]
        return self._one(name, value, kind)

    def _one(self, name: str, value: Any, kind: TypeEngine[Any]) -> Any:
        if hasattr(value, "dtype") and hasattr(value, "item"):
            value = value.item()  # of NumPy
        if isinstance(kind, String) and not isinstance(kind, Enum) and type(value) is int:
            return str(value)  # MariaDB would compare numbers, of which several texts are one
        # A decorated type compares as the type that it stores.
        kind = getattr(kind, "impl_instance", kind)
        zoned = isinstance(value, datetime) and value.tzinfo is not None
        if zoned and isinstance(kind, DateTime) and not kind.timezone:
            raise PageError(
                f"parameter {name!r} has a time zone, its column has none",
                "Convert it to the column's own time and leave the zone out",
                "parameter-zone",
            )
        return value

    def _check_whole(self, given: Mapping[str, Any]) -> None:
        """Raise PageError for a filter that has some of its parameters and lacks others."""
        # A parameter that two filters share is not missing where one of them is complete.
        used = {key for name in self.active(given) for key in self.needs.get(name, ())}
        for name, needed in self.needs.items():
            there = [key for key in needed if key in given and key not in self.base]
            missing = [key for key in needed if key not in given and needed[key]]
            if missing and any(key not in used for key in there):
                raise PageError(
                    f"the filter {name!r} takes {missing[0]!r} too",
                    f"Pass params={{{missing[0]!r}: …}} beside {there[0]!r}, or leave both out",
                    "parameter-missing",
                )

    def unless_optional(self, params: Mapping[str, Any]) -> dict[str, Any]:
        """Return parameters without those that only optional filters, or the search, take."""
        return {name: value for name, value in params.items() if name in self.base}

    def active(self, params: Mapping[str, Any]) -> tuple[str, ...]:
        """Return the names of the filters whose parameters are all given, the search's last."""
        names = tuple(
            name for name, needed in self.needs.items() if all(key in params for key in needed)
        )
        searches = self.search is not None and PARAMETER in params
        return (*names, SEARCH) if searches else names

    def apply(
        self,
        select: Select[Any],
        active: tuple[str, ...],
        searched: Sequence[ColumnElement[Any]] = (),
        dialect: str = "sqlite",
    ) -> Select[Any]:
        """Return the select with the active filters in its WHERE; a search looks in `searched`."""
        conditions = [self.optional[name] for name in active if name != SEARCH]
        if SEARCH in active and self.search is not None:
            conditions.append(self.search.condition(searched, dialect))
        return select.where(*conditions) if conditions else select

    def values(self, given: Mapping[str, Any]) -> dict[str, Any]:
        """Return the values to run statements with, those of a search made from its text."""
        if self.search is None or PARAMETER not in given:
            return dict(given)
        return {**given, **self.search.values(given)}
