"""A whole question as one statement: columns, fields in layers, filters, groups, order and limit."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from sqlglot import ErrorLevel, UnsupportedError, exp

from oak_ledger.engine.evaluate import Expression, needed
from oak_ledger.engine.query import Query
from oak_ledger.formula import checked as c
from oak_ledger.places.dialects import POSTGRESQL, SqlDialect
from oak_ledger.places.translate import NotSaid, Translator, as_it_is, cast, sql_type
from oak_ledger.types import Grain

FIELDS, ROWS, QUERY = "fields", "rows", "the query as it is written"
COUNTED, GROUPS = "rows in all", "groups in all"


@dataclass(frozen=True, slots=True)
class Statement:
    """A statement, and what its columns are called, in order."""

    tree: exp.Select
    names: tuple[str, ...]
    dialect: SqlDialect = POSTGRESQL

    def parameters(self, hole: str) -> tuple[str, dict[str, str]]:
        """The statement with holes for its texts (`hole` is one, with {} for its name), and what they are filled with; equal texts share one.

        Texts that belong to the words of SQL (INTERVAL '3' DAY) stay where they are.
        """
        texts: dict[str, str] = {}

        def taken(node: Any) -> Any:
            if isinstance(node, exp.Literal) and node.is_string and node.meta.get("value"):
                return cast(exp.Var(this=f"\0{texts.setdefault(str(node.this), f'p{len(texts)}')}\0"), "TEXT")
            return node

        text = _with_query(self.tree, _written(self.tree.transform(taken), self.dialect))
        if "%" in hole:
            text = text.replace("%", "%%")
        named = {name: own for own, name in texts.items()}
        return re.sub("\0(p[0-9]+)\0", lambda match: hole.format(match.group(1)), text), named

    def text(self, *, pretty: bool = False) -> str:
        """The statement as the database reads it."""
        return _with_query(self.tree, _written(self.tree, self.dialect, pretty=pretty))


def in_settled_order(query: Query, key: Sequence[str] | None) -> None:
    """Raise NotSaid for a list of rows that could come in several orders: it is not sorted by every field of the source's key."""
    names = {by.name for by in query.sort}
    fields = {
        expression.checked.name.casefold()
        for expression in query.show
        if expression.name in names and isinstance(expression.checked, c.FieldRef)
    }
    wanted = {name.casefold() for name in key or ()}
    if not query.grouped and not (wanted and wanted <= fields):
        raise NotSaid("A list of rows", "its order is not settled; sort by all fields of the source's key")


def trees_of(query: Query, asked: Sequence[Expression]) -> list[c.TypedNode]:
    """What is asked for, and what all fields are that it needs."""
    trees = [expression.checked for expression in asked]
    return trees + [query.fields[name].checked for name in needed(query.fields, trees)]


def _with_query(tree: exp.Expression, text: str) -> str:
    """A statement with the query that somebody wrote in its place, to the letter."""
    query = next((node.meta["query"] for node in tree.find_all(exp.Table) if "query" in node.meta), "")
    return text.replace(f'"{QUERY}"', f"({query}\n)") if query else text


def _written(tree: exp.Expression, dialect: SqlDialect, *, pretty: bool = False) -> str:
    """A tree as text. Raises NotSaid where the dialect has no words for a part of it, which is never left out."""
    try:
        return str(tree.sql(dialect=dialect.writes, pretty=pretty, unsupported_level=ErrorLevel.RAISE))
    except UnsupportedError as error:
        raise NotSaid("This question", f"in {dialect.title}, {str(error).rstrip('.')}") from None


