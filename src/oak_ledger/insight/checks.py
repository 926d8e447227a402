"""What a check proves with numbers: totals that mislead, nulls that empty a total, rules and keys that do not hold.

Each suspicion that a formula gives rise to is a probe: formulas whose values, over all rows, confirm or clear it. All
probes of a source are answered in one reading of its rows.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from oak_ledger.columns.arrival import shape_findings
from oak_ledger.definition.formats import show
from oak_ledger.definition.model import FieldSpec, RuleSpec
from oak_ledger.definition.references import renamed_in_formula
from oak_ledger.errors import Finding, Place
from oak_ledger.first_look.levels import named_levels
from oak_ledger.formula import Grain
from oak_ledger.formula import nodes as n
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.formula.parser import parse
from oak_ledger.insight.additivity import Additivity, AdditivityAnalysis, ratio_of_sums
from oak_ledger.insight.branches import branch_probes, calculated, doubtful
from oak_ledger.insight.hazards import hazard_probes
from oak_ledger.insight.idle import idle_probes, multiplied
from oak_ledger.insight.probes import (
    Probe,
    TemporaryFields,
    Values,
    format_number,
    is_helper,
    judged,
    place_of,
    read_fields,
)
from oak_ledger.insight.spelling import misspelt_always, spelling_probes
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.origin.files import FILE_COLUMN
from oak_ledger.origin.spec import PartSpec
from oak_ledger.source.source import Source
from oak_ledger.source.whole import unfiltered

LEAST_FIELDS = 4  # with fewer, rows are often alike
MOST_AGAIN = 0.05  # of the rows: where more are alike, rows are not told apart by their fields


def run_checks(source: Source) -> Iterator[Finding]:
    """Everything that the rows confirm. Reads them once."""
    yield from doubtful(source)
    source = unfiltered(source, broken=True)
    helpers = TemporaryFields(source)
    probes = [
        *_probes(source),
        *branch_probes(source, helpers),
        *spelling_probes(source, helpers),
        *idle_probes(source, helpers),
        *hazard_probes(source, helpers),
    ]
    source = helpers.helped()
    counted = {
        f"count {state.name}": f"COUNT({quote_identifier(state.name)})"
        for state in source.fields
        if not state.broken and state.grain == Grain.ROW and not is_helper(state.name)
    }
    answer, findings = judged(source, probes, counted)
    for fault in answer.faults:
        if fault.field in source.compiled.expressions and not is_helper(fault.field):
            yield Finding(
                "values-lost",
                f"{fault.sentence()}. {'It is' if fault.rows == 1 else 'They are'} treated as null.",
                source.document.place("field", fault.field),
                "Clean these values, or correct them at the origin.",
                severity="warning",
                numbers={"rows": fault.rows, "samples": [list(row[1].values()) for row in fault.samples]},
            )
    yield from findings
    yield from misspelt_always(helpers.source)
    yield from _key(source)
    yield from _rows_twice(source)
    yield from multiplied(source)
    if source.published is None:
        yield from shape_findings(source.opened, source.as_argument)
        yield from source.arrival_findings()
        yield from _names_again(source)
        yield from _new_columns(source)
        yield from (
            replace(named_level, place=place_of(source, source.state(named_level.place.name)))
            for named_level in named_levels(source)
        )


def formula_findings(source: Source, formulas: Mapping[str, str]) -> dict[str, list[Finding]]:
    """What a check says of formulas that are not fields of the source, by the name that each is given here; they may use each other's names."""
    document = source.document
    for name, formula in formulas.items():
        document = document.added("field", {"name": name, "formula": formula})
    whole = unfiltered(source.changed(document), broken=True)
    helpers = TemporaryFields(whole)
    only = frozenset(formulas)
    probes = [
        *(probe for state, text, tree in calculated(whole, only) for probe in _of_formula(whole, state, text, tree)),
        *branch_probes(whole, helpers, only),
        *hazard_probes(whole, helpers, only),
    ]
    found: dict[str, list[Finding]] = {name: [] for name in formulas}
    if probes:
        for finding in judged(helpers.helped(), probes, {})[1]:
            found[finding.place.name].append(finding)
    return found


def _of_formula(source: Source, state: ResolvedName, text: str, tree: n.Node) -> Iterator[Probe]:
    """Sums of ratios, and nulls that empty a total."""
    yield from _summed_inside(source, state, text, tree, AdditivityAnalysis(source))
    yield from _spreading(source, state, text, tree)


