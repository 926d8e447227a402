"""A definition made ready: every field, constant and filter bound and typed, each after those that it needs."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

from oak_ledger.definition.model import ConstantSpec, FieldSpec, FilterSpec, read_type
from oak_ledger.engine import Expression
from oak_ledger.errors import Finding, Place
from oak_ledger.formula import Grain, Known, Parsed, Type, check, nodes, parse
from oak_ledger.formula import checked as c
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.formula.calls import BEFORE
from oak_ledger.formula.clock import CLOCKS
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.functions.casts import CastTo
from oak_ledger.origin.evidence import SPACES
from oak_ledger.types import BOOLEAN, MAX_DIGITS, TEXT, cast_name

VALUE = "VALUE"
AnySpec = FieldSpec | ConstantSpec | FilterSpec


@dataclass(frozen=True, slots=True)
class ResolvedName:
    """One name of a source, made ready. `expression` is None where it is broken, and `findings` say why."""

    name: str
    spec: AnySpec
    what: str
    expression: Expression | None
    findings: tuple[Finding, ...]
    uses: tuple[str, ...]
    tree: nodes.Node | None = None

    @property
    def type(self) -> Type | None:
        """The type of its values; None where it is broken."""
        return None if self.expression is None else self.expression.checked.type

    @property
    def type_name(self) -> str:
        """Its type as messages and tables show it: as the definition declares it, else that of the values; empty where it is broken."""
        if self.type is None:
            return ""
        declared = self.spec.type if isinstance(self.spec, FieldSpec) and not self.spec.clean else ""
        return declared if declared and read_type(declared)[0] == self.type else str(self.type)

    @property
    def grain(self) -> Grain:
        """What one value belongs to; a broken name counts as one per row."""
        return Grain.ROW if self.expression is None else self.expression.checked.grain

    @property
    def broken(self) -> bool:
        """Whether it cannot be computed."""
        return self.expression is None

    @property
    def own_fault(self) -> bool:
        """Whether it is broken by itself and not only through another field."""
        return any(finding.code != "broken-field" for finding in self.findings if finding.severity == "error")

    @property
    def hidden(self) -> bool:
        """Whether report builders do not get it."""
        return isinstance(self.spec, FieldSpec) and self.spec.hidden

    @property
    def format(self) -> str:
        """How its values are shown."""
        return self.spec.format if isinstance(self.spec, FieldSpec) else ""


@dataclass(slots=True)
class SymbolTable:
    """The names of a source, for the checker."""

    states: Mapping[str, ResolvedName]
    columns: Mapping[str, str]
    extra: Mapping[str, Known] = field(default_factory=dict)
    baseline: tuple[str, ...] | None = None
    reader: bool = False

    def find(self, name: str) -> Known | None:
        """What a name means."""
        key = name.casefold()
        if key in self.extra:
            return self.extra[key]
        state = self.states.get(key)
        if state is None or (self.reader and state.hidden):
            return None
        spec = state.spec
        template = spec.template if isinstance(spec, FieldSpec) else ""
        fixed = (spec.value,) if isinstance(spec, ConstantSpec) and spec.value is not None else ()
        return Known(state.name, state.type, state.grain, state.what, template, fixed)

    def names(self) -> Iterable[str]:
        """All names."""
        seen = [state.name for state in self.states.values() if not (self.reader and state.hidden)]
        return [*(known.name for known in self.extra.values()), *seen]

    def baseline_key(self) -> tuple[str, ...] | None:
        """The source's key where there is a baseline."""
        return self.baseline

    def advice(self, name: str) -> str:
        """A column is named by its field; of what is hidden nothing is said to who only reads."""
        taken = self.columns.get(name.casefold())
        known = self.states.get((taken or "").casefold())
        if known is not None and self.reader and known.hidden:
            return ""
        return f"The column {name} is the field {quote_identifier(taken)}." if taken else ""


@dataclass(frozen=True, slots=True)
class Compiled:
    """All names of a source by casefold, and every expression by name, the inner ones of plain fields included."""

    states: Mapping[str, ResolvedName]
    expressions: Mapping[str, Expression]
    columns: Mapping[str, str]
    origin_schema: Mapping[str, Type]
    recoding: Mapping[str, str] = field(default_factory=dict)
    parsed: Mapping[str, Parsed] = field(default_factory=dict)
    """Each formula that was read, by its text."""
    baseline: tuple[str, ...] | None = None
    """The source's key where a baseline is given, else None."""
    readings: Mapping[str, tuple[str, str, str]] = field(default_factory=dict)
    """Each expression that reads a column, by its name: the column, the formula over VALUE that reads it (may be empty), the field."""

    def scope(self, extra: Mapping[str, Known] | None = None, *, reader: bool = False) -> SymbolTable:
        """The names that a formula over this source may use; with `reader` without hidden fields."""
        return SymbolTable(self.states, self.columns, extra or {}, self.baseline, reader)


