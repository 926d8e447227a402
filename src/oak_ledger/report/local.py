"""Local fields: adding one to a report, finding those that several reports repeat, and moving one into the source."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

from oak_ledger.definition.document import Block, Document, new_block, parse_document
from oak_ledger.definition.model import FieldSpec
from oak_ledger.definition.references import renamed_references
from oak_ledger.errors import FormulaError, OakError
from oak_ledger.formula import Grain, nodes, parse
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.reference import Mend
from oak_ledger.reference.mend import edits_between
from oak_ledger.report.definition import REPORT, LocalFieldSpec
from oak_ledger.report.report import SUFFIX, Report
from oak_ledger.source import Source

MAX_BARS = 40  # distinct values of a field that a first report shows as bars
_ANY_ORDER = frozenset({"+", "*", "AND", "OR", "=", "<>"})


def formula_key(text: str) -> Any:
    """What two formulas have in common that mean the same: layout, letter case of names, parentheses and the order of sums do not count."""
    return _key(parse(text).tree)


def _key(node: Any) -> Any:
    if isinstance(node, nodes.Parens):
        return _key(node.inner)
    if isinstance(node, nodes.Name):
        return ("name", node.name.casefold())
    if isinstance(node, nodes.Binary) and node.op in _ANY_ORDER:
        return (node.op, *sorted((_key(part) for part in _parts(node, node.op)), key=repr))
    if isinstance(node, nodes.Node):
        own = (
            field.name
            for field in fields(node)
            if field.name not in ("start", "end", "at", "name_end", "target_start", "target_end")
        )
        return (type(node).__name__, *(_key(getattr(node, name)) for name in own))
    return tuple(map(_key, node)) if isinstance(node, tuple) else node


def _parts(node: nodes.Node, op: str) -> list[nodes.Node]:
    """The operands of a chain of one operator; comparisons are not chained."""
    while isinstance(node, nodes.Parens):
        node = node.inner
    if isinstance(node, nodes.Binary) and node.op == op:
        chain = op not in ("=", "<>")
        return [
            *(_parts(node.left, op) if chain else [node.left]),
            *(_parts(node.right, op) if chain else [node.right]),
        ]
    return [node]


@dataclass(frozen=True, slots=True)
class Repeated:
    """A local formula that several reports have: the formula as the first has it, and each report file with the field's name there."""

    formula: str
    places: tuple[tuple[str, str], ...]


def repeated_formulas(reports: Sequence[Report]) -> list[Repeated]:
    """The local formulas that more than one report has, the most frequent first."""
    found: dict[Any, list[tuple[str, str, str]]] = {}
    for report in reports:
        for local_field in report.local_fields:
            found.setdefault(formula_key(local_field.formula), []).append(
                (local_field.formula, report.document.where, local_field.name)
            )
    several = [entries for entries in found.values() if len({file for _, file, _ in entries}) > 1]
    repeateds = [Repeated(entries[0][0], tuple((file, name) for _, file, name in entries)) for entries in several]
    return sorted(repeateds, key=lambda repeated: -len(repeated.places))


def with_local_field(
    report: Report, source: Source, name: str, formula: str, *, replace: bool = False, **keys: Any
) -> Report:
    """The report with a local field. Raises OakError where the formula is wrong, or the name is that of a shared field."""
    shared = source.shared.states.get(name.casefold())
    if shared is not None:
        there = (
            shared.spec.formula or f"the column {shared.spec.column}"
            if isinstance(shared.spec, FieldSpec)
            else shared.what
        )
        message = f"{shared.name} is a field of {source.name} already. There: {there}. Here: {formula}."
        raise OakError(
            "hides-shared",
            message,
            hint="Choose another name; a report's own field must not be taken for the shared one.",
        )
    block = _block(report.document, name)
    if block is not None and not replace:
        raise OakError(
            "name-taken", f"The report has a field {name!r} already.", hint="Use --replace to change its formula."
        )
    values = {"name": name, "formula": formula, **{key: value for key, value in keys.items() if value}}
    document = report.document.added("field", values) if block is None else report.document.replaced(block, values)
    made = Report(document, report.path)
    _, findings = source.with_local_fields(
        [
            FieldSpec(name=local_field.name, formula=local_field.formula, format=local_field.format)
            for local_field in made.local_fields
        ]
    )
    if name in findings:
        raise FormulaError.of(list(findings[name]))
    return made