def _rows_twice(source: Source) -> Iterator[Finding]:
    """Rows that are there again, alike in all fields, where no key says that rows differ; not where most rows are so alike."""
    plain = [quote_identifier(state.name) for state, spec in read_fields(source) if spec.column != FILE_COLUMN]
    if source.about.key or len(plain) < LEAST_FIELDS or source.published is not None:
        return
    answer = source.tally(plain, ["COUNT(*)"], limit=1)
    again = answer.rows_used - (answer.groups or 0)
    if 0 < again <= MOST_AGAIN * answer.rows_used:
        message = f"{again:,} of {answer.rows_used:,} rows {'is' if again == 1 else 'are'} there again, alike in all fields: a delivery may have come twice in part."
        hint = f"If they are the same: oak step add {source.as_argument} distinct. If all rows differ: oak field key says by what."
        yield Finding("rows-twice", message, source.document.place(), hint, "note", numbers={"rows": again})


def _names_again(source: Source) -> Iterator[Finding]:
    """Columns that are called as they were before a mend, of an origin that is not many files: there some always are."""
    spec = source.origin
    if not spec.renamed or "*" in spec.path:
        return
    there = {
        *source.opened_as(spec.model_copy(update={"renamed": {}}), source.document.models("part", PartSpec)).columns()
    }
    for old, new in spec.renamed.items():
        if old in there:
            said = f"are both there; {new} is read" if new in there else f"is how the column {new} is called in this delivery, as it was before; it is read"  # fmt: skip
            message = f"{old} and {new} {said}." if new in there else f"{old} {said}."
            yield Finding("name-again", message, source.document.place(), severity="note")


def _new_columns(source: Source) -> Iterator[Finding]:
    """Columns that no field uses, where others that fields need are gone: one may be the other."""
    new = source.new_columns()
    broken = any(finding.code == "missing-column" for state in source.fields for finding in state.findings)
    if new and broken:
        names = ", ".join(new[:5]) + (" …" if len(new) > 5 else "")
        hint = "A column may have been renamed: see the candidates; to use it: oak field restore."
        yield Finding("columns-untaken", f"Not used by any field: {names}.", source.document.place(), hint, "note")


def _probes(source: Source) -> Iterator[Probe]:
    natures = AdditivityAnalysis(source)
    for state in source.fields:
        spec = state.spec
        if state.broken or not isinstance(spec, FieldSpec):
            continue
        if spec.calculated and state.tree is not None:
            if state.grain == Grain.ROW:
                yield from _summed_by_default(source, state, spec, natures)
            yield from _summed_inside(source, state, spec.formula, state.tree, natures)
            yield from _spreading(source, state, spec.formula, state.tree)
        if spec.rule:
            condition = renamed_in_formula(spec.rule, {"value": state.name})
            yield _ruled(
                source, place_of(source, state), f"{state.name} breaks its rule {spec.rule.strip()}", condition
            )
    for rule in source.document.models("rule", RuleSpec):
        place = source.document.place("rule", rule.name)
        yield _ruled(source, place, f"The rule {rule.name!r} is broken", rule.holds)


# -- sums of ratios ----------------------------------------------------------------------------------------


def _summed_by_default(
    source: Source, state: ResolvedName, spec: FieldSpec, natures: AdditivityAnalysis
) -> Iterator[Probe]:
    nature = natures.of_state(state)
    if (
        nature.is_additive
        or spec.total is not None
        or spec.role == "dimension"
        or state.type is None
        or not state.type.numeric
    ):
        return
    name = quote_identifier(state.name)
    right = ratio_of_sums(source, spec.formula, nature)

    def judge(values: Values) -> Finding | None:
        message = (
            f"{state.name} must not be added up: {nature.why}. The total would be {format_number(values['wrong'])}"
        )
        numbers = {"wrong": values["wrong"]}
        if right:
            message += f"; the right figure is {format_number(values['right'])}"
            numbers["right"] = values["right"]
        hint = (
            f"Make it a value per group: {right}"
            if right
            else "Say how it is totalled (total), or make it a value per group."
        )
        return Finding("not-additive", message + ".", place_of(source, state), hint, "warning", right or None, numbers)

    yield Probe({"wrong": f"SUM({name})", **({"right": right} if right else {})}, judge)


