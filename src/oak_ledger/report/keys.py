"""Every key of definitions and reports, with an example of each table: what the page, `oak help keys` and a test read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from oak_ledger.definition.model import DEFINITION
from oak_ledger.report.definition import REPORT
from oak_ledger.report.kinds import KINDS

DEFINITION_EXAMPLES: Mapping[str, str] = {
    "source": """\
[source]
name = "Timber loads"
owner = "Forest office"
description = "One row for each load that a mill measured"
key = ["Load no"]
baseline = "snapshots/2026-05.parquet"
base = 3
""",
    "origin": r"""
[origin]
kind = "files"
path = "intake/loads_*.csv"
name_parts = "loads_{Year}-{Month}.csv"
separator = ";"
quote = '"'
escape = "\\"
spaces = true
encoding = "utf-8"
header = 3
header_lines = 2
comment = "#"
footer = 1
bad_rows = "drop"
renamed = { Vol = "Volume" }

# A file without names:
# header = "none"
# names = ["Load no", "Volume"]

# A sheet:
# kind = "sheet"
# path = "loads.xlsx"
# sheet = "June"
# earlier = { "May" = 2026-04-01 }

# A database:
# kind = "database"
# url = "postgresql://reader@yard/timber"
# password_from = "YARD_PASSWORD"
# table = "loads"
# query = "SELECT * FROM loads WHERE year >= 2025"

# Another source: a definition (path = "loads.oak.toml"), or one of a catalogue:
# kind = "source"
# path = "catalogue"
# published = "North/Loads"
# version = 3
""",
    "part": """\
# With kind = "join" under [origin].
[[part]]
name = "Loads"
kind = "file"
path = "loads.csv"

[[part]]
name = "Mills"
kind = "file"
path = "mills.csv"
on = ["Mill=Code"]
match = "LTRIM(VALUE, '0')"
how = "left"

# Prices that change: the row that is valid on the day of each load.
[[part]]
name = "Prices"
kind = "source"
path = "prices.oak.toml"
on = ["Mill"]
day = "Measured"
valid_from = '"Valid from"'
valid_until = '"Valid until"'

# Added up before it is joined:
# totals = { Trips = "COUNT(*)" }
""",
    "step": """\
[[step]]
kind = "fill down"
columns = ["Mill"]

[[step]]
kind = "columns into rows"
columns = ["* 2026"]
name = "Month"
value = "Planned"
nulls = false

[[step]]
kind = "split"
columns = ["Place"]
by = " - "
into = ["Town", "Yard"]

[[step]]
kind = "split"
columns = ["Load"]
pattern = "^([A-Z]+)([0-9]+)$"
into = ["Kind", "Number"]

[[step]]
kind = "leave out"
where = "Mill = 'Total'"

[[step]]
kind = "distinct"
within = ["Mill", "Month"]
order = "-Sent"
""",
    "naming": r"""
[[naming]]
columns = "tl_*"
remove_prefix = "tl_"
remove_suffix = "_x"
pattern = '(\d+)$'
by = ' \1'
underscores = true
spaces = "_"
case = "sentence"
add_prefix = "load "
add_suffix = " (raw)"
""",
    "field": """\
[[field]]
name = "Delivered"
column = "dlv_dt"
type = "date"
template = "DD.MM.YYYY"
null_words = ["-", "n/a"]
description = "The day the mill measured it"
hidden = false
format = "DD.MM.YYYY"
role = "dimension"

[[field]]
name = "Species"
column = "sp"
clean = "UPPER(TRIM(VALUE))"
values = { "01" = "OAK", "02" = "ASH" }
renamed_values = { "QUERCUS" = "OAK" }
earlier = { "SPEC" = 2026-04-01 }
earlier_values = { "QUERCUS" = 2026-04-01 }
earlier_clean = { "UPPER(VALUE)" = 2026-04-01 }

[[field]]
name = "Mill"
column = "mill"
values_from = "mills.csv"

[[field]]
name = "Haulage per m³"
formula = '''SUM("Haulage cost") / SUM(Volume)'''
format = "0.00"

[[field]]
name = "Moisture"
column = "moist"
type = "decimal(5,1)"
decimal_mark = ","
thousands_mark = "."
rule = "VALUE BETWEEN 0 AND 100"
total = "average"
# total = "last"   # of a level, such as a stock: over the last day of each group
# total_by = "Day"
""",
    "constant": """\
[[constant]]
name = "Euro rate"
by = "Delivered"
values = { 2025-01-01 = 1.08, 2026-01-01 = 1.11 }
description = "Finance sends it in January"

[[constant]]
name = "Full load"
value = 30
""",
    "filter": """\
[[filter]]
name = "Not returned"
where = "Status <> 'returned'"
always = true
description = "Returned loads are billed elsewhere"
""",
    "rule": """\
[[rule]]
name = "A volume is positive"
holds = "Volume > 0"
description = "The crane's zero weighs are typing errors"
""",
}
REPORT_EXAMPLES: Mapping[str, str] = {
    "report": """\
[report]
name = "Margins by mill"
source = "Timber loads"
owner = "Mill desk"
text = "{Margin} is what is left after haulage"
baseline = "3"
""",
    "field": """\
[[field]]
name = "Net value"
formula = '''"Gross value" - COALESCE("Haulage cost", 0)'''
format = "0,000"
description = "Before loading and permits"
""",
    "filter": """\
[[filter]]
name = "Northern mills"
include = ["Mill = 'Low Weir'", "Mill = 'High Ford'"]

[[filter]]
name = "No returns"
exclude = ["Status = 'returned'"]
always = true
""",
    "panel": "\n".join(f"# {kind.word}: {kind.about}\n{kind.example}" for kind in KINDS.values())
    + """
# where: a condition, the name of a filter, or a list of them
[[panel]]
kind = "figure"
title = "Volume in 2026, against 2025"
show = [{ name = "Volume", formula = "SUM(Volume) FILTER (WHERE Year = 2026)" }]
against = "SUM(Volume) FILTER (WHERE Year = 2025)"
where = ["Northern mills", "Volume > 3"]
""",
}


@dataclass(frozen=True, slots=True)
class TableKeys:
    """A table of a file: its header as it is written, each key with what it says, and an example."""

    file: str
    header: str
    about: str
    keys: tuple[tuple[str, str], ...]
    example: str


def table_keys() -> list[TableKeys]:
    """The tables of definitions, then those of reports."""
    found = []
    files = (("NAME.oak.toml", DEFINITION, DEFINITION_EXAMPLES), ("NAME.report.toml", REPORT, REPORT_EXAMPLES))
    for file, shape, examples in files:
        for name, model in shape.models.items():
            header = f"[[{name}]]" if name in shape.lists else f"[{name}]"
            keys = tuple((key, info.description or "") for key, info in model.model_fields.items() if key[0] != "_")
            about = " ".join((model.__doc__ or "").split()).replace("`", "")
            found.append(TableKeys(file, header, about, keys, examples[name].strip() + "\n"))
    return found
