"""What the shell offers for an argument: sources, fields, filters, constants, rules and published names."""

from __future__ import annotations

import glob
import os
import shlex
from pathlib import Path

import click
from click.shell_completion import CompletionItem

from oak_ledger.cli.shared.paths import DEFINITION_SUFFIX, definition_path
from oak_ledger.errors import OakError

OF_FIELDS = frozenset({"fields", "names", "name", "by", "show", "sort"})
OF_ENTRIES = ("constant", "filter", "rule")


def _sources(context: click.Context, begun: str) -> list[str]:
    """Definitions that begin like the text, without their ending; and published names."""
    folder, start = os.path.split(begun)
    files = Path(folder).glob(f"{glob.escape(start)}*{DEFINITION_SUFFIX}")
    return sorted(str(path).removesuffix(DEFINITION_SUFFIX) for path in files) + _published(context)


def _published(context: click.Context) -> list[str]:
    """The names in the catalogue."""
    from oak_ledger import Catalogue

    folder = str(context.params.get("catalogue") or "catalogue")
    return Catalogue.open(folder).sources()


def _entries(context: click.Context, table: str) -> list[str]:
    """The names of the fields, filters, constants or rules of the source that the line names first."""
    from oak_ledger.definition.document import read_document
    from oak_ledger.definition.model import DEFINITION

    source = context.params.get("source") or next(iter(context.args), "")  # an option that is not whole leaves args
    document = read_document(definition_path(source), DEFINITION)
    return [str(block.values["name"]) for block in document.blocks if block.name == table and "name" in block.values]


class Name(click.types.StringParamType):
    """A text that names something; the shell is offered what there is."""

    name = "text"

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """What begins like the text, quoted where it holds spaces and no quote is open; files where nothing does."""
        group = str(ctx.parent.info_name) if ctx.parent else ""
        try:
            if param.name == "source":
                names = _sources(ctx, incomplete)
            elif param.name == "where":
                names = _entries(ctx, "filter")
            elif all(param.name != "source" for param in ctx.command.params):
                names = _published(ctx)
            else:
                names = _entries(ctx, group if param.name in ("name", "names") and group in OF_ENTRIES else "field")
        except OakError:
            names = []
        begun = incomplete.casefold()
        opened = any(os.environ.get("COMP_WORDS", "").endswith(mark + incomplete) for mark in "\"'")
        opened |= os.environ.get("_OAK_COMPLETE", "").startswith(("zsh", "fish"))  # they put quotes by themselves
        found = [
            CompletionItem(name if opened else shlex.quote(name)) for name in names if name.casefold().startswith(begun)
        ]
        return found or [CompletionItem(incomplete, type="file")] if param.name == "source" else found


def with_completion(command: click.Command) -> None:
    """Let the arguments and repeated options of a command that name something be completed."""
    for param in command.params:
        several = isinstance(param, click.Argument) or param.name == "where" or getattr(param, "multiple", False)
        if param.type is click.STRING and several and (param.name in OF_FIELDS or param.name in ("source", "where")):
            param.type = Name()
