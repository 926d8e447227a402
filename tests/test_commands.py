"""The command line: what each command prints and exits with, starting up."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shlex
import sqlite3
import subprocess
import sys
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import click
import openpyxl
from click.shell_completion import ShellComplete
from click.testing import CliRunner

import oak_ledger
from oak_ledger.cli.shared.app import app, command_called, every_command
from oak_ledger.cli.shared.progress import Progress
from oak_ledger.cli.shared.sections import COMMANDS, MOVED
from oak_ledger.version import __version__
from tests.support import FolderCase, Terminal

ROOT = Path(__file__).parent.parent
HEAVY = ("pandas", "matplotlib", "sqlalchemy", "pyarrow", "numpy", "pydantic", "tomlkit", "openpyxl", "rich")

# A command on a small source, its exit code, and words that it must print.
CALLS: list[tuple[str, int, tuple[str, ...]]] = [
    ("oak peek loads", 0, ("Low Weir", "decimal(18,1)", "number, calculated")),
    ("oak peek loads Id 'Volume * 2' -n 1 --sort -Id", 0, ("40", "81.0")),
    ("oak peek loads.csv ID MILL --where 'Cost > 70' --sort -ID", 0, ("40", "High Ford")),
    ("oak export sql loads --show Volume --dialect duckdb", 2, ("not-in-database", "it reads texts as values")),
    ("oak tally loads --by Mill --place here", 0, ("Low Weir",)),
    ("oak help keys", 0, ("[[panel]]", "NAME.report.toml")),
    ("oak help keys panel", 0, ("kind = \"lines\"", "stacked")),
    ("oak help keys panl", 2, ("unknown-table", "panel")),
    ("oak peek rows.jsonl", 0, ("Low Weir",)),
    ("oak peek book.xlsx -n 1", 0, ("Low Weir",)),
    ("oak peek Zebra --json", 3, ("\"errors\"", "\"code\": \"no-file\"")),
    ("oak peek loads.csv -n 2", 0, ("as written in loads.csv", "Low Weir")),
    ("oak peek loads Volum", 2, ("unknown-field", "Did you mean Volume?")),
    ("oak peek loads --where Volume", 2, ("condition-wanted",)),
    ("oak peek loods", 3, ("There is no file loods", "loads.oak.toml")),
    ("oak peek nothing.csv", 3, ("no-file",)),
    ("oak tally loads --by Mill --show Volume --totals", 0, ("High Ford", "all", "840.0")),
    ("oak tally loads --by Mill --show 'Loads = COUNT(*)' --sort -Loads --limit 1", 0, ("Low Weir", "1 of 2 groups")),
    ("oak tally loads --show Rate", 1, ("not-additive", "SUM(Cost) / SUM(Volume)")),
    ("oak tally loads --show Volume --where \"Mill = 'low weir'\"", 1, ("filter-matches-nothing", "0 of 40 rows")),
    ("oak tally loads --by 'Volume > 20' --show 'COUNT(*)'", 0, ("true", "false")),
    ("oak try loads 'Cost / Volume'", 0, ("number per row; 40 rows, no nulls", "result")),
    ("oak try loads 'SUM(Cost)' --by Mill", 0, ("integer per group; 2 groups",)),
    ("oak try loads 'CAST(Mill AS INTEGER)'", 0, ("40 nulls", "not a whole number in 40 rows")),
    ("oak try loads 'Volum +'", 2, ("unknown-field", "value-missing", "^^^^^")),
    ("oak field list loads", 0, ("calculated", "Cost / Volume", "5 fields")),
    ("oak field add loads 'Net cost' 'Cost - 1'", 0, ("+ name = \"Net cost\"", "integer per row")),
    ("oak field add loads 'Net costs' 'Cost - Mill'", 2, ("wrong-type", "CAST(Mill AS NUMBER)")),
    ("oak field rename loads 'Cost=Haulage cost'", 0, ("\"Haulage cost\" / Volume", "lines in 1 file changed")),
    ("oak field rename loads 'Haulage cost=mill'", 2, ("name-taken",)),
    ("oak field rename loads Mill", 2, ("OLD=NEW",)),
    ("oak field retype loads Id text", 0, ("integer → text", "40 after")),
    ("oak field retype loads Mill integer", 1, ("could not be converted", "40 rows")),
    ("oak field retype loads Mill text", 0, ("text",)),
    ("oak field retype loads Rate text", 2, ("is calculated",)),
    ("oak field clean loads Mill 'UPPER(VALUE)'", 0, ("40 of 40 values changed", "'Low Weir' → 'LOW WEIR'")),
    ("oak field clean loads Mill ''", 0, ("- clean",)),
    ("oak field set loads '*cost*' --hidden", 0, ("hidden = true",)),
    ("oak field set loads '*cost*' --shown", 0, ("- hidden = true",)),
    ("oak field set loads 'zebra*' --hidden", 2, ("No field of Loads is like 'zebra*'",)),
    ("oak field recode loads Mill 'Low Weir=Low weir' --dry-run", 0, ("nothing was written",)),
    ("oak step add loads distinct --dry-run", 0, ("nothing was written",)),
    ("oak step add loads distinct", 0, ("Step 1, distinct: 40 rows before, 40 after",)),
    ("oak step list loads", 0, ("distinct",)),
    ("oak step drop loads 1 --dry-run", 0, ("nothing was written",)),
    ("oak step drop loads 1", 0, ("- [[step]]",)),
    ("oak field move loads Volume --first --dry-run", 0, ("nothing was written",)),
    ("oak field sort loads --descending --dry-run", 0, ("nothing was written",)),
    ("oak field set loads Volume --role dimension --dry-run", 0, ("nothing was written",)),
    ("oak mend loads Cost=Volume --dry-run", None, ()),
    ("oak field set loads Mill --description 'Where it goes'", 0, ("Where it goes",)),
    ("oak field set loads Volume --format 0,000.0", 0, ("0,000.0",)),
    ("oak field set loads Volume --format '##'", 2, ("neither a sample of a number",)),
    ("oak field set loads Rate --total average", 0, ("average",)),
    ("oak field drop loads 'Haulage cost'", 2, ("still-used",)),
    ("oak field drop loads Mill", 2, ("1 place in reports would break", "--yes")),
    ("oak field drop loads Mill --yes --dry-run", 0, ("dry run", "nothing was written")),
    ("oak field drop loads Id --yes", 0, ("- name = \"Id\"",)),
    ("oak field restore loads --new", 0, ("+ name = \"Id\"",)),
    ("oak undo loads", 0, ()),
    ("oak undo loads", 0, ()),
    ("oak field add loads 'Net cost' '1'", 2, ("name-taken", "--replace")),
    ("oak field add loads 'Net cost' '\"Haulage cost\" - 1' --replace", 0, ("Net cost: integer per row",)),
    ("oak field set loads Volume --total average --format 0,000.00 --description 'In cubic metres'", 0, ("+ total = \"average\"", "In cubic metres")),
    ("oak field set loads Volume --total sum --hidden --dry-run", 0, ("hidden = true", "nothing was written")),
    ("oak field set loads Volume", 2, ("Say what to set",)),
    ("oak constant list loads", 0, ("no constants",)),
    ("oak constant set loads Fee 2.5", 0, ("value = 2.5",)),
    ("oak constant set loads Fee 3", 0, ("value = 3",)),
    ("oak constant list loads", 0, ("Fee", "3")),
    ("oak constant drop loads Fees", 2, ("unknown-constant", "Did you mean Fee?")),
    ("oak constant drop loads Fee", 0, ("- [[constant]]",)),
    ("oak filter add loads Large 'Volume >'", 2, ("value-missing", "filter 'Large'")),
    ("oak filter add loads Large 'Volume > 30'", 0, ("where = \"Volume > 30\"",)),
    ("oak filter add loads Large 'Volume > 31'", 2, ("name-taken",)),
    ("oak filter list loads --json", 0, ("\"where\": \"Volume > 30\"",)),
    ("oak tally loads --show 'COUNT(*)' --where Large", 0, ("11",)),
    ("oak filter drop loads Large", 0, ("- [[filter]]",)),
    ("oak rule add loads positive 'Volume'", 2, ("A rule is a condition",)),
    ("oak rule add loads positive 'Volume > 0'", 0, ("holds = \"Volume > 0\"",)),
    ("oak rule list loads", 0, ("positive", "Volume > 0")),
    ("oak rule drop loads positive", 0, ("- [[rule]]",)),
    ("oak field key loads", 0, ("no key",)),
    ("oak field key loads Id", 0, ("key = [\"Id\"]",)),
    ("oak field key loads Zebra", 2, ("unknown-field",)),
    ("oak field key loads", 0, ("Id",)),
    ("oak field key loads --none", 0, ("- key",)),
    ("oak undo loads --dry-run", 0, ("nothing was written",)),
    ("oak undo loads", 0, ("+ key",)),
    ("oak undo redo loads", 0, ("- key",)),
    ("oak undo list loads", 0, ("oak field key loads --none",)),
    ("oak undo compare loads", 0, ("did not change",)),
    ("oak field reformat loads --dry-run", 0, ("nothing to change",)),
    ("oak export dictionary loads --to dictionary", 0, ("written: dictionary/index.html and 3 files", "1 source")),
    ("oak export loads --to - --show Mill --where \"Mill = 'Low Weir'\"", 0, ("\"Mill\" \"Low Weir\"",)),
    ("oak profile loads Mill", 0, ("Low Weir",)),
    ("oak cache", 0, ()),
    ("oak join loads.csv loads.csv --on ID --name Twice", 0, ("joined on ID",)),
    ("oak report list", 0, ("Costs & more", "r.report.toml")),
    ("oak trace loads Rate", 0, ("made of", "column Cost", "from loads.csv", "used by")),
    ("oak trace loads Volume --to trace.png", 0, ("written: trace.png",)),
    ("oak trace loads Volume --to trace.pdf", 2, ("unknown-ending",)),
    ("oak trace loads Zebra", 2, ("unknown-field",)),
    ("oak intake loads.csv --name Other", 0, ()),
    ("oak field graft loads other Rate --map 'Haulage cost=Cost' --dry-run", 0, ("+ name = \"Rate\"", "nothing was written")),
    ("oak field graft loads other Mill", 2, ("not-calculated",)),
    ("oak report retarget r.report.toml other --to other.report.toml --dry-run", 0, ("source = \"Other\"",)),
    ("oak help codes", 0, ("not-additive", "a ratio or average is added up")),
    ("oak check loads --quiet", 0, ()),
    ("oak demo . --help", 0, ("Make the demo data",)),
    ("oak intake --help", 0, ("Read FILES",)),
    ("oak field keep loads Id Mill Volume 'Haulage cost' Rate", 0, ("- name = \"Net cost\"",)),
    ("oak check loads", 0, ("no problems", "5 fields")),
    ("oak publish loads --note first", 0, ("draft: version 1 of Loads in general, 40 rows",)),
    ("oak publish loads", 0, ("version 2",)),
    ("oak peek Loads --draft -n 1", 0, ("Low Weir",)),
    ("oak export sql Loads --draft --by Mill --show Volume --sort -Volume -n 3", 0, ('WITH "fields" AS', "GROUP BY", 'FROM "Loads"')),
    ("oak export sql Loads --draft --show 'MAX(LOWER(Mill))'", 2, ("not-in-database", "letter case follows other rules")),
    ("oak peek Loads -n 1", 2, ("not-released",)),
    ("oak release Loads", 2, ("All reports of Loads will read version 2", "--yes")),
    ("oak release Loads 1 --dry-run", 0, ("dry run: version 1 of Loads",)),
    ("oak release Loads 1 --note proven --yes", 0, ("version 1 of Loads, signed by", "checks passed")),
    ("oak versions sign Loads 1 --note 'seen, too'", 0, ("version 1 of Loads is signed by",)),
    ("oak versions share Loads @mill eve --version 2", 0, ("is seen by you, @mill, eve",)),
    ("oak versions compare Loads 1 2", 0, ("the definitions are the same", "40 → 40")),
    ("oak versions checkout Loads --to fetched.oak.toml", 0, ("written: fetched.oak.toml, from version 2",)),
    ("oak versions checkout Loads --to fetched.oak.toml", 2, ("file-exists",)),
    ("oak versions merge loads.oak.toml loads.oak.toml loads.oak.toml", 0, ("merged: loads.oak.toml",)),
    ("oak versions withdraw Loads 2 --yes", 0, ("withdrawn: version 2",)),
    ("oak publish loads --note again", 0, ("version 3",)),
    ("oak snapshot take loads --keep 3", 0, ("kept: 40 rows of Loads",)),
    ("oak snapshot list Loads", 0, ("40",)),
    ("oak snapshot run nothing.toml", 3, ("no-file",)),
    ("oak snapshot run schedule.toml", 0, ("kept: 40 rows",)),
    ("oak snapshot changes loads --since 1", 0, ("0 rows have other values, 0 came, 0 went",)),
    ("oak snapshot changes loads --since 1999-01-01", 2, ("no-state",)),
    ("oak peek Loads --at 2999-01-01 -n 1", 0, ("Low Weir",)),
    ("oak watch add Loads 'too little' 'SUM(Volume) < 1000'", 0, ("watched: too little",)),
    ("oak watch add Loads wrong Volume", 2, ("condition-wanted",)),
    ("oak watch list Loads", 0, ("SUM(Volume) < 1000",)),
    ("oak watch run Loads", 1, ("true", "turned true")),
    ("oak watch history Loads 'too little'", 0, ("true",)),
    ("oak watch drop Loads 'too little'", 0, ("removed: too little",)),
    ("oak export view Loads --url postgresql://nobody@localhost/x --as-table --schema curated --dry-run", 0, ('CREATE TABLE "curated"."Loads"', "COMMENT ON TABLE")),
    ("oak export view Loads --url postgresql://nobody@localhost/x --dry-run", 2, ("not-in-database", "--as-table")),
    ("oak catalogue create", 0, ("catalogue is a catalogue",)),
    ("oak catalogue add-area trial", 0, ("add area: trial",)),
    ("oak catalogue areas", 0, ("trial", "read, edit, release, administer")),
    ("oak catalogue rights grant @mill read --area trial", 0, ("@mill: read in trial",)),
    ("oak catalogue rights grant @mill fly --area trial", 2, ("unknown-right",)),
    ("oak catalogue rights list", 0, ("@mill", "only a server in between enforces")),
    ("oak catalogue rights table", 0, ("maker+release",)),
    ("oak catalogue rights revoke @mill read --area trial", 0, ("taken: @mill",)),
    ("oak catalogue groups join mill eve", 0, ("joined: mill: eve",)),
    ("oak catalogue groups list", 0, ("@mill", "eve")),
    ("oak catalogue groups leave mill eve", 0, ("left: mill: eve",)),
    ("oak catalogue tokens make nightly --days 2", 0, ("oak.",)),
    ("oak catalogue tokens list", 0, ("nightly", "read")),
    ("oak catalogue tokens revoke 1", 0, ("revoked: token 1",)),
    ("oak catalogue log release", 0, ("version 1", "digest of the last entry")),
    ("oak catalogue verify", 0, ("nothing is damaged",)),
    ("oak catalogue clear --yes", 0, ("removed: 0 files",)),
    ("oak report publish r.report.toml", 0, ("published: report Costs & more, state 1, in general",)),
    ("oak report shared --of Loads", 0, ("Costs & more",)),
    ("oak report fetch 'Costs & more' --to fetched.report.toml", 0, ("written: fetched.report.toml, state 1",)),
    ("oak report waiting 'Costs & more'", 0, ("nothing waits",)),
    ("oak report accept 'Costs & more' --yes", 2, ("nothing-waits",)),
    ("oak report propose r.report.toml --note 'other words'", 0, ("the change waits for the owner",)),
    ("oak report waiting 'Costs & more'", 0, ("other words, left by",)),
    ("oak report accept 'Costs & more' --yes", 0, ("state 2",)),
    ("oak report render 'Costs & more'", 0, ("By mill", "version 1 (released)")),
    ("oak release Loads 7 --yes", 2, ("unknown-version",)),
    ("oak release Zebra --yes", 2, ("unknown-source",)),
    ("oak versions", 0, ("released", "draft", "first")),
    ("oak versions Loads --catalogue nowhere", 3, ("no-catalogue",)),
    ("oak report render r.report.toml", 0, ("Costs & more", "version 1 (released)", "█")),
    ("oak report render r.report.toml --version 3 --to r.html --to r.png", 0, ("written: r.html", "version 3 (draft)")),
    ("oak report render r.report.toml --at 2999-01-01", 0, ("By mill",)),
    ("oak versions retire Loads --replaced-by 'Other loads' --yes", 0, ("retired: version 1", "asked to use Other loads")),
    ("oak report render r.report.toml", 2, ("not-released",)),
    ("oak release Loads 1 --yes", 0, ("released",)),
    ("oak report render r.report.toml --to r.pdf", 2, ("unknown-ending",)),
    ("oak report new loads --to first.report.toml", 0, ("written: first.report.toml, 5 panels",)),
    ("oak report new loads --to first.report.toml", 2, ("file-exists",)),
    ("oak report render first.report.toml --source loads", 0, ("Low Weir", "By Mill")),
    ("oak report add first.report.toml Half 'SUM(Volume) / 2' --source loads", 0, ("+ name = \"Half\"",)),
    ("oak report add first.report.toml Half 'SUM(Volume) / 3' --source loads", 2, ("name-taken",)),
    ("oak report add first.report.toml Volume 'Id * 2' --source loads", 2, ("hides-shared", "the column Volume", "Here: Id * 2")),
    ("oak report add r.report.toml 'Half of it' 'sum( \"Volume\" )/2' --source loads", 0, ("Half of it",)),
    ("oak report locals", 0, ("SUM(Volume) / 2", "first.report.toml", "Half of it")),
    ("oak report lift loads Half", 0, ("loads.oak.toml", "- name = \"Half of it\"", "lines in 3 files changed")),
    ("oak undo loads", 0, ("+ name = \"Half of it\"",)),
    ("oak report drop r.report.toml 'Half of it'", 0, ("- name = \"Half of it\"",)),
    ("oak report drop r.report.toml Half", 2, ("unknown-field",)),
    ("oak why r.report.toml Volume --source loads", 0, ("all rows", "AVG(Volume)", "21.00", "The first 5 of 40 rows behind it")),
    ("oak why r.report.toml 2 'Low Weir' --source loads --to behind.csv", 0, ("Mill = 'Low Weir'", "written: behind.csv")),
    ("oak why r.report.toml 2 Zebra --source loads", 2, ("no-group", "High Ford")),
    ("oak why r.report.toml Zebra --source loads", 2, ("unknown-panel", "2 By mill")),
    ("oak report check r.report.toml --source loads", 0, ("sound, 2 panels",)),
    ("oak report check .", 1, ("sound", "Half adds up Volume, which is not additive: it is totalled as average")),
    ("oak report check catalogue", 2, ("no-reports",)),
    ("oak mend loads MILL=WORKS", 2, ("nothing is broken",)),
    ("oak help functions", 0, ("COALESCE", "oak help functions NAME")),
    ("oak help functions coalesce", 0, ("The first value that is not null", "→")),
    ("oak help functions zebra", 2, ("No function has",)),
    ("oak zebra", 2, ("There is no command 'zebra'",)),
    ("oak tallly", 2, ("Did you mean tally?",)),
    ("oak tally", 2, ("Missing argument 'SOURCE'",)),
    ("oak tally loads --zebra", 2, ("No such option",)),
    ("oak check loads.csv", 2, ("oak intake loads.csv",)),
    ("oak intake nothing_*.csv", 3, ("No file matches",)),
    ("oak demo .", 2, ("not made by a demo",)),
]  # fmt: skip
CSV = "ID,MILL,Volume,Cost\n" + "".join(
    f"{at},{'Low Weir' if at % 3 else 'High Ford'},{at}.5,{at * 2}\n" for at in range(1, 41)
)
REPORT = """\
[report]
name = "Costs & more"
source = "Loads"