def statement(
    query: Query,
    origin: exp.Expression,
    column: Callable[[str], exp.Expression] = as_it_is,
    *,
    guarded: bool = False,
    dialect: SqlDialect = POSTGRESQL,
) -> Statement:
    """A question as one statement over a table or a query, for PostgreSQL or duckdb; with `guarded` a division by zero is null in it. Raises NotSaid where any part of it cannot be said in the same meaning."""
    if query.before or query.totals:
        raise NotSaid("BEFORE" if query.before else "The row of totals", "it is put together here")
    if query.fill:
        raise NotSaid("Dates without rows", "they are put in here")
    if query.having and guarded:
        raise NotSaid("A condition on groups", "what cannot be computed in it is counted here")
    steps, translator = _steps(query, origin, column, guarded, dialect)
    translator.overall = query.grouped and not query.by
    keys = [_column_of(translator, query, expression) for expression in query.by]
    rows = _Rows(steps, translator, query.where, [*query.fields])
    read = rows.with_levels([expression.checked for expression in (*query.show, *query.having)], keys)
    shown = [(expression, translator.expression(expression.checked)) for expression in query.show]
    items = [
        exp.alias_(cast(made, sql_type(expression.checked.type)), expression.name, quoted=True)
        for expression, made in (*zip(query.by, keys, strict=True), *shown)
    ]
    names = tuple(expression.name for expression in (*query.by, *query.show))
    select = _filtered(_joined(exp.select(*items).from_(_table(rows.name)), read), translator, query.where)
    if query.by:
        select = select.group_by(*keys)
    select = select.having(*(translator.expression(expression.checked) for expression in query.having), copy=False)
    if query.grouped:  # how many rows each group has, and how many groups there are before any limit
        select = select.select(exp.alias_(exp.Count(this=exp.Star()), COUNTED, quoted=True))
    if (query.grouped and (query.by or query.sort)) or query.sort:
        steps.append(("answer", select))
        select = _sorted(query, names)
    if query.limit is not None:
        select = select.limit(query.limit, copy=False)
    for name, step in steps:
        select = select.with_(exp.to_identifier(name, quoted=True), as_=step, copy=False)
    if not dialect.collated:
        for node in reversed(list(select.find_all(exp.Collate))):  # the inner ones first
            if node.expression.name == "C":
                node.replace(node.this)
    return Statement(select, names, dialect)


Joins = list[tuple[str, exp.Expression]]
"""The steps that are joined to the rows, each with its condition."""


@dataclass(slots=True)
class _Rows:
    """The rows of a question as the last of its steps has them; levels become steps over them."""

    steps: list[tuple[str, exp.Select]]
    translator: Translator
    where: Sequence[Expression]
    taken: Sequence[str]
    name: str = ""
    levels: int = 0

    def __post_init__(self) -> None:
        self.name = self.steps[-1][0]

    def with_levels(self, trees: Sequence[c.TypedNode], keys: Sequence[exp.Expression]) -> Joins:
        """Make the aggregates of levels in some trees known to the translator, for rows that are grouped by these keys: each is a step that has
        one value for each group, and is joined to the rows of that group."""
        inline = self.translator.inline
        waiting = [*trees]
        found: dict[c.Level, None] = {}
        while waiting:
            for node in c.walk(waiting.pop(), c.APART):
                if isinstance(node, c.Level):
                    found[node] = None
                elif isinstance(node, c.FieldRef) and node.name in inline and node.grain == Grain.GROUP:
                    waiting.append(inline[node.name])
        return [joined for node in found for joined in self._level(node, keys)]

    def _level(self, node: c.Level, keys: Sequence[exp.Expression]) -> Joins:
        if node.type.kind == "boolean" or (self.translator.guarded and c.can_fault(node)):
            raise NotSaid("An aggregate of values at their own level (PER)", "of such a kind, it is computed here")
        word = next(word for word in ("level", "level of rows", "\u200blevel") if word not in "".join(self.taken))
        self.levels += 1
        name = f"{word} {self.levels}"
        own = [f"{name}, key {at}" for at in range(len(keys))]
        overall, self.translator.overall = self.translator.overall, False
        inner = [*keys, *(self.translator.expression(key) for key in node.keys)]
        joins = self.with_levels(node.inner, inner)
        names = [*own, *(c.level_column(at, key=True)[1:] for at in range(len(node.keys)))]
        values = [(c.level_column(at)[1:], self.translator.expression(one)) for at, one in enumerate(node.inner)]
        items = [exp.alias_(expression.copy(), as_name, quoted=True) for as_name, expression in (*zip(names, inner, strict=True), *values)]  # fmt: skip
        select = _joined(exp.select(*items).from_(_table(self.name)), joins)
        self.steps.append((f"{name} by key", _filtered(select, self.translator, self.where).group_by(*(expression.copy() for expression in inner))))  # fmt: skip
        for piece in c.walk(node.aggregate):
            if isinstance(piece, c.ColumnRef):
                self.translator.columns[piece] = _column(piece.column[1:])
        outer = exp.select(
            *(exp.alias_(_column(one), one, quoted=True) for one in own),
            exp.alias_(self.translator.expression(node.aggregate), name, quoted=True),
        ).from_(_table(f"{name} by key"))
        self.translator.overall = overall
        self.steps.append((name, outer.group_by(*map(_column, own)) if own else outer))
        if not own:
            self.translator.columns[node] = exp.select(_column(name)).from_(_table(name)).subquery()
            return []
        self.translator.columns[node] = exp.Min(this=_column(name))
        same: list[exp.Expression] = [
            exp.NullSafeEQ(this=key.copy(), expression=_column(one)) for key, one in zip(keys, own, strict=True)
        ]
        return [(name, exp.paren(exp.and_(*same)))]


