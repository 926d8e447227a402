"""Columns judged from their rows, and the fields that they are proposed as."""

from __future__ import annotations

import re
from collections.abc import Container, Iterator, Sequence
from dataclasses import replace
from typing import Any

import pyarrow as pa

from oak_ledger.columns.proposal import Proposal
from oak_ledger.columns.roles import alike_roles, role_of
from oak_ledger.errors import Finding, UnusableInput
from oak_ledger.origin import OriginReader
from oak_ledger.origin.evidence import Context, Evidence, as_text
from oak_ledger.origin.files import FILE_COLUMN
from oak_ledger.origin.infer import TypedColumn, TypeInferrer
from oak_ledger.types import TEXT, Type

_UNNAMED = re.compile(r"Column \d+")


def nice_name(column: str) -> str:
    """A column's name as people would write it: LOAD_ID is Load id, grossValue is Gross value."""
    words = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", column).replace("_", " ").split()
    shown = [
        word.lower()
        if word.isupper() or (at and word.istitle() and column.find("_") < 0 and column.find(" ") < 0)
        else word
        for at, word in enumerate(words)
    ]
    text = " ".join(shown)
    return text[:1].upper() + text[1:]


def judged(feed: OriginReader, sample: int | None) -> tuple[dict[str, TypeInferrer | TypedColumn], int, list[Finding]]:
    """What judges each column, and how many rows they saw; columns with values that cannot be read are left out, and said."""
    kinds = {name: kind for name, kind in feed.columns().items() if name != FILE_COLUMN}
    unreadable: list[Finding] = []
    while True:
        judges: dict[str, TypeInferrer | TypedColumn] = {
            name: TypeInferrer() if kind == TEXT else TypedColumn(kind) for name, kind in kinds.items()
        }
        rows = 0
        try:
            for batch in _first_rows(feed, [*judges], sample):
                rows += batch.num_rows
                for name, judge in judges.items():
                    judge.see(batch.column(name))
            return judges, rows, unreadable
        except UnusableInput as error:
            if error.code != "unreadable-value" or kinds.pop(error.findings[0].place.name, None) is None:
                raise
            message = f"{error.message} No field takes it over."
            unreadable.append(replace(error.findings[0], message=message, severity="warning"))


def _first_rows(feed: OriginReader, columns: Sequence[str], sample: int | None) -> Iterator[pa.RecordBatch]:
    """The rows, or so many of them."""
    left = sample
    for batch in feed.batches(columns):
        part = batch if left is None else batch.slice(0, left)
        yield part
        if left is not None:
            left -= part.num_rows
            if left <= 0:
                return


def proposals_of(
    judges: dict[str, TypeInferrer | TypedColumn], separator: str, text_cells: Container[str], *, nice: bool
) -> list[Proposal]:
    """What each column is proposed as; those that prove a decimal mark help to judge the others. Cells that are texts stay texts."""
    first = {column: judge.verdict(Context(separator)) for column, judge in judges.items()}
    proven = {evidence.proves for evidence in first.values()} - {""}
    context = Context(separator, proven.pop() if len(proven) == 1 else "")
    proposals: list[Proposal] = []
    taken: set[str] = set()
    for column, judge in judges.items():
        name = nice_name(column) if nice else column
        if name.casefold() in taken:
            name = column
        taken.add(name.casefold())
        evidence = judge.verdict(context) if first[column].marks or first[column].ambiguous else first[column]
        evidence = as_text(evidence) if column in text_cells else evidence
        proposals.append(propose(column, name, evidence))
    return alike_roles(proposals)


def verdict_of(feed: OriginReader, column: str, kind: Type) -> Evidence:
    """What one column is, from all its rows."""
    judge: TypeInferrer | TypedColumn = TypeInferrer() if kind == TEXT else TypedColumn(kind)
    for batch in feed.batches([column]):
        judge.see(batch.column(column))
    return judge.verdict()


def propose(column: str, name: str, evidence: Evidence) -> Proposal:
    """The field that a column is proposed as."""
    keys: dict[str, Any] = {"name": name, "column": column}
    shown = f"decimal({evidence.precision},{evidence.scale})" if evidence.kind == "decimal" else evidence.kind
    if evidence.typed:
        shown = str(evidence.typed)
    else:
        keys["type"] = "text" if evidence.clean else shown
    if evidence.template:
        keys["template"] = evidence.template
    if evidence.marks == "," and not evidence.clean:
        keys["decimal_mark"] = ","
    if evidence.thousands:
        keys["thousands_mark"] = evidence.thousands
    if evidence.null_words:
        keys["null_words"] = list(evidence.null_words)
    if evidence.clean:
        keys["clean"] = evidence.clean
    role, total, why = role_of(name, evidence)
    keys["role"] = role
    if evidence.why == "percentages":
        keys["format"] = "0.0%"
    if total:
        keys["total"] = total
    if _UNNAMED.fullmatch(column) and evidence.rows == evidence.nulls:
        keys["hidden"] = True
    return Proposal(column, name, shown, role, evidence, keys, why)