def resolve_names(
    specs: Sequence[AnySpec],
    origin_schema: Mapping[str, Type],
    *,
    ready: bool = False,
    where: str = "",
    recoding: Mapping[str, str] | None = None,
    earlier: Compiled | None = None,
    baseline: tuple[str, ...] | None = None,
    refused: Mapping[str, str] | None = None,
) -> Compiled:
    """Make every name ready. `arriving` are the origin's columns with their types, `refused` those that are not read, and why.

    `recoding` has a formula over VALUE for each field with a recode list. With `ready`, row values have been computed before (a published source): each is the column of its own name.
    Of `earlier`, the source before an edit, everything is reused that the edit does not reach.
    """
    work = _Compiler(origin_schema, ready, where, recoding or {}, refused or {})
    kept = _Kept(earlier, work) if earlier is not None and _is_like(earlier, origin_schema, specs, baseline) else None
    by_key = {spec.name.casefold(): spec for spec in specs}
    columns = {spec.column.casefold(): spec.name for spec in specs if isinstance(spec, FieldSpec) and spec.column}
    known = earlier.parsed if earlier is not None else {}
    texts = {key: _formula_of(spec) for key, spec in by_key.items()}
    parsed = {key: known.get(text) or parse(text) for key, text in texts.items() if text}
    needs = {
        key: [name for name in _names_in(one, baseline or ()) if name in by_key and not _own(by_key[key], name)]
        for key, one in parsed.items()
    }
    order, cycles = _ordered(by_key, needs)
    names = SymbolTable(work.states, columns, {}, baseline)
    for key in order:
        spec = by_key[key]
        place = Place(where, _what(spec) if where else "", spec.name)
        uses = [by_key[one].name for one in needs.get(key, ())]
        if kept is not None and key not in cycles and kept.takes(spec, uses):
            continue
        if key in cycles:
            work.cycle(spec, [by_key[one].name for one in cycles[key]], place)
        elif isinstance(spec, FieldSpec) and spec.column:
            work.plain(spec, names, uses, place)
        else:
            work.formula(spec, parsed[key], names, uses, place)
    states = {key: work.states[key] for key in by_key}
    read = {texts[key]: one for key, one in parsed.items()}
    return Compiled(states, work.expressions, columns, origin_schema, work.recoding, read, baseline, work.readings)


def _is_like(
    earlier: Compiled, origin_schema: Mapping[str, Type], specs: Sequence[AnySpec], baseline: tuple[str, ...] | None
) -> bool:
    """Whether columns, the key of the baseline, and names that hide a word of the language, are as they were."""
    now = {spec.name.casefold() for spec in specs}
    return (earlier.origin_schema, earlier.baseline) == (origin_schema, baseline) and not any(
        (word.casefold() in earlier.states) != (word.casefold() in now) for word in CLOCKS
    )


@dataclass(slots=True)
class _Kept:
    """Reuses what an edit does not reach: names that say the same as before, and whose needs were reused themselves."""

    earlier: Compiled
    work: _Compiler
    same: set[str] = field(default_factory=set)

    def takes(self, spec: AnySpec, uses: Sequence[str]) -> bool:
        """Take a name over, if that can be done."""
        before = self.earlier.states.get(spec.name.casefold())
        if (
            before is None
            or before.broken
            or before.findings
            or before.spec != spec
            or before.uses != tuple(uses)
            or not all(name in self.same for name in uses)
            or self.earlier.recoding.get(spec.name) != self.work.recoding.get(spec.name)
        ):
            return False
        self.same.add(spec.name)
        self.work.keep(before)
        steps = (f"{spec.name}\0column", *(f"{spec.name}\0step {at}" for at in range(3)))
        found = self.earlier.expressions
        self.work.expressions |= {name: found[name] for name in steps if name in found}
        known = self.earlier.readings
        self.work.readings |= {name: known[name] for name in (spec.name, *steps) if name in known}
        return True


def _names_in(parsed: Parsed, key: Sequence[str]) -> Iterable[str]:
    """The names that a formula needs, in casefold; for BEFORE those of the key, too."""
    if key and any(isinstance(node, nodes.Call) and node.name == BEFORE for node in nodes.walk(parsed.tree)):
        return dict.fromkeys([*parsed.names, *(name.casefold() for name in key)])
    return parsed.names


