"""Statements as text, to be read or taken away."""

from __future__ import annotations

import re
from copy import copy
from typing import Any

from sqlalchemy import BindParameter, Select
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import CompileError
from sqlalchemy.sql import visitors
from sqlalchemy.types import TypeEngine

from vrelko.core.arithmetic import Sizes
from vrelko.errors import ListingError
from vrelko.sql.statements import LIMIT, OFFSET

_POSTCOMPILE = re.compile(r"__\[POSTCOMPILE_(\w+)\]")
_NAMED = re.compile(r"(?<!:):(\w+)")

ROUTINES = ("postgresql", "mariadb", "mysql")
"""Dialects that a stored routine is written for."""


def render_sql(select: Select[Any], dialect: Dialect, limit: int | str) -> str:
    """Return a page statement as SQL text with named parameters and the limit written out."""
    dialect = copy(dialect)  # the one given may be an engine's own
    dialect.paramstyle = "named"
    dialect.positional = False
    try:
        compiled = select.compile(dialect=dialect)
    except CompileError as error:
        raise ListingError(
            f"this statement cannot be written for {dialect.name}: {error}",
            "Choose another strategy",
            "statement-dialect",
        ) from error
    text = str(compiled)
    for name, value in compiled.params.items():
        if value == 0 and name.startswith("param_"):  # an engine's own OFFSET 0 says nothing
            text = text.replace(f" OFFSET :{name}", "")
        elif name.startswith("param_"):  # a value we made ourselves
            text = text.replace(f":{name}", _literal(value))
    values = {LIMIT: str(limit), OFFSET: ":offset"}
    text = text.replace(" ORDER BY ", "\nORDER BY ")
    text = _POSTCOMPILE.sub(lambda match: values.get(match[1], f":{match[1]}"), text)
    return "\n".join(line.strip() for line in text.replace("vrelko_key_", "key_").splitlines())


def render_routine(name: str, select: Select[Any], dialect: Dialect, sizes: Sizes) -> str:
    """Return a stored routine that gives a page by number and size, with the select's parameters.

    PostgreSQL: a SQL function that returns a table. MariaDB: a procedure. Sizes and numbers out of
    bounds are brought within them. Raises ListingError for other engines.
    """
    if dialect.name not in ROUTINES:
        raise ListingError(
            f"no stored routine is written for {dialect.name!r}",
            "Use postgresql or mariadb; the plain statements are there for others",
            "routine-engine",
        )
    page = f"{name}_page"
    taken = {
        element.key: element.type
        for element in visitors.iterate(select)
        if isinstance(element, BindParameter) and element.key not in (LIMIT, OFFSET)
        if not element.unique
    }
    most = sizes.most if sizes.most is not None else 2_147_483_647
    inputs = ["p_page INTEGER", "p_size INTEGER"]
    inputs += [f"p_{key} {_type(kind, dialect)}" for key, kind in taken.items()]
    body = render_sql(select, dialect, "@size")
    size = f"LEAST(GREATEST(COALESCE(p_size, {sizes.default}), 1), {most})"
    if dialect.name == "postgresql":
        columns = ", ".join(
            f"{dialect.identifier_preparer.quote(str(column.key))} {_type(column.type, dialect)}"
            for column in select.selected_columns
        )
        skip = f"(GREATEST(COALESCE(p_page, 1), 1)::bigint - 1) * {size}"
        body = body.replace("@size", size).replace(":offset", skip)
        body = _NAMED.sub(lambda match: f"p_{match[1]}", body)
        return (
            f"CREATE FUNCTION {page}({', '.join(inputs)})\nRETURNS TABLE ({columns})\n"
            f"LANGUAGE sql STABLE AS $page$\n{body}\n$page$"
        )
    first, _, rest = body.rpartition("LIMIT")
    body = first + "LIMIT" + rest
    body = re.sub(r"LIMIT .*$", "LIMIT v_size OFFSET v_skip", body, flags=re.DOTALL)
    body = _NAMED.sub(lambda match: f"p_{match[1]}", body)
    arguments = ", ".join(f"IN {one}" for one in inputs)
    return (
        f"CREATE PROCEDURE {page}({arguments})\nREADS SQL DATA\nBEGIN\n"
        f"DECLARE v_size INTEGER DEFAULT {size};\n"
        f"DECLARE v_skip BIGINT DEFAULT (GREATEST(COALESCE(p_page, 1), 1) - 1) * v_size;\n"
        f"{body};\nEND"
    )


def _type(kind: TypeEngine[Any], dialect: Dialect) -> str:
    """Return a type as a dialect spells it, whichever engine it was read from."""
    try:
        return kind.as_generic().compile(dialect=dialect)
    except NotImplementedError:
        return kind.compile(dialect=dialect)


def _literal(value: Any) -> str:
    return str(value) if isinstance(value, (int, float)) else f"'{value}'"
