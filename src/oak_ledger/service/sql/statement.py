"""A SELECT over a source as a question: rows, or groups with what is computed for each. Everything else is refused with its reason."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from sqlglot import exp

from oak_ledger.definition.references import bare_name
from oak_ledger.errors import OakError
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.functions import LIBRARY
from oak_ledger.service.sql.language import (
    Node,
    cast,
    formula,
    parameter_number,
    refused,
    title_of,
    too_much,
    with_parameters,
)
from oak_ledger.source import Answer, Source
from oak_ledger.source.questions import Shown
from oak_ledger.types import TEXT, Grain, Type

_ANSWERED = ("expressions", "from_", "where", "group", "having", "order", "limit", "offset", "distinct")  # fmt: skip
_NAMES = {"joins": "A join", "with_": "WITH", "locks": "FOR UPDATE", "windows": "WINDOW", "laterals": "LATERAL", "into": "SELECT INTO", "sample": "TABLESAMPLE"}  # fmt: skip
_COMPARED = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.NullSafeEQ, exp.NullSafeNEQ)
_AGGREGATES = frozenset(name for name, function in LIBRARY.entries.items() if function.aggregate)
_VERSION = re.compile(r"(?s)(.+), version (\d{1,9})")


@dataclass(frozen=True, slots=True)
class Table:
    """The source that a statement reads, as it names it; the version where it says which."""

    area: str
    name: str
    number: int | None
    alias: str


@dataclass(frozen=True, slots=True)
class Question:
    """What a statement asks of its source. `columns` are what it shows, each with the name that it gives and the column of the answer."""

    by: tuple[Shown, ...]
    show: tuple[Shown, ...]
    where: tuple[str, ...]
    sort: tuple[str, ...]
    limit: int | None
    offset: int
    grouped: bool
    columns: tuple[tuple[str, str], ...]

    def types(self, source: Source) -> list[tuple[str, Type]]:
        """The name and type of each column, with nothing computed. Raises OakError for what is wrong."""
        if self.grouped:
            query = source.planned_tally(self.by, self.show, where=self.where or None, sort=self.sort).query
        else:
            query = source.planned_rows(self.show, where=self.where or None, sort=self.sort).query
        found = {expression.name: expression.checked.type for expression in (*query.by, *query.show)}
        return [(name, found[column]) for name, column in self.columns]

    def ask(self, source: Source, most: int) -> Answer:
        """The answer, with all columns that were needed for it. Raises OakError for more than so many rows."""
        if self.offset > 100 * most:
            raise too_much(most)
        wanted = most + 1 if self.limit is None else min(self.limit, most + 1)
        limit = self.offset + wanted
        if self.grouped:
            answer = source.tally(self.by, self.show, where=self.where or None, sort=self.sort, limit=limit)
        else:
            answer = source.rows(self.show, where=self.where or None, sort=self.sort, limit=limit)
        if answer.table.num_rows - self.offset > most:
            raise too_much(most)
        return answer


def table_of(select: Node) -> Table:
    """The source that a SELECT reads. Raises OakError for what reads none, or several."""
    inner = _innermost(select)
    found = inner.args.get("from_")
    table = found.this if found is not None else None
    if not isinstance(table, exp.Table) or not isinstance(table.this, exp.Identifier):
        raise refused("A statement that reads no source")
    more = [name for name, value in table.args.items() if value and name not in ("this", "db", "catalog", "alias")]
    if more or (table.args.get("alias") is not None and table.args["alias"].args.get("columns")):
        raise refused(_NAMES.get(more[0], more[0].upper()) if more else "A table whose columns get other names")
    if table.catalog and table.catalog.casefold() != "oak":
        raise refused(f"The database {table.catalog}", "There is one database, oak.")
    named = _VERSION.fullmatch(table.name)
    name, number = (named[1], int(named[2])) if named else (table.name, None)
    return Table(table.db, name, number, table.alias or table.name)


def question_of(select: Node, source: Source, table: Table, values: Mapping[int, tuple[Any, Type | None]]) -> Question:
    """What a SELECT asks of a source, with values for its parameters. Raises OakError for what is wrong, or not answered here."""
    return _question(with_parameters(select, values), source, table)


def _question(select: Node, source: Source, table: Table) -> Question:
    """A SELECT of a source; one around it picks columns of it, and cuts."""
    inner = _inside(select)
    if inner is None:
        return _Read(select, source, table).question()
    question = _question(inner, source, table)
    if any(value for name, value in select.args.items() if name not in ("expressions", "from_", "limit", "offset")):
        raise refused("A SELECT over another one that does more than pick columns and rows")
    there = dict(question.columns)
    columns: list[tuple[str, str]] = []
    for item in select.expressions:
        one = item.unalias()
        if isinstance(one, exp.Star) or (isinstance(one, exp.Column) and isinstance(one.this, exp.Star)):
            columns += question.columns
        elif isinstance(one, exp.Column) and one.name in there:
            columns.append((item.alias_or_name, there[one.name]))
        else:
            raise refused("A SELECT over another one that computes")
    limit, offset = _count(select, "limit"), _count(select, "offset")
    if (limit is not None or offset) and (question.limit is not None or question.offset):
        raise refused("LIMIT or OFFSET of what is cut already")
    cut = question if limit is None and not offset else replace(question, limit=limit, offset=offset or 0)
    return replace(cut, columns=tuple(columns))


def parameter_types(select: Node, source: Source, table: Table) -> dict[int, Type]:
    """The types of the parameters that are compared with something of a known type; of all others text."""
    found = {parameter_number(node): TEXT for node in select.find_all(exp.Parameter)}
    read = _Read(_innermost(select), source, table)
    for first, others in read.compared():
        kind = read.type_of(first)
        for other in others:
            if isinstance(other, exp.Parameter) and kind is not None:
                found[parameter_number(other)] = kind
    return found


def _is_window(node: Node) -> bool:
    """Whether a call is the function of a window."""
    while isinstance(node.parent, (exp.Filter, exp.WithinGroup)) and node.parent.this is node:
        node = node.parent
    return isinstance(node.parent, exp.Window) and node.parent.this is node


def _inside(select: Node) -> Node | None:
    """The SELECT in the FROM of another one."""
    source = select.args.get("from_")
    return source.this.this if source is not None and isinstance(source.this, exp.Subquery) else None


def _innermost(select: Node) -> Node:
    inner = _inside(select)
    return select if inner is None else _innermost(inner)


def _count(select: Node, name: str) -> int | None:
    """How many rows LIMIT or OFFSET says; None where it says nothing."""
    found = select.args.get(name)
    if found is None:
        return None
    options = found.args.get("limit_options")
    if options is not None and (options.args.get("percent") or options.args.get("with_ties")):
        raise refused("FETCH with PERCENT or TIES")
    count = found.args.get("count", exp.Literal.number(1)) if isinstance(found, exp.Fetch) else found.expression
    count = count.unnest()
    count = count.this if isinstance(count, exp.Cast) else count
    if isinstance(count, exp.Null):
        return None
    if not count.name.isdigit():
        raise refused(f"{name.upper()} {formula(count)}", "Say how many, as a whole number.")
    return int(count.name)


class _Read:
    """A statement being read."""

    def __init__(self, select: Node, source: Source, table: Table) -> None:
        if not isinstance(select, exp.Select) or not select.expressions:
            raise refused(select.key.upper() if not isinstance(select, exp.Select) else "A SELECT of nothing")
        for name, value in select.args.items():
            if value and name not in _ANSWERED:
                raise refused(_NAMES.get(name, name.strip("_").upper()))
        self.select, self.source, self.table = select.copy(), source, table
        self.known = {field.name.casefold(): field for field in source.fields if not field.hidden}
        inside = next((node for node in self.select.find_all(exp.Query, exp.Exists) if node is not self.select), None)
        if inside is not None:
            raise refused("A SELECT inside of an expression")
        for column in [*self.select.find_all(exp.Column)]:
            self._name(column)

    def _name(self, column: exp.Column) -> None:
        """Write a column as the field that it is, without its table."""
        if column.table and column.table.casefold() not in (self.table.alias.casefold(), self.table.name.casefold()):
            raise OakError("unknown-source", f"{column.table} is not what this statement reads; that is {self.table.alias}.")  # fmt: skip
        if isinstance(column.this, exp.Star):
            column.replace(exp.Star())
            return
        field = self.known.get(column.name.casefold())
        column.set("table", None)
        column.set("db", None)
        column.set("catalog", None)
        column.set("this", exp.to_identifier(field.name if field else column.name, quoted=True))

    def question(self) -> Question:
        """The whole of it."""
        select = self.select
        self._give_types()
        shown = self._shown()
        keys = self._keys(shown)
        where, having, order = (select.args.get(name) for name in ("where", "having", "order"))
        if where is not None and self._of_group(where.this):
            raise OakError("grain-mixed", "WHERE is asked of rows, before there are groups.", hint="Write a condition on groups in HAVING.")  # fmt: skip
        sorts = [self._sorted(expression, shown) for expression in (order.expressions if order is not None else [])]
        wanted = [*(expression for _, expression in shown), *(one for one, _ in sorts)]
        measured = any(map(self._of_group, wanted)) or having is not None
        if select.args.get("distinct") is not None:
            if keys or measured:
                raise refused("DISTINCT with GROUP BY or aggregates", "Groups are distinct already.")
            if select.args["distinct"].args.get("on") is not None:
                raise refused("DISTINCT ON")
            keys = {formula(one): one for _, one in shown}
        grouped = bool(keys) or measured
        if where is not None and not measured and any(expression.find(exp.Window) for expression in wanted):
            raise refused("A window over rows beside WHERE", "A window is computed over all rows, before they are filtered: make it a field of the source.")  # fmt: skip
        conditions = [] if where is None else [where.this]
        if having is not None:
            conditions.append(self._in_group(having.this, keys) if self._of_group(having.this) else having.this)
        by = {text: self._asked(text, one) for text, one in keys.items()}
        show: dict[str, Shown] = {}
        columns = [self._column(expression, by, show, keys, grouped=grouped) for expression in wanted]
        sort = [
            ("-" if down else "") + quote_identifier(column)
            for (_, down), column in zip(sorts, columns[len(shown) :], strict=True)
        ]
        return Question(
            tuple(by.values()),
            tuple(show.values()) or (("COUNT(*)",) if grouped else ()),
            tuple(map(formula, conditions)),
            tuple(sort),
            _count(select, "limit"),
            _count(select, "offset") or 0,
            grouped,
            tuple(zip((title for title, _ in shown), columns, strict=False)),
        )

    # -- the parts -------------------------------------------------------------------------------------------

    def _shown(self) -> list[tuple[str, Node]]:
        """What is shown, each with its title."""
        made: list[tuple[str, Node]] = []
        for item in self.select.expressions:
            if isinstance(item, exp.Star):
                if item.args.get("except_") or item.args.get("replace") or self.select.args.get("group"):
                    raise refused("* with GROUP BY", "Name the fields.")
                names = [bare_name(name) for name in self.source.row_fields()]
                made += [(name, exp.column(name, quoted=True)) for name in names]
            elif isinstance(item, exp.Alias):
                title = item.alias if item.args["alias"].args.get("quoted") else item.alias.lower()
                made.append((title, item.this))
            else:
                made.append((item.name if isinstance(item, exp.Column) else title_of(item), item))
        return made

    def _keys(self, shown: Sequence[tuple[str, Node]]) -> dict[str, Node]:
        """What the groups are made by, by the formula of each."""
        group = self.select.args.get("group")
        if group is None:
            return {}
        sets = any(value for name, value in group.args.items() if name != "expressions")
        if sets or any(
            isinstance(expression, (exp.Rollup, exp.Cube, exp.GroupingSets)) for expression in group.expressions
        ):
            raise refused("GROUP BY with several sets")
        expressions = [self._meant(expression.unnest(), shown, field_first=True) for expression in group.expressions]
        return {formula(expression): expression for expression in expressions}

    def _meant(self, node: Node, shown: Sequence[tuple[str, Node]], *, field_first: bool) -> Node:  # fmt: skip
        """What an item of GROUP BY or ORDER BY means: a number or a title is something that is shown."""
        if isinstance(node, exp.Literal) and not node.is_string:
            at = int(node.name) if node.name.isdigit() else 0
            if not 1 <= at <= len(shown):
                raise OakError("unknown-sort", f"The statement shows nothing at place {node.name}.")
            return shown[at - 1][1]
        if isinstance(node, exp.Column) and not (field_first and node.name.casefold() in self.known):
            for title, expression in shown:
                if title.casefold() == node.name.casefold():
                    return expression
        return node

    def _sorted(self, node: exp.Ordered, shown: Sequence[tuple[str, Node]]) -> tuple[Node, bool]:
        down = bool(node.args.get("desc"))
        first = node.args.get("nulls_first")
        if first is not None and bool(first) != down:
            raise refused(f"NULLS {'FIRST' if first else 'LAST'} here", "Nulls are last upwards, first downwards.")
        return self._meant(node.this.unnest(), shown, field_first=False), down

    # -- groups ----------------------------------------------------------------------------------------------

    def _of_group(self, node: Node) -> bool:
        """Whether it has one value per group."""
        return any(self._is_aggregate(expression) for expression in node.walk())

    def _is_aggregate(self, node: Node) -> bool:
        """Whether it makes one value of many rows: a call of an aggregate outside of a window, or a measure."""
        if isinstance(node, exp.Column):
            field = self.known.get(node.name.casefold())
            return field is not None and field.grain == Grain.GROUP
        return isinstance(node, exp.Anonymous) and node.name.upper() in _AGGREGATES and not _is_window(node)

    def _asked(self, name: str, node: Node) -> Shown:
        return quote_identifier(node.name) if isinstance(node, exp.Column) else (name, formula(node))

    def _column(self, node: Node, by: Mapping[str, Shown], show: dict[str, Shown], keys: Mapping[str, Node], *, grouped: bool) -> str:  # fmt: skip
        """The column of the answer that has the values of an expression; what is not there yet is asked for."""
        text = formula(node)
        if text not in by and text not in show:
            inside = self._in_group(node, keys) if grouped and not isinstance(node, exp.Column) else node
            if grouped and isinstance(node, exp.Column):
                self._require_measure(node)
            show[text] = self._asked(text, inside)
        asked = by.get(text) or show[text]
        return asked[0] if isinstance(asked, tuple) else node.name

    def _require_measure(self, node: exp.Column) -> None:
        """Raise OakError for a field with a value per row where there are groups."""
        field = self.known.get(node.name.casefold())
        if field is None or field.grain == Grain.GROUP:
            return
        measures = [
            formula(node) for item in self.select.expressions for node in item.walk() if self._is_aggregate(node)
        ]
        beside = "" if self.select.args.get("group") or not measures else f", as {measures[0]} makes them"
        total = "SUM" if field.type is not None and field.type.numeric else "MAX"
        raise OakError(
            "grain-mixed",
            f"{field.name} has a value per row, and the statement has groups{beside}.",
            hint=f"Group by it (GROUP BY {formula(node)}), or say how it is totalled: {total}({formula(node)}).",
        )

    def _in_group(self, node: Node, keys: Mapping[str, Node]) -> Node:
        """An expression of groups, in which each key stands as the one value that it has in a group."""

        def replaced(one: Node) -> Node:
            if formula(one) in keys:
                return exp.Anonymous(this="ANY_VALUE", expressions=[one.copy()])
            if isinstance(one, exp.Column):
                self._require_measure(one)
            called = one
            while isinstance(called, (exp.Filter, exp.WithinGroup)):
                called = called.this
            if self._is_aggregate(called):
                return one.copy()
            expression = one.copy()
            for name, value in one.args.items():
                if isinstance(value, exp.Expr):
                    expression.set(name, replaced(value))
                elif isinstance(value, list):
                    expression.set(name, [replaced(own) if isinstance(own, exp.Expr) else own for own in value])
            if _is_window(one) and isinstance(one, exp.Anonymous) and one.name.upper() == "COUNT" and isinstance(one.expressions[0], exp.Star):  # fmt: skip
                expression.set(
                    "expressions", [exp.Anonymous(this="COUNT", expressions=[exp.Star()])]
                )  # it counts groups
            return expression

        made = replaced(node)
        for window in made.find_all(exp.Window):
            if not any(self._is_aggregate(node) for node in window.walk()):
                raise refused(f"{formula(window)} beside groups", "A window over groups has an aggregate, or a key of the groups, in it.")  # fmt: skip
        return made

    # -- texts without a type --------------------------------------------------------------------------------

    def compared(self) -> list[tuple[Node, list[Node]]]:
        """What is compared with what."""
        made = []
        for node in self.select.find_all(*_COMPARED, exp.Between, exp.In):
            if isinstance(node, exp.Between):
                made.append((node.this, [node.args["low"], node.args["high"]]))
            elif isinstance(node, exp.In):
                made.append((node.this, node.expressions))
            else:
                made += [(node.this, [node.expression]), (node.expression, [node.this])]
        return made

    def type_of(self, node: Node) -> Type | None:
        """The type of an expression, where it has one."""
        if isinstance(node, (exp.Literal, exp.Parameter, exp.Null)):
            return None
        checked = self.source.check_formula(formula(node)).checked
        return checked.type if checked is not None else None

    def _give_types(self) -> None:
        """A text that is compared with another type is read as that type, as PostgreSQL does."""
        for first, others in self.compared():
            texts = [other for other in others if isinstance(other, exp.Literal) and other.is_string]
            kind = self.type_of(first) if texts else None
            if kind is not None and kind.kind not in ("text", "null"):
                for text in texts:
                    text.replace(cast(text.copy(), kind))
