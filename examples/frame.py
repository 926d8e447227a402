"""A frame in, calculated fields, a tally with totals that are computed and not added up."""

import pandas as pd

import oak_ledger as oak

frame = pd.DataFrame(
    {
        "Mill": ["Low Weir", "High Ford", "Low Weir", "High Ford"],
        "Volume": [12.0, 24.0, 4.5, 11.5],
        "Haulage cost": [96.0, 150.0, None, 99.0],
    }
)

source = oak.Source.from_table(frame, name="Loads")
source = source.with_field("Cost per m³", '"Haulage cost" / Volume')

# Each row looks right, but the sum of ratios is no ratio of sums; the check says so, with both numbers.
for finding in source.check():
    print(finding.code, finding.numbers)

source = source.with_field("Cost per m³", 'SUM("Haulage cost") / SUM(Volume)', format="0.00")
answer = source.tally(["Mill"], ["Volume", "Cost per m³"], totals=True)
for row in [*answer.shown(), answer.totals_shown()]:
    print(row)
