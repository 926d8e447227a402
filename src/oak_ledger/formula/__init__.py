"""The formula language: text to tokens (`lexer`), to a tree (`parser`), to a checked tree (`checker`).

The function library (`library`) holds every function and operator beside its implementation. Nothing here
knows sources or files: a formula is checked against a `Scope` of names and comes out bound and typed.

- All errors at once. The parser notes and goes on; a wrong piece silences the pieces above it. Chains of operators,
  however long, are followed without recursion; nesting is limited.

- A repair that is applied means what was written. Findings carry the repaired formula and whether it is sure
  (`Finding.sure`): spellings of other notations (`formula/spellings.py`), quotes, a missing END, one letter of a
  name. Anything else is a question, shown with what it would give.

- A repair is tried before it is offered (`formula/mending.py`). A finding may bring several; the first that leaves a
  formula with fewer errors is offered, or none.

- Doubts follow from ranges. For which values of its operand a condition holds is followed exactly, null included
  (`formula/ranges.py`); so branches that nothing reaches, gaps and overlaps are known before data. What only rows can
  tell is a probe like others.

- The language is held against a database. The tests start a PostgreSQL and compare every construct, windows included,
  and two thousand random formulas over rows full of nulls and extremes, brought down to the smallest that differs;
  `tests/longer/against.py` asks for any number. `tests/longer/fuzz.py` feeds any text at all.
"""

from __future__ import annotations

from oak_ledger.formula.builder import Known, Scope
from oak_ledger.formula.checker import Formula, check
from oak_ledger.formula.parser import Parsed, parse
from oak_ledger.formula.search import find_functions
from oak_ledger.functions import LIBRARY, Function
from oak_ledger.types import Grain, Type

__all__ = [
    "LIBRARY",
    "Formula",
    "Function",
    "Grain",
    "Known",
    "Parsed",
    "Scope",
    "Type",
    "check",
    "find_functions",
    "parse",
]
