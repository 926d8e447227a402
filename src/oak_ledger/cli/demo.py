"""`oak demo`: the demo data, and a working day with the real commands."""

from __future__ import annotations

import os
import shlex
import shutil
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

import click

from oak_ledger.cli.shared.app import json_option, print_json
from oak_ledger.errors import OakError

MARK = ".hollowmere"
SOURCE = "loads.oak.toml"


@dataclass(frozen=True, slots=True)
class DemoStep:
    """One step of the day: what is done and why, and the command with the exit code that it has on this data."""

    title: str
    why: str
    commands: tuple[tuple[str, int], ...] = ()
    action: tuple[str, Callable[[], None]] | None = None


def _redeliver() -> None:
    for path in sorted(Path("delivery").glob("*.csv")):
        shutil.copy(path, Path("intake") / path.name)


def _asked() -> None:
    """A repair on a terminal of its own: one question is answered, at the next it is stopped, and nothing is written."""
    import pty
    import re
    import subprocess

    master, slave = pty.openpty()
    command = [str(Path(sys.executable).with_name("oak")), "mend", "loads"]
    seen, answers = "", ["1\r", "\x03"]
    with subprocess.Popen(command, stdin=slave, stdout=slave, stderr=slave, close_fds=True):  # noqa: S603  our own
        os.close(slave)
        with suppress(OSError):  # it has ended
            while part := os.read(master, 65536):
                seen += part.decode("utf-8", "replace")
                if answers and seen.count("which (") > 2 - len(answers):
                    os.write(master, answers.pop(0).encode())
        os.close(master)
    plain = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", seen).replace("\r\n", "\n")
    lines = [one for line in plain.split("\n") if (one := line.rstrip(" \r").rpartition("\r")[2].rstrip())]
    lines = [line for line in lines if "comparing with" not in line]  # while it works
    questions = [line.lstrip().startswith("which (") for line in lines] + [False]
    click.echo("\n".join(line for at, line in enumerate(lines) if not (questions[at] and questions[at + 1])) + "\n")


def _served() -> None:
    """A service of its own for a moment, and a report from it as a browser gets it."""
    import subprocess
    import sys
    from urllib.parse import quote

    from oak_ledger import Catalogue, connect
    from oak_ledger.present.terminal import say

    try:
        import fastapi  # noqa: F401
        import uvicorn  # noqa: F401
    except ImportError:
        say("left out: what the service needs is not installed; pip install 'oak-ledger[service]'")
        return
    command = [str(Path(sys.executable).with_name("oak")), "serve", "--port", "0"]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as service:  # noqa: S603  our own
        try:
            url = (service.stdout.readline() if service.stdout is not None else "").strip().rpartition(" ")[2]
            token = Catalogue.open("catalogue").people.make_token("browser", rights=["read"], days=1)
            there, path = connect(url, token), f"/reports/{quote('Margins by mill')}"
            Path("pages/served.html").write_bytes(there.fetched(path))
            answer = there.source("Timber loads").tally(show=["Volume", "Margin"])
            say(f"{url}{path}: written to pages/served.html, as a browser gets it (any name, the token as password)")
            say(f"asked over HTTP: Volume {answer.shown()[0][0]}, Margin {answer.shown()[0][1]}")
        finally:
            service.terminate()