def without_local_field(report: Report, name: str) -> Report:
    """The report without a local field. Raises OakError where it has none of that name."""
    block = _block(report.document, name)
    if block is None:
        names = ", ".join(local_field.name for local_field in report.local_fields) or "none"
        raise OakError("unknown-field", f"The report has no field {name!r} of its own.", hint=f"It has {names}.")
    return Report(report.document.without([block]), report.path)


def plan_lift(source: Source, reports: Sequence[Report], name: str, owner: Report | None = None) -> Mend:
    """What must change so that a local field becomes a shared one, and every report that repeats its formula uses that.

    Without `owner` it is the field of that name in any of the reports. Raises OakError where reports mean different things by it, where
    it needs other local fields, or where the name is taken.
    """
    found: dict[Any, tuple[Report, LocalFieldSpec]] = {}
    for report in reports if owner is None else [owner]:
        for local_field in report.local_fields:
            if local_field.name.casefold() == name.casefold():
                found.setdefault(formula_key(local_field.formula), (report, local_field))
    if len(found) != 1:
        shown = "; ".join(f"{report.document.where}: {field.formula}" for report, field in found.values())
        message = (
            f"No report has a field {name!r} of its own."
            if not found
            else f"Reports mean different things by {name!r}: {shown}."
        )
        raise OakError(
            "unknown-field" if not found else "several-meanings",
            message,
            hint="Name the report with --from." if found else "",
        )
    (key, (report, spec)), *_ = found.items()
    keys = {"format": spec.format, "description": spec.description}
    lifted = source.with_field(spec.name, spec.formula, **{one: value for one, value in keys.items() if value})
    edits = [(source.path, source.document, lifted.document)]
    edits += [(report.path, report.document, _with_shared(report.document, key, spec.name)) for report in reports]
    return Mend(lifted, edits_between(edits))


def retargeted(report: Report, source: Source, mapping: Mapping[str, str], name: str = "") -> Report:
    """The report over another source, with other names for fields (old: new), and a name of its own if one is given. Raises OakError for a name that the source has not."""
    names = {old.casefold(): source.state(new).name for old, new in mapping.items()}
    document = renamed_references(report.document, names)
    return Report(
        document.replaced(document.all("report")[0], {"source": source.name} | ({"name": name} if name else {})),
        report.path,
    )


def _with_shared(document: Document, key: Any, name: str) -> Document:
    """A report without its own copies of a formula, using the shared field of a name instead."""
    copies = [block for block in document.all("field") if formula_key(str(block.values["formula"])) == key]
    names = {str(block.values["name"]).casefold(): name for block in copies}
    return renamed_references(document.without(copies), names) if copies else document


def _block(document: Document, name: str) -> Block | None:
    return next(
        (block for block in document.all("field") if str(block.values["name"]).casefold() == name.casefold()), None
    )


def first_report(source: Source, name: str, folder: Path) -> Report:
    """A report to begin with: the total of each of the first measures, the first measure by each of the first dimensions, and a table."""
    measures = [
        shown_field.name
        for shown_field in source.shown_fields
        if _role(shown_field.spec, shown_field.type is not None and shown_field.type.numeric) == "measure"
    ][:3]
    texts = [
        shown_field.name
        for shown_field in source.shown_fields
        if _role(shown_field.spec, numeric=False) == "dimension"
        and shown_field.grain == Grain.ROW
        and shown_field.type is not None
        and shown_field.type.kind == "text"
    ]
    counts = (
        source.tally(show=[(text, f"COUNT(DISTINCT {quote_identifier(text)})") for text in texts]).to_dicts()[0]
        if texts
        else {}
    )
    dimensions = [text for text in texts if 2 <= counts[text] <= MAX_BARS][:2]
    blocks: list[Mapping[str, Any]] = [
        {"kind": "figure", "title": f"{{{measure}}}", "show": [measure]} for measure in measures[:2]
    ]
    show = measures or ["COUNT(*)"]
    blocks += [
        {"kind": "bars", "title": f"By {{{dimension}}}", "by": [dimension], "show": show[:1], "limit": 20}
        for dimension in dimensions
    ]
    blocks += [{"kind": "table", "title": "Table", "by": dimensions[:1], "show": show, "totals": True}]
    text = new_block("report", {"name": name, "source": source.name, "owner": ""}, listed=False).text
    text += "".join("\n" + new_block("panel", block).text for block in blocks)
    stem = "_".join(name.casefold().split()) or "report"
    path = folder / f"{stem}{SUFFIX}"
    return Report(parse_document(text, REPORT, path.name), path)


def _role(spec: Any, numeric: bool) -> str:
    role = spec.role if isinstance(spec, FieldSpec) else None
    return role or ("measure" if numeric else "dimension")
