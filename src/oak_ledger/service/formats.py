"""An answer as bytes, in one of the formats in which it can be asked for; and back again from an Arrow stream."""

from __future__ import annotations

import json
from base64 import b64decode, b64encode
from collections import Counter
from collections.abc import Mapping
from io import BytesIO
from typing import Any

import pyarrow as pa

from oak_ledger.engine import Fault
from oak_ledger.errors import Finding, Place
from oak_ledger.source import Answer
from oak_ledger.source.export import as_text, harmless

MEDIA: Mapping[str, str] = {
    "json": "application/json",
    "csv": "text/csv; charset=utf-8",
    "arrow": "application/vnd.apache.arrow.stream",
    "parquet": "application/vnd.apache.parquet",
}
ENDINGS: Mapping[str, str] = {"json": "json", "csv": "csv", "arrow": "arrows", "parquet": "parquet"}
NOTE = b"oak answer"
"""Where an Arrow stream or a Parquet file has what else is to be known of the answer."""


def as_bytes(answer: Answer, kind: str, version: str) -> bytes:
    """An answer in a binary format or as text; the binary ones carry its totals, faults and findings along."""
    if kind == "csv":
        import pyarrow.csv as pa_csv

        out = BytesIO()
        pa_csv.write_csv(as_text(harmless(answer.table, Counter())), out, pa_csv.WriteOptions(quoting_style="needed"))
        return out.getvalue()
    table = answer.table.replace_schema_metadata({NOTE: json.dumps(_note(answer, version), default=str).encode()})
    if kind == "parquet":
        import pyarrow.parquet as pq

        out = BytesIO()
        pq.write_table(table, out, compression="zstd")
        return out.getvalue()
    return _stream(table)


def _stream(table: pa.Table) -> bytes:
    out = BytesIO()
    with pa.ipc.new_stream(out, table.schema) as writer:
        writer.write_table(table)
    return out.getvalue()


def _note(answer: Answer, version: str) -> dict[str, Any]:
    totals = None if answer.totals is None else b64encode(_stream(answer.totals)).decode()
    return {
        "version": version, "totals": totals, "faults": [fault.as_json() for fault in answer.faults], "findings": [finding.as_json() for finding in answer.findings],
        "formats": dict(answer.formats), "rows_read": answer.rows_read, "rows_used": answer.rows_used, "groups": answer.groups,
    }  # fmt: skip


def from_stream(content: bytes) -> Answer:
    """The answer that an Arrow stream has."""
    table = pa.ipc.open_stream(content).read_all()
    note = json.loads(table.schema.metadata[NOTE])
    totals = None if note["totals"] is None else pa.ipc.open_stream(b64decode(note["totals"])).read_all()
    faults = tuple(
        Fault(one["field"], one["what"], one["rows"], tuple((own["row"], own["inputs"]) for own in one["samples"]))
        for one in note["faults"]
    )
    return Answer(
        table.replace_schema_metadata(None), totals, faults, tuple(map(finding_from, note["findings"])), note["formats"],
        note["rows_read"], note["rows_used"], note["groups"], place="service",
    )  # fmt: skip


def finding_from(said: Mapping[str, Any]) -> Finding:
    """A finding from its plain values."""
    text, start, end = said["text"] or "", 0, 0
    if text and said["line"]:
        start = sum(len(line) for line in text.splitlines(keepends=True)[: said["line"] - 1]) + said["column"] - 1
        end = start + said["length"]
    entry = Place(said["file"] or "", said["kind"] or "", said["name"] or "", said["file_line"] or 0)
    place = entry.in_text(text, start, end)
    return Finding(said["code"], said["message"], place, said["hint"], said["severity"], said["fixed"], said["numbers"])
