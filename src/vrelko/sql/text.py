"""Statements as text, to be read or taken away."""

from __future__ import annotations

import re
from copy import copy
from typing import Any

from sqlalchemy import Select
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import CompileError

from vrelko.errors import ListingError
from vrelko.sql.parameters import LIMIT, OFFSET

_POSTCOMPILE = re.compile(r"__\[POSTCOMPILE_(\w+)\]")


def render_sql(select: Select[Any], dialect: Dialect, limit: int | str) -> str:
    """Return a page statement as SQL text with named parameters and the limit written out."""
    dialect = copy(dialect)  # the one given may be an engine's own
    dialect.paramstyle = "named"
    dialect.positional = False
    try:
        # Compiled without values: what readers of the text give stays a parameter.
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
    made = {key: _literal(one) for key, one in compiled.params.items() if key.startswith("param_")}
    text = _POSTCOMPILE.sub(lambda match: {**made, **values}.get(match[1], f":{match[1]}"), text)
    return "\n".join(line.strip() for line in text.replace("vrelko_key_", "key_").splitlines())


def _literal(value: Any) -> str:
    return str(value) if isinstance(value, (int, float)) else f"'{value}'"
