"""The command group, and what commands share: options, opening a source, progress, JSON."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from oak_ledger.cli.shared import startup
from oak_ledger.cli.shared.completion import with_completion
from oak_ledger.cli.shared.paths import definition_path, is_date
from oak_ledger.cli.shared.sections import COMMANDS, MOVED, SECTIONS
from oak_ledger.errors import Finding, OakError
from oak_ledger.version import __version__

if TYPE_CHECKING:
    from oak_ledger.catalogue import Catalogue
    from oak_ledger.report import Report
    from oak_ledger.source import Source

Command = TypeVar("Command", bound=Callable[..., Any])

# Each command's module, with the line that help shows for it, by what it is for, in the order of the work.


def _look(context: click.Context, option: click.Parameter, value: Any) -> Any:
    """Set how everything looks that the command prints."""
    if value not in (None, False) and not context.resilient_parsing:
        from oak_ledger.present.look import LOOK

        setattr(LOOK, str(option.name), value)
    return value


def _common() -> list[click.Parameter]:
    """The options that every command has."""
    keys: dict[str, Any] = {"expose_value": False, "callback": _look}
    return [
        click.Option(["--width"], type=click.IntRange(40), default=None, metavar="N", help="Columns of the output  [default: the terminal's, or COLUMNS, or 120]", **keys),
        click.Option(["--color"], type=click.Choice(["auto", "never", "always"]), default=None, help="When to use colour  [default: auto]", **keys),
        click.Option(["--all", "everything"], is_flag=True, help="Show all fields, columns and findings, however many.", **keys),
        click.Option(["--quiet", "-q"], is_flag=True, help="Print no tables and notes; only the exit code says what happened.", **keys),
        click.Option(["--no-progress"], is_flag=True, help="Show no progress.", **keys),
    ]  # fmt: skip


def _dry(context: click.Context, _option: click.Parameter, value: bool) -> None:
    context.find_root().meta["oak.dry_run"] = value


def with_common(command: click.Command, *, edits: bool = False) -> click.Command:
    """A command with the options that every command has; one that edits a definition has `--dry-run`, too."""
    names = {name for param in command.params for name in param.opts}
    with_completion(command)
    if "--json" not in names:
        json_line = "Print JSON instead of text."
        command.params.append(
            click.Option(["--json", "as_json"], is_flag=True, expose_value=False, callback=_look, help=json_line)
        )
    if edits and "--dry-run" not in names:
        help_line = "Show what would change and write nothing."
        command.params.append(
            click.Option(["--dry-run"], is_flag=True, expose_value=False, callback=_dry, help=help_line)
        )
    command.params += [parameter for parameter in _common() if not names & {*parameter.opts}]
    return command


class Verbs(click.Group):
    """A group of commands in the order in which they were written, each with its whole first sentence in the help.

    `default` is the one that is meant where none is named.
    """

    default = ""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Put the verb that is meant before what is not one."""
        if (
            self.default
            and not ctx.resilient_parsing
            and (not args or args[0] not in {*self.commands, *ctx.help_option_names})
        ):
            args = [self.default, *args]
        return super().parse_args(ctx, args)

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The commands in their order."""
        return [*self.commands]

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """The command; of a word that is none, what it is now, or which is meant."""
        word, known, path = args[0], self.list_commands(ctx), ctx.command_path
        own = word if ctx.parent is None else f"{self.name} {word}"
        if own in MOVED:
            raise click.UsageError(f"oak {own} is now oak {MOVED[own]}.", ctx)
        if word not in known and not word.startswith("-"):
            import difflib

            close = difflib.get_close_matches(word, known, 1)
            hint = f"Did you mean {close[0]}?" if close else f"{path} --help lists them."
            raise click.UsageError(f"There is no command {word!r}. {hint}", ctx)
        return super().resolve_command(ctx, args)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """A command, with the options that every command has."""
        command = super().get_command(ctx, cmd_name)
        if (
            command is None
            or isinstance(command, Verbs)
            or "--no-progress" in {name for param in command.params for name in param.opts}
        ):
            return command
        return with_common(command, edits=_edits(f"{self.name} {cmd_name}"))

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the list of commands, each line whole."""
        lines = [(name, command.get_short_help_str(200)) for name, command in self.commands.items()]
        with formatter.section("Commands"):
            formatter.write_dl(lines)


def with_default(name: str) -> type[Verbs]:
    """A group in which one verb is meant where none is named."""
    return type("Verbs", (Verbs,), {"default": name, "__doc__": Verbs.__doc__})


EDITING = frozenset(
    {"undo last", "undo redo", "report new", "report add", "report drop", "report lift", "report retarget"}
)
"""Commands that edit files by `write_edit`, which honours `--dry-run`; those that act elsewhere have no such option, or one of their own."""


def _edits(name: str) -> bool:
    """Whether a command edits a definition or a report, so that it can be tried without writing."""
    group, _, verb = name.partition(" ")
    return name in EDITING or (group in ("field", "constant", "filter", "rule", "step") and verb not in ("", "list"))