PER_ROW = '"Haulage cost" / "Volume"'
PER_GROUP = 'SUM("Haulage cost") / SUM("Volume")'
MARGIN = '"Gross value" - "Haulage cost" - "Loading cost" - "Permit cost"'
MARGIN_FILLED = '"Gross value" - COALESCE("Haulage cost", 0) - COALESCE("Loading cost", 0) - COALESCE("Permit cost", 0)'
SIZE = "CASE WHEN Volume < 10 THEN 'small' WHEN Volume < 30 THEN 'middle' ELSE 'large' END"
MOVED = "STAND=COMPARTMENT LOADING_COST=PERMIT_COST PERMIT_COST=LOADING_COST"
FALLS = "SUM(Margin) < BEFORE(SUM(Margin)) * 0.9995"
LOGS = "--show 'Days = COUNT(*)' --show 'Most logs = MAX(Logs)' --where \"Grade <> 'C'\""
DAY: tuple[DemoStep, ...] = (
    DemoStep(
        "Look at what arrived",
        "Eighteen files, one a month. First the rows of one of them, as written.",
        (("oak peek intake/loads_2025-01.csv -n 3", 0),),
    ),
    DemoStep(
        "Intake",
        "All files as one table; year and month come from the file's name. Types are judged from every row, and the evidence is shown.",
        (
            (
                "oak intake 'intake/loads_*.csv' --name 'Timber loads' --name-parts 'loads_{Year}-{Month}.csv' --to loads.oak.toml",
                0,
            ),
        ),
    ),
    DemoStep(
        "Shape",
        "Better names, a type, a format, a description; two cost columns are only for formulas.",
        (
            ("oak field rename loads 'Load id=Load no' 'Year=Delivery year'", 0),
            ("oak field retype loads Month integer", 0),
            ("oak field set loads Volume 'Haulage cost' --format 0,000.00", 0),
            ("oak field set loads 'Gross value' --format 0,000", 0),
            ("oak field set loads Volume --description 'Measured at the mill, in m³'", 0),
            ("oak field set loads 'Loading cost' 'Permit cost' Month --hidden", 0),
        ),
    ),
    DemoStep(
        "Clean",
        "The mill's name comes with stray spaces and in capitals: five mills look like twenty. A clean mends it in place.",
        (
            ("oak tally loads --by Mill --show 'Loads = COUNT(*)' --limit 6", 0),
            ("oak field clean loads Mill 'INITCAP(TRIM(VALUE))'", 0),
            ("oak tally loads --by Mill --show 'Loads = COUNT(*)'", 0),
            ("oak field clean loads 'Load no' \"TRIM(LEADING '0' FROM VALUE)\"", 0),
            ("oak field key loads 'Load no'", 0),
        ),
    ),
    DemoStep(
        "Calculate",
        "Fields that report builders ask for. A trial first: type, grain, nulls, and a sample beside its inputs.",
        (
            (f'oak try loads "{SIZE}" -n 4', 0),
            (f"oak field add loads 'Size class' \"{SIZE}\"", 0),
            ("oak field add loads 'Delivery month' \"CAST(Delivered AS TEXT FORMAT 'YYYY-MM')\"", 0),
            (f"oak field add loads Margin {shlex.quote(MARGIN)} --format 0,000", 0),
            ("oak field add loads 'Margin rate' 'SUM(Margin) / SUM(\"Gross value\")' --format '0.0%'", 0),
            (f"oak field add loads 'Haulage per m³' {shlex.quote(PER_ROW)} --format 0.00", 0),
        ),
    ),
    DemoStep(
        "A total that looks odd",
        "Haulage per m³ was calculated in each row. Every row looks right; the total is nonsense, and the tally says so.",
        (
            ("oak peek loads 'Haulage cost' Volume 'Haulage per m³' -n 3", 0),
            ("oak tally loads --by Mill --show 'Haulage per m³' --totals", 1),
        ),
    ),
    DemoStep(
        "Prove",
        "The check finds that one, and another that nobody has seen: wherever one cost is empty the margin is empty, and the total loses those rows.",
        (("oak check loads", 1),),
    ),
    DemoStep(
        "Put it right",
        "The ratio of sums instead of the sum of ratios; empty costs count as nothing.",
        (
            (f"oak field add loads 'Haulage per m³' {shlex.quote(PER_GROUP)} --replace", 0),
            (f"oak field add loads Margin {shlex.quote(MARGIN_FILLED)} --replace", 0),
            (
                "oak tally loads --by Mill --show 'Typical stand = MEDIAN(SUM(Volume) PER (Stand))' --where 'SUM(Volume) > 1000' --totals",
                0,
            ),
            (
                "oak tally loads --by Mill --show Volume --show Margin --show 'Margin rate' --show 'Haulage per m³' --totals",
                0,
            ),
            ("oak check loads", 1),
        ),
    ),
    DemoStep(
        "A trial that nobody else sees",
        "A catalogue, and in it an area of one's own. What is published there is a draft that only its maker sees; then it is taken back.",
        (
            ("oak catalogue create", 0),
            ("oak catalogue add-area trial", 0),
            ("oak publish loads --area trial --note 'a trial'", 0),
            ("oak catalogue rights list", 0),
            ("oak versions withdraw 'trial/Timber loads' 1 --yes", 0),
        ),
    ),
    DemoStep(
        "Publish a draft",
        "It goes into the catalogue as a draft. Reports do not get it yet.",
        (
            ("oak publish loads --area general --note 'first version'", 0),
            ("oak report render reports/mill_margins.report.toml", 2),
        ),
    ),
    DemoStep(
        "Release",
        "Proven and signed: from now on it is what all six reports read.",
        (
            ("oak release 'Timber loads' --yes --note 'proven'", 0),
            (
                "oak report render reports/mill_margins.report.toml --to pages/mill_margins.html --to pages/mill_margins.png",
                0,
            ),
            ("oak report check reports", 0),
            ("oak report publish reports/mill_margins.report.toml", 0),
            ("oak report render 'Margins by mill' --quiet", 0),
            (f"oak watch add 'Timber loads' 'the margin falls' {shlex.quote(FALLS)}", 0),
            ("oak why reports/mill_margins.report.toml 'Margin rate' -n 2", 0),
        ),
    ),
    DemoStep(
        "The new delivery",
        "Upstream has a new system, and delivers all months again.",
        (("oak peek intake/loads_2026-06.csv -n 3", 0),),
        ("cp delivery/*.csv intake/", _redeliver),
    ),
    DemoStep(
        "What is broken",
        "Everything that is broken, directly or through other fields, in the source and in the six reports; and what the missing column may be called now.",
        (("oak check loads", 1), ("oak mend loads", 1)),
    ),
    DemoStep(
        "Asked about it",
        "On a terminal the same asks, one thing after the other: a number, the name of a column, or later. Stopped at any moment, it has written nothing.",
        (),
        ("oak mend loads", _asked),
    ),
    DemoStep(
        "Mend it once",
        "What values prove could be taken at once (--sure). Here by name: a dry run shows each line before and after; then the same for real. The stand becomes a compartment in fields and reports alike, and the two costs go back to their places. Species have names now: their colours follow.",
        (
            (f"oak mend loads {MOVED} --rename Stand=Compartment --dry-run", 0),
            (f"oak mend loads {MOVED} --rename Stand=Compartment", 0),
            ("oak mend loads --values Species OAK=Oak ASH=Ash LAR=Larch SPR=Spruce", 0),
        ),
    ),
    DemoStep(
        "What cannot be mended",
        "The distance is no longer delivered, so its field goes. Moisture came as a share: a clean makes it percent again.",
        (
            ("oak field drop loads 'Distance km' --yes", 0),
            ("oak field retype loads Moisture 'decimal(18,3)'", 0),
            ("oak field clean loads Moisture 'VALUE * 100'", 0),
            ("oak check loads", 1),
        ),
    ),
    DemoStep(
        "Republish, and see what it does",
        "The draft is compared with the released version, figure by figure, in every report.",
        (
            ("oak publish loads --note 'compartments; distance is gone' --yes", 0),
            ("oak release 'Timber loads' --yes --note 'proven'", 0),
            ("oak versions 'Timber loads'", 0),
        ),
    ),
    DemoStep(
        "Refresh",
        "The reports take the new version by themselves, and say what changed. One panel needs the distance: it says so, and the others are not touched by it. A watch tells that the margin has fallen.",
        (
            ("oak report render 'Margins by mill'", 0),
            ("oak watch run 'Timber loads'", 1),
            ("oak snapshot changes 'Timber loads' --since 1 -n 2", 0),
            ("oak report render reports/haulage_stands.report.toml", 0),
            (
                "oak report render reports/mill_intake.report.toml --to pages/mill_intake.html --to pages/mill_intake.png",
                0,
            ),
            ("oak report check reports", 1),
            ("oak catalogue verify", 0),
            ("oak catalogue log -n 6", 0),
        ),
    ),
    DemoStep(
        "What others see",
        "A dictionary of what is released, as pages and text. A service answers the same catalogue to whoever has a token: pages in a browser, questions from programs.",
        (
            ("oak export dictionary --to pages/dictionary", 0),
            ("oak export 'Timber loads' --to pages/loads.csv --describe", 0),
        ),
        ("oak serve &", _served),
    ),
    DemoStep(
        "Incoming rows prepared",
        "A plan with months as columns and mills only in their first row becomes a date and a value in each row. Contracts meet their terms although two offices write the numbers in two ways.",
        (
            ("oak intake intake/plan.csv --quiet", 0),
            ("oak step add plan fill-down --column Mill", 0),
            ("oak step add plan columns-into-rows --column '* 2026' --name Month --value Planned --no-nulls", 0),
            ("oak field retype plan Month date --template 'MON YYYY'", 0),
            ("oak tally plan --by Mill --by Month --show Planned -n 4", 0),
            ("oak join intake/contracts.csv intake/contract_terms.csv --on Contract=Number --name Apart", 0),
            (
                "oak join intake/contracts.csv intake/contract_terms.csv --on Contract=Number --match \"LTRIM(VALUE, '0')\" --name Contracts",
                0,
            ),
        ),
    ),
    DemoStep(
        "Rows that stay where they are",
        "The yards keep their stock in a database. It is asked there; what it would compute in another way is computed here, and the plan says why.",
        (
            ("oak intake intake/yard.db --table stock --name 'Yard stock' --to stock.oak.toml --quiet", 0),
            ("oak field add stock Room \"CASE WHEN Logs >= 1000 THEN 'full' ELSE 'space' END\"", 0),
            (f"oak tally stock --by Yard --by Room {LOGS}", 0),
            (f"oak export sql stock --by Yard {LOGS} --dialect sqlite", 0),
            ("oak tally stock --by Yard --show 'Mean volume = AVG(Volume)' --where \"Grade = 'A'\" --explain", 0),
        ),
    ),
)


