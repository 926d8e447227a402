"""A whole question as one statement: columns, fields in layers, filters, groups, order and limit."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import sqlglot
from sqlglot import ErrorLevel, UnsupportedError, exp

from oak_ledger.engine.evaluate import Expression, needed
from oak_ledger.engine.query import Query
from oak_ledger.formula import checked as c
from oak_ledger.places.dialects import POSTGRESQL, Dialect
from oak_ledger.places.translate import DIALECT, NotSaid, Translator, as_it_is, cast, sql_type
from oak_ledger.types import Grain

FIELDS, ROWS = "fields", "rows"
COUNTED, GROUPS = "rows in all", "groups in all"


@dataclass(frozen=True, slots=True)
class Statement:
    """A statement, and what its columns are called, in order."""

    tree: exp.Select
    names: tuple[str, ...]
    dialect: Dialect = POSTGRESQL

    def parameters(self, hole: str) -> tuple[str, dict[str, str]]:
        """The statement with holes for its texts (`hole` is one, with {} for its name), and what they are filled with; equal texts share one.

        Texts that belong to the words of SQL (INTERVAL '3' DAY) stay where they are.
        """
        texts: dict[str, str] = {}

        def taken(node: Any) -> Any:
            if isinstance(node, exp.Literal) and node.is_string and node.meta.get("value"):
                return cast(exp.Var(this=f"\0{texts.setdefault(str(node.this), f'p{len(texts)}')}\0"), "TEXT")
            return node

        text = _written(self.tree.transform(taken), self.dialect)
        if "%" in hole:
            text = text.replace("%", "%%")
        named = {name: own for own, name in texts.items()}
        return re.sub("\0(p[0-9]+)\0", lambda one: hole.format(one.group(1)), text), named

    def text(self, *, pretty: bool = False) -> str:
        """The statement as the database reads it."""
        return _written(self.tree, self.dialect, pretty=pretty)


def in_settled_order(query: Query, key: Sequence[str] | None) -> None:
    """Raise NotSaid for a list of rows that could come in several orders: it is not sorted by every field of the source's key."""
    names = {one.name for one in query.sort}
    fields = {
        one.checked.name.casefold() for one in query.show if one.name in names and isinstance(one.checked, c.FieldRef)
    }
    wanted = {name.casefold() for name in key or ()}
    if not query.grouped and not (wanted and wanted <= fields):
        raise NotSaid("A list of rows", "its order is not settled; sort by all fields of the source's key")


def trees_of(query: Query, asked: Sequence[Expression]) -> list[c.TypedNode]:
    """What is asked for, and what all fields are that it needs."""
    trees = [one.checked for one in asked]
    return trees + [query.fields[name].checked for name in needed(query.fields, trees)]


def _written(tree: exp.Expression, dialect: Dialect, *, pretty: bool = False) -> str:
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
    dialect: Dialect = POSTGRESQL,
) -> Statement:
    """A question as one statement over a table or a query, for PostgreSQL or duckdb; with `guarded` a division by zero is null in it. Raises NotSaid where any part of it cannot be said in the same meaning."""
    if query.before or query.totals:
        raise NotSaid("BEFORE" if query.before else "The row of totals", "it is put together here")
    shown = [(one.name, one.checked) for one in (*query.by, *query.show)]
    if query.where and any(
        isinstance(node, c.Window) and node.grain == Grain.ROW for _, tree in shown for node in c.walk(tree)
    ):
        raise NotSaid("A window with a filter", "a filter comes before windows there")
    layers, translator = _layers(query, column, guarded, dialect)
    steps: list[tuple[str, exp.Select]] = []
    known: list[str] = []
    for layer in layers:
        before = exp.to_identifier(steps[-1][0], quoted=True) if steps else None
        items: list[Any] = [exp.column(exp.to_identifier(name, quoted=True)) for name in known]
        items += [exp.alias_(translator.expression(tree), name, quoted=True) for name, tree in layer]
        made = exp.select(*(items or [exp.alias_(exp.true(), "row", quoted=True)])).from_(
            exp.Table(this=before) if before else origin
        )
        known += [name for name, _ in layer]
        steps.append((FIELDS if not steps else f"{FIELDS} {len(steps) + 1}", made))
    if query.always:
        made = _filtered(exp.select("*").from_(_table(steps[-1][0])), translator, query.always)
        steps.append(("kept", made))
    items = [
        exp.alias_(cast(translator.expression(tree), sql_type(tree.type)), name, quoted=True) for name, tree in shown
    ]
    made = _filtered(exp.select(*items).from_(_table(steps[-1][0])), translator, query.where)
    if query.by:
        made = made.group_by(*(translator.expression(one.checked) for one in query.by))
    if query.grouped:  # how many rows each group has, and how many groups there are before any limit
        made = made.select(exp.alias_(exp.Count(this=exp.Star()), COUNTED, quoted=True))
    if (query.grouped and (query.by or query.sort)) or query.sort:
        steps.append(("answer", made))
        made = _sorted(query, [name for name, _ in shown])
    if query.limit is not None:
        made = made.limit(query.limit)
    for name, step in steps:
        made = made.with_(exp.to_identifier(name, quoted=True), as_=step)
    if not dialect.collated:
        for one in reversed(list(made.find_all(exp.Collate))):  # the inner ones first
            if one.expression.name == "C":
                one.replace(one.this)
    return Statement(made, tuple(name for name, _ in shown), dialect)


