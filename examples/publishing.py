"""Publishing: a draft, a release, a report over what is released, and what the next version does to its figures."""

import tempfile
from pathlib import Path

import oak_ledger as oak

folder = Path(tempfile.mkdtemp())
data = folder / "loads.csv"
data.write_text("Mill,Volume,Value\nLow Weir,12.5,1400\nHigh Ford,8.0,900\nLow Weir,4.0,410\n")
source = oak.intake([data], name="Loads", definition=folder / "loads.oak.toml").source
source = source.with_field("Price", "SUM(Value) / SUM(Volume)", format="0.00")
source.save()

report_file = folder / "prices.report.toml"
report_file.write_text(
    """\
[report]
name = "Prices"
source = "Loads"

[[panel]]
kind = "bars"
title = "{Price} by mill"
by = ["Mill"]
show = ["Price"]
"""
)

catalogue = oak.Catalogue.open(folder / "catalogue", create=True)
catalogue.publish(source, note="first")
catalogue.release("Loads", note="proven")
report = oak.open_report(report_file)
released = catalogue.source("Loads")
print(report.view(released).panels[0].title, report.view(released).version.split(",")[0])
print(oak.save_report(report.view(released), folder / "prices.html").name)

data.write_text("Mill,Volume,Value\nLow Weir,12.5,1400\nHigh Ford,8.0,960\nLow Weir,4.0,410\n")
catalogue.publish(oak.open_source(folder / "loads.oak.toml"), note="a corrected value")
draft = catalogue.source("Loads", drafts=True)
for change in oak.report_changes([report], released, draft):
    print(change.panel, change.measure, round(change.before, 2), "→", round(change.after, 2))
