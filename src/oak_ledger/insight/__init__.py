"""What a source's formulas and rows reveal: additivity, proofs with numbers, fingerprints, drift. Importing it adds its checks."""

from __future__ import annotations

from oak_ledger.insight.checks import run_checks
from oak_ledger.insight.fingerprint import Fingerprint, fingerprint, renamed_between

__all__ = ["Fingerprint", "fingerprint", "renamed_between", "run_checks"]
