"""`oak mend SOURCE` alone: what is wrong, one thing after the other, and what may be done about it."""

from __future__ import annotations

import sys
from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING, NamedTuple

import click

from oak_ledger.cli.shared.progress import progress_of
from oak_ledger.cli.shared.since import looked_at, released
from oak_ledger.present.look import LOOK

if TYPE_CHECKING:
    from oak_ledger.reference.guided import Choice, Decision, Repairs
    from oak_ledger.report import Report
    from oak_ledger.source import Source


class Decided(NamedTuple):
    """What was chosen, what was left, whether anything is to be written now, whether somebody was asked, and all that there was to decide."""

    repairs: Repairs
    left: list[Decision]
    go_on: bool
    asked: bool
    all: list[Decision]


def decided(source: Source, reports: Sequence[Report], catalogue: str, *, sure: bool, again: bool) -> Decided:
    """Look at a source and decide: what values prove (`sure`), what is answered on a terminal, else nothing: then all of it is shown.

    First columns, then values and units of the source as it is with these. What was left for later is asked again with other evidence, or
    if it is wished (`again`).
    """
    from oak_ledger import plan_mend
    from oak_ledger.cli.shared.output_edits import documents
    from oak_ledger.present.terminal import LEAF, Text, console
    from oak_ledger.reference import recoded
    from oak_ledger.reference.elsewhere import elsewhere, unreadable
    from oak_ledger.reference.guided import (
        decision_of_origin,
        decisions_of_columns,
        decisions_of_values,
        keep_put_off,
        put_off,
        together,
    )

    asks = sys.stdin.isatty() and not sure and not LOOK.as_json
    path = source.path
    known = put_off(path) if asks and not again and path is not None else set[str]()
    shows = not sure and not LOOK.as_json
    taken: list[Choice] = []
    left: list[Decision] = []
    error = unreadable(source)
    if error is not None:
        gone = decision_of_origin(error, elsewhere(source, released(source, catalogue)[1]))
        taken, left = _decide([gone], asks=asks, shows=shows, known=known)
        if not taken:
            return Decided(together(()), left, False, asks, [gone])
        source = plan_mend(source, (chosen := together(taken)).columns, origin=chosen.origin, parts=chosen.parts).source
    with progress_of("comparing with the released version"):
        found = looked_at(source, reports, catalogue)
    columns = decisions_of_columns(source, found.since, found.causes)
    free = source.new_columns() if asks else []
    more, rest = _decide(columns, asks=asks, shows=shows, free=free, known=known)
    taken, left = [*taken, *more], [*left, *rest]
    if more:
        source = plan_mend(source, (chosen := together(more)).columns, documents(reports), gone=chosen.gone, hidden=chosen.hidden, reading=chosen.reading).source  # fmt: skip
        with progress_of("comparing its values"):
            found = looked_at(source, reports, catalogue)
    pairs = recoded(source, found.before, mended=False) if found.before is not None else {}
    values = decisions_of_values(source, found.since, pairs)
    more, rest = _decide(values, asks=asks, shows=shows, known=known)
    if not columns and not values and shows:
        console().print(Text("nothing to repair", style=LEAF))
    elif shows and not asks:
        console().print("to take what values prove: --sure; to decide one by one: repeat it on a terminal")
        return Decided(together(()), [*columns, *values], False, asks, [*columns, *values])
    if asks and path is not None:
        keep_put_off(path, [*left, *rest])
        before = sum(decision.evidence in known for decision in (*left, *rest))
        if before:
            console().print(f"left for later before, and not asked again: {before} (--again asks)")
        if not taken and not more and (left or rest):
            console().print("nothing was written")
    return Decided(
        together([*taken, *more]), [*left, *rest], sure or (asks and bool(taken or more)), asks, [*columns, *values]
    )


def _decide(
    decisions: Sequence[Decision], *, asks: bool, shows: bool, free: Sequence[str] = (), known: Collection[str] = ()
) -> tuple[list[Choice], list[Decision]]:
    """What is chosen, and what is left: asked on a terminal, but for what is `known` to be for later, else what values prove."""
    taken: list[Choice] = []
    left = []
    for decision in decisions:
        if decision.evidence in known:
            left.append(decision)
            continue
        if shows:
            _show(decision)
        choice = _asked(decision, free) if asks else decision.sure
        if choice is None:
            left.append(decision)
        else:
            taken.append(choice)
    return taken, left


def _asked(decision: Decision, free: Sequence[str]) -> Choice | None:
    """What is chosen on the terminal, by its number or as one of the `free` columns; None for later."""
    names = {name.casefold(): name for name in free} if decision.gone else {}
    numbers = {str(at): choice for at, choice in enumerate(decision.choices, 1)}
    if not numbers and not names:
        return None
    by_name = ", or a column" if names else ""
    answer = _line(f"  which ({', '.join(numbers)}{by_name}; later) ", "1" if decision.sure else "later", [*names.values(), "later"])  # fmt: skip
    while answer not in numbers and answer.casefold() not in (*names, "later"):
        click.echo(f"  neither a number of these nor a column that no field uses: {answer}", err=True)
        answer = _line("  which ", "later", [*names.values(), "later"])
    return numbers.get(answer) or (decision.other(names[answer.casefold()]) if answer.casefold() in names else None)


def _line(question: str, default: str, words: Sequence[str]) -> str:
    """An answer on the terminal, with completion; an empty one is the default."""
    from prompt_toolkit import prompt
    from prompt_toolkit.completion import WordCompleter

    try:
        return (
            prompt(f"{question}[{default}]: ", completer=WordCompleter(list(words), sentence=True)).strip() or default
        )
    except (EOFError, KeyboardInterrupt):
        raise click.Abort from None


def _show(decision: Decision) -> None:
    """What is wrong, what is broken by it, and the choices."""
    from oak_ledger.present.terminal import LEAF, QUIET, Text, console

    out = console()
    out.print(Text(decision.wrong, style="bold"))
    if decision.broken:
        more = f" and {len(decision.broken) - 8} more" if len(decision.broken) > 8 else ""
        out.print(Text(f"  broken by it: {', '.join(decision.broken[:8])}{more}", style=QUIET))
    for at, choice in enumerate(decision.choices, 1):
        sure = "  (values prove it)" if choice.sure and at == 1 else ""
        out.print(Text.assemble(f"  {at}  ", (choice.what, LEAF), f"  {choice.why}{sure}"))
        if choice.examples:
            out.print(
                Text(f"     before → now: {', '.join(f'{old} → {new}' for old, new in choice.examples)}", style=QUIET)
            )
    if not decision.choices:
        out.print("  nothing is known that would repair it")
    out.print()
