"""What pages a query, taken off it: a limit, row numbers around it, the key of the row before.

Works on sqlglot's trees, whose classes come as `exp`. What is not one of the known forms is left as
it stands.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Unpaged:
    """A query without what pages it: `by` is "offset", "limit", "key" or "", `size` its rows."""

    tree: Any
    by: str
    size: int | None


def take_off(tree: Any, exp: Any) -> Unpaged:
    """Return a query without its limit, its row numbers, or the key that it begins behind."""
    inside = _numbered(tree, exp) or _row_numbered(tree, exp)
    if inside is not None:
        return inside
    bare = tree.copy()
    limit, offset = bare.args.get("limit"), bare.args.get("offset")
    many: Any = (limit.args.get("expression") or limit.args.get("count")) if limit else None
    for part in ("limit", "offset"):
        bare.set(part, None)
    by = "offset" if offset else "limit" if limit else ""
    # With an offset beside it a comparison is a filter, not a place.
    if by == "limit" and isinstance(bare, exp.Select) and _without_key(bare, exp):
        by = "key"
    return Unpaged(bare, by, _whole(many, exp))


def _row_numbered(tree: Any, exp: Any) -> Unpaged | None:
    """Read `SELECT … FROM (SELECT …, ROW_NUMBER() OVER (ORDER BY …) AS n …) WHERE n …`."""
    inner = _inside(tree, exp)
    if inner is None:
        return None
    number = next((one for one in inner.expressions if _is_row_number(one, exp)), None)
    # A condition on anything else is a filter, and would be lost with the wrapping.
    if number is None or not _only_about(tree, number.alias, exp):
        return None
    window = number.this
    # Numbers by group, or in no order, are no pages of one list.
    if window.args.get("partition_by") or not window.args.get("order") or inner.args.get("order"):
        return None
    if not _shows_columns(tree, exp) or _is_cut(inner):
        return None
    bare = inner.copy()
    shown = [one for one in bare.expressions if one.alias != number.alias]
    wanted = [one.name for one in tree.expressions if not one.is_star]
    if wanted:
        by_name = {one.alias_or_name: one for one in shown}
        if not set(wanted) <= set(by_name):
            return None
        shown = [by_name[name] for name in wanted]
    bare.set("expressions", shown)
    bare.set("order", window.args["order"].copy())
    return Unpaged(bare, "offset", _between(tree, exp))


def _numbered(tree: Any, exp: Any) -> Unpaged | None:
    """Read Oracle's `SELECT * FROM (SELECT q.*, ROWNUM n FROM (SELECT …) q …) WHERE n > …`."""
    found: Any = tree
    by, size = "", None
    # Two wrappings: one for each bound of the row numbers.
    while (inner := _inside(found, exp)) is not None:
        named = [one.alias for one in inner.expressions if _is_rownum(one.unalias(), exp)]
        about = [*named, "rownum"]
        parts = list(_parts(found, exp))
        if not parts or not all(_is_about(part, about, exp) for part in parts):
            break
        if any(not (one.is_star or _is_rownum(one.unalias(), exp)) for one in found.expressions):
            break
        if not _has_only(found, _WRAPPED) or _is_cut(inner):  # more than row numbers stands there
            return None
        for part in parts:
            if isinstance(part, (exp.LTE, exp.LT)):
                size = size or _whole(part.expression, exp)
        by = "offset" if named or by else "limit"
        found = inner
    if found is tree:
        return None
    return Unpaged(found.copy(), by, size if by == "limit" else None)


def _inside(tree: Any, exp: Any) -> Any:
    """Return the select in a subquery that is all a select reads from; None for any other."""
    if not isinstance(tree, exp.Select) or tree.args.get("joins"):
        return None
    source: Any = tree.args.get("from_") or tree.args.get("from")
    inner: Any = None if source is None else source.this
    plain = isinstance(inner, exp.Subquery) and isinstance(inner.this, exp.Select)
    return inner.this if plain else None


def _is_row_number(shown: Any, exp: Any) -> bool:
    return (
        isinstance(shown, exp.Alias)
        and isinstance(shown.this, exp.Window)
        and isinstance(shown.this.this, exp.RowNumber)
    )


def _is_rownum(part: Any, exp: Any) -> bool:
    return isinstance(part, _columns(exp)) and str(part.name).lower() == "rownum"


def _columns(exp: Any) -> Any:
    """Return the kinds of nodes that name a column; ROWNUM has one of its own by now."""
    return exp.Column, getattr(exp, "Pseudocolumn", exp.Column)


def _parts(tree: Any, exp: Any) -> Iterator[Any]:
    where = tree.args.get("where")
    if where is None:
        return
    yield from where.this.flatten() if isinstance(where.this, exp.And) else [where.this]


