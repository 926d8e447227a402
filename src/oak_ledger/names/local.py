"""Fields that live beside a source, in one report: they may use its fields and each other, and change nothing of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from oak_ledger.definition.model import FieldSpec
from oak_ledger.engine import Expression
from oak_ledger.errors import Finding, Place
from oak_ledger.formula import check, nodes, parse
from oak_ledger.names.compiled import Compiled, ResolvedName


def with_local(
    shared: Compiled, fields: Sequence[FieldSpec], *, reader: bool = False
) -> tuple[Compiled, Mapping[str, tuple[Finding, ...]]]:
    """The names of a source with local fields beside them, and what is wrong with local fields that do not work.

    Where a local field has the name of a shared one, that name means the local one here, while shared formulas keep theirs: they are
    bound already.
    """
    states, expressions = dict(shared.states), dict(shared.expressions)
    compiled = replace(shared, states=states, expressions=expressions)
    waiting, failed = list(fields), dict[str, tuple[Finding, ...]]()
    while waiting:  # one may use another that comes below it
        ahead = {spec.name.casefold() for spec in waiting}
        later: list[FieldSpec] = []
        for spec in waiting:
            own = spec.name.casefold()
            used = {name.name.casefold() for name in nodes.names(parse(spec.formula).tree)}
            if used & ahead - {own}:
                later.append(spec)
                continue
            ahead.discard(own)
            formula = check(spec.formula, compiled.scope(reader=reader), place=Place(kind="field", name=spec.name))
            if formula.checked is None:
                failed[spec.name] = formula.findings
                continue
            name = f"{spec.name} (of the report)" if own in shared.states else spec.name
            expression = Expression(name, spec.formula, formula.checked)
            uses = tuple(states[one].name for one in used if one in states)
            states[own] = states[name.casefold()] = ResolvedName(
                name, spec, "local field", expression, (), uses, formula.tree
            )
            expressions[name] = expression
        if len(later) == len(waiting):
            names = " → ".join(spec.name for spec in (*later, later[0]))
            failed |= {spec.name: (Finding("cycle", f"{names}: these fields need each other."),) for spec in later}
            break
        waiting = later
    return compiled, failed
