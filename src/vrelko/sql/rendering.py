"""Statements as text, to be read by people."""

from __future__ import annotations

import re
from typing import Any

from sqlalchemy import Select
from sqlalchemy.engine.interfaces import Dialect

from vrelko.sql.statements import LIMIT, OFFSET

_POSTCOMPILE = re.compile(r"__\[POSTCOMPILE_(\w+)\]")


def render_sql(select: Select[Any], dialect: Dialect, limit: int) -> str:
    """Return a page statement as SQL text with named parameters and the limit written out."""
    dialect.paramstyle = "named"
    dialect.positional = False
    compiled = select.compile(dialect=dialect)
    text = str(compiled)
    for name, value in compiled.params.items():
        if value == 0:  # an engine's own OFFSET 0, which says nothing
            text = text.replace(f" OFFSET :{name}", "")
    values = {LIMIT: str(limit), OFFSET: ":offset"}
    text = _POSTCOMPILE.sub(lambda match: values.get(match[1], f":{match[1]}"), text)
    return "\n".join(line.strip() for line in text.replace(":vrelko_key_", ":key_").splitlines())
