"""A column is renamed upstream: what is broken, what it may be called now, and mending it once everywhere."""

import tempfile
from pathlib import Path

import oak_ledger as oak

folder = Path(tempfile.mkdtemp())
data = folder / "loads.csv"
data.write_text("LOAD,STAND,VOLUME\n1,ST-01,12.5\n2,ST-02,8.0\n3,ST-01,4.0\n")
source = oak.intake([data], name="Loads", definition=folder / "loads.oak.toml").source
source = source.with_field("Stands", "COUNT(DISTINCT Stand)")
source.save()
catalogue = oak.Catalogue.open(folder / "catalogue", create=True)
catalogue.publish(source)
published = catalogue.source("Loads", drafts=True)

data.write_text("LOAD,COMPARTMENT,VOLUME\n1,ST-01,12.5\n2,ST-02,8.0\n3,ST-01,4.0\n")
source = oak.open_source(folder / "loads.oak.toml")
for broken in oak.broken_names(source):
    print(broken.name, "is broken, and through it", *broken.through)
for candidate in oak.candidates(source, published)["Stand"]:
    print(candidate.sentence())

planned = oak.plan_mend(source, {"STAND": "COMPARTMENT"})
for edit in planned.edits:
    for number, before, after in edit.lines():
        print(number, before, "→", after)
planned.apply()
print(oak.open_source(folder / "loads.oak.toml").tally(show=["Stands"]).value(), "stands")
