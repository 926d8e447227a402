"""Sorting into categories: how many rows each branch takes, and nulls that fall into ELSE, for every CASE of a source."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

from oak_ledger.definition.model import FieldSpec
from oak_ledger.errors import Finding
from oak_ledger.formula import Grain, parse
from oak_ledger.formula import nodes as n
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.formula.lint import lint
from oak_ledger.insight.probes import Probe, TemporaryFields, Values, place_of
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.source.source import Source


@dataclass(frozen=True, slots=True)
class BranchRows:
    """One branch of a CASE as written, how many rows it takes, and in how many of them what it asks about is null."""

    branch: str
    rows: int
    nulls: int


def branch_rows(source: Source, formula: str, *, where: str | None = None) -> list[BranchRows]:
    """How many rows each branch of a formula's outermost CASE takes, ELSE last; empty where it is not a CASE of rows.

    Raises FormulaError where the formula is wrong.
    """
    tree = parse(formula).tree
    while isinstance(tree, n.Parens):
        tree = tree.inner
    if not isinstance(tree, n.Case) or source.check_formula(formula).require().grain != Grain.ROW:
        return []
    asked = _asked(tree)
    null = " OR ".join(f"{quote_identifier(name)} IS NULL" for name in asked) or "FALSE"
    shown = [("rows", "COUNT(*)"), ("nulls", f"COUNT(*) FILTER (WHERE {null})")]
    found = source.tally([("branch", _numbered(formula, tree))], shown, where=where).to_dicts()
    taken = {row["branch"]: (row["rows"], row["nulls"]) for row in found}
    labels = [*(_label(formula, tree, branch) for branch in tree.branches), "ELSE"]
    return [BranchRows(label, *taken.get(at, (0, 0))) for at, label in enumerate(labels)]


def _numbered(text: str, case: n.Case) -> str:
    """The CASE with the number of each branch for its value."""
    operand = "" if case.operand is None else text[case.operand.start : case.operand.end]
    whens = " ".join(
        f"WHEN {text[branch.condition.start : branch.condition.end]} THEN {at}"
        for at, branch in enumerate(case.branches)
    )
    return f"CASE {operand} {whens} ELSE {len(case.branches)} END"


def _label(text: str, case: n.Case, branch: n.When) -> str:
    return "WHEN " + " ".join(text[branch.condition.start : branch.condition.end].split())


def _asked(case: n.Case) -> list[str]:
    """The fields that the conditions of a CASE ask about, but for those that they test for null themselves."""
    parts = [branch.condition for branch in case.branches] if case.operand is None else [case.operand]
    tested = {
        name.name.casefold()
        for part in parts
        for node in n.walk(part)
        if isinstance(node, n.Is) and node.test == "NULL"
        for name in n.names(node)
    }
    names = [name.name for part in parts for name in n.names(part)]
    return [name for name in dict.fromkeys(names) if name.casefold() not in tested]


def branch_probes(source: Source, helpers: TemporaryFields, only: Collection[str] | None = None) -> Iterator[Probe]:
    """For every CASE of the source's fields: branches that no row reaches, and nulls that fall into ELSE."""
    for state, text, tree in calculated(source, only):
        for case in (node for node in n.walk(tree) if isinstance(node, n.Case)):
            own = text[case.start : case.end]
            checked = source.check_formula(own).checked
            if checked is not None and checked.grain == Grain.ROW:
                number = helpers.calculated(_numbered(text, case))
                yield _reached(source, state, text, case, number)
                yield _null_in_else(source, state, text, case, number)


def calculated(source: Source, only: Collection[str] | None = None) -> Iterator[tuple[ResolvedName, str, n.Node]]:
    """The calculated fields that work, all or `only` some, each with its formula and its tree."""
    for state in source.fields:
        if only is not None and state.name not in only:
            continue
        if isinstance(state.spec, FieldSpec) and state.spec.calculated and not state.broken and state.tree is not None:
            yield state, state.spec.formula, state.tree


def _reached(source: Source, state: ResolvedName, text: str, case: n.Case, number: str) -> Probe:
    count = {str(at): f"COUNT(*) FILTER (WHERE {quote_identifier(number)} = {at})" for at in range(len(case.branches))}
    count["rows"] = "COUNT(*)"

    def judge(values: Values) -> Finding | None:
        unreached = [at for at in range(len(case.branches)) if values[str(at)] == 0]
        if not unreached or not values["rows"]:
            return None
        labels = [_label(text, case, case.branches[at]) for at in unreached]
        message = f"{state.name}: no row reaches {', '.join(labels[:3])}{' …' if len(labels) > 3 else ''}."
        at = place_of(source, state, text, case.branches[unreached[0]])
        return Finding("branch-empty", message, at, severity="note", numbers={"rows": [values[str(at)] for at in range(len(case.branches))]})  # fmt: skip

    return Probe(count, judge)


def _null_in_else(source: Source, state: ResolvedName, text: str, case: n.Case, number: str) -> Probe:
    asked = _asked(case)
    null = " OR ".join(f"{quote_identifier(name)} IS NULL" for name in asked) or "FALSE"
    rest = f"{quote_identifier(number)} = {len(case.branches)}"
    formulas = {"nulls": f"COUNT(*) FILTER (WHERE {rest} AND ({null}))"}

    def judge(values: Values) -> Finding | None:
        otherwise = case.otherwise
        if not values["nulls"] or otherwise is None or text[otherwise.start : otherwise.end].upper() == "NULL":
            return None
        gives = " ".join(text[otherwise.start : otherwise.end].split())
        names = " or ".join(asked[:3])
        message = f"{state.name}: {values['nulls']:,} rows get {gives} because {names} is null, not because of a value."
        fixed, hint = None, ""
        if case.operand is None and text[case.start : case.start + 4].upper() == "CASE":
            before = case.branches[0].start
            fixed = f"{text[:before]}WHEN {null} THEN NULL {text[before:]}"
            hint = f"Say what a null gives, such as: {fixed}"
        at = place_of(source, state, text, otherwise)
        return Finding("null-in-else", message, at, hint, "warning", fixed, {"rows": values["nulls"]})

    return Probe(formulas, judge)


# -- from the formulas alone ---------------------------------------------------------------------------------------


def doubtful(source: Source) -> Iterator[Finding]:
    """What is doubtful in the source's formulas by themselves."""
    for state in source.compiled.states.values():
        if state.expression is not None and state.expression.text.strip():
            yield from lint(state.expression.checked, state.expression.text, place_of(source, state))
