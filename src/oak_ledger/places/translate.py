"""A typed tree as the syntax tree of a database's SQL. What cannot be said in the same meaning is refused, with the reason."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping
from dataclasses import replace
from decimal import Decimal
from functools import lru_cache
from typing import Any

import sqlglot
from sqlglot import exp

from oak_ledger.engine.aggregate.compute import filtered
from oak_ledger.errors import OakError
from oak_ledger.formula import checked as c
from oak_ledger.formula.ranges import key as meaning
from oak_ledger.functions import casts
from oak_ledger.functions.templates import template
from oak_ledger.places.dialects import POSTGRESQL, SqlDialect
from oak_ledger.places.texts import cast_template, plain_number
from oak_ledger.types import INTEGER, TEXT, Grain, Type

DIALECT = "postgres"


class NotSaid(OakError):
    """What another place cannot compute in the same meaning."""

    def __init__(self, what: str, why: str) -> None:
        super().__init__("not-in-database", f"{what} can only be computed here: {why}.")
        self.what, self.why = what, why


@lru_cache(maxsize=2_000)
def _parsed(template: str) -> Any:
    return sqlglot.parse_one(template, dialect=DIALECT)


def sql_type(kind: Type) -> exp.DataType:
    """A type of the language as one of the database."""
    names = {"text": "TEXT", "integer": "BIGINT", "number": "DOUBLE PRECISION", "boolean": "BOOLEAN", "date": "DATE"}
    if kind.kind == "timestamp":
        return exp.DataType(this=exp.DataType.Type.TIMESTAMPNTZ)
    return exp.DataType.build(names.get(kind.kind) or f"DECIMAL(38, {kind.scale})", dialect=DIALECT)


def cast(value: exp.Expression, kind: exp.DataType | str) -> exp.Cast:
    """A value as one of a type, said whatever it is already: the library leaves out what it takes for idle, other decimals too."""
    return exp.Cast(this=value, to=exp.DataType.build(kind, dialect=DIALECT) if isinstance(kind, str) else kind)


def literal(value: Any, kind: Type) -> exp.Expression:
    """A value as a literal of its type."""
    if value is None:
        return cast(exp.null(), sql_type(kind))
    if isinstance(value, bool):
        return exp.true() if value else exp.false()
    if isinstance(value, str):
        text = exp.Literal.string(value)
        text.meta["value"] = True  # of a formula, no word of SQL
        return text
    if isinstance(value, (dt.datetime, dt.date)):
        return cast(
            exp.Literal.string(value.isoformat(" ") if isinstance(value, dt.datetime) else value.isoformat()),
            sql_type(kind),
        )
    number = exp.Literal.number(format(value, "f") if isinstance(value, Decimal) else repr(value))
    expression: exp.Expression = exp.paren(number) if str(number).startswith("-") else number
    return expression if kind.kind == "decimal" else cast(expression, sql_type(kind))


def finite(expression: exp.Expression, kind: Type) -> exp.Expression:
    """A number, or null where it is none or infinite."""
    sure = exp.EQ(this=exp.Sub(this=expression.copy(), expression=expression.copy()), expression=exp.Literal.number(0))
    return cast(exp.Case().when(sure, expression), sql_type(kind))


def in_calendar(expression: exp.Expression, kind: Type, *, stops: bool = False) -> exp.Expression:
    """A date or moment, or null where it is infinite or beyond the years 1 to 9999; with `stops` the database stops there, as a text
    that is not a number is none."""
    ends = [
        cast(exp.Literal.string(one), sql_type(kind))
        for one in ("0001-01-01", "9999-12-31 23:59:59.999999"[: 10 if kind.kind == "date" else None])
    ]
    case = exp.Case().when(exp.Between(this=expression.copy(), low=ends[0], high=ends[1]), expression)
    if not stops:
        return case
    wrong = cast(
        cast(exp.Concat(expressions=[exp.Literal.string("not in the calendar: "), expression.copy()]), "TEXT"),
        sql_type(kind),
    )
    return case.when(exp.Not(this=exp.Is(this=expression.copy(), expression=exp.Null())), wrong)


def as_it_reads(expression: exp.Expression) -> exp.Expression:
    """A number of few digits with those digits, not with what it is in binary."""
    return cast(cast(expression, "TEXT"), "DOUBLE PRECISION")


def as_it_is(name: str) -> exp.Expression:
    """A column whose values are those of the language."""
    return exp.column(exp.to_identifier(name, quoted=True))


class Translator:
    """Trees over rows whose fields have been made columns: `columns` has the column of each field and of each window that has been computed
    already, `inline` the trees that are said in place; `column` says a column of the origin. Where `overall` holds, what a group formula
    orders or partitions groups by is null: all rows are one group.

    With `guarded`, a division by zero is null, as it is here; else the database stops at it. `dialect` is the database that is spoken to.
    """

    def __init__(
        self, columns: dict[Any, exp.Expression], inline: Mapping[str, c.TypedNode], column: Callable[[str], exp.Expression], *,
        guarded: bool = False, dialect: SqlDialect = POSTGRESQL,
    ) -> None:  # fmt: skip
        self.column, self.dialect = column, dialect
        self.columns, self.inline, self.guarded = columns, inline, guarded
        self.overall = False

    def expression(self, node: c.TypedNode) -> exp.Expression:
        """A tree, in parentheses where it is part of another. Raises NotSaid."""
        if isinstance(node, (c.Call, c.Aggregate, c.Window)) and node.function.name in self.dialect.refused:
            raise self._refusal(node.function.name, self.dialect.refused[node.function.name])
        if node.type.kind not in self.dialect.kinds:
            raise self._refusal(f"A {node.type.kind}", self.dialect.wrong_kind)
        if isinstance(node, c.Constant):
            return literal(node.value, node.type)
        if node in self.columns:
            return self.columns[node].copy()
        if isinstance(node, c.FieldRef):
            return self.columns[node.name].copy() if node.name in self.columns else self._inner(self.inline[node.name])
        if isinstance(node, c.ColumnRef):
            return self.column(node.column)
        if isinstance(node, c.Case):
            case = exp.Case()
            for branch in node.branches:
                case = case.when(self._inner(branch.condition), self._inner(branch.value), copy=False)
            return case.else_(self._inner(node.otherwise), copy=False)
        if isinstance(node, c.Call):
            return self._call(node)
        if isinstance(node, c.Aggregate):
            return self._aggregate(node)
        if isinstance(node, c.Window):
            return self._window(node)
        raise NotSaid("BEFORE", "the earlier state is kept here")

    def _inner(self, node: c.TypedNode) -> exp.Expression:
        expression = self.expression(node)
        plain = (exp.Column, exp.Literal, exp.Func, exp.Paren, exp.Cast, exp.Case, exp.Null, exp.Boolean)
        return (
            expression
            if isinstance(expression, plain) and not isinstance(expression, exp.Connector)
            else exp.paren(expression, copy=False)
        )

    # -- calls -------------------------------------------------------------------------------------------

    def _call(self, node: c.Call) -> exp.Expression:
        name = node.function.name
        if name == "INTERVAL":
            amount, unit = node.extra
            expression: exp.Expression = exp.Add(this=self._inner(node.args[0]), expression=_interval(amount, unit))
            return cast(exp.paren(expression), sql_type(node.type)) if node.type.kind == "date" else expression
        if name in ("EXTRACT", "DATE_TRUNC"):
            unit = node.args[0].value if isinstance(node.args[0], c.Constant) else ""
            return cast(
                self._filled(self._template(f"{name} {str(unit).upper()}", ()), name, node.args), sql_type(node.type)
            )
        if name == "LIKE" and len(node.args) > 2:
            if not isinstance(node.args[2], c.Constant):
                raise NotSaid("LIKE", "its escape character must be a constant")
            like = exp.Like(this=self._inner(node.args[0]), expression=self._inner(node.args[1]))
            return exp.Escape(this=like, expression=self.expression(node.args[2]))
        how = self.dialect.reads_texts
        if how is not None and (
            name == "PLAIN_NUMBER" or (name == "CAST" and node.args[0].type.kind == "text" != node.type.kind)
        ):
            if how.stops and self.guarded:
                raise self._refusal(name, "nothing reads a text and goes on where it cannot")
            template = plain_number(node, how) if name == "PLAIN_NUMBER" else cast_template(node.extra, how)
            if template is None:
                raise NotSaid("CAST", "its date template has more than digits in it")
            return self._filled(template, name, node.args[:1])
        if name == "CAST" and node.extra.template:
            return self._by_template(node)
        if name == "CAST":
            expression = self._filled(
                self._template(f"CAST {node.args[0].type.kind} {node.type.kind}", node.args), name, node.args
            )
            digits = f"DECIMAL({node.extra.precision}, {node.type.scale})"  # more of them are a fault
            kind = exp.DataType.build(digits, dialect=DIALECT) if node.type.kind == "decimal" else sql_type(node.type)
            return cast(expression.this, kind) if isinstance(expression, exp.Cast) else expression
        if name == "CONCAT":
            return self._filled(self._template(name, node.args), name, tuple(map(_as_text, node.args)))
        same = node.type if name in ("GREATEST", "LEAST", "COALESCE") and node.type.kind == "decimal" else None
        expression = self._filled(self._template(name, node.args), name, node.args, same)
        # a product has more decimals than the language keeps
        return (
            cast(exp.paren(expression), sql_type(node.type))
            if name == "*" and node.type.kind == "decimal"
            else expression
        )

    def _by_template(self, node: c.Call) -> exp.Expression:
        """A date as text. Only elements of digits: names of months and days are written in another case."""
        write, elements, quote = self.dialect.dates or ("", {}, "")
        pieces = template(node.extra.template).pieces
        stray = next(
            (piece for piece in pieces if piece.name not in elements if piece.name or quote in piece.written), None
        )
        if stray is not None or node.args[0].type.kind == "text":
            raise self._refusal(
                "CAST with a template", f"{stray.written if stray else 'a text'} is read in another way"
            )
        text = "".join(elements[piece.name] if piece.name else f"{quote}{piece.written}{quote}" for piece in pieces)
        return exp.Anonymous(this=write, expressions=[self._inner(node.args[0]), exp.Literal.string(text)])

    def _refusal(self, what: str, why: str) -> NotSaid:
        return NotSaid(what, f"in {self.dialect.title}, {why}")

    def _template(self, name: str, args: tuple[c.TypedNode, ...]) -> str:
        """The template of a call; the most particular entry counts."""
        kinds = [arg.type.kind for arg in args]
        first, count = kinds[0] if kinds else "", len(kinds)
        varying = any(not isinstance(arg, c.Constant) or arg.value is None for arg in args[1:])
        keys = (
            *((f"{name}:{first},varying",) if varying else ()),
            f"{name}:{first},{count}",
            f"{name}:{','.join(kinds)}",
            f"{name}:{first}",
            f"{name}{count}",
            f"{name},{count}",
            name,
        )
        for key in keys:
            if key in self.dialect.refused:
                raise self._refusal(name, self.dialect.refused[key])
            if key in self.dialect.said:
                return self.dialect.said[key]
        general = (" ".join(name.split()[:2]), name.partition(" ")[0], name.partition("_")[0])
        known = next((self.dialect.refused[one] for one in general if one in self.dialect.refused), None)
        raise self._refusal(name, known or f"nothing there is known to mean the same for {', '.join(kinds) or 'it'}")

    def _filled(
        self, template: str, name: str, args: tuple[c.TypedNode, ...], same: Type | None = None
    ) -> exp.Expression:
        """A template with its arguments; all of one type, if it is given."""
        inner: list[Any] = [
            self._inner(arg) if same is None else cast(self._inner(arg), sql_type(same)) for arg in args
        ]
        if self.guarded and name in ("/", "%", "DIV", "MOD"):
            inner[1] = exp.func("NULLIF", inner[1], exp.Literal.number(0), dialect=DIALECT)
        if f"{{{len(inner)}}}" in template:
            raise self._refusal(name, f"it is another thing with {len(inner)} arguments")
        names: dict[str, exp.Expression] = {f"__{at}": one for at, one in enumerate(inner)}
        text = template.replace("{all}", ", ".join(names)).replace("{rest}", ", ".join([*names][1:]))
        for at in range(len(inner)):
            text = text.replace(f"{{{at}}}", f"__{at}")
        tree: exp.Expression = _parsed(text).copy()
        if isinstance(tree, exp.Column):
            return names[tree.name]
        for column in list(tree.find_all(exp.Column)):
            if column.name in names:
                column.replace(names[column.name].copy())
        return tree

    # -- aggregates and windows --------------------------------------------------------------------------

    def _aggregate(self, node: c.Aggregate) -> exp.Expression:
        overall, self.overall = self.overall, False
        try:
            return self._of_rows(node)
        finally:
            self.overall = overall

    def _of_rows(self, node: c.Aggregate) -> exp.Expression:
        expression = self._percentile(node) or self._listed(node) or self._plain_aggregate(node)
        if node.where is not None:
            inner = expression.this if isinstance(expression, exp.Cast) else expression
            filtered = exp.Filter(this=inner.copy(), expression=exp.Where(this=self._inner(node.where)))
            expression = cast(filtered, expression.to) if isinstance(expression, exp.Cast) else filtered
        exact = node.type.kind in ("integer", "decimal") and node.function.name == "SUM"
        return cast(expression, sql_type(node.type)) if exact else expression

    def _plain_aggregate(self, node: c.Aggregate | c.Window) -> exp.Expression:
        name = node.function.name
        expression = self._filled(self._template(name, node.args), name, node.args)
        if isinstance(node, c.Aggregate) and node.distinct and name not in ("MIN", "MAX", "BOOL_AND", "BOOL_OR"):
            function = expression.this if isinstance(expression, exp.Cast) else expression
            function.set("this", exp.Distinct(expressions=[function.this]))
        return expression

    def _percentile(self, node: c.Aggregate) -> exp.Expression | None:
        name = node.function.name
        if name not in ("MEDIAN", "PERCENTILE_CONT", "PERCENTILE_DISC"):
            return None
        if node.distinct:
            raise self._refusal(f"{name}(DISTINCT …)", "there is none")
        share = node.args[0].value if name != "MEDIAN" and isinstance(node.args[0], c.Constant) else "0.5"
        keys = [self._ordered(key) for key in node.order] or [
            exp.Ordered(this=self._inner(node.args[0]), nulls_first=False)
        ]
        if "PERCENTILE" in self.dialect.said:
            rest = str(1 - Decimal(str(share))) if keys[0].args.get("desc") else str(share)
            values = cast(keys[0].this, "DOUBLE PRECISION")
            return exp.Anonymous(this="PERCENTILE", expressions=[values, exp.Literal.number(rest)])
        if name != "PERCENTILE_DISC":  # computed in numbers
            keys[0].set("this", cast(keys[0].this, "DOUBLE PRECISION"))
        function = (
            exp.PercentileDisc(this=exp.Literal.number(str(share)))
            if name == "PERCENTILE_DISC"
            else exp.PercentileCont(this=exp.Literal.number(str(share)))
        )
        return exp.WithinGroup(this=function, expression=exp.Order(expressions=keys))

    def _listed(self, node: c.Aggregate) -> exp.Expression | None:
        if node.function.name != "LISTAGG":
            return None
        value, *rest = (self._inner(arg) for arg in node.args)
        keys = [self._ordered(key) for key in node.order]
        if node.distinct:
            if [*map(meaning, node.args[:1])] != [meaning(key.key) for key in node.order]:
                raise self._refusal("LISTAGG(DISTINCT …)", "it is ordered by its own values only")
            value = exp.Distinct(expressions=[keys[0].this.copy()])
        order = exp.Order(this=value, expressions=keys) if keys else value
        return exp.GroupConcat(this=order, separator=rest[0] if rest else exp.Literal.string(","))

    def _ordered(self, key: c.OrderKey) -> exp.Ordered:
        value = self._key(key.key)
        if key.key.type.kind == "text":
            value = exp.Collate(this=value, expression=exp.to_identifier("C", quoted=True))
        return exp.Ordered(this=value, desc=key.descending, nulls_first=key.nulls_first)

    def _key(self, node: c.TypedNode) -> exp.Expression:
        """What is ordered or partitioned by."""
        return literal(None, node.type) if self.overall and node.grain == Grain.ROW else self._inner(node)

    def _window(self, node: c.Window) -> exp.Expression:
        if node.distinct or node.function.name == "MEDIAN" or node.function.ordered:
            raise self._refusal(f"{node.function.name} before OVER", "it has no windows of distinct values, medians or percentiles")  # fmt: skip
        if node.where is not None:  # as values that are null elsewhere: not every place has filters in windows
            given = node.args or (c.Constant(node.start, node.end, INTEGER, Grain.CONSTANT, 1),)
            node = replace(node, args=tuple(filtered(one, node.where) for one in given), where=None)
        function = self._plain_aggregate(node)
        kept_type = function.to if isinstance(function, exp.Cast) else None
        inner: exp.Expression = function.this if isinstance(function, exp.Cast) else function
        order = exp.Order(expressions=[self._ordered(key) for key in node.order]) if node.order else None
        bounds = (node.frame.low, node.frame.high) if node.frame is not None else ()
        units = {
            bound[1].upper() in ("YEAR", "MONTH") for bound in bounds if bound is not None and bound[0] and bound[1]
        }
        if self.dialect.plain_windows and len(units) > 1:
            raise self._refusal("The frame of a window", "both of its ends are in months and years, or neither")
        expression: exp.Expression = exp.Window(
            this=inner,
            partition_by=[self._key(one) for one in node.partition],
            order=order,
            spec=_frame(node.frame),
            over="OVER",
        )
        if kept_type is not None:
            return cast(expression, kept_type)
        exact = node.type.kind in ("integer", "decimal")
        return cast(expression, sql_type(node.type)) if exact else expression


def _as_text(node: c.TypedNode) -> c.TypedNode:
    """A value as text, by the cast that is said or refused as any other."""
    function = casts.cast(node.type, TEXT)
    if node.type.kind in ("text", "null") or function is None:
        return node
    return c.Call(node.start, node.end, TEXT, node.grain, function, (node,), casts.CastTo(TEXT))


def _interval(amount: int, unit: str) -> exp.Expression:
    return exp.Interval(this=exp.Literal.string(str(amount)), unit=exp.var(unit))


def _frame(frame: c.FrameSpec | None) -> exp.WindowSpec | None:
    if frame is None:
        return None
    ends: dict[str, Any] = {}
    for name, bound, side in (("start", frame.low, "PRECEDING"), ("end", frame.high, "FOLLOWING")):
        if bound is None:
            ends |= {name: "UNBOUNDED", f"{name}_side": side}
        elif not bound[0]:
            ends |= {name: "CURRENT ROW"}
        else:
            amount, unit = bound
            size: Any = _interval(abs(amount), unit) if unit else exp.Literal.number(str(abs(amount)))
            ends |= {name: size, f"{name}_side": "PRECEDING" if amount < 0 else "FOLLOWING"}
    return exp.WindowSpec(kind=frame.unit, **ends)