def _own(spec: AnySpec, name: str) -> bool:
    """Whether a name in a clean means the field's own value, or would."""
    return isinstance(spec, FieldSpec) and bool(spec.column) and name in (VALUE.casefold(), spec.name.casefold())


def _what(spec: AnySpec) -> str:
    if isinstance(spec, FieldSpec):
        return "field"
    return "constant" if isinstance(spec, ConstantSpec) else "filter"


def _formula_of(spec: AnySpec) -> str:
    """The formula text of a spec, for a plain field what cleans it; empty where there is none."""
    if isinstance(spec, FieldSpec):
        return spec.formula or spec.clean
    if isinstance(spec, FilterSpec):
        return spec.where
    if spec.value is not None:
        return literal_text(spec.value)
    since = sorted(spec.values.items(), reverse=True)
    cases = " ".join(
        f"WHEN {quote_identifier(spec.by)} >= DATE '{date}' THEN {literal_text(value)}" for date, value in since
    )
    return f"CASE {cases} END"


def literal_text(value: Any) -> str:
    """A value as a formula writes it."""
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, str):
        return quote_literal(value)
    if isinstance(value, dt.datetime):
        return f"TIMESTAMP '{value.isoformat(' ')}'"
    if isinstance(value, dt.date):
        return f"DATE '{value.isoformat()}'"
    return format(value, "f") if isinstance(value, Decimal) else str(value)


def _ordered(specs: Mapping[str, AnySpec], needs: Mapping[str, list[str]]) -> tuple[list[str], dict[str, list[str]]]:
    """Names in an order in which each comes after those it needs, and for each name of a cycle the cycle's path."""
    order: list[str] = []
    cycles: dict[str, list[str]] = {}
    state: dict[str, int] = {}  # 1: being looked at, 2: done
    for first in specs:
        if state.get(first):
            continue
        path: list[tuple[str, Iterator[str]]] = [(first, iter(needs.get(first, ())))]
        state[first] = 1
        while path:
            name, rest = path[-1]
            inner = next(rest, None)
            if inner is None:
                path.pop()
                state[name] = 2
                order.append(name)
            elif state.get(inner) == 1:
                members = [one for one, _ in path]
                loop = members[members.index(inner) :]
                for member in loop:
                    cycles.setdefault(member, [*loop, inner])
            elif inner not in state:
                state[inner] = 1
                path.append((inner, iter(needs.get(inner, ()))))
    return order, cycles


