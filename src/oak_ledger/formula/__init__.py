"""The formula language: text to tokens (`lexer`), to a tree (`parser`), to a checked tree (`checker`).

The function library (`library`) holds every function and operator beside its implementation. Nothing here
knows sources or files: a formula is checked against a `Scope` of names and comes out bound and typed.
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
