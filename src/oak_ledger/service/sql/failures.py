"""Why a statement has no answer, with the state (SQLSTATE) that clients know it by."""

from __future__ import annotations

from collections.abc import Mapping

from oak_ledger.errors import OakError, UnusableInput

READ_ONLY, FAULT = "25006", "XX000"
STATES: Mapping[str, str] = {
    "not-in-sql": "0A000", "wrong-value": "22023", "bad-literal": "22007", "constant-fault": "22000", "bad-pattern": "2201B", "unknown-field": "42703", "broken-field": "42703",
    "unknown-function": "42883", "argument-count": "42883", "unknown-type": "42704", "unknown-sort": "42P10", "too-deep": "54001", "too-large": "54000",
    "too-slow": "57014", "cancelled": "57014", "too-much": "54000", "too-busy": "53300", "too-many": "53300", "no-token": "28P01",
    **dict.fromkeys(("grain-mixed", "aggregate-nested", "window-key", "not-aggregate", "not-window", "over-missing", "within-group", "level-alone", "level-key", "level-mixed", "level-of-row"), "42803"),
    **dict.fromkeys(("wrong-type", "condition-wanted", "bad-argument", "constant-wanted", "no-cast", "text-added"), "42804"),
}  # fmt: skip
SYNTAX = "42601"  # of what else is wrong in a formula
NOT_THERE = ("unknown-source", "unknown-version", "not-released", "not-allowed", "several-sources")


class Failed(Exception):
    """An error as the protocol says it."""

    def __init__(self, state: str, message: str, *, detail: str = "", hint: str = "") -> None:
        super().__init__(message)
        self.state, self.message, self.detail, self.hint = state, message, detail, hint


def failed(error: BaseException) -> Failed:
    """Any error in that form; of what is not there, and of the service's own faults, no more than that."""
    if isinstance(error, Failed):
        return error
    if isinstance(error, MemoryError):
        return Failed("53200", "The question takes more memory than there is for it.", hint="Ask for less: WHERE, fewer groups.")  # fmt: skip
    if isinstance(error, RecursionError):
        return Failed("54001", "The statement is nested too deeply.")
    if not isinstance(error, OakError):
        return Failed(FAULT, "This is a fault of the service, not of the question.")
    if error.code == "several-sources":
        return Failed("42P09", error.message, hint='Say which by its area: FROM "area"."name".')
    if error.code in NOT_THERE:
        return Failed("42P01", "There is nothing of that name that you may see.", hint="information_schema.tables has what there is.")  # fmt: skip
    if isinstance(error, UnusableInput):
        return Failed("58030", "The service cannot read what this is computed from.", hint="Tell who keeps the service: oak catalogue verify says what is damaged.")  # fmt: skip
    first = error.findings[0]
    place = [f"\n  {line}" for line in first.place.pointed()]
    detail = "".join(("in the formula", *place)) if place else ""
    return Failed(STATES.get(first.code, SYNTAX), first.message, detail=detail, hint=first.hint)
