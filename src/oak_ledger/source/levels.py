"""Aggregates over values of a level: first one value for each group and key of the level, among the rows that count; then what is made of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pyarrow as pa

from oak_ledger.engine import Expression, Fault, Query, Result, execute
from oak_ledger.engine.evaluate import needed
from oak_ledger.engine.lookup import KeyLookup
from oak_ledger.formula import Grain
from oak_ledger.formula import checked as c
from oak_ledger.origin.memory import TableReader

Ask = Callable[[Query], Result]


def with_levels(question: Query, ask: Ask) -> tuple[Query, tuple[Fault, ...]]:
    """The question with the values of its levels, each asked as a question of its own; and what of them could not be computed."""
    shown = [*question.show, *question.having]
    names = needed(question.fields, [expression.checked for expression in shown])
    owners = [*shown, *(question.fields[name] for name in names)]
    found = {piece: owner for owner in owners for piece in c.walk(owner.checked, c.APART) if isinstance(piece, c.Level)}
    if not found:
        return question, ()
    by_group: dict[c.TypedNode, KeyLookup] = dict(question.before)
    overall: dict[c.TypedNode, KeyLookup] = dict(question.before_overall)
    faults: list[Fault] = []
    for node, owner in found.items():
        by_group[node], wrong = _values(question, node, owner, question.by, ask)
        faults += wrong
        if question.totals:
            overall[node], wrong = _values(question, node, owner, (), ask)
            faults += wrong if not question.by else []
    return replace(question, before=by_group, before_overall=overall), tuple(dict.fromkeys(faults))


def _values(
    question: Query, node: c.Level, owner: Expression, by: tuple[Expression, ...], ask: Ask
) -> tuple[KeyLookup, list[Fault]]:
    keys = tuple(Expression(c.level_column(at, key=True), owner.text, one) for at, one in enumerate(node.keys))
    inner = tuple(Expression(c.level_column(at), owner.text, one) for at, one in enumerate(node.inner))
    asked = replace(question, by=(*by, *keys), show=inner, having=(), sort=(), limit=None, totals=False, stats=None)
    asked, deeper = with_levels(asked, ask)
    result = ask(asked)
    names = [*(f"by {at}" for at in range(len(by))), *(key.name for key in (*keys, *inner))]
    table = pa.table(dict(zip(names, result.table.columns, strict=True)))
    groups = tuple(_column(f"by {at}", expression) for at, expression in enumerate(by))
    over = Query({}, (Expression(owner.name, owner.text, node.aggregate),), groups, grouped=True)
    made = execute(over, TableReader(table))
    wrong = [
        replace(fault, field=owner.name, samples=())
        for fault in (*deeper, *result.faults.found(), *made.faults.found())
    ]
    columns: list[Any] = made.table.columns
    return KeyLookup(columns[:-1], columns[-1]), wrong


def _column(name: str, of: Expression) -> Expression:
    return Expression(name, name, c.ColumnRef(0, 0, of.checked.type, Grain.ROW, name))
