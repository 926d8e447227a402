"""Two people's changes put together: drawn edits of either, by entries, in version control and onto a newer version."""

from __future__ import annotations

import random
import subprocess
import sys
from pathlib import Path
from typing import Any

import oak_ledger as oak
from oak_ledger.definition.document import parse_document
from oak_ledger.definition.merging import merged
from oak_ledger.definition.model import DEFINITION
from tests.support import FolderCase

BASE = """\
# the loads of the yard
[source]
name = "Loads"   # as the foresters say
key = ["Load"]

[origin]
kind = "file"
path = "loads.csv"

[[field]]
name = "Load"
column = "LOAD"

# what the mill pays for
[[field]]
name = "Volume"
column = "VOLUME"
type = "decimal(9,2)"

[[field]]
name = "Cost"
column = "COST"
type = "number"

[[field]]
name = "Rate"
formula = "SUM(Cost) / SUM(Volume)"
"""
CSV = "LOAD,VOLUME,COST\n1,2.50,10\n2,4.00,30\n"


def read(text: str) -> Any:
    return parse_document(text, DEFINITION, "loads.oak.toml")


def with_edits(
    rng: random.Random, source: oak.Source, mark: str, fields: list[str]
) -> tuple[oak.Source, dict[str, Any]]:
    """Some edits of the fields that are one's own to change, and what each field says then."""
    said: dict[str, Any] = {}
    for name in fields:
        kind = rng.choice(("describe", "format", "hide", "none", "both"))
        if kind in ("describe", "both"):
            source = source.with_changed(name, description=f"{name} of {mark}")
            said[name] = f"{name} of {mark}"
        if kind in ("format", "both"):
            source = source.with_changed(name, format="0.00")
        if kind == "hide":
            source = source.with_changed(name, hidden=True)
    for at in range(rng.randint(0, 3)):
        source = source.with_field(f"{mark} {at}", f"Cost + {at}")
        said[f"{mark} {at}"] = ""
    return source, said


