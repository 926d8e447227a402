"""Trying a formula without saving it: its type and grain, how many values are null, and a sample beside its inputs."""

from __future__ import annotations

from dataclasses import dataclass

from oak_ledger.engine import Fault
from oak_ledger.errors import Finding, Place
from oak_ledger.formula import Grain, nodes
from oak_ledger.formula import checked as c
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.formula.lint import lint
from oak_ledger.source.answer import Answer
from oak_ledger.source.notebook import InNotebook
from oak_ledger.source.source import Source

RESULT = "result"


@dataclass(frozen=True, slots=True)
class Trial(InNotebook):
    """What a formula gives: `type` and `grain` as text, `rows` or groups counted, `nulls` among them, what faulted.

    `sample` has the first values: for a row formula beside the fields it uses, for a group formula by the groups asked for.
    """

    formula: str
    type: str
    grain: str
    rows: int
    nulls: int
    faults: tuple[Fault, ...]
    findings: tuple[Finding, ...]
    sample: Answer

    def __repr__(self) -> str:
        per = "group" if self.grain == "group" else "row"
        faults = sum(fault.rows for fault in self.faults)
        return f"Trial of {self.formula!r}: {self.type} per {per}\n  {self.nulls:,} null of {self.rows:,} {per}s; not computed: {faults:,}, findings: {len(self.findings)}"


def try_formula(
    source: Source, formula: str, *, by: tuple[str, ...] = (), where: str | None = None, limit: int = 8
) -> Trial:
    """Try a formula over all rows of a source. Raises FormulaError with every error of the formula."""
    checked = source.check_formula(formula).require()
    doubtful = tuple(lint(checked, formula, Place("the formula")))
    kind, grain = str(checked.type), str(checked.grain)
    if checked.grain == Grain.GROUP or by:
        whole = source.tally(by, [(RESULT, formula)], where=where)
        sample = source.tally(by, [(RESULT, formula)], where=where, limit=limit)
        nulls = whole.table.column(RESULT).null_count
        return Trial(
            formula, kind, grain, whole.table.num_rows, nulls, whole.faults, (*doubtful, *whole.findings), sample
        )
    counted = source.tally(show=[("rows", "COUNT(*)"), ("values", f"COUNT({formula})")], where=where)
    rows, values = counted.to_dicts()[0].values()
    inputs = _inputs(source, checked)
    sample = source.rows([*(quote_identifier(name) for name in inputs), (RESULT, formula)], where=where, limit=limit)
    return Trial(formula, kind, grain, rows, rows - values, counted.faults, (*doubtful, *counted.findings), sample)


def questionable(source: Source, formula: str) -> list[Trial]:
    """What a formula that is wrong would give with each repair that is offered and may mean something else, where that is a formula without errors."""
    fixed = dict.fromkeys(
        finding.fixed for finding in source.check_formula(formula).findings if finding.fixed and not finding.sure
    )
    return [try_formula(source, one) for one in fixed if one and source.check_formula(one).checked is not None]


def _inputs(source: Source, checked: c.TypedNode) -> list[str]:
    """The fields that a formula reads, one step down where it is only another calculated field."""
    names = [name for name in c.fields_used(checked) if source.state(name).grain != Grain.CONSTANT]
    if len(names) == 1 and source.state(names[0]).tree is not None:
        tree = source.state(names[0]).tree
        inner = [name.name for name in nodes.names(tree)] if tree is not None else []
        names += [source.state(name).name for name in inner if source.state(name).name not in names]
    return list(dict.fromkeys(names))
