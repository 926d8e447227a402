"""What is right by its form and misleads over these rows: an order that leaves ties, nulls that a condition leaves out, ends at midnight, currencies added up."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass

from oak_ledger.definition.model import FieldSpec, FilterSpec
from oak_ledger.errors import Finding, Place
from oak_ledger.explain.why import conditions_of
from oak_ledger.formula import Grain, parse
from oak_ledger.formula import nodes as n
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.insight.additivity import AdditivityAnalysis
from oak_ledger.insight.branches import calculated
from oak_ledger.insight.probes import Probe, TemporaryFields, Values, format_number, judged, place_of
from oak_ledger.source.source import Source
from oak_ledger.types import Type

OTHER_ROWS = 0.05  # by how much a ratio must differ over the rows that have both values
ORDERED = frozenset({"LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE", "ROW_NUMBER", "NTILE"})
CURRENCIES = ("AED", "ARS", "AUD", "BGN", "BRL", "CAD", "CHF", "CLP", "CNY", "COP", "CZK", "DKK", "EGP", "EUR", "GBP", "HKD", "HUF", "IDR", "ILS", "INR", "ISK", "JPY", "KES", "KRW", "MAD", "MXN", "MYR", "NGN", "NOK", "NZD", "PEN", "PHP", "PKR", "PLN", "RON", "RSD", "RUB", "SAR", "SEK", "SGD", "THB", "TRY", "TWD", "UAH", "USD", "VND", "ZAR")  # fmt: skip
_SHARE = re.compile(r"(?i)%|\b(percent|percentage|pct|share|rate|ratio|anteil|quote|taux|part)\b")
_NUMBER = re.compile(r"[+-]?\d+([.,]\d+)?")


@dataclass(frozen=True, slots=True)
class _Written:
    """A formula of the source: whose it is, where, and what it says; whether rows are left out by it."""

    name: str
    entry: Place
    text: str
    tree: n.Node
    chooses: bool

    def place(self, node: n.Node) -> Place:
        """The place of a piece."""
        return self.entry.in_text(self.text, node.start, node.end)

    def says(self, node: n.Node) -> str:
        """A piece as it is written."""
        return self.text[node.start : node.end]


def hazard_probes(source: Source, helpers: TemporaryFields, only: Collection[str] | None = None) -> Iterator[Probe]:
    """The suspicions that the formulas and filters of a source give rise to, or `only` some of its fields."""
    written = [_Written(state.name, place_of(source, state), text, tree, chooses=False) for state, text, tree in calculated(source, only)]  # fmt: skip
    for model in source.document.models("filter", FilterSpec) if only is None else ():
        if source.check_formula(model.where).checked is not None:
            where = source.document.place("filter", model.name)
            written.append(
                _Written(f"The filter {model.name!r}", where, model.where, parse(model.where).tree, chooses=True)
            )
    for formula in written:
        joined: set[n.Node] = set()  # pieces of a longer chain of ||
        for node in n.walk(formula.tree):
            if isinstance(node, n.Binary) and node.op == "||":
                joined |= {node.left, node.right}
                yield from () if node in joined else _emptied(source, formula, node)
            yield from _of_node(source, helpers, formula, node)
    if only is None:
        yield from _currencies(source)


def _of_node(source: Source, helpers: TemporaryFields, formula: _Written, node: n.Node) -> Iterator[Probe]:
    if isinstance(node, n.Call) and node.over is not None and node.over.order and node.name in ORDERED:
        yield from _ties(source, helpers, formula, node, node.over)
    if isinstance(node, n.Call) and node.name == "LAST_VALUE" and node.over and node.over.order and not node.over.frame:
        yield from _last(source, helpers, formula, node)
    if isinstance(node, n.Binary) and node.op in ("=", "<>"):
        yield from _nearly_equal(source, formula, node)
    if isinstance(node, n.Call) and node.name == "SUM" and node.over is None and len(node.args) == 1:
        yield from _distinct_added(source, formula, node)
    if isinstance(node, n.Call) and node.name == "AVG" and node.over is None and len(node.args) == 1:
        yield from _shares_averaged(source, formula, node)
    if isinstance(node, n.Binary) and node.op == "/":
        yield from _sums_of_other_rows(source, formula, node)
    if formula.chooses and isinstance(node, (n.Binary, n.In, n.Like)):
        yield from _nulls(source, formula, node)
    if isinstance(node, n.Between) and not node.negated:
        yield from _midnight(source, formula, node.operand, node.high)
    if isinstance(node, n.Binary) and node.op == "<=":
        yield from _midnight(source, formula, node.left, node.right)
    if isinstance(node, n.Binary) and node.op in ("<", ">", "<=", ">="):
        yield from _as_texts(source, formula, node)


def left_out_findings(source: Source, conditions: Sequence[str]) -> list[Finding]:
    """The rows that conditions of a question leave out only because a value is null. Asks the rows only where a condition says what a value is not."""
    parts = [(condition, source.check_formula(condition).checked) for condition in conditions_of(source, conditions)]
    text = " AND ".join(f"({one})" for one, checked in parts if checked is not None and checked.grain == Grain.ROW)
    if not text:
        return []
    formula = _Written("", Place("the conditions"), text, parse(text).tree, chooses=True)
    nodes = [node for node in n.walk(formula.tree) if isinstance(node, (n.Binary, n.In, n.Like))]
    probes = [probe for node in nodes for probe in _nulls(source, formula, node)]
    return judged(source, probes, {})[1] if probes else []


def _row_type(source: Source, text: str) -> Type | None:
    """The type of a formula that has a value in each row; None for others."""
    checked = source.check_formula(text).checked
    return checked.type if checked is not None and checked.grain == Grain.ROW else None


def _ties(source: Source, helpers: TemporaryFields, formula: _Written, node: n.Call, over: n.Over) -> Iterator[Probe]:
    keys = [formula.says(node) for node in over.partition] + [formula.says(key.key) for key in over.order]
    if any(_row_type(source, key) is None for key in keys):
        return
    shown = ", ".join(formula.says(key.key) for key in over.order)
    count = helpers.calculated(f"COUNT(*) OVER (PARTITION BY {', '.join(keys)})")

    def judge(values: Values) -> Finding | None:
        if not values["ties"]:
            return None
        message = f"{formula.name}: {values['ties']:,} rows are alike in what {node.name} is ordered by, {shown}; which of them comes first is open."
        hint = "Add a field to ORDER BY that is different in every row, such as a number of the row's own."
        return Finding("order-leaves-ties", message, formula.place(node), hint, "warning", numbers={"rows": values["ties"]})  # fmt: skip

    yield Probe({"ties": f"COUNT(*) FILTER (WHERE {quote_identifier(count)} > 1)"}, judge)


def _last(source: Source, helpers: TemporaryFields, formula: _Written, node: n.Call) -> Iterator[Probe]:
    """The last value so far, where the last of all was meant."""
    own = formula.says(node)
    whole = f"{own[:-1]} ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING)"
    if _row_type(source, own) is None or not own.endswith(")"):
        return
    so_far, last = (quote_identifier(helpers.calculated(one)) for one in (own, whole))

    def judge(values: Values) -> Finding | None:
        if not values["others"]:
            return None
        message = f"{formula.name}: without a frame LAST_VALUE looks no further than the row itself and its ties; in {values['others']:,} rows that is not the last value of all."
        fixed = formula.text[: node.start] + whole + formula.text[node.end :]
        hint = "For the last of all: ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING."
        return Finding("frame-ends-here", message, formula.place(node), hint, "warning", fixed, {"rows": values["others"]})  # fmt: skip

    yield Probe({"others": f"COUNT(*) FILTER (WHERE {so_far} IS DISTINCT FROM {last})"}, judge)


def _nearly_equal(source: Source, formula: _Written, node: n.Binary) -> Iterator[Probe]:
    """Numbers with a floating point that miss a comparison by their last digits."""
    left, right = formula.says(node.left), formula.says(node.right)
    kinds = [_row_type(source, one) for one in (left, right)]
    if any(kind is None or not kind.numeric for kind in kinds) or "number" not in [kind.kind for kind in kinds if kind]:
        return

    def judge(values: Values) -> Finding | None:
        if not values["near"]:
            return None
        message = f"{formula.name}: {values['near']:,} rows miss {left} = {right} by less than a billionth of the number, as sums of binary fractions do."
        hint = (
            f"Make them decimals (oak field retype), or compare rounded: ROUND({left}, 6) {node.op} ROUND({right}, 6)."
        )
        return Finding("nearly-equal", message, formula.place(node), hint, "warning", numbers={"rows": values["near"]})

    yield Probe({"near": f"COUNT(*) FILTER (WHERE ({left}) <> ({right}) AND ABS(({left}) - ({right})) < 1e-9 * ABS({left}))"}, judge)  # fmt: skip


def _emptied(source: Source, formula: _Written, node: n.Binary) -> Iterator[Probe]:
    """A text that is null in most rows because a part of it is."""
    parts: list[n.Node] = []
    waiting: list[n.Node] = [node]
    while waiting:
        piece = waiting.pop()
        if isinstance(piece, n.Binary) and piece.op == "||":
            waiting += [piece.left, piece.right]
        elif not isinstance(piece, n.Literal):
            parts.append(piece)
    own, names = formula.says(node), [formula.says(part) for part in parts[::-1]]
    if not names or _row_type(source, own) is None or any(_row_type(source, name) is None for name in names):
        return

    def judge(values: Values) -> Finding | None:
        if not values["some"] or values["emptied"] < values["some"] / 2:
            return None
        most = max(names, key=lambda one: values[one])
        message = f"{formula.name} is null in {values['emptied']:,} of {values['rows']:,} rows, because {most} is: what is joined with null is null."
        hint = f"Join it as an empty text: COALESCE({most}, '')."
        return Finding("text-emptied", message, formula.place(node), hint, "warning", numbers={"rows": values["emptied"]})  # fmt: skip

    there = " OR ".join(f"({name}) IS NOT NULL" for name in names)
    formulas = {"rows": "COUNT(*)", "some": f"COUNT(*) FILTER (WHERE {there})", "emptied": f"COUNT(*) FILTER (WHERE ({own}) IS NULL AND ({there}))"}  # fmt: skip
    yield Probe(formulas | {name: f"COUNT(*) FILTER (WHERE ({name}) IS NULL)" for name in names}, judge)


def _sums_of_other_rows(source: Source, formula: _Written, node: n.Binary) -> Iterator[Probe]:
    """A ratio of sums of which one leaves out rows, for nulls, that the other counts."""
    sums = [one for one in (node.left, node.right) if isinstance(one, n.Call) and one.name == "SUM" and len(one.args) == 1 and not one.over and not one.where]  # fmt: skip
    if len(sums) < 2:
        return
    above, below = (formula.says(sum_.args[0]) for sum_ in sums)
    if above == below or _row_type(source, above) is None or _row_type(source, below) is None:
        return

    def judge(values: Values) -> Finding | None:
        left, right = values["above"], values["below"]
        if (not left and not right) or values["same"] is None or values["own"] is None:
            return None
        if abs(values["same"] - values["own"]) <= abs(values["own"]) * OTHER_ROWS:
            return None
        said = [f"{what} is null in {count:,} rows that count in {other}" for what, other, count in ((above, below, left), (below, above, right)) if count]  # fmt: skip
        message = f"{formula.name} divides sums of different rows: {' and '.join(said)}. It says {format_number(values['own'])}; over rows that have both it is {format_number(values['same'])}."
        hint = f"If null does not mean 0: {same}"
        return Finding("ratio-rows", message, formula.place(node), hint, "note", numbers={"own": values["own"], "same": values["same"]})  # fmt: skip

    first, second = (text if isinstance(call.args[0], n.Name) else f"({text})" for call, text in zip(sums, (above, below), strict=True))  # fmt: skip
    same = f"SUM({above}) FILTER (WHERE {second} IS NOT NULL) / SUM({below}) FILTER (WHERE {first} IS NOT NULL)"
    formulas = {"above": f"COUNT(*) FILTER (WHERE ({above}) IS NULL AND ({below}) IS NOT NULL)", "below": f"COUNT(*) FILTER (WHERE ({above}) IS NOT NULL AND ({below}) IS NULL)"}  # fmt: skip
    yield Probe({**formulas, "own": formula.says(node), "same": same}, judge)


def _distinct_added(source: Source, formula: _Written, node: n.Call) -> Iterator[Probe]:
    """Distinct counts added up, in which what is in several groups counts several times."""
    inner = node.args[0]
    counted = inner.inner if isinstance(inner, n.Per) else inner
    if (
        not isinstance(inner, n.Per)
        or not isinstance(counted, n.Call)
        or counted.name != "COUNT"
        or not counted.distinct
    ):
        return
    wrong, right = formula.says(node), formula.says(counted)

    def judge(values: Values) -> Finding | None:
        if values["wrong"] is None or values["wrong"] == values["right"]:
            return None
        message = f"{formula.name} adds up distinct counts: what is in several groups counts several times. {wrong} says {format_number(values['wrong'])}; {right} says {format_number(values['right'])}."
        fixed = formula.text[: node.start] + right + formula.text[node.end :]
        return Finding("distinct-added", message, formula.place(node), f"For how many there are in all: {right}", "warning", fixed, {"wrong": values["wrong"], "right": values["right"]})  # fmt: skip

    yield Probe({"wrong": wrong, "right": right}, judge)


def _shares_averaged(source: Source, formula: _Written, node: n.Call) -> Iterator[Probe]:
    """Percentages of rows of different weight, averaged as if all weighed the same."""
    own = formula.says(node.args[0])
    state = source.compiled.states.get(node.args[0].name.casefold()) if isinstance(node.args[0], n.Name) else None
    spec = state.spec if state is not None else None
    if state is None or not isinstance(spec, FieldSpec) or not spec.column or _row_type(source, own) is None:
        return
    if "%" not in spec.format and not _SHARE.search(state.name):
        return

    def judge(values: Values) -> Finding | None:
        if not values["values"] or values["least"] == values["most"]:
            return None
        message = (
            f"{formula.name} gives every row the same weight in averaging {own}, a share; rows may differ in weight."
        )
        hint = f"If they do: SUM({own} * weight) / SUM(weight), the weight being what {own} is a share of."
        return Finding("shares-averaged", message, formula.place(node), hint, "note")

    yield Probe({"values": f"COUNT({own})", "least": f"MIN({own})", "most": f"MAX({own})"}, judge)


def _nulls(source: Source, formula: _Written, node: n.Binary | n.In | n.Like) -> Iterator[Probe]:
    """Of a filter, conditions that say what a value is not: null is not left in by them."""
    operand = node.left if isinstance(node, n.Binary) else node.operand
    negated = node.op == "<>" if isinstance(node, n.Binary) else node.negated
    own = formula.says(operand)
    if not negated or not isinstance(operand, n.Name) or _row_type(source, own) is None:
        return

    def judge(values: Values) -> Finding | None:
        if not values["nulls"]:
            return None
        one = values["nulls"] == 1
        message = f"{formula.name}{': ' if formula.name else ''}{values['nulls']:,} row{'' if one else 's'} in which {own} is null {'is' if one else 'are'} left out as well by {formula.says(node)}."
        hint = f"If they are meant to stay: {own} IS DISTINCT FROM …, or OR {own} IS NULL."
        return Finding("nulls-left-out", message, formula.place(node), hint, "note", numbers={"rows": values["nulls"]})

    without = formula.text[: node.start] + "TRUE" + formula.text[node.end :]
    yield Probe({"nulls": f"COUNT(*) FILTER (WHERE {own} IS NULL AND ({without}) AND ({formula.text}) IS NOT TRUE)"}, judge)  # fmt: skip


def _midnight(source: Source, formula: _Written, operand: n.Node, end: n.Node) -> Iterator[Probe]:
    """A last day that is only its first moment."""
    midnight = isinstance(end, n.Literal) and (end.kind == "date" or (end.kind == "timestamp" and not any((end.value.hour, end.value.minute, end.value.second, end.value.microsecond))))  # fmt: skip
    own = formula.says(operand)
    kind = _row_type(source, own)
    if not midnight or not isinstance(end, n.Literal) or kind is None or kind.kind != "timestamp":
        return
    day = str(end.value)[:10]

    def judge(values: Values) -> Finding | None:
        if not values["later"]:
            return None
        message = f"{formula.name}: {formula.says(end)} is the beginning of that day; {values['later']:,} rows later on it are not meant by it."
        hint = f"Say what comes before the next day: {own} < DATE '{day}' + 1."
        return Finding("midnight-end", message, formula.place(end), hint, "warning", numbers={"rows": values["later"]})

    yield Probe({"later": f"COUNT(*) FILTER (WHERE {own} > DATE '{day}' AND {own} < DATE '{day}' + 1)"}, judge)


def _as_texts(source: Source, formula: _Written, node: n.Binary) -> Iterator[Probe]:
    """Numbers that are texts, compared letter by letter."""
    for operand, literal in ((node.left, node.right), (node.right, node.left)):
        own = formula.says(operand)
        if not isinstance(literal, n.Literal) or literal.kind != "text" or not _NUMBER.fullmatch(str(literal.value)):
            continue
        kind = _row_type(source, own)
        if kind is None or kind.kind != "text":
            continue

        def judge(values: Values, own: str = own, literal: n.Literal = literal) -> Finding | None:
            if not values["there"] or values["others"]:
                return None
            message = f"{formula.name}: {own} has numbers as texts, and is compared letter by letter: '9' is larger than '10'."
            hint = f"Compare numbers: CAST({own} AS NUMBER) {node.op} {literal.value}; or oak field retype."
            return Finding("text-order", message, formula.place(node), hint, "warning", numbers={"rows": values["there"]})  # fmt: skip

        yield Probe({"there": f"COUNT({own})", "others": f"COUNT(*) FILTER (WHERE NOT REGEXP_LIKE({own}, '^ *[+-]?[0-9]+([.,][0-9]+)? *$'))"}, judge)  # fmt: skip


def _currencies(source: Source) -> Iterator[Probe]:
    """Amounts that are added up although a field beside them has several currencies."""
    natures = AdditivityAnalysis(source)
    amounts = [
        state.name
        for state in source.shown_fields
        if isinstance(state.spec, FieldSpec) and state.type is not None and state.type.kind in ("decimal", "number") and state.spec.total in (None, "sum")
        and state.spec.role != "dimension" and natures.of_state(state).is_additive
    ]  # fmt: skip
    for state in source.shown_fields if amounts else ():
        if (
            state.type is None
            or state.type.kind != "text"
            or not re.search(r"(?i)curr|waehrung|währung|devise|moneda|valuta", state.name)
        ):
            continue
        own = quote_identifier(state.name)
        listed, where = ", ".join(quote_literal(one) for one in CURRENCIES), place_of(source, state)

        def judge(values: Values, name: str = state.name, place: Place = where) -> Finding | None:
            if (values["codes"] or 0) < 2 or values["others"]:
                return None
            message = f"{name} has {values['codes']} currencies, and {', '.join(amounts[:3])} is added up over them."
            hint = f"Group by {name}, or make amounts of one currency first; then total = 'none' for the others."
            return Finding("currencies-mixed", message, place, hint, "warning", numbers={"currencies": values["codes"]})

        yield Probe({"codes": f"COUNT(DISTINCT {own})", "others": f"COUNT(*) FILTER (WHERE UPPER(BTRIM({own})) NOT IN ({listed}))"}, judge)  # fmt: skip