def _summed_inside(
    source: Source, state: ResolvedName, text: str, tree: n.Node, natures: AdditivityAnalysis
) -> Iterator[Probe]:
    """`SUM` or `AVG` over a ratio, in a formula for groups."""
    for call in n.walk(tree):
        if not (isinstance(call, n.Call) and call.name in ("SUM", "AVG") and len(call.args) == 1 and call.over is None):
            continue
        argument = call.args[0]
        inner = text[argument.start : argument.end]
        nature = natures.of(argument, text)
        if nature.is_additive or (nature.kind == "rate" and call.name == "AVG"):
            continue
        yield _ratio_probe(source, state, text, call, nature, inner)


def _ratio_probe(source: Source, state: ResolvedName, text: str, call: n.Call, nature: Additivity, inner: str) -> Probe:
    right = ratio_of_sums(source, inner, nature)
    if isinstance(call.args[0], n.Name) and nature.kind == "ratio":
        named = source.state(call.args[0].name)
        right = ratio_of_sums(source, named.spec.formula, nature) if isinstance(named.spec, FieldSpec) else right
    end = call.end
    own = text[call.start : end]
    fixed = text[: call.start] + right + text[end:] if right else ""
    doing = "adds up" if call.name == "SUM" else "gives every row the same weight in averaging"

    def judge(values: Values) -> Finding | None:
        message = f"{state.name} {doing} {inner}, which is not additive: {nature.why}. {own} says {format_number(values['wrong'])}"
        numbers = {"wrong": values["wrong"]}
        if right:
            message += f"; the ratio of sums is {format_number(values['right'])}"
            numbers["right"] = values["right"]
        hint = f"Write {right}" if right else "Aggregate the values that it is made of."
        return Finding(
            "not-additive", message + ".", place_of(source, state, text, call), hint, "warning", fixed or None, numbers
        )

    return Probe({"wrong": own, **({"right": right} if right else {})}, judge)


# -- nulls that empty a total ----------------------------------------------------------------------------------


def chains(tree: n.Node) -> Iterator[tuple[n.Node, list[n.Node]]]:
    """The sums of parts in a tree: each as (the whole, its parts), outermost only."""
    waiting = [tree]
    while waiting:
        node = waiting.pop()
        if isinstance(node, n.Binary) and node.op in "+-":
            parts: list[n.Node] = []
            left: n.Node = node
            while isinstance(left, n.Binary) and left.op in "+-":
                parts.append(left.right)
                left = left.left
            parts.append(left)
            yield node, parts[::-1]
            waiting.extend(parts)
        else:
            waiting.extend(n.children(node))


def _spreading(source: Source, state: ResolvedName, text: str, tree: n.Node) -> Iterator[Probe]:
    for whole, parts in chains(tree):
        texts = [text[part.start : part.end] for part in parts]
        varying = [at for at, part in enumerate(texts) if _is_row_number(source, part)]
        if len(varying) >= 2 and _is_row_number(source, text[whole.start : whole.end]):
            yield _spread_probe(source, state, text, whole, [parts[at] for at in varying])


def _is_row_number(source: Source, text: str) -> bool:
    checked = source.check_formula(text).checked
    return checked is not None and checked.grain == Grain.ROW and checked.type.numeric


def _spread_probe(source: Source, state: ResolvedName, text: str, whole: n.Node, parts: Sequence[n.Node]) -> Probe:
    own = text[whole.start : whole.end]
    texts = [text[part.start : part.end] for part in parts]
    filled = _edited(text, whole, [(part, f"COALESCE({text[part.start : part.end]}, 0)") for part in parts])
    some = " OR ".join(f"({part}) IS NOT NULL" for part in texts)
    formulas = {
        "lost": f"COUNT(*) FILTER (WHERE ({own}) IS NULL AND ({some}))",
        "rows": "COUNT(*)",
        "wrong": f"SUM({own})",
        "right": f"SUM({filled})",
        **{f"null {at}": f"COUNT(*) FILTER (WHERE ({part}) IS NULL)" for at, part in enumerate(texts)},
    }

    def judge(values: Values) -> Finding | None:
        if not values["lost"]:
            return None
        empty = [at for at in range(len(parts)) if values[f"null {at}"]]
        which = ", ".join(f"{texts[at]} in {values[f'null {at}']:,}" for at in empty)
        message = (
            f"{own} is null in {values['lost']:,} of {values['rows']:,} rows because a term is ({which}). "
            f"The total is {format_number(values['wrong'])}; with nulls counted as 0 it would be {format_number(values['right'])}."
        )
        wraps = [(parts[at], f"COALESCE({texts[at]}, 0)") for at in empty]
        fixed = text[: whole.start] + _edited(text, whole, wraps) + text[whole.end :]
        numbers = {
            "rows_lost": values["lost"],
            "rows": values["rows"],
            "wrong": values["wrong"],
            "right": values["right"],
        }
        hint = f"Where empty means zero, write {fixed}"
        return Finding("nulls-spread", message, place_of(source, state, text, whole), hint, "warning", fixed, numbers)

    return Probe(formulas, judge)


