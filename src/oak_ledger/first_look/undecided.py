"""What intake leaves open, each with what decides it: marks that may mean two things, words among numbers, numbers that may be moments."""

from __future__ import annotations

import datetime as dt
import re
import shlex
from collections.abc import Iterator, Sequence

from oak_ledger.columns.proposal import Proposal
from oak_ledger.errors import Finding, Place
from oak_ledger.first_look.levels import proposed_levels
from oak_ledger.formula.lexer import quote_identifier, quote_literal
from oak_ledger.source.source import Source

_MOMENT_NAME = re.compile(r"(?i)(time|date|day|stamp|created|updated|sent|_at$| at$|_ts$|when)")
_UNITS = (
    ("seconds", 1, range(631_152_000, 4_102_444_800)),
    ("milliseconds", 1000, range(631_152_000_000, 4_102_444_800_000)),
)
_SHEET_DAYS = range(20_000, 80_000)


def open_findings(source: Source, proposals: Sequence[Proposal]) -> list[Finding]:
    """What somebody has to decide about the columns of a source that was just taken in."""
    return [
        *(finding for proposal in proposals for finding in _open(source, proposal)),
        *proposed_levels(source, proposals),
    ]


def _open(source: Source, proposal: Proposal) -> Iterator[Finding]:
    command = f"oak field retype {source.as_argument} {shlex.quote(proposal.name)}"
    evidence = proposal.evidence
    if evidence.ambiguous:
        value, whole, decimal = evidence.ambiguous
        mark = "," if "," in value else "."
        other = "." if mark == "," else ","
        places = len(decimal.partition(".")[2])
        sums = _sums(source, proposal.name, mark, other)
        message = f"{proposal.name} is text until you decide: {value} may be {whole} or {decimal}. All together {sums[0]} or {sums[1]}."
        thousands = f"{command} integer --thousands-mark {shlex.quote(mark)}" + (
            f" --decimal-mark {shlex.quote(other)}" if other == "," else ""
        )
        decimals = f"{command} 'decimal(18,{places})' --decimal-mark {shlex.quote(mark)}"
        yield Finding(
            "mark-open", message, Place(name=proposal.name), f"Either: {thousands}, or: {decimals}", "warning"
        )
    elif evidence.nearly and evidence.why.startswith("cells of text"):
        kind = evidence.nearly if evidence.nearly != "decimal" else f"decimal(18,{evidence.scale})"
        yield Finding(
            "numbers-as-text",
            f"{proposal.name} holds {evidence.why}.",
            Place(name=proposal.name),
            f"To read them so: {command} {shlex.quote(kind)}",
            "note",
        )
    elif evidence.nearly:
        words = [word.rpartition(" × ")[0] for word in evidence.why.partition("; not: ")[2].split(", ")]
        listed = " ".join(f"--null-word {shlex.quote(word)}" for word in words)
        kind = evidence.nearly if evidence.nearly != "decimal" else "decimal(18,2)"
        message = f"{proposal.name} is {evidence.why}."
        yield Finding(
            "nearly-typed",
            message,
            Place(name=proposal.name),
            f"If these words mean no value: {command} {shlex.quote(kind)} {listed}",
            "warning",
        )
    elif evidence.other_order:
        message = f"{proposal.name} is read as {evidence.template}; no row shows which is the day."
        yield Finding(
            "order-open",
            message,
            Place(name=proposal.name),
            f"If the month comes first: {command} {proposal.keys['type']} --template {shlex.quote(evidence.other_order)}",
            "warning",
        )
    elif evidence.kind in ("integer", "decimal", "number") and _MOMENT_NAME.search(proposal.name):
        yield from _moment(proposal, command)


def _sums(source: Source, name: str, mark: str, other: str) -> tuple[str, str]:
    """All values added up, in both readings."""
    field = quote_identifier(name)
    readings = [
        f"SUM(CAST(PLAIN_NUMBER({field}, {quote_literal(point)}, {quote_literal(thousands)}) AS DECIMAL(38,3)))"
        for point, thousands in ((other, mark), (mark, ""))
    ]
    whole, decimal = (source.tally([], [("sum", reading)]).value() for reading in readings)
    return f"{whole:,.0f}".replace(",", " "), f"{decimal:,.3f}".replace(",", " ")


def _moment(proposal: Proposal, command: str) -> Iterator[Finding]:
    """Whole numbers whose name and size are those of seconds since 1970, or of days as sheets number them."""
    try:
        ends = sorted(float(text.replace(",", ".")) for text in (proposal.evidence.least, proposal.evidence.most))
    except ValueError:
        return
    for what, unit, span in _UNITS:
        if all(int(end) in span for end in ends):
            shown = dt.datetime.fromtimestamp(ends[0] / unit, dt.UTC).replace(tzinfo=None).isoformat(" ", "seconds")
            message = f"{proposal.name} may hold {what} since 1970 ({proposal.evidence.least} would be {shown}); it is kept as numbers."
            yield Finding("may-be-moment", message, Place(name=proposal.name), severity="note")
    if all(int(end) in _SHEET_DAYS for end in ends):
        shown = str(dt.date(1899, 12, 30) + dt.timedelta(days=int(ends[0])))
        message = f"{proposal.name} may hold days as sheets number them ({proposal.evidence.least} would be {shown}); it is kept as numbers."
        hint = f"As dates: a calculated field DATE '1899-12-30' + {quote_identifier(proposal.name)}"
        yield Finding("may-be-moment", message, Place(name=proposal.name), hint, "note")
