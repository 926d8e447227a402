"""The six reports that four report builders have made of the timber loads, as files."""

from __future__ import annotations

from pathlib import Path

REPORTS = {
    "mill_margins": """\
# The first thing the mill desk opens in the morning.
[report]
name = "Margins by mill"
source = "Timber loads"
owner = "Mill desk"
text = "{Margin} is what is left of {Gross value} after haulage, loading and permits"
baseline = "1"

[[panel]]
kind = "figure"
title = "Margin in all"
show = ["Margin"]
change = true

[[panel]]
kind = "figure"
title = "Margin rate"
show = ["Margin rate"]
change = true

[[panel]]
kind = "figure"
title = "Loads"
show = [{ name = "Loads", formula = "COUNT(*)" }]

[[panel]]
kind = "bars"
title = "{Margin} by mill"
by = ["Mill"]
show = ["Margin"]
sort = ["-Margin"]

[[panel]]
kind = "table"
title = "Mills"
by = ["Mill"]
show = ["Volume", "Gross value", "Margin", "Margin rate"]
sort = ["-Margin"]
totals = true
""",
    "mill_intake": """\
[report]
name = "What came in"
source = "Timber loads"
owner = "Mill desk"

[[panel]]
kind = "figure"
title = "Volume, m³"
show = ["Volume"]

[[panel]]
kind = "figure"
title = "Moisture, average"
show = [{ name = "Moisture", formula = "ROUND(AVG(Moisture), 1)" }]

[[panel]]
kind = "bars"
title = "{Volume} by species"
by = ["Species"]
show = ["Volume"]
sort = ["-Volume"]
colours = { OAK = "#6b4f2a", ASH = "#b89a3e", LAR = "#a9744f", SPR = "#4b7f3c" }

[[panel]]
kind = "bars"
title = "{Volume} by mill and species"
by = ["Mill", "Species"]
show = ["Volume"]
sort = ["-Volume"]
stacked = true
colours = { OAK = "#6b4f2a", ASH = "#b89a3e", LAR = "#a9744f", SPR = "#4b7f3c" }

[[panel]]
kind = "lines"
title = "{Volume} by month and species"
by = [{ name = "Month", formula = "DATE_TRUNC('month', Delivered)" }, "Species"]
show = ["Volume"]
colours = { OAK = "#6b4f2a", ASH = "#b89a3e", LAR = "#a9744f", SPR = "#4b7f3c" }

[[panel]]
kind = "table"
title = "Mills and species"
by = ["Mill", "Species"]
show = ["Volume", "Gross value"]
sort = ["-Volume"]
limit = 3
rest = true
subtotals = true
totals = true
""",
    "haulage_cost": """\
[report]
name = "What haulage costs"
source = "Timber loads"
owner = "Haulage desk"

[[field]]
name = "Haulage per km"
formula = '''SUM("Haulage cost") / SUM("Distance km")'''
format = "0.00"

[[panel]]
kind = "figure"
title = "Haulage per m³"
show = ["Haulage per m³"]

[[panel]]
kind = "bars"
title = "{Haulage per m³} by mill"
by = ["Mill"]
show = ["Haulage per m³"]
sort = ["-Haulage per m³"]

[[panel]]
kind = "table"
title = "By distance"
by = ["Mill"]
show = ["Haulage cost", "Distance km", "Haulage per km"]
totals = true
""",
    "haulage_stands": """\
[report]
name = "Costly stands"
source = "Timber loads"
owner = "Haulage desk"
text = "Which {Stand} costs most to haul from"

[[panel]]
kind = "bars"
title = "Ten stands that cost most to haul from"
by = ["Stand"]
show = ["Haulage per m³"]
sort = ["-Haulage per m³"]
limit = 10
rest = true

[[panel]]
kind = "table"
title = "Stands"
by = ["Stand"]
show = ["Volume", "Haulage cost", "Haulage per m³"]
where = '''"Stand" IS NOT NULL'''
sort = ["-Haulage per m³"]
limit = 10
totals = true
""",
    "finance_months": """\
[report]
name = "Finance, month by month"
source = "Timber loads"
owner = "Finance"

# The forest office has the same field.
[[field]]
name = "Net value"
formula = '''"Gross value" - COALESCE("Haulage cost", 0)'''
format = "0,000"

[[filter]]
name = "No returns"
exclude = ["Status = 'returned'"]

[[panel]]
kind = "figure"
title = "Net value"
show = ["Net value"]
where = ["No returns"]

[[panel]]
kind = "table"
title = "Months"
by = ["Delivery month"]
show = ["Gross value", "Net value", "Margin", "Margin rate"]
where = ["No returns"]
totals = true
""",
    "forest_stands": """\
[report]
name = "Stands and sizes"
source = "Timber loads"
owner = "Forest office"

[[field]]
name = "Net value"
formula = '''"Gross value" - COALESCE("Haulage cost", 0)'''
format = "0,000"

[[panel]]
kind = "bars"
title = "Ten best stands by {Volume}"
by = ["Stand"]
show = ["Volume"]
sort = ["-Volume"]
limit = 10

[[panel]]
kind = "text"
title = "How to read this"
text = '''{Volume} is measured at the mill. {Size class} goes by the volume of one load: below 10 m³ is small, 30 m³ and more is large.'''

[[panel]]
kind = "table"
title = "Size classes"
by = ["Size class"]
show = [{ name = "Loads", formula = "COUNT(*)" }, "Volume", "Net value"]
totals = true
""",
}


def write_reports(folder: Path) -> list[Path]:
    """Write the six report files into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = []
    for name, text in REPORTS.items():
        path = folder / f"{name}.report.toml"
        path.write_text(text, encoding="utf-8")
        paths.append(path)
    return paths
