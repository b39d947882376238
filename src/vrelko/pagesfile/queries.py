"""Conditions and page queries as SQL text, read into what a pages file has for them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from vrelko.errors import PagesFileError

_SIGNS = {"GT": "gt", "GTE": "ge", "LT": "lt", "LTE": "le"}
_MORE = ("joins", "group", "having", "distinct", "with", "with_", "windows", "laterals", "qualify")
_TURNED = {"gt": "lt", "ge": "le", "lt": "gt", "le": "ge"}


@dataclass(frozen=True, slots=True, kw_only=True)
class PageQuery:
    """A page query: of one table with conditions that can be read, or as text alone.

    `table` None: it is paged as a query, `sql` without its own order and limit. `paged` says how it
    pages today: "offset", "limit" or "".
    """

    table: str | None
    columns: list[str] = field(default_factory=list)
    where: dict[str, Any] = field(default_factory=dict)
    orders: list[str] = field(default_factory=list)
    sql: str = ""
    paged: str = ""


def read_where(text: str, grammar: str = "") -> dict[str, Any]:
    """Return a condition as the `where` of a pages file. Raises PagesFileError.

    Comparisons of columns with values and named parameters, IN, IS NULL, BETWEEN and AND are read.
    """
    exp, parse = _parser()
    try:
        tree = parse(f"SELECT 1 FROM t WHERE {text}", dialect=grammar or None)
        return _conditions(tree.args["where"].this, exp)
    except (ValueError, KeyError) as error:
        raise PagesFileError(
            f"the condition {text!r} cannot be read: {error}",
            "Compare columns with values or :parameters, joined by AND; or give --query",
            "where-unread",
        ) from error


def read_query(text: str, grammar: str = "") -> PageQuery:
    """Return a page query taken apart, its limit left out. Raises PagesFileError."""
    exp, parse = _parser()
    text = text.strip().rstrip(";")
    try:
        tree = parse(text, dialect=grammar or None)
    except ValueError as error:
        raise PagesFileError(
            f"the query cannot be read: {str(error).splitlines()[0]}",
            "Give one SELECT in the dialect of the database",
            "query-unread",
        ) from error
    if not isinstance(tree, exp.Query):
        raise PagesFileError(
            f"{type(tree).__name__.upper()} is no query", "Give a SELECT", "query-unread"
        )
    paged = "offset" if tree.args.get("offset") else "limit" if tree.args.get("limit") else ""
    orders = _orders(tree, exp)
    bare = tree.copy()
    for part in ("limit", "offset", "order", "fetch"):
        bare.set(part, None)
    sql = bare.sql(dialect=grammar or None)
    plain = _plain(tree, exp)
    if plain is None:
        return PageQuery(table=None, orders=orders, sql=sql, paged=paged)
    table, columns, where = plain
    return PageQuery(table=table, columns=columns, where=where, orders=orders, sql=sql, paged=paged)


def _parser() -> tuple[Any, Any]:
    try:
        from sqlglot import exp, parse_one
        from sqlglot.errors import SqlglotError
    except ImportError as error:
        raise PagesFileError(
            "reading SQL needs sqlglot, which is not installed",
            'Install it with: pip install "vrelko[queries]"',
            "queries-extra",
        ) from error

    def parse(text: str, dialect: str | None) -> Any:
        try:
            return parse_one(text, dialect=dialect)
        except SqlglotError as error:
            raise ValueError(str(error)) from error

    return exp, parse


def _plain(tree: Any, exp: Any) -> tuple[str, list[str], dict[str, Any]] | None:
    """Return table, columns and conditions of a select that has nothing else, None for others."""
    more = (
        "joins",
        "group",
        "having",
        "distinct",
        "with",
        "with_",
        "windows",
        "laterals",
        "qualify",
    )
    if not isinstance(tree, exp.Select) or any(tree.args.get(part) for part in more):
        return None
    source = tree.args.get("from") or tree.args.get("from_")
    if source is None or not isinstance(source.this, exp.Table):
        return None
    columns: list[str] = []
    for one in tree.expressions:
        if isinstance(one, exp.Star):
            columns = []
            break
        if not isinstance(one, exp.Column):
            return None
        columns.append(one.name)
    where = tree.args.get("where")
    try:
        conditions = {} if where is None else _conditions(where.this, exp)
    except ValueError:
        return None
    name = source.this.name
    space = source.this.db
    return (f"{space}.{name}" if space else name), columns, conditions


def _orders(tree: Any, exp: Any) -> list[str]:
    """Return the order of a query as one of a pages file, none where it is by expressions."""
    ordered = tree.args.get("order")
    terms = []
    for one in ordered.expressions if ordered is not None else ():
        if not isinstance(one.this, exp.Column):
            return []
        text = ("-" if one.args.get("desc") else "") + one.this.name
        terms.append(text)
    return [",".join(terms)] if terms else []


def _conditions(tree: Any, exp: Any) -> dict[str, Any]:
    """Return a condition by column. Raises ValueError for what a pages file has no word for."""
    found: dict[str, Any] = {}
    parts = list(tree.flatten()) if isinstance(tree, exp.And) else [tree]
    for part in parts:
        column, value = _condition(part.unnest(), exp)
        if column not in found:
            found[column] = value
        elif isinstance(found[column], dict) and isinstance(value, dict):
            found[column] = {**found[column], **value}
        else:
            raise ValueError(f"two conditions on {column!r}")
    return found


def _condition(part: Any, exp: Any) -> tuple[str, Any]:
    if isinstance(part, exp.EQ):
        column, value, _ = _sides(part, exp)
        return column, value
    for name, word in _SIGNS.items():
        if type(part) is getattr(exp, name):
            column, value, turned = _sides(part, exp)
            return column, {(_TURNED[word] if turned else word): value}
    if isinstance(part, exp.Between):
        low, high = (_value(part.args[side], exp) for side in ("low", "high"))
        return _column(part.this, exp), {"ge": low, "le": high}
    if isinstance(part, exp.In) and part.expressions:
        return _column(part.this, exp), {"in": [_value(one, exp) for one in part.expressions]}
    negated = isinstance(part, exp.Not)
    inner = part.this if negated else part
    if isinstance(inner, exp.Is) and isinstance(inner.expression, exp.Null):
        return _column(inner.this, exp), {"null": not negated}
    raise ValueError(f"{part.sql()} is no plain comparison")


def _sides(part: Any, exp: Any) -> tuple[str, Any, bool]:
    if isinstance(part.this, exp.Column):
        return part.this.name, _value(part.expression, exp), False
    return _column(part.expression, exp), _value(part.this, exp), True


def _column(part: Any, exp: Any) -> str:
    if not isinstance(part, exp.Column):
        raise ValueError(f"{part.sql()} is no column")
    return str(part.name)


def _value(part: Any, exp: Any) -> Any:
    if isinstance(part, exp.Placeholder) and part.this:
        return f":{part.this}"
    if isinstance(part, exp.Literal):
        if part.is_string:
            return str(part.this)
        number = float(part.this)
        return int(number) if number.is_integer() and "." not in str(part.this) else number
    if isinstance(part, exp.Neg):
        return -_value(part.this, exp)
    if isinstance(part, exp.Boolean):
        return bool(part.this)
    if isinstance(part, (exp.Placeholder, exp.Parameter)):
        raise ValueError("parameters have names here, such as :customer")
    raise ValueError(f"{part.sql()} is no value")
