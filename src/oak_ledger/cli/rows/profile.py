"""`oak profile`."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING, Any

import click

from oak_ledger.cli.shared.app import catalogue_option, draft_option, json_option, open_any, print_json, which
from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.errors import OakError

if TYPE_CHECKING:
    from oak_ledger.insight.profile import FieldProfile


@click.command("profile")
@click.argument("source")
@click.argument("fields", nargs=-1)
@click.option("--to", default=None, metavar="FILE", help="Write a picture (.png) instead: of all fields, or of one.")
@catalogue_option
@draft_option
@json_option("Profile")
def profile_command(
    source: str, fields: tuple[str, ...], to: str | None, catalogue: str, draft: bool, as_json: bool
) -> int:
    """Profile the fields of SOURCE: nulls, distinct values, range, distribution, shapes of text, and what is suspicious.

    With one of FIELDS all details are shown. For each suspicion a clean is proposed, with how many values it would change.
    """
    from oak_ledger import profile
    from oak_ledger.present.terminal import say

    written: list[str] = []
    with progress_of("reading") as progress:
        opened = open_any(source, catalogue, draft=draft, progress=progress)
        profiles = profile(opened, fields)
    if to is not None:
        if not to.lower().endswith(".png"):
            raise OakError(
                "unknown-ending", f"A profile cannot be written as {to}.", hint="Name a file ending in .png."
            )
        from oak_ledger.present.profiles import save_profile

        written.append(str(save_profile(profiles, opened.name, to)))
    if as_json:
        print_json({"fields": [_as_json(profile) for profile in profiles], "written": written})
    elif written:
        say(f"written: {written[0]}")
    elif which(opened):
        say(which(opened))
    if as_json or written:
        pass
    elif len(profiles) == 1:
        _show_one(profiles[0], source)
    else:
        _show_all(profiles, source)
    return 1 if any(profile.suspicions for profile in profiles) else 0


def _as_json(profile: FieldProfile) -> dict[str, Any]:
    from dataclasses import asdict

    counts = {
        key: [{"value": value, "rows": rows} for value, rows in getattr(profile, key)] for key in ("common", "patterns")
    }
    bins = [dict(zip(("start", "end", "rows"), part, strict=True)) for part in profile.bins]
    suspicions = [
        {**asdict(odd), "recode": [{"found": found, "meant": meant} for found, meant in odd.recode]}
        for odd in profile.suspicions
    ]
    return {**asdict(profile), **counts, "bins": bins, "suspicions": suspicions}


def _show_all(profiles: list[FieldProfile], source: str) -> None:
    from oak_ledger.definition.formats import plain
    from oak_ledger.present.profiles import bar_text
    from oak_ledger.present.terminal import LEAF, Text, console, grid, shortened

    out = console()
    table = grid("field", "type", "null", "distinct", "minimum", "maximum", "distribution", "most common", right=(2, 3))
    shown, more = shortened(profiles, "field")
    for profile in shown:
        share = profile.nulls / profile.rows if profile.rows else 0.0
        nulls = f"{share:.1%}" if share >= 0.0005 else "<0.1%" if share else ""
        often = [
            (value, rows / max(profile.rows, 1))
            for value, rows in profile.common[:2]
            if rows >= 0.01 * profile.rows > 0
        ]
        common = ", ".join(f"{_short(plain(value))} {share:.0%}" for value, share in often)
        table.add_row(
            profile.field,
            profile.type,
            nulls,
            f"{profile.distinct:,}",
            _short(plain(profile.minimum)),
            _short(plain(profile.maximum)),
            Text(bar_text(profile), style=LEAF),
            common,
        )
    out.print(table, *more)
    suspicious, more = shortened(
        [profile for profile in profiles if profile.suspicions], "field with something suspicious"
    )
    for suspiciou in suspicious:
        _show_suspicions(suspiciou, source, name=True)
    for line in more:
        out.print(line)


def _short(text: str, size: int = 14) -> str:
    return text if len(text) <= size else text[: size - 1] + "…"


def _show_one(profile: FieldProfile, source: str) -> None:
    from oak_ledger.definition.formats import plain, show
    from oak_ledger.present.terminal import LEAF, QUIET, Text, console, grid, plural

    out = console()
    share = f" ({profile.nulls / profile.rows:.1%})" if profile.rows else ""
    out.print(
        Text.assemble(
            (profile.field, "bold"),
            f"  {profile.type}; {plural(profile.rows, 'row')}, {plural(profile.nulls, 'null')}{share}, {plural(profile.distinct, 'distinct value')}",
        )
    )
    facts = [("minimum", plain(profile.minimum)), ("maximum", plain(profile.maximum))]
    facts += (
        [("average", show(profile.average, "0.0000")), ("median", plain(profile.median))]
        if profile.average is not None
        else []
    )
    facts += [("shortest", repr(profile.shortest)), ("longest", repr(profile.longest))] if profile.longest else []
    out.print(Text("   ".join(f"{name} {value}" for name, value in facts)))
    parts = profile.bins or tuple((value, None, rows) for value, rows in profile.common)
    table = grid("values" if profile.bins else "most common", "rows", "", right=(1,))
    peak = max((rows for *_, rows in parts), default=1) or 1
    for low, high, rows in parts:
        shown = plain(low) if high is None or isinstance(low, str) else f"{low:,.6g} to {high:,.6g}"
        table.add_row(
            shown if shown.strip() == shown and shown else repr(shown),
            f"{rows:,}",
            Text("█" * round(50 * rows / peak), style=LEAF),
        )
    out.print(table)
    if profile.patterns:
        out.print(Text("shapes: " + ", ".join(f"{shape!r} {rows:,}" for shape, rows in profile.patterns), style=QUIET))
    _show_suspicions(profile, source)


SHOWN_PAIRS = 6  # of a recode list that is proposed


def _show_suspicions(profile: FieldProfile, source: str, *, name: bool = False) -> None:
    from oak_ledger.present.terminal import LEAF, QUIET, RUST, Text, console, plural

    out = console()
    for odd in profile.suspicions:
        samples = ", ".join(repr(text) for text in odd.samples)
        out.print(
            Text.assemble(
                (f"{profile.field}  " if name else "", "bold"),
                ("suspicious: ", RUST),
                f"{odd.what} in {plural(odd.rows, 'row')}, such as {samples}",
            )
        )
        if odd.recode:
            pairs = " ".join(shlex.quote(f"{found}={meant}") for found, meant in odd.recode[:SHOWN_PAIRS])
            more = f"  the first {SHOWN_PAIRS} of {len(odd.recode):,}" if len(odd.recode) > SHOWN_PAIRS else ""
            out.print(
                Text.assemble(
                    ("  → ", LEAF), f"oak field recode {source} {shlex.quote(profile.field)} {pairs}", (more, QUIET)
                )
            )
        if odd.clean:
            out.print(
                Text.assemble(
                    ("  → ", LEAF),
                    f"oak field clean {source} '{profile.field}' \"{odd.clean}\"",
                    (f"  changes {plural(odd.changes, 'value')}", QUIET),
                )
            )
