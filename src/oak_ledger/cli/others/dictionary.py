"""`oak export dictionary`."""

from __future__ import annotations

from pathlib import Path

import click

from oak_ledger.cli.shared.app import catalogue_option, draft_option, json_option, open_any, open_catalogue, print_json
from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.errors import OakError

KINDS = {"html": ("html",), "markdown": ("markdown",), "both": ("html", "markdown")}


@click.command("dictionary")
@click.argument("sources", nargs=-1, metavar="[SOURCE]...")
@click.option(
    "--to", required=True, metavar="DIR", help="The folder to write to; index.html is the page to begin with."
)
@click.option(
    "--as", "kind", type=click.Choice([*KINDS]), default="both", show_default=True, help="Pages, texts, or both."
)
@catalogue_option
@draft_option
@json_option("Dictionary")
def dictionary_command(
    sources: tuple[str, ...], to: str, kind: str, catalogue: str, draft: bool, as_json: bool
) -> None:
    """Write a dictionary: for each source its fields with meaning, type, formula, origin, values, and the versions with who signed them.

    Without SOURCE it has all sources of the catalogue whose released version you may see. Each page stands alone and loads nothing; hidden fields
    are left out.
    """
    from oak_ledger.files import FileChange, locked, raw_text, write_together
    from oak_ledger.present.dictionary import entry_of, files
    from oak_ledger.present.terminal import plural, say

    folder = Path(to)
    with progress_of("reading") as progress:
        if sources:
            opened = [open_any(name, catalogue, draft=draft, progress=progress) for name in sources]
        else:
            place = open_catalogue(catalogue)
            opened = [place.source(name, drafts=draft) for name in place.sources() if draft or place.released(name)]
        if not opened:
            raise OakError("not-released", "The catalogue has no released source.", hint="Release one (oak release), or ask for drafts: --draft.")  # fmt: skip
        entries = []
        for source in opened:
            history = open_catalogue(catalogue).versions(source.name) if source.published is not None else []
            entries.append(entry_of(source, sorted(history, key=lambda version: -version.number)))
        made = files(entries, KINDS[kind])
    folder.mkdir(parents=True, exist_ok=True)
    first = folder / next(iter(made))
    with locked(first):
        write_together(first, [FileChange(folder / name, raw_text(folder / name), text) for name, text in made.items()])
    fields = sum(len(entry.fields) for entry in entries)
    if as_json:
        print_json(
            {
                "written": [str(folder / name) for name in made],
                "sources": [entry.name for entry in entries],
                "fields": fields,
            }
        )
        return
    say(
        f"written: {first} and {plural(len(made) - 1, 'file')} beside it; {plural(len(entries), 'source')}, {plural(fields, 'field')}"
    )
