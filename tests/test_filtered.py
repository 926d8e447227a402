"""Questions with filters over Parquet files: row groups that a filter rules out are not read, and the same comes out as of a table in memory."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

import oak_ledger as oak
from oak_ledger.engine.options import overridden
from tests.test_engine import told
from tests.test_parquet import everything

ROWS = 3000
COLUMNS = {
    "Load": "ramp", "Few": "few", "Value": "floats", "Cost": "floats some", "Wild": "wild", "Day": "day", "Moment": "moment", "Money": "money", "Paid": "yes some",
    "Grade": "grade", "Wood": "grade some", "Ticket": "ticket", "Note": "long", "Kind": "kind", "Gone": "few all", "Byte": "byte",
}  # fmt: skip
FILTERS = (
    "Load = 1234", "Load < 5", "Load >= 2990 OR Load < 3", "Few = 2 AND Grade = 'oak'", "Value > 2.2e0", "Cost IS NULL", "Wild IS NOT NULL", "Gone IS NULL", "Gone > 0", "Grade = 'larch'",
    "CHAR_LENGTH(Ticket) < 9", "CONTAINS(Note, 'wood wood wood') AND NOT Paid", "Money > 12.50", "Kind = 'saw'", "Byte / Few > 30", "EXTRACT(YEAR FROM Day) = 1970", "Day < TIMESTAMP '1970-01-02 12:00:00'", "Day = TIMESTAMP '1970-01-02 12:00:00'", "Few < 0.5", "TRUE", "FALSE",
    "Grade LIKE 'o%'", "Ticket LIKE 'T%'", "STARTS_WITH(Note, 'wood') AND Kind LIKE '%a_'", "Grade LIKE 'oak' OR Wood LIKE '%'",
)  # fmt: skip
ROW_VALUES = (
    ["Load", "Ticket", "Money"],
    ["Grade", "Cost / Few", "Wood"],
    ["UPPER(Kind)", "Moment", "Paid", "Note", "Wild"],
    ["LAG(Few) OVER (ORDER BY Load)", "Load"],
)
GROUPED = (
    ([], ["COUNT(*)", "SUM(Value)", "SUM(Few)", "MEDIAN(Cost)"]), (["Grade"], ["SUM(Money)", "COUNT(DISTINCT Ticket)", "MAX(Note)", "AVG(Byte)"]), (["Wood", "Kind"], ["SUM(Few / Byte)", "MIN(Moment)", "BOOL_OR(Paid)"]),
    (["Paid"], ["SUM(Few) FILTER (WHERE Value > 0)", "MEDIAN(Few)", "COUNT(Gone)"]),
)  # fmt: skip


class Filtered(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.path = self.folder / "loads.parquet"

    def source(self, rows: int = ROWS, **options: Any) -> oak.Source:
        """The file as a source."""
        pq.write_table(everything(rows, 8), self.path, **options)
        text = '[source]\nname = "Loads"\n[origin]\nkind = "parquet"\npath = "loads.parquet"\n'
        text += "".join(f'[[field]]\nname = "{name}"\ncolumn = "{column}"\n' for name, column in COLUMNS.items())
        (self.folder / "loads.oak.toml").write_text(text)
        return oak.open_source(self.folder / "loads.oak.toml")

    def answers(self, source: oak.Source, where: str) -> list[Any]:
        """What comes out of each question: values, faults, rows counted."""
        made = [told(source.rows(values, where=where)) for values in ROW_VALUES]
        made += [told(source.tally(by, show, where=where)) for by, show in GROUPED]
        if "/" not in where:  # what goes wrong beyond a limit is told or not, as it is met
            made.append(told(source.rows(["Load", "Ticket"], where=where, limit=7)))
        return made

    def test_the_same_as_of_a_table_in_memory(self) -> None:
        self.source()
        columns = {name: pq.read_table(self.path).column(column) for name, column in COLUMNS.items()}
        wild = columns["Wild"]
        columns["Wild"] = pc.if_else(pc.is_finite(wild), wild, pa.scalar(None, pa.float64()))
        plain = oak.Source.from_table(pa.table(columns), name="Loads")
        wanted = {where: self.answers(plain, where) for where in FILTERS}
        self.assertGreater(sum(len(one[0]) > 0 for one in wanted.values()), 10)
        files: tuple[dict[str, Any], ...] = (
            {}, {"row_group_size": 700}, {"compression": "zstd", "data_page_size": 900}, {"use_dictionary": False, "data_page_version": "2.0"},
        )  # fmt: skip
        ways: tuple[dict[str, Any], ...] = ({"rows": 1 << 17}, {"rows": 400, "threads": 2}, {"rows": 97}, {"threads": 2}, {"rows": 64})  # fmt: skip
        for at, (options, way) in enumerate(zip((*files, {}), ways, strict=True)):
            source = self.source(**options)
            for where in FILTERS[at % 3 :: 3]:
                with self.subTest(where=where, options=options), overridden(**way):
                    self.assertEqual(self.answers(source, where), wanted[where])

    def test_row_groups_that_a_filter_rules_out_are_not_read(self) -> None:
        source = self.source(row_group_size=500)
        for where, read in (("Load < 30", 500), ("Load >= 2600", 500), ("Load < 30 OR Load > 2990", 1000), ("Gone > 0", 0), ("Load > 5 AND Gone IS NULL", 3000), ("Cost / 0 > 0", 3000), ("Ticket LIKE '~%'", 0), ("STARTS_WITH(Ticket, '') AND Load < 30", 500), ("Ticket LIKE '%~%'", 3000), ("NOT Ticket LIKE '~%'", 3000)):  # fmt: skip
            answer = source.tally(["Grade"], ["SUM(Value)"], where=where, explain=True)
            rows = {
                kind: max((one.rows for one in answer.steps if one.kind == kind), default=0)
                for kind in ("read", "not read")
            }
            with self.subTest(where):
                self.assertEqual((rows["read"], rows["not read"]), (read, ROWS - read))
                self.assertEqual(answer.rows_read, ROWS)


if __name__ == "__main__":
    unittest.main()