class _Commands(Verbs):
    """Commands by name, each imported only when it is called; help needs none of them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        module = import_module(f"oak_ledger.cli.{COMMANDS[cmd_name][0]}")
        command: click.Command = getattr(module, f"{cmd_name.replace('-', '_')}_command")
        known = isinstance(command, Verbs) or "--no-progress" in {
            name for param in command.params for name in param.opts
        }
        return command if known else with_common(command)

    def format_help(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        formatter.write("Usage: oak COMMAND [ARGUMENTS]...  (oak COMMAND --help says which)\n")
        width = max(len(name) for name in COMMANDS if "-" not in name)  # one long name does not move all lines
        for section, commands in SECTIONS.items():
            formatter.write(f"{section}\n")
            formatter.write("".join(f"  {name.ljust(width)}  {line}\n" for name, (_, line) in commands.items()))


def _version(context: click.Context, _option: click.Parameter, asked: bool) -> None:
    if not asked or context.resilient_parsing:
        return
    click.echo(f"oak {__version__}")
    context.exit()


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.option(
    "--version", is_flag=True, expose_value=False, is_eager=True, callback=_version, help="Show the version and exit."
)
def app() -> None:
    """Oak Ledger: curate a shared data source, prove its numbers, publish it, and mend it when something upstream changes.

    A first look at everything, on made-up data: oak demo
    """


def every_command() -> dict[str, click.Command]:
    """All commands by what one types: `peek`, `field add`, `catalogue rights list`, …, in the order of the help."""
    found: dict[str, click.Command] = {}
    context = click.Context(app)

    def walk(group: click.Group, before: str) -> None:
        for name in group.list_commands(context):
            command = group.get_command(context, name)
            if isinstance(command, click.Group):
                walk(command, f"{before}{name} ")
            elif command is not None:
                found[f"{before}{name}"] = command

    walk(app, "")
    return found


def command_called(arguments: Sequence[str]) -> str:
    """Which command some words call, as `every_command` names it."""
    group: click.Group = app
    name = ""
    context, left = click.Context(app), [*arguments]
    while isinstance(group, click.Group):
        default = group.default if isinstance(group, Verbs) else ""
        verb = left.pop(0) if left and left[0] in group.list_commands(context) else default
        name, command = f"{name} {verb}".strip(), group.get_command(context, verb)
        if not isinstance(command, click.Group):
            break
        group = command
    return name


def json_shape(command: click.Command) -> str:
    """The name of the shape that a command prints with `--json`; an edit where nothing else is said."""
    return getattr(command.callback, "json_shape", "Edit")


# -- options that several commands have ---------------------------------------------------------------------


def json_option(shape: str) -> Callable[[Command], Command]:
    """`--json`, which prints an object of this shape (see `shapes`)."""

    def decorate(command: Command) -> Command:
        decorated = click.option(
            "--json", "as_json", is_flag=True, callback=_look, help="Print JSON instead of tables."
        )(command)
        vars(decorated)["json_shape"] = shape
        return decorated

    return decorate


def where_option(command: Command) -> Command:
    """`--where`."""
    return click.option(
        "--where", "-w", default=None, metavar="CONDITION", help="A condition on rows, or a filter's name."
    )(command)


def catalogue_option(command: Command) -> Command:
    """`--catalogue`."""
    return click.option(
        "--catalogue",
        "-c",
        envvar="OAK_CATALOGUE",
        default="catalogue",
        show_default=True,
        metavar="DIR",
        help="The catalogue's folder (also the variable OAK_CATALOGUE).",
    )(command)


def baseline_option(command: Command) -> Command:
    """`--baseline`."""
    return click.option(
        "--baseline",
        default=None,
        metavar="FILE|VERSION|DATE",
        help="The earlier state that BEFORE takes values from: a file of oak export, a published version, or a date.",
    )(command)


def reports_option(command: Command) -> Command:
    """`--reports`."""
    return click.option(
        "--reports",
        default=None,
        metavar="DIR",
        help="Where the reports are  [default: beside the definition and below]",
    )(command)


def place_option(command: Command) -> Command:
    """`--place`."""
    return click.option(
        "--place",
        type=click.Choice(["", "here", "origin", "spark"]),
        default="",
        metavar="here|origin|spark",
        help="Where to compute: here, in the database that the rows come from (the default where all of it can be said there), or on a cluster (its address in OAK_SPARK)",
    )(command)


def at_option(command: Command) -> Command:
    """`--at`."""
    return click.option(
        "--at", default=None, metavar="DATE", help="The rows as they were on that day (published sources only)."
    )(command)


def draft_option(command: Command) -> Command:
    """`--draft`."""
    return click.option("--draft", is_flag=True, help="Use the newest version, draft or not (published sources only).")(
        command
    )


# -- opening --------------------------------------------------------------------------------------------------


def open_working(name: str, progress: Callable[[int], None] | None = None) -> Source:
    """A source by its definition file."""
    startup.start()
    from oak_ledger import open_source

    path = definition_path(name)
    if path.is_file() and not path.name.endswith(".toml"):
        raise OakError("not-a-definition", f"{path} is not a definition.", hint=f"Read it first: oak intake {path}")
    return open_source(path, progress=progress)


def open_any(
    name: str,
    catalogue: str,
    *,
    draft: bool = False,
    baseline: str | None = None,
    at: str | None = None,
    progress: Callable[[int], None] | None = None,
) -> Source:
    """A source by its definition file, or a published one by its name (`at` a date); compared with a baseline, if one is given."""
    path = definition_path(name)
    if at is not None:
        source = open_catalogue(catalogue).snapshots.source_at(open_working(name).name if path.is_file() else name, at)
    elif path.is_file() or name.endswith(".toml") or not has_catalogue(catalogue):
        source = open_working(name, progress)
    else:
        place = open_catalogue(catalogue)
        source = place.source(name, drafts=draft)
        with suppress(OakError):  # drafts are no reading, and where nothing can be written, nothing is
            place.reports.looked(name, place.person)
    return compared_with(source, baseline, catalogue)


def compared_with(source: Source, baseline: str | None, catalogue: str) -> Source:
    """A source with an earlier state to compare with: the number of a published version, or a file; as it is without one."""
    if not baseline:
        return source
    if baseline.isdigit():
        return source.with_baseline(open_catalogue(catalogue).source(source.name, int(baseline)))
    if is_date(baseline):
        return source.with_baseline(open_catalogue(catalogue).snapshots.source_at(source.name, baseline))
    return source.with_baseline(baseline)


def which(source: Source) -> str:
    """Which published version a source is, in words; empty for a working copy."""
    return "" if source.published is None else f"{source.name}, {source.published}"


def has_catalogue(folder: str) -> bool:
    """Whether there is a catalogue in a folder."""
    return any((Path(folder) / name).is_file() for name in ("catalogue.db", "catalogue.toml"))


def open_catalogue(folder: str, *, create: bool = False) -> Catalogue:
    """A catalogue by its folder."""
    startup.start()
    from oak_ledger import Catalogue

    return Catalogue.open(folder, create=create)


def reports_of(
    source: Source, folder: str | None, catalogue: str | None = None, unread: list[Finding] | None = None
) -> list[Report]:
    """The reports of a source that are found in a folder; with a catalogue each with the earlier state that it compares with.

    What is wrong with those that cannot be read goes into `unread` where that is given; else it is raised.
    """
    from oak_ledger import find_reports

    reports = find_reports(folder or source.folder, source.name, unread)
    return reports if catalogue is None else [with_own_baseline(report, catalogue) for report in reports]


def with_own_baseline(report: Report, catalogue: str) -> Report:
    """A report with the earlier state that it names. Where there is none of that name, its panels say that none is given."""
    own = report.about.baseline
    if not own:
        return report
    if not own.isdigit():
        path = (report.path or Path("x")).parent / own
        return report.compared_with(path) if path.is_file() else report
    with suppress(OakError):
        return report.compared_with(open_catalogue(catalogue).source(report.about.source, int(own)))
    return report


# -- telling ---------------------------------------------------------------------------------------------------


def print_json(value: Any) -> None:
    """Print an object as JSON; exact decimals as text, dates and moments as the standard writes them."""
    click.echo(json.dumps(value, ensure_ascii=False, indent=2, default=_plain))


def _plain(value: Any) -> str:
    """Exact decimals, dates and moments as text."""
    return str(value)


def attention(findings: Iterable[Finding]) -> int:
    """The exit code: 1 where a finding needs attention, which a note does not."""
    return 1 if any(finding.severity != "note" for finding in findings) else 0


def is_dry_run() -> bool:
    """Whether nothing is to be written."""
    context = click.get_current_context(silent=True)
    return context is not None and bool(context.find_root().meta.get("oak.dry_run"))


def confirmed(question: str, *, yes: bool) -> None:
    """Ask before something that others depend on; without a terminal and without `--yes` it is refused, never waited for."""
    if yes or is_dry_run():
        return
    if not sys.stdin.isatty():
        raise click.UsageError(f"{question} Repeat the command with --yes to do so.")
    click.confirm(question, abort=True, err=True)


def yes_option(command: Command) -> Command:
    """`--yes`."""
    return click.option("--yes", "-y", is_flag=True, help="Do not ask.")(command)


def pairs(items: Sequence[str], what: str) -> dict[str, str]:
    """`OLD=NEW` arguments as a mapping."""
    made: dict[str, str] = {}
    for item in items:
        old, sign, new = item.partition("=")
        if not sign or not old.strip() or not new.strip():
            raise click.UsageError(f"{item!r} is not {what}; write OLD=NEW, in quotes where a name has spaces.")
        if made.setdefault(old.strip(), new.strip()) != new.strip():
            raise click.UsageError(f"{old.strip()!r} is there twice: {made[old.strip()]!r} and {new.strip()!r}.")
    return made
