"""Conditions and page queries as SQL text, read into what a pages file has for them.

Only what is known is read: a select with any other clause, a table with anything behind it, or a
condition of another form stays text, so that nothing of a query is left out in silence.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from vrelko.engines.record import EngineRecord
from vrelko.errors import PagesFileError
from vrelko.pagesfile.page_forms import take_off

_SIGNS = {"GT": "gt", "GTE": "ge", "LT": "lt", "LTE": "le"}
# `5 < n` is `n > 5`.
_TURNED = {"gt": "lt", "ge": "le", "lt": "gt", "le": "ge"}
DIALECTS = {
    "sqlite": "sqlite",
    "postgresql": "postgres",
    "mariadb": "mysql",
    "mysql": "mysql",
    "mssql": "tsql",
    "oracle": "oracle",
}
"""What the SQL of each dialect is called by the parser."""

_KNOWN = {
    "Select": {"expressions", "from", "from_", "where", "order", "limit", "offset"},
    "Table": {"this", "db", "alias"},
    "Between": {"this", "low", "high"},
    "In": {"this", "expressions"},
    "Ordered": {"this", "desc", "nulls_first"},
}
"""The parts of each clause that are read."""


@dataclass(frozen=True, slots=True, kw_only=True)
class PageQuery:
    """A page query: of one table with conditions that can be read, or as text alone.

    `table` None: it is paged as a query, `sql` without its own order and limit. `order` is None
    where it sorts by what is no column, "" where it does not sort. `size` is its limit; `paged`
    says how it pages today: "offset", "limit", "key" or "". `params` are the names of its
    parameters. `rows_of` names the one table of which each row gives one row, None where a query
    joins, groups or merges; `shown` its columns by name, none for all.
    """

    table: str | None
    columns: list[str] = field(default_factory=list)
    where: dict[str, Any] = field(default_factory=dict)
    order: str | None = ""
    sql: str = ""
    size: int | None = None
    paged: str = ""
    params: tuple[str, ...] = ()
    counts: bool = False
    rows_of: str | None = None
    shown: tuple[str, ...] = ()


def read_where(text: str, engine: EngineRecord) -> dict[str, Any]:
    """Return a condition as the `where` of a pages file. Raises PagesFileError.

    Comparisons of columns with values and named parameters, IN, IS NULL, BETWEEN and AND are read.
    """
    reader = _Reader(engine)
    try:
        tree = reader.parse(f"SELECT 1 FROM t WHERE {text}")
        # A text such as "a = 1 ORDER BY b" would parse, and lose what stands behind.
        if not reader.knows(tree):
            raise ValueError("more text follows it")
        return reader.conditions(tree.args["where"].this)
    except (ValueError, KeyError) as error:
        raise PagesFileError(
            f"the condition {text!r} cannot be read: {error}",
            "Compare columns with values or :parameters, joined by AND; or give --query",
            "where-unread",
        ) from error


def read_query(text: str, engine: EngineRecord, dialect: str | None = None) -> PageQuery:
    """Return a page query taken apart, what pages it left out. Raises PagesFileError.

    `dialect`: what the text is written for, where that is not the engine; one of DIALECTS.
    """
    reader = _Reader(engine, dialect)
    try:
        tree = reader.parse(text)
    except ValueError as error:
        raise PagesFileError(
            f"the query cannot be read: {error}",
            "Give one SELECT in the dialect of the database",
            "query-unread",
        ) from error
    if not isinstance(tree, reader.exp.Query):
        raise PagesFileError(
            f"{type(tree).__name__.upper()} is not a query", "Give a SELECT", "query-unread"
        )
    return reader.page_query(tree)


def split_statements(text: str, engine: EngineRecord, dialect: str | None = None) -> Iterator[str]:
    """Yield the statements of a text, as the parser tells where each ends."""
    reader = _Reader(engine, dialect)
    begin: int | None = None
    end = 0
    for token in reader.tokens(text):
        if token.token_type.name == "SEMICOLON":
            if begin is not None:
                yield text[begin:end]
            begin = None
            continue
        # By tokens: a semicolon in a text or a comment ends nothing.
        begin = token.start if begin is None else begin
        end = token.end + 1
    if begin is not None:
        yield text[begin:end]


class _Reader:
    """Reads SQL of one dialect by sqlglot, which is loaded when it is needed."""

    def __init__(self, engine: EngineRecord, dialect: str | None = None) -> None:
        try:
            import sqlglot
        except ImportError as error:
            raise PagesFileError(
                "reading SQL needs sqlglot, which is not installed",
                'Install it with: pip install "vrelko[queries]"',
                "queries-extra",
            ) from error
        self._sqlglot, self.exp = sqlglot, sqlglot.exp
        self._grammar = engine.grammar if dialect is None else DIALECTS[dialect]
        self._written = engine.grammar
        self._nulls_low, self._folds = engine.capabilities.nulls_low, engine.folds_names

    def parse(self, text: str) -> Any:
        """Return the tree of one statement. Raises ValueError."""
        try:
            tree = self._sqlglot.parse_one(text, dialect=self._grammar)
        except self._sqlglot.errors.SqlglotError as error:
            # The lines behind underline the place, which a message on one line cannot.
            raise ValueError(str(error).splitlines()[0]) from error
        # PostgreSQL reads Station and station alike, so both must be found.
        if self._folds:
            from sqlglot.optimizer.normalize_identifiers import normalize_identifiers

            # (Loaded here alone: it draws in the whole optimizer.)
            tree = normalize_identifiers(tree, dialect=self._written)
        return tree.transform(self._named)

    def _named(self, node: Any) -> Any:
        """Return a parameter of another dialect, such as @station, as one by name."""
        if isinstance(node, self.exp.Parameter) and isinstance(node.this, self.exp.Var):
            return self.exp.Placeholder(this=node.this.name)
        return node

    def _as_text(self, tree: Any) -> str:
        """Return a query as text whose parameters are written :name, on every engine."""

        # The parser writes %(name)s for PostgreSQL and ? elsewhere; SQLAlchemy's text() reads :name
        # alone.
        def spelled(node: Any) -> Any:
            named = isinstance(node, self.exp.Placeholder) and node.this
            return self.exp.Var(this=f":{node.this}") if named else node

        return str(tree.transform(spelled).sql(dialect=self._written))

    def tokens(self, text: str) -> Any:
        """Return the tokens of a text. Raises PagesFileError."""
        try:
            return self._sqlglot.tokenize(text, read=self._grammar)
        except self._sqlglot.errors.SqlglotError as error:
            raise PagesFileError(
                f"the queries cannot be read: {str(error).splitlines()[0]}",
                "Give SELECTs in the dialect of the database, with semicolons between",
                "query-unread",
            ) from error

    def knows(self, tree: Any) -> bool:
        """Tell whether a clause has no parts but those that are read."""
        known = _KNOWN[type(tree).__name__]
        return all(name in known for name, value in tree.args.items() if value)

    def page_query(self, tree: Any) -> PageQuery:
        """Return a query taken apart."""
        exp = self.exp
        unpaged = take_off(tree, exp)
        tree = unpaged.tree
        bare = tree.copy()
        # The listing brings its own order; a sort inside it would be paid for nothing.
        bare.set("order", None)
        table, columns, where = self._plain(tree) or (None, [], {})
        shown = tree.expressions if isinstance(tree, exp.Select) else []
        return PageQuery(
            table=table,
            columns=columns,
            where=where,
            order=self._order(tree),
            sql=self._as_text(bare),
            size=unpaged.size,
            paged=unpaged.by,
            params=tuple(sorted({str(one.this) for one in bare.find_all(exp.Placeholder)})),
            # Teams keep their count beside the page query; it is no listing.
            counts=len(shown) == 1 and isinstance(shown[0].unalias(), exp.Count),
            rows_of=self._rows_of(tree),
            shown=tuple(one.alias_or_name for one in shown if not one.is_star),
        )

    def _rows_of(self, tree: Any) -> str | None:
        """Return the table of a select whose rows are that table's, one for one."""
        exp = self.exp
        merging = ("joins", "group", "having", "distinct", "laterals", "with", "with_")
        if not isinstance(tree, exp.Select) or any(tree.args.get(name) for name in merging):
            return None
        # These make other rows of it, or say of a row what depends on the others.
        if any(tree.find_all(exp.AggFunc, exp.Window, exp.Unnest)):
            return None
        # The parser has named this part both ways.
        source: Any = tree.args.get("from_") or tree.args.get("from")
        table: Any = None if source is None else source.this
        if not isinstance(table, exp.Table) or table.args.get("joins"):
            return None
        return f"{table.db}.{table.name}" if table.db else str(table.name)

    def _plain(self, tree: Any) -> tuple[str, list[str], dict[str, Any]] | None:
        """Return table, columns and conditions of a select that has nothing else, else None."""
        exp = self.exp
        if not isinstance(tree, exp.Select) or not self.knows(tree):
            return None
        source = tree.args.get("from_") or tree.args.get("from")
        table = None if source is None else source.this
        if not isinstance(table, exp.Table) or not self.knows(table):
            return None
        shown = tree.expressions
        columns = [] if len(shown) == 1 and shown[0].is_star else [one.name for one in shown]
        # An expression or an alias is no column of the table: the query is paged as text.
        if columns and not all(isinstance(one, exp.Column) and not one.is_star for one in shown):
            return None
        where = tree.args.get("where")
        try:
            conditions = {} if where is None else self.conditions(where.this)
        except ValueError:
            return None
        return f"{table.db}.{table.name}" if table.db else table.name, columns, conditions

    def _order(self, tree: Any) -> str | None:
        """Return the order of a query as in a pages file, NULLs placed as the query has them."""
        ordered = tree.args.get("order")
        terms = []
        for one in ordered.expressions if ordered is not None else ():
            if not isinstance(one.this, self.exp.Column) or not self.knows(one):
                return None
            # (The parser fills in where NULLs stand by the dialect, so it is always said.)
            falls, first = bool(one.args.get("desc")), bool(one.args.get("nulls_first"))
            # Where NULLs stand as the engine puts them anyway there is nothing to say.
            native = first == (self._nulls_low != falls)
            place = "" if native else ":nulls-first" if first else ":nulls-last"
            terms.append(f"{'-' if falls else ''}{one.this.name}{place}")
        return ",".join(terms)

    def conditions(self, tree: Any) -> dict[str, Any]:
        """Return a condition by column. Raises ValueError for what a pages file has no word for."""
        found: dict[str, Any] = {}
        for part in tree.flatten() if isinstance(tree, self.exp.And) else [tree]:
            # Brackets around a comparison mean nothing between ANDs.
            column, value = self._condition(part.unnest())
            known = found.setdefault(column, {})
            if not isinstance(value, dict) and not known:
                found[column] = value
            # at >= :a AND at < :b are two conditions of one column.
            elif isinstance(value, dict) and isinstance(known, dict) and not known.keys() & value:
                found[column] = {**known, **value}
            else:
                raise ValueError(f"two conditions of one kind on {column!r}")
        return found

    def _condition(self, part: Any) -> tuple[str, Any]:
        exp = self.exp
        if isinstance(part, exp.EQ):
            column, value, _ = self._sides(part)
            return column, value
        for name, word in _SIGNS.items():
            # By exact type: the parser's classes inherit from one another.
            if type(part) is getattr(exp, name):
                column, value, turned = self._sides(part)
                return column, {(_TURNED[word] if turned else word): value}
        if isinstance(part, exp.Between) and self.knows(part):
            low, high = (self._value(part.args[side]) for side in ("low", "high"))
            return self._column(part.this), {"ge": low, "le": high}
        if isinstance(part, exp.In) and self.knows(part):
            return self._column(part.this), {"in": [self._value(one) for one in part.expressions]}
        negated = isinstance(part, exp.Not)
        inner = part.this if negated else part
        if isinstance(inner, exp.Is) and isinstance(inner.expression, exp.Null):
            return self._column(inner.this), {"null": not negated}
        # OR, functions, LIKE: left out they would change which rows there are.
        raise ValueError(f"{part.sql()} is not a plain comparison")

    def _sides(self, part: Any) -> tuple[str, Any, bool]:
        if isinstance(part.this, self.exp.Column):
            return part.this.name, self._value(part.expression), False
        return self._column(part.expression), self._value(part.this), True

    def _column(self, part: Any) -> str:
        if not isinstance(part, self.exp.Column):
            raise ValueError(f"{part.sql()} is not a column")
        return str(part.name)

    def _value(self, part: Any) -> Any:
        exp = self.exp
        if isinstance(part, exp.Placeholder) and part.this:
            return f":{part.this}"
        if isinstance(part, exp.Literal) and part.is_string:
            if str(part.this).startswith(":"):  # which would be taken for a parameter
                raise ValueError(f"the text {part.this!r} begins with a colon")
            return str(part.this)
        if isinstance(part, exp.Literal):
            # A float of 12345678901234567890 would be another number.
            return float(part.this) if set(part.this) & set(".eE") else int(part.this)
        if isinstance(part, exp.Neg) and isinstance(part.this, exp.Literal):
            return -self._value(part.this)
        if isinstance(part, exp.Boolean):
            return bool(part.this)
        if isinstance(part, (exp.Placeholder, exp.Parameter)):
            raise ValueError("parameters need names here, such as :customer")
        raise ValueError(f"{part.sql()} is not a value")
