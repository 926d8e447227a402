"""The prompt of `oak try SOURCE`: formulas with completion and validity while typing, a sample on Enter, `save as NAME`."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from prompt_toolkit import PromptSession
from prompt_toolkit.completion import CompleteEvent, Completer, Completion
from prompt_toolkit.document import Document
from prompt_toolkit.formatted_text import FormattedText

from oak_ledger import OakError, complete, signature_at, try_formula
from oak_ledger.insight.additivity import how_it_totals

if TYPE_CHECKING:
    from oak_ledger.source import Source

_SAVE = re.compile(r"(?i)save as\s+(?P<name>.+)")
UNFINISHED = ("open-parenthesis", "open-case", "open-quote", "value-missing", "unfinished")  # natural while one types
LEAF, RUST = "#5f9e4a", "#c8692f"
HELP = "Enter shows a sample; Tab completes; save as NAME keeps the last formula that was right; quit leaves."


class _Fields(Completer):
    """Completion from the library, at the cursor."""

    def __init__(self, source: Source) -> None:
        self.source = source

    def get_completions(self, document: Document, complete_event: CompleteEvent) -> Iterator[Completion]:
        """Proposals for what is being typed."""
        at = document.cursor_position
        states = self.source.compiled.states
        for completion in complete(document.text, at, self.source.compiled.scope()):
            state = states.get(completion.text.strip('"').casefold()) if completion.kind == "field" else None
            totals = how_it_totals(self.source, state) if state is not None else ""
            said = f"{completion.kind}  {completion.detail}{', ' if totals else ''}{totals}"
            yield Completion(completion.text, start_position=completion.start - at, display_meta=said[:70])


def state_of(source: Source, text: str, position: int) -> list[tuple[str, str]]:
    """What is shown under the line being typed, as (style, text): the signature of the call, then validity with type and grain."""
    if not text.strip() or _SAVE.fullmatch(text.strip()):
        return [("", HELP)]
    shown: list[tuple[str, str]] = []
    here = signature_at(text, position)
    if here is not None:
        shown.append(("", f"{here.written}   "))
    formula = source.check_formula(text)
    if formula.checked is not None:
        shown.append((f"fg:{LEAF}", f"{formula.checked.type} per {formula.checked.grain}"))
    else:
        finished = [finding for finding in formula.findings if finding.code not in UNFINISHED]
        first = (finished or formula.findings)[0]
        shown.append((f"fg:{RUST}", f"column {first.place.column}: {first.message} {first.hint}"))
    return shown


def run_prompt(source: Source) -> tuple[Source, int]:
    """Ask for formulas until `quit` or the end of input; gives the source with what was saved, and how many formulas were."""
    from oak_ledger.present.terminal import console, findings_list, plural, rows_table

    out = console()
    right = ""
    saved = 0

    def toolbar() -> FormattedText:
        buffer = session.default_buffer
        return FormattedText(state_of(source, buffer.text, buffer.cursor_position))

    session: PromptSession[str] = PromptSession(
        completer=_Fields(source), complete_while_typing=True, bottom_toolbar=toolbar
    )
    while True:
        try:
            text = session.prompt("formula> ").strip()
        except (EOFError, KeyboardInterrupt):
            return source, saved
        if text.casefold() in ("quit", "exit"):
            return source, saved
        if not text:
            continue
        save = _SAVE.fullmatch(text)
        try:
            if save:
                if not right:
                    out.print("there is no formula to save yet; first write one that works")
                    continue
                source = source.with_field(save["name"].strip().strip('"'), right)
                session.completer = _Fields(source)
                saved += 1
                out.print(f"{save['name'].strip()} = {right}; written when you leave")
                continue
            found: Any = try_formula(source, text, limit=5)
            out.print(
                f"{found.type} per {found.grain}; {plural(found.rows, 'row' if found.grain == 'row' else 'group')}, {plural(found.nulls, 'null')}"
            )
            out.print(rows_table(found.sample, out.width))
            right = text
        except OakError as error:
            out.print(findings_list(error.findings))