# How many steps lead up to a moment of the day.
PARTS = {"intake": 2, "release": 11, "break": 12}


@click.command("demo")
@click.argument("folder", default="hollowmere", metavar="[DIR]")
@click.option("--rows", type=click.IntRange(1000), default=60_000, show_default=True, help="How many loads to make.")
@click.option("--data-only", is_flag=True, help="Make the data and the reports, and leave the day to you.")
@click.option(
    "--until", type=click.Choice(sorted(PARTS)), default=None, help="Walk only so far, and leave the rest to you."
)
@click.option("--again", is_flag=True, help="Start again in a folder that an earlier demo made.")
@json_option("Demo")
def demo_command(folder: str, rows: int, data_only: bool, until: str | None, again: bool, as_json: bool) -> int:
    """Make the demo data in DIR and walk through a working day on it with the real commands.

    Each step says what is done and why, and shows the command, so that it can be repeated by hand.
    """
    from oak_ledger.demo.hollowmere import MESS, make_demo_data
    from oak_ledger.demo.reports import write_reports
    from oak_ledger.present.terminal import LEAF, QUIET, Text, console

    target = Path(folder)
    _clear(target, again)
    out = console()
    started = time.monotonic()
    made = make_demo_data(target, rows)
    write_reports(target / "reports")
    (target / MARK).write_text("made by oak demo\n", encoding="utf-8")
    out.print(
        Text.assemble(
            ("Hollowmere", "bold"),
            f": {made.loads:,} loads in {target}, made in {time.monotonic() - started:.1f} s. All of it is made up; this is wrong with it on purpose:",
        )
    )
    for what, count in made.mess.items():
        out.print(Text(f"  {count:>7,}  {MESS[what]}", style=QUIET))
    ran: list[tuple[str, int, int]] = []
    back = Path.cwd()
    os.chdir(target)
    try:
        for number, step in enumerate(() if data_only else DAY[: PARTS[until] if until else None], 1):
            ran += _walk(number, step)
    finally:
        os.chdir(back)
    if as_json:
        commands = [dict(zip(("command", "code", "expected"), one, strict=True)) for one in ran]
        print_json({"folder": str(target), "loads": made.loads, "commands": commands})
    if data_only:
        return 0
    out.print()
    seconds = time.monotonic() - started
    out.print(
        Text.assemble(
            ("The day is done", f"bold {LEAF}"),
            f" in {seconds:.1f} s. Look into {target}: {SOURCE}, reports/, pages/, catalogue/.",
        )
    )
    if shutil.which("oak") is None:
        out.print(
            Text(f'The command is not on the path; for this shell: export PATH="{Path(sys.executable).parent}:$PATH"'),
            soft_wrap=True,
        )
    return 0 if all(code == expected for _, code, expected in ran) else 1


