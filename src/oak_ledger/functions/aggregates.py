"""Aggregates: one value from the rows of each group.

An implementation gets the values of all rows that count and, beside them, the group of each; filters and
`DISTINCT` have been applied before. Nulls are left out by each.
"""

from __future__ import annotations

from oak_ledger.functions.accumulators import CountAccumulator, MeanAccumulator, SumAccumulator, at_once
from oak_ledger.functions.registry import function
from oak_ledger.functions.selections import ExtremeAccumulator, FirstAccumulator, LogicAccumulator

count = function(
    "COUNT(x any) -> integer",
    topic="aggregate",
    sentence="How many values are not null; COUNT(*) counts the rows, COUNT(DISTINCT x) the distinct values.",
    nulls="Nulls are not counted; 0 over no rows.",
    examples=[("COUNT(*)", "6"), ("COUNT(Cost)", "4"), ("COUNT(DISTINCT Mill)", "2")],
    aggregate=True,
    counts_values=True,
    accumulator=CountAccumulator(),
)(at_once(CountAccumulator()))


total = function(
    "SUM(x numeric) -> same",
    topic="aggregate",
    sentence="The total.",
    nulls="Nulls are left out; null over no values.",
    examples=[("SUM(Volume)", "76.5"), ("SUM(Cost) FILTER (WHERE Mill = 'Low Weir')", "30")],
    aggregate=True,
    can_fault=True,
    accumulator=SumAccumulator(),
)(at_once(SumAccumulator()))


average = function(
    "AVG(x numeric) -> number",
    topic="aggregate",
    sentence="The mean of the values, each row counting the same.",
    nulls="Nulls are left out, also from the count; null over no values.",
    examples=[("AVG(Volume)", "12.75"), ("AVG(Cost)", "17.5")],
    aggregate=True,
    can_fault=True,
    accumulator=MeanAccumulator(),
)(at_once(MeanAccumulator()))


least = function(
    "MIN(x any) -> same",
    topic="aggregate",
    sentence="The smallest value; of text, the first by code point.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MIN(Volume)", "4.5"), ("MIN(Mill)", "High Ford")],
    aggregate=True,
    accumulator=ExtremeAccumulator(largest=False),
)(at_once(ExtremeAccumulator(largest=False)))


largest = function(
    "MAX(x any) -> same",
    topic="aggregate",
    sentence="The largest value; of text, the last by code point.",
    nulls="Nulls are left out; null over no values.",
    examples=[("MAX(Volume)", "24.0"), ("MAX(Day)", "2026-03-05")],
    aggregate=True,
    accumulator=ExtremeAccumulator(largest=True),
)(at_once(ExtremeAccumulator(largest=True)))


any_value = function(
    "ANY_VALUE(x any) -> same",
    topic="aggregate",
    sentence="One of the values, for what is the same in all rows of a group; the first one, in fact.",
    nulls="Nulls are left out; null over no values.",
    examples=[("ANY_VALUE(Mill)", "Low Weir"), ("ANY_VALUE(Cost)", "10")],
    aggregate=True,
    accumulator=FirstAccumulator(),
)(at_once(FirstAccumulator()))


bool_and = function(
    "BOOL_AND(x boolean) -> boolean",
    topic="aggregate",
    sentence="Whether all values are true.",
    nulls="Nulls are left out; null over no values.",
    examples=[("BOOL_AND(Volume > 0)", "true"), ("BOOL_AND(Cost > 10)", "false")],
    aggregate=True,
    accumulator=LogicAccumulator(every=True),
)(at_once(LogicAccumulator(every=True)))


bool_or = function(
    "BOOL_OR(x boolean) -> boolean",
    topic="aggregate",
    sentence="Whether any value is true.",
    nulls="Nulls are left out; null over no values.",
    examples=[("BOOL_OR(Volume > 20)", "true"), ("BOOL_OR(Cost > 100)", "false")],
    aggregate=True,
    accumulator=LogicAccumulator(every=False),
)(at_once(LogicAccumulator(every=False)))
