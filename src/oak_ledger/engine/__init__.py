"""Checked formulas over Arrow data: row values (`evaluate`), groups (`groups`), whole questions (`question`), faults (`faults`)."""

from __future__ import annotations

from oak_ledger.engine.account import Account, Step
from oak_ledger.engine.evaluate import Expression
from oak_ledger.engine.faults import Fault, Faults
from oak_ledger.engine.question import Question, Result, SortBy, answer, stream
from oak_ledger.engine.reading import Feed, Pass

__all__ = [
    "Account",
    "Expression",
    "Fault",
    "Faults",
    "Feed",
    "Pass",
    "Question",
    "Result",
    "SortBy",
    "Step",
    "answer",
    "stream",
]
