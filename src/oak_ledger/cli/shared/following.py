"""Reports of the catalogue that follow an edit of their source: their change waits until the source is released, and can be taken back until then."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from oak_ledger.cli.shared.app import has_catalogue, open_catalogue

if TYPE_CHECKING:
    from oak_ledger.catalogue import Version
    from oak_ledger.catalogue.registered import Registered
    from oak_ledger.definition.document import Document
    from oak_ledger.definition.edits import FileEdit
    from oak_ledger.reference import Mend
    from oak_ledger.report import Report
    from oak_ledger.source import Source


class Followed(NamedTuple):
    """The reports of the catalogue that read a source and do not lie here as files, under paths that are only names."""

    catalogue: str
    reports: dict[Path, Registered]

    @property
    def documents(self) -> list[tuple[Path, Document]]:
        """What a mend is to change in them."""
        return [(path, registered.report.document) for path, registered in self.reports.items()]

    def apart(self, mend: Mend) -> tuple[Mend, list[FileEdit]]:
        """A mend of the files that lie here, and the edits of the others."""
        theirs = [edit for edit in mend.edits if edit.path in self.reports]
        return replace(mend, edits=tuple(edit for edit in mend.edits if edit.path not in self.reports)), theirs

    def leave(self, edits: Sequence[FileEdit], *, dry_run: bool) -> None:
        """Show the edits and leave them until the source is released."""
        from oak_ledger.cli.shared.output_edits import show_edits, what_is_run
        from oak_ledger.present.terminal import say

        show_edits(edits)
        for edit in edits:
            registered = self.reports[edit.path]
            if not dry_run:
                place = open_catalogue(self.catalogue)
                place.reports.propose(
                    f"{registered.area}/{registered.name}", edit.after, note=what_is_run(), with_source=True
                )
            who = "" if registered.may_change else f", and then for its owner {registered.owner}"
            say(f"report {registered.name} of the catalogue: the change {'would wait' if dry_run else 'waits'} for the release of {registered.source}{who}")  # fmt: skip


def followed(opened: Source, files: Sequence[Report], catalogue: str) -> Followed:
    """The reports of the catalogue that are to follow an edit; `files` lie here and are edited themselves."""
    if not has_catalogue(catalogue):
        return Followed(catalogue, {})
    here = {file.about.name.casefold() for file in files}
    registereds = open_catalogue(catalogue).reports.followed(opened.name)
    return Followed(catalogue, {Path("(catalogue)") / registered.area / registered.name: registered for registered in registereds if registered.name.casefold() not in here})  # fmt: skip


def tell_followed(before: Sequence[Registered], version: Version, catalogue: str) -> None:
    """Which reports have followed a release, and which changes wait for their owners; `before` are those of the source as they were."""
    from oak_ledger.present.terminal import say

    now = open_catalogue(catalogue).reports.all(f"{version.area}/{version.source}")
    states = {(registered.area, registered.name): registered for registered in now}
    for registered in before:
        after = states.get((registered.area, registered.name))
        if after is not None and after.number > registered.number:
            say(f"report {registered.name} follows: state {after.number}")
        elif after is not None and after.waiting:
            say(
                f"report {registered.name}: a change waits for {registered.owner}: oak report waiting '{registered.name}'"
            )
