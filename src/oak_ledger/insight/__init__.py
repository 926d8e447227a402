"""What a source's formulas and rows reveal: additivity, proofs with numbers, fingerprints, drift. Importing it adds its checks."""

from __future__ import annotations

from oak_ledger.insight.drift import drift
from oak_ledger.insight.fingerprint import Fingerprint, fingerprint, renamed_between
from oak_ledger.insight.proofs import prove

__all__ = ["Fingerprint", "drift", "fingerprint", "prove", "renamed_between"]