class Merging(FolderCase):
    def setUp(self) -> None:
        super().setUp()
        self.write("loads.csv", CSV)
        self.write("loads.oak.toml", BASE)
        self.source = oak.open_source("loads")

    def test_drawn_edits_of_either(self) -> None:
        """Where each changes entries of their own, all edits of both are there, and nothing else; in either order."""
        rng = random.Random(20261201)
        for draw in range(80):
            names = ["Load", "Volume", "Cost", "Rate"]
            rng.shuffle(names)
            cut = rng.randint(0, 4)
            ours, said = with_edits(rng, self.source, "ours", names[:cut])
            theirs, more = with_edits(rng, self.source, "theirs", names[cut:])
            for sides in ((ours, theirs), (theirs, ours)):
                with self.subTest(draw=draw):
                    document, found = merged(self.source.document, *(one.document for one in sides))
                    self.assertEqual(found, [])
                    made = self.source.changed(read(document.text))
                    self.assertEqual([one.name for one in made.fields if one.broken], [])
                    wanted = {one.name: one.spec for one in (*ours.fields, *theirs.fields)}
                    self.assertEqual({one.name for one in made.fields}, {*wanted})
                    for name, text in (said | more).items():
                        self.assertEqual(made.state(name).spec.description, text)
                    changed = {one.name: one.spec for side in (ours, theirs) for one in side.fields if one.spec != (self.source.state(one.name).spec if one.name.casefold() in self.source.compiled.states else None)}  # fmt: skip
                    for name, spec in changed.items():
                        self.assertEqual(made.state(name).spec, spec)
                    self.assertIn("# what the mill pays for", document.text)

    def test_tables_of_cases(self) -> None:
        """What one and the other made of it, what it says then, and how many are to be decided."""
        base = read(BASE)
        for about, one, other, there, gone, open_cases in (
            ("keys of one field", BASE.replace('type = "number"', 'type = "number"\nformat = "0.0"'), BASE.replace('column = "COST"', 'column = "PRICE"'), ('column = "PRICE"', 'format = "0.0"'), (), 0),
            ("the same change", BASE.replace("Rate", "Price"), BASE.replace("Rate", "Price"), ('name = "Price"',), ("Rate",), 0),
            ("one key, two ways", BASE.replace("VOLUME", "CUBIC"), BASE.replace("VOLUME", "VOL"), ('column = "CUBIC"',), (), 1),
            ("renamed here, used in a new field there", BASE.replace('"Volume"', '"Cubic"').replace("SUM(Volume)", "SUM(Cubic)"), BASE + '\n[[field]]\nname = "Twice"\nformula = "Volume * 2"\n', ('formula = "Cubic * 2"', "SUM(Cubic)"), ("Volume",), 0),
            ("renamed there", BASE + '\n[[field]]\nname = "Twice"\nformula = "Volume * 2"\n', BASE.replace('"Volume"', '"Cubic"').replace("SUM(Volume)", "SUM(Cubic)"), ('formula = "Cubic * 2"', "SUM(Cubic)"), ("Volume",), 0),
            ("taken out here, changed there", BASE.partition('[[field]]\nname = "Rate"')[0], BASE.replace("/ SUM(Volume)", "/ SUM(Cost)"), (), ('name = "Rate"',), 1),
            ("taken out there", BASE, BASE.partition('[[field]]\nname = "Rate"')[0], (), ('name = "Rate"',), 0),
            ("a comment", BASE, BASE.replace("pays for", "is paid for"), ("# what the mill is paid for",), (), 0),
            ("both add the same name", BASE + '\n[[field]]\nname = "N"\nformula = "1"\n', BASE + '\n[[field]]\nname = "N"\nformula = "2"\n', ('formula = "1"',), (), 1),
        ):  # fmt: skip
            with self.subTest(about):
                document, found = merged(base, read(one), read(other))
                self.assertEqual(len(found), open_cases, found)
                for words in there:
                    self.assertIn(words, document.text)
                for words in gone:
                    self.assertNotIn(words, document.text)
                read(document.text)

    def git(self, *words: str, code: int = 0) -> str:
        ran = subprocess.run(
            ["git", "-c", "user.name=a", "-c", "user.email=a@yard.example", *words], cwd=self.folder, capture_output=True, text=True, check=False
        )  # fmt: skip
        self.assertEqual(ran.returncode, code, ran.stdout + ran.stderr)
        return ran.stdout + ran.stderr

    def test_as_a_merge_driver_of_git(self) -> None:
        self.git("init", "-q", "-b", "main")
        self.git(
            "config",
            "merge.oak.driver",
            f"'{sys.executable}' -c 'from oak_ledger.cli import main; main()' versions merge %O %A %B",
        )
        self.write(".gitattributes", "*.oak.toml merge=oak\n*.report.toml merge=oak\n")
        self.write("r.report.toml", '[report]\nname = "R"\nsource = "Loads"\n')
        self.git("add", ".gitattributes", "loads.oak.toml", "r.report.toml")
        self.git("commit", "-qm", "base")
        self.git("checkout", "-qb", "other")
        self.oak("field", "add", "loads", "Theirs", "Cost * 2")
        panel = '\n[[panel]]\nkind = "figure"\ntitle = "{}"\nshow = ["Cost"]\n'
        self.write("r.report.toml", Path("r.report.toml").read_text() + panel.format("Theirs"))
        self.git("commit", "-qam", "theirs")
        self.git("checkout", "-q", "main")
        self.oak("field", "add", "loads", "Ours", "Cost * 3")
        self.write("r.report.toml", Path("r.report.toml").read_text() + panel.format("Ours"))
        self.git("commit", "-qam", "ours")
        self.git("merge", "-q", "--no-edit", "other")
        self.assertEqual([one.name for one in oak.open_source("loads").fields][-2:], ["Ours", "Theirs"])
        self.assertEqual([one.title for one in oak.open_report("r.report.toml").panels], ["Ours", "Theirs"])
        self.git("checkout", "-qb", "third", "HEAD~1")
        self.oak("field", "add", "loads", "Theirs", "Cost * 4")
        self.git("commit", "-qam", "otherwise")
        said = self.git("merge", "--no-edit", "main", code=1)
        self.assertIn("formula is 'Cost * 4' in the one, which was kept", " ".join(said.split()))
        self.assertEqual(oak.open_source("loads").state("Theirs").spec.formula, "Cost * 4")