[[panel]]
kind = "figure"
title = "Volume"
show = ["Volume"]

[[panel]]
kind = "bars"
title = "By mill"
by = ["Mill"]
show = ["Volume"]
"""


COMMANDS_BY_NAME = every_command()


def command_of(call: str) -> str:
    """The command of a call, with its verbs."""
    return command_called(shlex.split(call)[1:])


class Calls(FolderCase):
    def test_a_day_of_calls(self) -> None:
        self.write("loads.csv", CSV)
        self.write("r.report.toml", REPORT)
        self.write("schedule.toml", '[[snapshot]]\nsource = "loads.oak.toml"\nkeep = 3\nwatch = true\n')
        self.write("rows.jsonl", '{"MILL": "Low Weir", "N": 1}\n')
        book = openpyxl.Workbook()
        for line in (["Mill", "N"], ["Low Weir", 1], ["Ash", 2]):
            book.worksheets[0].append(line)
        book.save("book.xlsx")
        self.assertIn("40 rows, all of them judged", self.oak("intake", "loads.csv", "--name", "Loads"))
        self.oak("field", "add", "loads", "Rate", "Cost / Volume")
        tried = set()
        for call, code, words in CALLS:
            with self.subTest(call):
                name = command_of(call)
                if code != 2 and any("--dry-run" in one.opts for one in COMMANDS_BY_NAME[name].params):
                    before = self.state()
                    self.oak(*shlex.split(call)[1:], "--dry-run", code=None)
                    self.assertEqual(self.state(), before, "a dry run has changed something")
                    tried.add(name)
                text = " ".join(self.oak(*shlex.split(call)[1:], code=code).split())
                for word in words:
                    self.assertIn(word, text)

    def state(self) -> dict[str, Any]:
        """Every file, byte for byte; a database by all that is in it."""
        found: dict[str, Any] = {}
        for path in sorted(self.folder.rglob("*")):
            if path.suffix == ".db":
                with contextlib.closing(sqlite3.connect(path)) as there:
                    found[str(path)] = [*there.iterdump()]
            elif path.is_file() and not path.name.endswith(("-wal", "-shm", ".lock")):
                found[str(path)] = path.read_bytes()
        return found

    def test_a_dry_run_is_there_only_where_it_is_honoured(self) -> None:
        having = {
            name for name, one in COMMANDS_BY_NAME.items() if any("--dry-run" in option.opts for option in one.params)
        }
        acting = {
            name
            for name in COMMANDS_BY_NAME
            if name.split()[0] in ("catalogue", "snapshot", "watch", "versions", "cache", "serve")
        }
        self.assertEqual(having & acting, set())
        self.oak("catalogue", "rights", "grant", "@everyone", "administer", "--dry-run", code=2)
        called = {command_of(call) for call, code, _ in CALLS if code != 2}
        self.assertEqual(having - called, set())

    def test_every_command_is_called(self) -> None:
        called = {shlex.split(call)[1] for call, _, _ in CALLS}
        self.assertEqual(
            {*COMMANDS} - called, {"serve", "language-server"}
        )  # they do not end, and have tests of their own

    def test_every_command_at_many_widths_and_in_any_encoding(self) -> None:
        self.write("loads.csv", CSV)
        self.write("r.report.toml", REPORT)
        self.oak("intake", "loads.csv", "--name", "Loads")
        self.oak("field", "add", "loads", "Rate per m³", "Cost / Volume")
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        calls = (
            "field list loads",
            "help codes",
            "versions",
            "profile loads",
            "report list",
            "help functions",
            "peek loads",
            "tally loads --by Mill --show Volume",
            "report render r.report.toml",
        )
        for call in calls:
            for width in ("60", "80", "120"):
                for line in self.oak(*shlex.split(call), "--width", width).splitlines():
                    self.assertLessEqual(len(line.rstrip()), int(width), (call, line))
            for encoding in ("latin-1", "ascii") if call in calls[:3] else ():
                code = f"import sys; from oak_ledger.cli import run; sys.exit(run({shlex.split(call)!r}))"
                done = subprocess.run(
                    [sys.executable, "-c", code],
                    capture_output=True,
                    check=False,
                    env={**os.environ, "PYTHONIOENCODING": encoding, "PYTHONUTF8": "0"},
                )
                self.assertEqual((done.returncode, done.stderr), (0, b""), call)

    def test_publishing_says_by_how_much_figures_change(self) -> None:
        self.write("loads.csv", CSV)
        self.write("r.report.toml", REPORT + '[[panel]]\nkind = "figure"\ntitle = "Share"\nshow = ["Share"]\n')
        self.oak("intake", "loads.csv", "--name", "Loads")
        self.oak("field", "add", "loads", "Share", "SUM(Volume) / SUM(Cost)", "--format", "0.0%")
        self.oak("publish", "loads")
        self.oak("release", "Loads", "--yes")
        self.oak("field", "clean", "loads", "Volume", "VALUE * 1.1")
        said = self.oak("publish", "loads", "--width", "120")
        self.assertIn("+10.0%", said)  # 840 becomes 924
        self.assertIn("+5.12 points", said)  # 840 of 1,640 is 51.22 %, 924 is 56.34 %

    def test_the_shell_completes_names(self) -> None:
        self.write("loads.csv", CSV)
        self.oak("intake", "loads.csv", "--name", "All loads")
        Path("all_loads.oak.toml").rename("loads.oak.toml")
        self.oak("field", "add", "loads", "Cost rate", "Cost / Volume")
        self.oak("filter", "add", "loads", "dear", "Cost > 10")
        self.oak("publish", "loads")
        cases = (
            ("tally l", ["loads"]),
            ("tally loads --by co", ["Cost", "'Cost rate'"]),
            ("field rename loads V", ["Volume"]),
            ("peek loads --where ", ["dear"]),
            ("filter drop loads ", ["dear"]),
            ("release ", ["'All loads'"]),
            ("tally nothing --by ", []),
            ('tally loads --by "co', ["Cost", "Cost rate"]),  # the shell closes a quote that is open
        )
        for typed, offered in cases:
            words, last = f"oak {typed}".rsplit(" ", 1)
            with mock.patch.dict(os.environ, {"COMP_WORDS": f"oak {typed}"}):
                found = ShellComplete(app, {}, "oak", "_OAK_COMPLETE").get_completions(
                    shlex.split(words)[1:], last.lstrip('"')
                )
            self.assertEqual([one.value for one in found], offered, typed)
        for shell in ("zsh", "fish"):  # they put quotes by themselves
            environment = {
                **os.environ,
                "_OAK_COMPLETE": f"{shell}_complete",
                "COMP_WORDS": "oak release ",
                "COMP_CWORD": "" if shell == "fish" else "2",
            }
            program = Path(sys.executable).parent / "oak"
            done = subprocess.run([program], env=environment, capture_output=True, text=True, check=False)
            self.assertIn("All loads", done.stdout.replace("\n", " "))
            self.assertNotIn("'", done.stdout)
            written = subprocess.run(
                [program],
                env={**os.environ, "_OAK_COMPLETE": f"{shell}_source"},
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertIn("oak", written.stdout)

    def test_what_is_longer_than_a_terminal_goes_through_the_pager(self) -> None:
        self.write("loads.csv", CSV)
        self.oak("intake", "loads.csv", "--name", "Loads")
        with mock.patch.dict(os.environ, {"PAGER": "sed s/^/page:/"}):
            Terminal(self, "help", "functions", "--all").expect("page:")
            short = Terminal(self, "tally", "loads", "--by", "Mill")
            short.expect("High Ford")
            self.assertNotIn("page:", short.seen)
        with mock.patch.dict(os.environ, {"PAGER": "cat"}):
            plain = Terminal(self, "help", "functions", "--all")
            plain.expect("SUBSTRING")
            self.assertNotIn("page:", plain.seen)

    def test_objects_introduce_themselves_in_two_lines(self) -> None:
        self.write("loads.csv", CSV)
        self.write("r.report.toml", REPORT)
        self.oak("intake", "loads.csv", "--name", "Loads")
        self.oak("publish", "loads")
        source = oak_ledger.open_source("loads")
        wanted = (
            (source, "Source 'Loads' over file; fields: 4\n  loads.oak.toml"),
            (
                source.tally(["Mill"]),
                "Answer; rows: 2; columns: Mill string, COUNT(*) int64\n  used 40 of 40 rows; faults: 0, findings: 0",
            ),
            (oak_ledger.Catalogue.open("catalogue"), "Catalogue of Loads\n  catalogue"),
        )
        for one, said in wanted:
            self.assertEqual(repr(one), said)
        self.assertEqual(repr(oak_ledger.find_reports(".")[0]).count("\n"), 1)

    def test_a_failure_of_our_own_is_told_without_a_traceback(self) -> None:
        with (
            mock.patch("oak_ledger.cli.shared.app.open_any", side_effect=RuntimeError("no idea")),
            mock.patch("oak_ledger.cli.figures.ask.open_any", side_effect=RuntimeError("no idea")),
        ):
            said = self.oak("tally", "loads", code=70)
            self.assertIn("a failure of oak itself, not of what you did: RuntimeError: no idea", said)

    def test_wide_sources_are_short_unless_all_is_asked_for(self) -> None:
        names = [f"Measure {at}" for at in range(200)]
        self.write("wide.csv", ",".join(names) + "\n" + ",".join("7" for _ in names) + "\n")
        for call, whole in (
            ("intake wide.csv --name Wide", 200),
            ("field list wide", 200),
            ("profile wide", 200),
            ("peek wide", 200),
            ("field rename wide --add-prefix Big", 200),
            ("undo compare wide", 200),
        ):
            with self.subTest(call):
                again = call.replace("Wide", "Whole").replace("Big", "Very")
                short, full = self.oak(*shlex.split(call)), self.oak(*shlex.split(again), "--all")
                self.assertLess(len(short.splitlines()), 90)
                self.assertIn("--all shows them", short)
                self.assertNotIn("--all shows them", full)
                self.assertGreaterEqual(len(full.splitlines()), whole)
        self.assertEqual(len(self.oak_json("field", "list", "wide")["fields"]), 200)
        self.assertEqual(len(self.oak_json("field", "list", "wide", "*Measure 19?")["fields"]), 10)

    def test_progress_only_goes_forward(self) -> None:
        shown: list[str] = []
        progress = Progress(("reading", "comparing"), shown.append)
        with mock.patch("oak_ledger.cli.shared.progress.SECONDS", -1):
            for rows in (10, 25, 5, 40):
                progress(rows)
            progress.next()
            progress(3)
        counts = [int(re.findall(r"([0-9,]+) rows", text)[0]) for text in shown]
        self.assertEqual(counts, [10, 25, 30, 65, 65, 68])
        self.assertEqual(shown[0], "step 1 of 2, reading … 10 rows read")
        self.assertEqual(shown[-1], "step 2 of 2, comparing … 68 rows read")
        self.write("loads.csv", CSV)
        self.oak("intake", "loads.csv", "--name", "Loads")
        Terminal(self, "check", "loads").expect("step 3 of 3, checking reports")
        self.assertNotIn("step", self.oak("check", "loads"))

    def test_words_are_never_broken(self) -> None:
        self.write("loads.csv", CSV)
        self.oak("intake", "loads.csv", "--name", "Loads")
        whole = self.oak("field", "list", "loads", "--width", "200").split()
        for width in ("40", "50", "60"):
            said = self.oak("field", "list", "loads", "--width", width).split()
            self.assertEqual(
                {word for word in said if word.isalpha()}
                - {*whole, "not", "shown", "the", "output", "is", "too", "narrow", "use"},
                set(),
            )

    def test_json_is_json(self) -> None:
        self.write("loads.csv", CSV)
        found = json.loads(self.oak("intake", "loads.csv", "--name", "Loads", "--json"))
        self.assertEqual(
            (found["rows"], [one["type"] for one in found["fields"]]),
            (40, ["integer", "text", "decimal(18,1)", "integer"]),
        )
        self.oak("field", "add", "loads", "Rate", "Cost / Volume")
        self.oak("field", "add", "loads", "Day", "DATE '2026-01-01' + Id")
        rows = json.loads(self.oak("peek", "loads", "--json", "-n", "1"))["rows"]
        self.assertEqual(
            rows[0], {"Id": 1, "Mill": "Low Weir", "Volume": "1.5", "Cost": 2, "Rate": 2 / 1.5, "Day": "2026-01-02"}
        )
        tally = json.loads(self.oak("tally", "loads", "--show", "Rate", "--totals", "--json", code=1))
        self.assertEqual([one["code"] for one in tally["findings"]], ["not-additive"])
        check = json.loads(self.oak("check", "loads", "--json", code=1))
        self.assertEqual([one["code"] for one in check["findings"]], ["not-additive", "not-compared"])
        self.assertEqual(json.loads(self.oak("field", "list", "loads", "--json"))["fields"][4]["kind"], "calculated")
        self.assertEqual(json.loads(self.oak("try", "loads", "Cost", "--json"))["type"], "integer")
        self.assertEqual(json.loads(self.oak("publish", "loads", "--json"))["version"]["version"], 1)
        self.assertEqual(json.loads(self.oak("versions", "--json"))["versions"][0]["stage"], "draft")
        self.assertTrue(json.loads(self.oak("help", "functions", "--json"))["functions"])
        self.assertEqual(
            [*json.loads(self.oak("peek", "loads.csv", "--json", "-n", "1"))["rows"][0]],
            ["ID", "MILL", "Volume", "Cost"],
        )

    def test_a_dry_run_writes_nothing(self) -> None:
        self.write("loads.csv", CSV)
        self.oak("intake", "loads.csv", "--name", "Loads")
        before = Path("loads.oak.toml").read_text()
        for call in (
            "field rename loads Mill=Works --dry-run",
            "field retype loads Id text --dry-run",
            "field clean loads Mill UPPER(VALUE) --dry-run",
        ):
            self.assertIn("dry run", self.oak(*call.split()))
        self.assertEqual(Path("loads.oak.toml").read_text(), before)

    def test_stopping_and_a_closed_pipe(self) -> None:
        self.write("loads.csv", CSV)
        self.oak("intake", "loads.csv", "--name", "Loads")
        with mock.patch("oak_ledger.source.source.execute", side_effect=KeyboardInterrupt):
            self.assertIn("stopped", self.oak("peek", "loads", code=130))
        program = f"{shlex.quote(str(Path(sys.executable).parent / 'oak'))} help functions | head -n 1"
        done = subprocess.run(program, shell=True, capture_output=True, text=True, check=False)  # noqa: S602
        self.assertEqual(done.stderr, "")

    def test_a_command_starts_without_pandas(self) -> None:
        self.write("loads.csv", "Mill,Volume\na,1\nb,2\n")
        self.oak("intake", "loads.csv", "--name", "Loads")
        code = (
            "import sys; from oak_ledger.cli import main; sys.argv = ['oak', 'tally', 'loads', '--by', 'Mill', '--show', 'Volume']\n"
            "try: main()\nexcept SystemExit as end: print(end.code, 'pandas' in sys.modules)\n"
            "import pandas; print(pandas.DataFrame({'a': [1]}).shape)"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
        self.assertEqual(done.stdout.splitlines()[-2:], ["0 False", "(1, 1)"], done.stderr)


class Starting(unittest.TestCase):
    def test_help_and_version_import_nothing_heavy(self) -> None:
        for argument in ("--version", "--help"):
            program = (
                "import sys; from oak_ledger.cli import run; run(sys.argv[1:]); "
                f"print('LOADED', *[name for name in {HEAVY!r} if name in sys.modules])"
            )
            done = subprocess.run([sys.executable, "-c", program, argument], capture_output=True, text=True, check=True)
            self.assertTrue(done.stdout.rstrip().endswith("LOADED"), done.stdout[-200:])
        self.assertIn(
            __version__,
            subprocess.run(
                [sys.executable, "-c", "import oak_ledger; print(oak_ledger.__version__)"],
                capture_output=True,
                text=True,
                check=True,
            ).stdout,
        )

    def test_the_help_is_one_screen(self) -> None:
        lines = CliRunner().invoke(app, ["--help"]).output.splitlines()
        self.assertLessEqual(len(lines), 40)
        self.assertLessEqual(max(map(len, lines)), 80)
        self.assertLessEqual(len(COMMANDS), 30)
        self.assertEqual([line.split()[0] for line in lines[2:7]], ["demo", "intake", "field", "tally", "check"])

    def test_what_moved_says_where_it_is(self) -> None:
        for old, new in MOVED.items():
            self.assertNotIn(old, COMMANDS)
            verb, _, option = new.partition(" --")
            self.assertTrue(any(f"{name} ".startswith(f"{verb} ") for name in COMMANDS_BY_NAME), new)
            self.assertIn(f"--{option}" if option else "", CliRunner().invoke(app, [*verb.split(), "--help"]).output)
            done = CliRunner().invoke(app, [*old.split(), "x"])
            self.assertEqual(done.exit_code, 2)
            self.assertIn(f"oak {old} is now oak {new}.", done.output)

    def test_an_option_is_one_thing_and_has_one_name(self) -> None:
        """The same option takes the same everywhere, but for those in the table; a letter is short for one option."""
        several = {
            "--area": "one, or for a token several", "--as": "a type, a role, a total, a format, each by what is set", "--since": "a version, or a date",
            "--by": "fields to group by; for names and parts what is put between or in place", "--to": "a file, or several", "--total": "a field's, or made in a join",
            "--overrule": "", "--name": "",
        }  # fmt: skip
        kinds: dict[str, set[tuple[str, bool, bool]]] = {}
        letters: dict[str, set[str]] = {}
        for command in COMMANDS_BY_NAME.values():
            for one in command.params:
                names = [name for name in one.opts if name.startswith("--")]
                for name in names if isinstance(one, click.Option) else ():
                    kinds.setdefault(name, set()).add((one.type.name, one.is_flag, one.multiple))
                    for letter in {*one.opts} - {*names}:
                        letters.setdefault(letter, set()).add(name)
        self.assertEqual({name for name, found in kinds.items() if len(found) > 1} - {*several}, set())
        self.assertEqual({letter: names for letter, names in letters.items() if len(names) > 1}, {})

    def test_every_command_has_help(self) -> None:
        runner = CliRunner()
        for name in COMMANDS:
            done = runner.invoke(app, [name, "--help"])
            self.assertEqual(done.exit_code, 0, name)
            self.assertNotIn("\b", done.output)
            self.assertGreater(len(done.output.splitlines()), 5, name)