def _joined(select: exp.Select, joins: Joins) -> exp.Select:
    for name, same in joins:
        select = select.join(_table(name), on=same, join_type="left", copy=False)
    return select


def _table(name: str) -> exp.Table:
    return exp.Table(this=exp.to_identifier(name, quoted=True))


Layered = list[tuple[Any, str, c.TypedNode]]
"""What becomes a column: what it is found by (a field's name, a window), its name, its tree."""


def _steps(
    query: Query, origin: exp.Expression, column: Callable[[str], exp.Expression], guarded: bool, dialect: SqlDialect
) -> tuple[list[tuple[str, exp.Select]], Translator]:
    """The steps that compute the fields and windows of rows, and the translator that knows them as columns.

    The source's own filters come before windows, and a question's after them.
    """
    always = [alway.checked for alway in query.always]
    asked = [expression.checked for expression in query.asked]
    inline: dict[str, c.TypedNode] = {}
    translator = Translator({}, inline, column, guarded=guarded, dialect=dialect)
    first = {*needed(query.fields, always)}
    if _windows([*always, *(query.fields[name].checked for name in first)]):
        raise NotSaid("A filter of the source", "it holds a window, which is over rows that the filter leaves out")
    known: Layered = []
    later: Layered = []
    for name in needed(query.fields, [*always, *asked]):
        tree = query.fields[name].checked
        if tree.grain == Grain.GROUP or "\0" in name:  # a step of reading a column is said where it is used
            inline[name] = tree
            asked += [tree] if tree.grain == Grain.GROUP else []
            continue
        later += _windows([tree], nested=True)
        reads = not any(used not in inline for used in c.fields_used(tree))  # what reads the origin comes first
        (known if name in first or reads else later).append((name, name, tree))
    later += _windows(asked)
    there = {name for name, *_ in (*known, *later)}
    later += [
        (key, key if key in query.fields else f"{expression.name} of the question", expression.checked)
        for expression in query.by
        if not isinstance(expression.checked, c.FieldRef) and (key := _key_of(query, expression)) not in there
    ]
    taken = "".join(query.fields)
    word = next(word for word in ("window", "window of rows", "\u200bwindow") if word not in taken)
    later = [(key, name or f"{word} {at}", tree) for at, (key, name, tree) in enumerate(later)]
    steps: list[tuple[str, exp.Select]] = []
    names: list[str] = []

    def add(layers: Sequence[Layered]) -> None:
        for layer in layers:
            items: list[Any] = [_column(name) for name in names]
            items += [exp.alias_(translator.expression(tree), name, quoted=True) for _, name, tree in layer]
            select = exp.select(*(items or [exp.alias_(exp.true(), "row", quoted=True)]))
            select = select.from_(_table(steps[-1][0]) if steps else origin)
            steps.append((FIELDS if not steps else f"{FIELDS} {len(steps) + 1}", select))
            for key, name, _ in layer:
                names.append(name)
                translator.columns[key] = _column(name)

    add(_layers(known) or [[]])
    if query.always:
        steps.append(("kept", _filtered(exp.select("*").from_(_table(steps[-1][0])), translator, query.always)))
    add(_layers(later))
    return steps, translator