def _only_about(tree: Any, name: str, exp: Any) -> bool:
    """Tell whether a select asks for nothing but rows by their number, in that order or none."""
    order = tree.args.get("order")
    ordered = order is None or all(one.this.name == name for one in order.expressions)
    parts = list(_parts(tree, exp))
    about = bool(parts) and all(_is_about(part, [name], exp) for part in parts)
    return ordered and about and _has_only(tree, {*_WRAPPED, "order"})


_WRAPPED = {"expressions", "from", "from_", "where"}
"""The clauses of a select that does nothing but choose rows by their number."""


def _has_only(tree: Any, clauses: set[str]) -> bool:
    return all(name in clauses for name, value in tree.args.items() if value)


def _is_cut(tree: Any) -> bool:
    """Tell whether a select inside has a limit of its own, which is no page's."""
    return bool(tree.args.get("limit") or tree.args.get("offset"))


def _shows_columns(tree: Any, exp: Any) -> bool:
    """Tell whether a select shows all columns, or some under their own names."""
    shown = tree.expressions
    alone = len(shown) == 1 and shown[0].is_star
    return alone or all(isinstance(one, exp.Column) and not one.is_star for one in shown)


def _is_about(part: Any, names: Iterable[str], exp: Any) -> bool:
    kinds = (exp.Between, exp.GT, exp.GTE, exp.LT, exp.LTE)
    wanted = {name.lower() for name in names}
    columns = part.find_all(*_columns(exp))
    named = {one.name.lower() for one in columns}
    return isinstance(part, kinds) and bool(named) and named <= wanted


def _between(tree: Any, exp: Any) -> int | None:
    """Return how many row numbers a select asks for, where both bounds are written out."""
    low = high = None
    for part in _parts(tree, exp):
        if isinstance(part, exp.Between):
            low, high = _whole(part.args["low"], exp), _whole(part.args["high"], exp)
        elif isinstance(part, (exp.GT, exp.GTE)):
            at = _whole(part.expression, exp)
            low = None if at is None else at + isinstance(part, exp.GT)
        elif isinstance(part, (exp.LT, exp.LTE)):
            at = _whole(part.expression, exp)
            high = None if at is None else at - isinstance(part, exp.LT)
    return None if low is None or high is None else high - low + 1


def _without_key(tree: Any, exp: Any) -> bool:
    """Take the condition that begins behind a key off a select; tell whether there was one."""
    order = tree.args.get("order")
    terms = [
        (one.this.name, bool(one.args.get("desc")))
        for one in (order.expressions if order is not None else ())
        if isinstance(one.this, exp.Column)
    ]
    parts = list(_parts(tree, exp))
    names = [name for name, _ in terms]
    keys = [part for part in parts if _is_key(part.unnest(), names, exp)]
    bounds = [part for part in parts if terms and _bounds_first(part.unnest(), terms[0], exp)]
    if keys:  # beside which the first term may be bounded again
        keys += [part for part in bounds if part not in keys]
    elif len(terms) == 1:  # by more terms it would skip ties, and a >= would repeat: a filter
        keys = [part for part in bounds if isinstance(part.unnest(), (exp.GT, exp.LT))]
    if not keys:
        return False
    rest = [part.copy() for part in parts if part not in keys]
    tree.set("where", exp.Where(this=exp.and_(*rest)) if rest else None)
    return True


def _is_key(part: Any, names: list[str], exp: Any) -> bool:
    """Tell whether a condition is a row value, or an OR of comparisons, over an order's columns."""
    compares = (exp.GT, exp.GTE, exp.LT, exp.LTE)
    if isinstance(part, compares) and isinstance(part.this, exp.Tuple):
        columns = [one.name for one in part.this.expressions]
        return columns == names[: len(columns)]
    if not isinstance(part, exp.Or):
        return False
    leaves = list(part.find_all(*compares, exp.EQ))
    used = {one.name for one in part.find_all(exp.Column)}
    asked = all(
        isinstance(one.this, exp.Column)
        and isinstance(one.expression, (exp.Placeholder, exp.Parameter))
        for one in leaves
    )
    others = {type(one) for one in part.find_all(exp.Binary)}
    known = {*compares, exp.EQ, exp.And, exp.Or}
    return bool(leaves) and asked and len(used) > 1 and used <= set(names) and others <= known


def _bounds_first(part: Any, term: tuple[str, bool], exp: Any) -> bool:
    """Tell whether a condition keeps rows behind a parameter in the direction of the first term."""
    name, falls = term
    kinds = (exp.LT, exp.LTE) if falls else (exp.GT, exp.GTE)
    return (
        isinstance(part, kinds)
        and isinstance(part.this, exp.Column)
        and part.this.name == name
        and isinstance(part.expression, (exp.Placeholder, exp.Parameter))
    )


def _whole(part: Any, exp: Any) -> int | None:
    literal = isinstance(part, exp.Literal) and not part.is_string
    return int(part.this) if literal and str(part.this).isdigit() else None