class _Compiler:
    def __init__(
        self,
        origin_schema: Mapping[str, Type],
        ready: bool,
        where: str,
        recoding: Mapping[str, str],
        refused: Mapping[str, str],
    ) -> None:
        self.origin_schema, self.ready, self.where, self.recoding = origin_schema, ready, where, recoding
        self.refused = refused
        self.states: dict[str, ResolvedName] = {}
        self.expressions: dict[str, Expression] = {}
        self.readings: dict[str, tuple[str, str, str]] = {}

    def keep(self, state: ResolvedName) -> None:
        self.states[state.name.casefold()] = state
        if state.expression is not None:
            self.expressions[state.name] = state.expression

    def cycle(self, spec: AnySpec, path: Sequence[str], place: Place) -> None:
        shown = " → ".join(path)
        finding = Finding(
            "cycle", f"{spec.name} depends on itself: {shown}.", place, "Take one of these references out."
        )
        self.keep(ResolvedName(spec.name, spec, _what(spec), None, (finding,), tuple(path[:-1])))

    def formula(self, spec: AnySpec, parsed: Parsed, names: SymbolTable, uses: Sequence[str], place: Place) -> None:
        """A calculated field, a constant or a filter."""
        formula = check(parsed, names, place=place)
        tree, findings = formula.checked, list(formula.findings)
        if tree is not None and isinstance(spec, FilterSpec) and (tree.type != BOOLEAN or tree.grain == Grain.GROUP):
            message = f"A filter is a condition on a row; this is {tree.type} per {tree.grain}."
            findings.append(Finding("condition-wanted", message, place.in_text(parsed.text, 0, len(parsed.text))))
            tree = None
        if tree is not None and self.ready and tree.grain == Grain.ROW and spec.name in self.origin_schema:
            tree = c.ColumnRef(0, 0, tree.type, Grain.ROW, spec.name)
        expression = None if tree is None else Expression(spec.name, parsed.text, tree)
        what = "calculated field" if isinstance(spec, FieldSpec) else _what(spec)
        self.keep(ResolvedName(spec.name, spec, what, expression, tuple(findings), tuple(uses), parsed.tree))

    def plain(self, spec: FieldSpec, names: SymbolTable, uses: Sequence[str], place: Place) -> None:
        """A column: read into its type, then cleaned."""
        if self.ready:
            kind = self.origin_schema.get(spec.name)
            ref = c.ColumnRef(0, 0, kind or TEXT, Grain.ROW, spec.name)
            ready = None if kind is None else Expression(spec.name, spec.name, ref)
            self.keep(ResolvedName(spec.name, spec, "field", ready, (), tuple(uses)))
            return
        origin_schema = self.origin_schema.get(spec.column)
        if origin_schema is None:
            why = self.refused.get(spec.column)
            message = f"Column {spec.column!r} {f'cannot be read: it {why}' if why else 'is missing from the origin'}."
            hint = "" if why else nearest_hint(spec.column, self.origin_schema, str)
            finding = Finding("missing-column", message, place, hint)
            self.keep(ResolvedName(spec.name, spec, "field", None, (finding,), tuple(uses)))
            return
        column = f"{spec.name}\0column"
        self.expressions[column] = Expression(
            spec.name, spec.column, c.ColumnRef(0, 0, origin_schema, Grain.ROW, spec.column)
        )
        value = Known(column, origin_schema, Grain.ROW)
        reading = reading_formula(spec, origin_schema)
        if not reading:
            self.readings[column] = (spec.column, "", spec.name)
        steps = [text for text in (reading, self.recoding.get(spec.name, ""), spec.clean) if text]
        expression = Expression(spec.name, VALUE, c.FieldRef(0, 0, origin_schema, Grain.ROW, column))
        findings: tuple[Finding, ...] = ()
        for at, text in enumerate(steps):
            formula = check(text, SymbolTable(self.states, {}, {"value": value}), place=place)
            findings = formula.findings
            if formula.checked is None or formula.checked.grain == Grain.GROUP:
                if not findings:
                    findings = (
                        Finding(
                            "grain-mixed",
                            "A clean has one value per row; aggregates do not go here.",
                            place.in_text(text, 0, 0),
                        ),
                    )
                break
            # a fault of reading has the value as it arrived, under the field's name
            tree = _exactly(formula.checked, spec) if text == reading else formula.checked
            expression = Expression(spec.name, "" if text == reading else text, tree)
            step = f"{spec.name}\0step {at}" if at + 1 < len(steps) else spec.name
            if text == reading and not findings:
                self.readings[step] = (spec.column, reading, spec.name)
            if at + 1 < len(steps):
                self.expressions[step] = expression
                value = Known(step, formula.checked.type, Grain.ROW)
        self.keep(ResolvedName(spec.name, spec, "field", None if findings else expression, findings, tuple(uses)))


def _exactly(tree: c.TypedNode, spec: FieldSpec) -> c.TypedNode:
    """The cast with which a column of texts or decimals is read, so that nothing of it gets lost."""
    if isinstance(tree, c.Call) and isinstance(tree.extra, CastTo) and tree.args[0].type.kind in ("text", "decimal"):
        return replace(tree, extra=replace(tree.extra, exact=True, label=spec.role == "dimension"))
    return tree


def recoding_formula(values: Mapping[str, str]) -> str:
    """A recode list as a formula over VALUE: what is in the list is replaced, the rest stays."""
    cases = " ".join(f"WHEN {quote_literal(found)} THEN {quote_literal(meant)}" for found, meant in values.items())
    return f"CASE {VALUE} {cases} ELSE {VALUE} END" if cases else ""


def reading_formula(spec: FieldSpec, origin_schema: Type) -> str:
    """How a column's values are read into the field's type, as a formula over VALUE; empty where they stay as they are."""
    if not spec.type:
        return ""
    target, precision = read_type(spec.type)
    text = VALUE
    if origin_schema == TEXT:
        if spec.null_words:
            words = ", ".join(quote_literal(word) for word in spec.null_words)
            text = f"CASE WHEN BTRIM({VALUE}, {quote_literal(SPACES)}) IN ({words}) THEN NULL ELSE {VALUE} END"
        if target == TEXT:
            return "" if text == VALUE else text
        text = f"NULLIF(BTRIM({text}, {quote_literal(SPACES)}), '')"
        if spec.thousands_mark or spec.decimal_mark != ".":
            text = f"PLAIN_NUMBER({text}, {quote_literal(spec.decimal_mark)}, {quote_literal(spec.thousands_mark)})"
    elif origin_schema == target:
        return ""
    given = f" FORMAT {quote_literal(spec.template)}" if spec.template and TEXT in (origin_schema, target) else ""
    return f"CAST({text} AS {cast_name(target, min(precision, MAX_DIGITS))}{given})"
