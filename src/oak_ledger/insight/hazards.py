"""What is right by its form and misleads over these rows: an order that leaves ties, nulls that a condition leaves out, ends at midnight, currencies added up."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from oak_ledger.definition.model import FieldSpec, FilterSpec
from oak_ledger.errors import Finding, Place
from oak_ledger.formula import Grain, parse
from oak_ledger.formula import nodes as n
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.insight.additivity import AdditivityAnalysis
from oak_ledger.insight.branches import calculated
from oak_ledger.insight.probes import Probe, TemporaryFields, Values, place_of
from oak_ledger.source.source import Source
from oak_ledger.types import Type

ORDERED = frozenset({"LAG", "LEAD", "FIRST_VALUE", "LAST_VALUE", "ROW_NUMBER", "NTILE"})
CURRENCIES = ("AED", "ARS", "AUD", "BGN", "BRL", "CAD", "CHF", "CLP", "CNY", "COP", "CZK", "DKK", "EGP", "EUR", "GBP", "HKD", "HUF", "IDR", "ILS", "INR", "ISK", "JPY", "KES", "KRW", "MAD", "MXN", "MYR", "NGN", "NOK", "NZD", "PEN", "PHP", "PKR", "PLN", "RON", "RSD", "RUB", "SAR", "SEK", "SGD", "THB", "TRY", "TWD", "UAH", "USD", "VND", "ZAR")  # fmt: skip
_NUMBER = re.compile(r"[+-]?\d+([.,]\d+)?")


@dataclass(frozen=True, slots=True)
class _Written:
    """A formula of the source: whose it is, where, and what it says; whether rows are left out by it."""

    name: str
    where: str
    text: str
    tree: n.Node
    chooses: bool

    def place(self, node: n.Node) -> Place:
        """The place of a piece."""
        return Place(self.where, self.text, node.start, node.end)

    def says(self, node: n.Node) -> str:
        """A piece as it is written."""
        return self.text[node.start : node.end]


def hazard_probes(source: Source, helpers: TemporaryFields) -> Iterator[Probe]:
    """The suspicions that the formulas and filters of a source give rise to."""
    written = [_Written(state.name, place_of(source, state).where, text, tree, chooses=False) for state, text, tree in calculated(source)]  # fmt: skip
    for one in source.document.models("filter", FilterSpec):
        if source.check_formula(one.where).checked is not None:
            where = f"{source.document.where}, filter {one.name!r}"
            written.append(_Written(f"The filter {one.name!r}", where, one.where, parse(one.where).tree, chooses=True))
    for formula in written:
        for node in n.walk(formula.tree):
            yield from _of_node(source, helpers, formula, node)
    yield from _currencies(source)


def _of_node(source: Source, helpers: TemporaryFields, formula: _Written, node: n.Node) -> Iterator[Probe]:
    if isinstance(node, n.Call) and node.over is not None and node.over.order and node.name in ORDERED:
        yield from _ties(source, helpers, formula, node, node.over)
    if formula.chooses and isinstance(node, (n.Binary, n.In, n.Like)):
        yield from _nulls(source, formula, node)
    if isinstance(node, n.Between) and not node.negated:
        yield from _midnight(source, formula, node.operand, node.high)
    if isinstance(node, n.Binary) and node.op == "<=":
        yield from _midnight(source, formula, node.left, node.right)
    if isinstance(node, n.Binary) and node.op in ("<", ">", "<=", ">="):
        yield from _as_texts(source, formula, node)


def _row_type(source: Source, text: str) -> Type | None:
    """The type of a formula that has a value in each row; None for others."""
    checked = source.check_formula(text).checked
    return checked.type if checked is not None and checked.grain == Grain.ROW else None


def _ties(source: Source, helpers: TemporaryFields, formula: _Written, node: n.Call, over: n.Over) -> Iterator[Probe]:
    keys = [formula.says(one) for one in over.partition] + [formula.says(one.key) for one in over.order]
    if any(_row_type(source, one) is None for one in keys):
        return
    shown = ", ".join(formula.says(one.key) for one in over.order)
    count = helpers.calculated(f"COUNT(*) OVER (PARTITION BY {', '.join(keys)})")

    def judge(values: Values) -> Finding | None:
        if not values["ties"]:
            return None
        message = f"{formula.name}: {values['ties']:,} rows are alike in what {node.name} is ordered by, {shown}; which of them comes first is open."
        hint = "Add a field to ORDER BY that is different in every row, such as a number of the row's own."
        return Finding("order-leaves-ties", message, formula.place(node), hint, "warning", numbers={"rows": values["ties"]})  # fmt: skip

    yield Probe({"ties": f"COUNT(*) FILTER (WHERE {quote_identifier(count)} > 1)"}, judge)


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
        message = f"{formula.name}: {values['nulls']:,} rows in which {own} is null are left out as well by {formula.says(node)}."
        hint = f"If they are meant to stay: {own} IS DISTINCT FROM …, or OR {own} IS NULL."
        return Finding("nulls-left-out", message, formula.place(node), hint, "note", numbers={"rows": values["nulls"]})

    yield Probe({"nulls": f"COUNT(*) FILTER (WHERE {own} IS NULL)"}, judge)


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