def _table(name: str) -> exp.Table:
    return exp.Table(this=exp.to_identifier(name, quoted=True))


def _layers(
    query: Query, column: Callable[[str], exp.Expression], guarded: bool, dialect: Dialect
) -> tuple[list[list[tuple[str, c.TypedNode]]], Translator]:
    """The fields of rows that a question needs, those that need none first; and the translator that knows them as columns."""
    trees = [one.checked for one in (*query.show, *query.by, *query.where, *query.always)]
    columns: dict[str, exp.Expression] = {}
    inline: dict[str, c.TypedNode] = {}
    depth: dict[str, int] = {}
    layers: list[list[tuple[str, c.TypedNode]]] = [[]]
    for name in needed(query.fields, trees):
        tree = query.fields[name].checked
        if tree.grain == Grain.GROUP or "\0" in name:  # a step of reading a column is said where it is used
            inline[name] = tree
            continue
        under = [depth[one] + 1 for one in c.fields_used(tree) if one in depth]
        depth[name] = max(under, default=0)
        while len(layers) <= depth[name]:
            layers.append([])
        layers[depth[name]].append((name, tree))
        columns[name] = exp.column(exp.to_identifier(name, quoted=True))
    return layers, Translator(columns, inline, column, guarded=guarded, dialect=dialect)


def _filtered(made: exp.Select, translator: Translator, conditions: Sequence[Expression]) -> exp.Select:
    for one in conditions:
        made = made.where(translator.expression(one.checked))
    return made


def _sorted(query: Query, names: Sequence[str]) -> exp.Select:
    """In the order that is asked for, then by the groups; nulls last, as here."""
    keys = [(one.name, one.descending) for one in query.sort]
    keys += [(one.name, False) for one in query.by if one.name not in {name for name, _ in keys}]
    kinds = {one.name: one.checked.type.kind for one in (*query.by, *query.show)}
    items: list[Any] = [exp.column(exp.to_identifier(name, quoted=True)) for name in names]
    if query.grouped:
        over = exp.Window(this=exp.Sum(this=exp.column(exp.to_identifier(COUNTED, quoted=True))), over="OVER")
        items.append(exp.alias_(over, COUNTED, quoted=True))
        items.append(exp.alias_(exp.Window(this=exp.Count(this=exp.Star()), over="OVER"), GROUPS, quoted=True))
    made: exp.Select = exp.select(*items).from_(_table("answer"))
    for name, descending in keys:
        value: exp.Expression = exp.column(exp.to_identifier(name, quoted=True))
        if kinds[name] == "text":
            value = exp.Collate(this=value, expression=exp.to_identifier("C", quoted=True))
        made = made.order_by(exp.Ordered(this=value, desc=descending, nulls_first=False))
    return made


def parsed(query: str) -> exp.Expression:
    """A query that somebody wrote, as what to read from."""
    return exp.Subquery(
        this=sqlglot.parse_one(query.rstrip().rstrip(";"), dialect=DIALECT),
        alias=exp.TableAlias(this=exp.to_identifier(ROWS)),
    )
