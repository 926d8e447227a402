"""Texts that formulas look for and that no value is, though some would be in another letter case or without spaces around."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from oak_ledger.definition.model import FilterSpec, RuleSpec
from oak_ledger.definition.references import renamed_in_formula
from oak_ledger.errors import Finding, Place
from oak_ledger.formula import Grain, parse
from oak_ledger.formula import nodes as n
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.insight.branches import calculated
from oak_ledger.insight.probes import Probe, TemporaryFields, Values, place_of, read_fields
from oak_ledger.names.compiled import VALUE
from oak_ledger.source.source import Source

MOST_TEXTS = 60  # texts of one formula that are looked for


@dataclass(frozen=True, slots=True)
class _Written:
    """A formula that looks for texts: whose it is, where it is, what it says."""

    name: str
    place: Place
    text: str


@dataclass(frozen=True, slots=True)
class _Sought:
    """A text that is looked for: in what, within which function, and where it is (not at all for a recode)."""

    operand: str
    text: str
    within: str
    literal: n.Literal | None


def spelling_probes(source: Source, helpers: TemporaryFields) -> Iterator[Probe]:
    """For every text that a formula, a filter, a rule or a recode of the source looks for."""
    for state, text, tree in calculated(source):
        yield from _spelled(source, helpers, _Written(state.name, place_of(source, state), text), tree, {})
    for model in source.document.models("filter", FilterSpec):
        if not model.always:
            yield from _condition(source, helpers, _Written(*_filter(source, model)))
    for rule in source.document.models("rule", RuleSpec):
        where = source.document.place("rule", rule.name)
        yield from _condition(source, helpers, _Written(f"The rule {rule.name!r}", where, rule.holds))
    for state, spec in read_fields(source):
        where = place_of(source, state)
        if spec.clean:
            before = helpers.reread(state, "clean")
            own = _Written(state.name, where, spec.clean)
            yield from _spelled(source, helpers, own, parse(spec.clean).tree, {VALUE.casefold(): before})
        if spec.values:
            before = helpers.reread(state, "clean", "values", "values_from", "type")
            for text in list(spec.values)[:MOST_TEXTS]:
                yield _spelling(
                    helpers, _Written(state.name, where, ""), _Sought(quote_identifier(before), text, "", None)
                )


def _filter(source: Source, filter_: FilterSpec) -> tuple[str, Place, str]:
    return f"The filter {filter_.name!r}", source.document.place("filter", filter_.name), filter_.where


def misspelt_always(source: Source) -> list[Finding]:
    """The same for the source's own filters, over the rows that none of them has taken away."""
    always = [model for model in source.document.models("filter", FilterSpec) if model.always]
    document = source.document
    for block in document.all("filter") if always else ():
        document = document.replaced(block, {"always": None})
    return misspelt(source.changed(document), [_filter(source, alway) for alway in always]) if always else []


def misspelt(source: Source, conditions: Iterable[tuple[str, Place, str]]) -> list[Finding]:
    """The same for conditions that are not the source's own: each with whose it is, where it is, and what it says."""
    helpers = TemporaryFields(source)
    probes = [probe for condition in conditions for probe in _condition(source, helpers, _Written(*condition))]
    if not probes:
        return []
    shown = {f"{at} {key}": formula for at, probe in enumerate(probes) for key, formula in probe.formulas.items()}
    values = helpers.helped().tally(show=[*shown.items()]).to_dicts()[0]
    findings = [probe.judge({key: values[f"{at} {key}"] for key in probe.formulas}) for at, probe in enumerate(probes)]
    return [finding for finding in findings if finding is not None]


def _condition(source: Source, helpers: TemporaryFields, written: _Written) -> Iterator[Probe]:
    """The texts of a condition, if it is one."""
    if source.check_formula(written.text).checked is not None:
        yield from _spelled(source, helpers, written, parse(written.text).tree, {})


def _spelled(
    source: Source, helpers: TemporaryFields, written: _Written, tree: n.Node, renames: dict[str, str]
) -> Iterator[Probe]:
    for node, operand, literal in list(n.compared_texts(tree))[:MOST_TEXTS]:
        own = renamed_in_formula(written.text[operand.start : operand.end], renames)
        checked = source.check_formula(own).checked if not renames else None
        if renames or (checked is not None and checked.grain == Grain.ROW):
            within = node.name if isinstance(node, n.Call) else "LIKE" if isinstance(node, n.Like) else ""
            yield _spelling(helpers, written, _Sought(own, str(literal.value), within, literal))


def _spelling(helpers: TemporaryFields, written: _Written, sought: _Sought) -> Probe:
    own = quote_identifier(helpers.calculated(sought.operand))
    trim = "BTRIM({})" if not sought.within else "{}"
    lower = quote_identifier(helpers.calculated(f"LOWER({trim.format(sought.operand)})"))
    within = sought.within
    test = {"": "{} = {}", "LIKE": "{} LIKE {}", "REPLACE": "CONTAINS({}, {})"}.get(within, within + "({}, {})")
    same = test.format(own, quote_literal(sought.text))
    loose = test.format(lower, f"LOWER({trim.format(quote_literal(sought.text))})")
    formulas = {
        "exact": f"COUNT(*) FILTER (WHERE {same})",
        "loose": f"COUNT(*) FILTER (WHERE {loose})",
        "such": f"MIN({own}) FILTER (WHERE {loose})",
    }

    def judge(values: Values) -> Finding | None:
        if values["exact"] or not values["loose"]:
            return None
        such, text = values["such"], written.text
        how = _how(such, sought.text) if not within else "in another letter case"
        message = f"{written.name}: {quote_literal(sought.text)} matches no value, but would match {values['loose']:,} rows {how}, such as {quote_literal(such)}."
        place, fixed = written.place, None
        if sought.literal is not None:
            begin, end = sought.literal.start, sought.literal.end
            place = written.place.in_text(text, begin, end)
            fixed = None if within else text[:begin] + quote_literal(such) + text[end:]
        hint = f"Write {quote_literal(such)}." if not within else "Compare LOWER(…) with small letters."
        return Finding("letter-case", message, place, hint, "warning", fixed, {"rows": values["loose"]})

    return Probe(formulas, judge)


def _how(such: str, text: str) -> str:
    """In what way a value differs from a text that it nearly is."""
    if such.strip() == text.strip():
        return "without the spaces around"
    return "in another letter case" + (
        "" if such.strip() == such and text.strip() == text else " and without the spaces around"
    )