def _clear(target: Path, again: bool) -> None:
    if not target.exists() or (target.is_dir() and not any(target.iterdir())):
        return
    if not (target / MARK).is_file():
        raise OakError(
            "folder-taken",
            f"{target} already exists and was not made by a demo.",
            hint="Name another folder: oak demo DIR.",
        )
    if not again:
        raise OakError(
            "folder-taken", f"{target} has a demo already.", hint="Start again with --again, or name another folder."
        )
    shutil.rmtree(target)


def _walk(number: int, step: DemoStep) -> list[tuple[str, int, int]]:
    """One step; its commands, each with the exit code that it had and the one that it should have."""
    from oak_ledger.cli import run
    from oak_ledger.present.look import LOOK
    from oak_ledger.present.terminal import LEAF, RUST, Text, console

    out = console()
    out.print()
    out.rule(Text(f"{number}. {step.title}", style="bold"), style=LEAF, align="left")
    out.print(Text(step.why))
    ran = []
    look = replace(LOOK)
    if step.action is not None:
        shown, action = step.action
        out.print(Text(f"\n$ {shown}", style=LEAF))
        action()
    for command, expected in step.commands:
        out.print(Text(f"\n$ {command}", style=LEAF), soft_wrap=True)
        os.environ.pop("OAK_CATALOGUE", None)
        code = run([*shlex.split(command)[1:], *look.options()])
        LOOK.become(look)
        ran.append((command, code, expected))
        if code != expected:
            out.print(Text(f"this ended with {code}; {expected} was expected", style=RUST))
    return ran