def _edited(text: str, whole: n.Node, edits: Sequence[tuple[n.Node, str]]) -> str:
    """The text of a piece with parts of it replaced."""
    made = text[whole.start : whole.end]
    for part, new in sorted(edits, key=lambda edit: -edit[0].start):
        made = made[: part.start - whole.start] + new + made[part.end - whole.start :]
    return made


# -- rules and keys -----------------------------------------------------------------------------------------------


def _ruled(source: Source, place: Place, said: str, condition: str) -> Probe:
    def judge(values: Values) -> Finding | None:
        if values["broken"] is None:
            findings = source.check_formula(condition, place=place).findings
            why = findings[0].message if findings else "it is not a condition on a row."
            return Finding("bad-rule", f"This rule cannot be computed: {why}", place, f"It says {condition.strip()}")
        if not values["broken"]:
            return None
        fields, times = _rule_fields(source, condition), ("rows of it", "COUNT(*)")
        shown = source.tally(fields, [times], where=f"NOT ({condition})", sort=["-rows of it"], limit=2).to_dicts()
        samples = "; ".join(
            ", ".join(f"{name} {show(value) or 'null'}" for name, value in row.items())
            + (f" ({count:,} rows)" if count > 1 else "")
            for count, row in ((row.pop("rows of it"), row) for row in shown)
        )
        message = f"{said} in {values['broken']:,} rows, such as {samples}."
        hint = f'See them: --where "NOT ({condition.strip()})"'
        return Finding("rule-broken", message, place, hint, "warning", None, dict(values))

    return Probe({"broken": f"COUNT(*) FILTER (WHERE NOT ({condition}))"}, judge)


def _rule_fields(source: Source, condition: str) -> list[str]:
    """What to show of a row that breaks a rule: the key, and the fields that the rule reads."""
    used = [name.name for name in n.names(parse(condition).tree) if name.name.casefold() in source.compiled.states]
    known = [source.state(name).name for name in (*source.about.key, *used)]
    return [quote_identifier(name) for name in dict.fromkeys(known)] or ["1 = 1"]


def _key(source: Source) -> Iterator[Finding]:
    """Rows that share their key with others."""
    names = source.about.key
    unknown = [name for name in names if name.casefold() not in source.compiled.states]
    if unknown:
        yield Finding(
            "unknown-field", f"The key names {unknown[0]!r}, which is not a field.", source.document.place("source")
        )
        return
    if not names or any(source.state(name).broken for name in names):
        return
    fields = [quote_identifier(name) for name in names]
    repeated = source.tally(fields, [("rows", "COUNT(*)")], sort=["-rows"], limit=1)
    rows = repeated.to_dicts()
    groups = repeated.groups or 0
    if rows and rows[0]["rows"] > 1:
        shown = ", ".join(str(rows[0][name]) for name in repeated.names[:-1])
        more = repeated.rows_used - groups
        message = (
            f"Key {', '.join(names)} is not unique: {more:,} extra rows, most often {shown} ({rows[0]['rows']:,} rows)."
        )
        yield Finding(
            "key-repeats", message, source.document.place("source"), severity="warning", numbers={"rows": more}
        )


# -- beside an answer ----------------------------------------------------------------------------------------------


def beside_answer(source: Source, summed: Sequence[ResolvedName]) -> Iterable[Finding]:
    """A tally that has just added up what must not be."""
    natures = AdditivityAnalysis(source)
    for state in summed:
        nature = natures.of_state(state)
        if isinstance(state.spec, FieldSpec) and not nature.is_additive and state.spec.total is None:
            right = ratio_of_sums(source, state.spec.formula, nature)
            hint = f"Ask for {right} instead." if right else "Say how: AVG, MIN, MAX."
            yield Finding(
                "not-additive",
                f"{state.name} was added up, but {nature.why}.",
                Place(name=state.name),
                hint,
                "warning",
                right or None,
            )
