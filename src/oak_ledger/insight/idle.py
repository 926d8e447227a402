"""What of a definition does nothing, or leaves rows without a value: cleans and recodes without effect, constants that begin too late, joins that multiply."""

from __future__ import annotations

from collections.abc import Iterator

from oak_ledger.definition.model import ConstantSpec, FieldSpec
from oak_ledger.errors import Finding
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.insight.probes import Probe, TemporaryFields, Values, format_number, place_of, read_fields
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.origin.join import JoinReader
from oak_ledger.source.source import Source
from oak_ledger.types import TEXT

MAX_ENTRIES = 200  # of a recode list
SHOWN_ENTRIES = 3


def idle_probes(source: Source, helpers: TemporaryFields) -> Iterator[Probe]:
    """Cleans and recodes that change nothing, and rows that a dated constant has no value for."""
    for constant in source.document.models("constant", ConstantSpec):
        by = source.compiled.states.get(constant.by.casefold()) if constant.values else None
        if by is not None and not by.broken:
            yield _too_late(source, constant, by)
    for state, spec in read_fields(source):
        recoded = bool(spec.values or spec.values_from)
        if spec.clean and source.compiled.origin_schema.get(spec.column) == TEXT and state.type == TEXT:
            yield _idle_clean(source, state, helpers.reread(state, "clean"))
        if spec.values:
            yield _idle_entries(source, state, spec, helpers.reread(state, "clean", "values", "values_from", "type"))
        if recoded and spec.clean and state.type == TEXT:
            yield _hidden_recode(source, state, helpers, spec)


def _too_late(source: Source, constant: ConstantSpec, by: ResolvedName) -> Probe:
    first = min(constant.values)
    early = f"{quote_identifier(by.name)} < DATE {quote_literal(first)}"
    formulas = {
        "early": f"COUNT(*) FILTER (WHERE {early})",
        "least": f"MIN({quote_identifier(by.name)})",
        "nulls": f"COUNT(*) FILTER (WHERE {quote_identifier(by.name)} IS NULL)",
    }

    def judge(values: Values) -> Finding | None:
        if not values["early"] and not values["nulls"]:
            return None
        said = [f"{values['early']:,} rows are earlier, from {str(values['least'])[:10]}"] if values["early"] else []
        said += [f"in {values['nulls']:,} rows {by.name} is null"] if values["nulls"] else []
        message = (
            f"{constant.name} has values from {first} on; {', and '.join(said)}. Formulas with it give null there."
        )
        place = source.document.place("constant", constant.name)
        numbers = {"rows": values["early"], "nulls": values["nulls"]}
        hint = "Give it a value from the first day on, or keep those rows out by a filter."
        return Finding("constant-late", message, place, hint, "warning", None, numbers)

    return Probe(formulas, judge)


def _idle_clean(source: Source, state: ResolvedName, before: str) -> Probe:
    changed = f"{quote_identifier(state.name)} IS DISTINCT FROM {quote_identifier(before)}"

    def judge(values: Values) -> Finding | None:
        if values["changed"] or not values["rows"]:
            return None
        message = f"The clean of {state.name} changes no value."
        return Finding(
            "clean-idle",
            message,
            place_of(source, state),
            "Take it out, or check whether it does what it is meant to.",
            "note",
        )

    return Probe({"changed": f"COUNT(*) FILTER (WHERE {changed})", "rows": "COUNT(*)"}, judge)


def _idle_entries(source: Source, state: ResolvedName, spec: FieldSpec, before: str) -> Probe:
    entries = [*spec.values][:MAX_ENTRIES]
    formulas = {
        str(at): f"COUNT(*) FILTER (WHERE {quote_identifier(before)} = {quote_literal(text)})"
        for at, text in enumerate(entries)
    }
    formulas["rows"] = "COUNT(*)"

    def judge(values: Values) -> Finding | None:
        idle = [quote_literal(text) for at, text in enumerate(entries) if not values[str(at)]]
        if not idle or not values["rows"]:
            return None
        more = " …" if len(idle) > SHOWN_ENTRIES else ""
        many = len(idle) > 1
        message = f"{state.name}: {len(idle)} of {len(entries)} replacements {'match' if many else 'matches'} no value: {', '.join(idle[:SHOWN_ENTRIES])}{more}."
        return Finding("recode-idle", message, place_of(source, state), "", "note", None, {"entries": len(idle)})

    return Probe(formulas, judge)


def _hidden_recode(source: Source, state: ResolvedName, helpers: TemporaryFields, spec: FieldSpec) -> Probe:
    plain = helpers.reread(state, "values", "values_from")
    before, recoded = helpers.reread(state, "clean", "values", "values_from"), helpers.reread(state, "clean")
    formulas = {
        "recoded": f"COUNT(*) FILTER (WHERE {quote_identifier(recoded)} IS DISTINCT FROM {quote_identifier(before)})",
        "kept": f"COUNT(*) FILTER (WHERE {quote_identifier(state.name)} IS DISTINCT FROM {quote_identifier(plain)})",
    }

    def judge(values: Values) -> Finding | None:
        if not values["recoded"] or values["kept"]:
            return None
        message = f"{state.name}: the replacements change {values['recoded']:,} rows, and the clean after them hides it: {spec.clean.strip()}"
        return Finding(
            "recode-hidden",
            message + ".",
            place_of(source, state),
            "Let the clean come from the replaced values, or take one of them out.",
            "warning",
        )

    return Probe(formulas, judge)


def multiplied(source: Source) -> Iterator[Finding]:
    """Measures whose totals a join multiplies, since a row of one part meets several of another."""
    feed = source.opened
    if not isinstance(feed, JoinReader) or source.published is not None:
        return
    feed.table()
    fields = {
        state.spec.column: state
        for state in source.fields
        if isinstance(state.spec, FieldSpec) and state.spec.role == "measure" and not state.broken
    }
    for step in feed.steps:
        for measure in step.measures:
            state = fields.get(measure.column)
            if state is not None and abs(measure.after) > abs(measure.before):
                message = f"The join with {step.part} multiplies {state.name}: its total grows from {format_number(measure.before)} to {format_number(measure.after)}."
                on = ", ".join(step.on)
                hint = f"Bring the rows of {step.part} to one for each {on} first, or join on columns that are different in each row."
                numbers = {"before": measure.before, "after": measure.after}
                yield Finding("join-multiplies", message, place_of(source, state), hint, "warning", None, numbers)