def _windows(trees: Sequence[c.TypedNode], *, nested: bool = False) -> Layered:
    """The windows of rows in some trees as columns of their own, the inner ones first; with `nested` only those within others."""
    found: dict[c.Window, None] = {}
    for tree in trees:
        for node in c.walk(tree):
            if isinstance(node, c.Window) and node.grain == Grain.ROW:
                inner = [one for piece in c.children(node) for one in c.walk(piece)]
                own = [] if nested else [node]
                found.update(dict.fromkeys(node for node in (*own, *inner) if isinstance(node, c.Window)))
    return [(node, "", node) for node in reversed(found)]


def _layers(items: Layered) -> list[Layered]:
    """Fields and windows, those first that need none of the others."""
    depth: dict[Any, int] = {}
    layers: list[Layered] = []
    for key, name, tree in items:
        pieces = {
            piece.name if isinstance(piece, c.FieldRef) else piece
            for top in c.children(tree) or [tree]
            for piece in c.walk(top)
        }
        at = depth[key] = max((depth[piece] + 1 for piece in pieces if piece in depth), default=0)
        while len(layers) <= at:
            layers.append([])
        layers[at].append((key, name, tree))
    return layers


def _key_of(query: Query, expression: Expression) -> Any:
    """By what the column of something that is grouped by is found."""
    return expression.name if query.fields.get(expression.name) is expression else expression


def _column_of(translator: Translator, query: Query, expression: Expression) -> exp.Expression:
    known = translator.columns.get(_key_of(query, expression))
    return known.copy() if known is not None else translator.expression(expression.checked)


def _column(name: str) -> exp.Expression:
    return exp.column(exp.to_identifier(name, quoted=True))


def _filtered(select: exp.Select, translator: Translator, conditions: Sequence[Expression]) -> exp.Select:
    for condition in conditions:
        select = select.where(translator.expression(condition.checked), copy=False)
    return select


def _sorted(query: Query, names: Sequence[str]) -> exp.Select:
    """In the order that is asked for, then by the groups; nulls last going up and first going down, as here."""
    keys = [(by.name, by.descending) for by in query.sort]
    keys += [(expression.name, False) for expression in query.by if expression.name not in {name for name, _ in keys}]
    kinds = {expression.name: expression.checked.type.kind for expression in (*query.by, *query.show)}
    items: list[Any] = [exp.column(exp.to_identifier(name, quoted=True)) for name in names]
    if query.grouped:
        over = exp.Window(this=exp.Sum(this=exp.column(exp.to_identifier(COUNTED, quoted=True))), over="OVER")
        items.append(exp.alias_(over, COUNTED, quoted=True))
        items.append(exp.alias_(exp.Window(this=exp.Count(this=exp.Star()), over="OVER"), GROUPS, quoted=True))
    select: exp.Select = exp.select(*items).from_(_table("answer"))
    for name, descending in keys:
        value: exp.Expression = exp.column(exp.to_identifier(name, quoted=True))
        if kinds[name] == "text":
            value = exp.Collate(this=value, expression=exp.to_identifier("C", quoted=True))
        select = select.order_by(exp.Ordered(this=value, desc=descending, nulls_first=descending))
    return select


def as_written(query: str) -> exp.Expression:
    """A query that somebody wrote, as what to read from: it goes into the statement as it is."""
    table = exp.Table(this=exp.to_identifier(QUERY, quoted=True), alias=exp.TableAlias(this=exp.to_identifier(ROWS)))
    table.meta["query"] = query
    return table
