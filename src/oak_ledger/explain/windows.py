"""What a window computes a value from: the groups, or the rows, of its partition in their order, and the frame among them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Any

from oak_ledger.definition.model import FieldSpec
from oak_ledger.formula import Grain, nodes, parse
from oak_ledger.formula import checked as c
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.source.questions import Shown
from oak_ledger.source.source import Source

AROUND = 4  # groups or rows shown before and after the own one
_NUMBER, _PLACE, _GIVEN = "partition of the window", "place in the partition", "value of the window"
_FRAMED = ("FIRST_VALUE", "LAST_VALUE")  # beside aggregates, what is computed over a frame


@dataclass(frozen=True, slots=True)
class Compared:
    """A window of the field or measure `name`, for one group or one row (`of`): its partition has `count` of them, in its order.

    `rows` are some of them around the own one, which is number `own` of these, from 0. `frame` has the places in the partition, from 1, of the
    first and the last that the value is computed from; it is empty where the frame holds nothing.
    `begins` is the place of the first that is shown.
    """

    name: str
    text: str
    of: str
    partition: tuple[tuple[str, Any], ...]
    count: int
    frame: tuple[int, ...]
    columns: tuple[str, ...]
    rows: tuple[tuple[Any, ...], ...]
    own: int
    begins: int

    def without(self, hidden: Collection[str]) -> Compared:
        """The same without the columns of these names."""
        kept = [at for at, one in enumerate(self.columns) if one.casefold() not in hidden]
        rows = tuple(tuple(row[at] for at in kept) for row in self.rows)
        return replace(self, columns=tuple(self.columns[at] for at in kept), rows=rows)


def windows_of(tree: c.TypedNode, grain: Grain) -> list[c.Window]:
    """The windows in a formula, over rows or over groups."""
    return [*dict.fromkeys(node for node in c.walk(tree) if isinstance(node, c.Window) and node.grain == grain)]


def over_groups(
    source: Source, name: str, node: c.Window, text: str, by: Sequence[Shown], group: Sequence[Any], where: str | Sequence[str] | None
) -> Compared | None:  # fmt: skip
    """A window over the groups of a tally, for one of them; None where that group is not there."""
    window = _Window(node, text, "COUNT(*) * 0")  # what makes a window by keys alone one over groups
    shown = [*window.helpers(), *((f"taken {at}", one) for at, one in enumerate(window.taken))]
    rows = [[*row.values()] for row in source.tally(by, shown, where=where).to_dicts()]
    keys = len(by)
    mine = next((row for row in rows if row[:keys] == list(group)), None)
    if mine is None:
        return None
    number, at, low, high, count, _ = mine[keys : keys + 6]
    members = sorted((row for row in rows if row[keys] == number), key=lambda row: row[keys + 1])
    begins = max(at - AROUND, 1)
    near = members[begins - 1 : at + AROUND]
    columns = (*(item[0] if isinstance(item, tuple) else item for item in by), *map(_label, window.taken), "value")
    values = tuple((*row[:keys], *row[keys + 6 :], row[keys + 5]) for row in near)
    partition = tuple((one, mine[columns.index(one)]) for one in map(_label, window.partition) if one in columns[:keys])
    return Compared(name, window.own, "group", partition, count, () if low is None else (low, high), columns, values, at - begins, begins)  # fmt: skip


def over_rows(source: Source, name: str, node: c.Window, text: str, conditions: Sequence[str]) -> Compared | None:
    """A window over the rows of a source, for the first row behind a figure; None where no row is behind it."""
    window = _Window(node, text, "1")
    beside = [FieldSpec(name=given, formula=one) for given, one in window.helpers()]
    source, _ = source.with_local_fields(beside)
    parts = [(f"part {at}", one) for at, one in enumerate(window.partition)]
    first = source.rows(
        [*(quote_identifier(field.name) for field in beside), *parts], where=conditions, limit=1
    ).to_dicts()
    if not first:
        return None
    number, at, low, high, count, _, *values = first[0].values()
    begins = max(at - AROUND, 1)
    taken = [*map(_label, window.taken)]
    keys = [one for one in source.about.key if one.casefold() not in {text.casefold() for text in taken}]
    columns = (*keys, *taken, "value")
    place = quote_identifier(_PLACE)
    shown: list[Shown] = [place, *map(quote_identifier, keys), *((f"taken {one}", text) for one, text in enumerate(window.taken)), ("value", quote_identifier(_GIVEN))]  # fmt: skip
    near = source.rows(shown, where=[f"{quote_identifier(_NUMBER)} = {number}", f"{place} BETWEEN {begins} AND {at + AROUND}"], sort=[_PLACE])  # fmt: skip
    rows = tuple(tuple(row.values())[1:] for row in near.to_dicts())
    partition = tuple(zip(map(_label, window.partition), values, strict=True))
    return Compared(name, window.own, "row", partition, count, () if low is None else (low, high), columns, rows, at - begins, begins)  # fmt: skip


class _Window:
    """The pieces of a window, as they are written."""

    def __init__(self, node: c.Window, text: str, least: str) -> None:
        """`least` is an order where there is none."""
        self.node = node
        self.own = " ".join(text[node.start : node.end].split())
        self.partition = [text[one.start : one.end] for one in node.partition]
        self.order = [_written(text, key) for key in node.order]
        pieces = (*(key.key for key in node.order), *node.args)
        fixed = self.partition if node.grain == Grain.ROW else []  # the same in all rows that are shown
        taken = [text[piece.start : piece.end] for piece in pieces if piece.grain == node.grain]
        self.taken = [one for one in dict.fromkeys(taken) if one not in fixed]
        calls = (
            node for node in nodes.walk(parse(text).tree) if isinstance(node, nodes.Call) and node.over is not None
        )
        over = next(call.over for call in calls if (call.start, call.end) == (node.start, node.end))
        self._over = f"OVER {text[over.start : over.end]}" if over is not None else ""
        self._least = least
        framed = node.function.aggregate or node.function.name.split()[0] in _FRAMED
        self._framed = framed and not node.function.ordered

    def helpers(self) -> list[tuple[str, str]]:
        """What says where a group or a row stands: the number of its partition, its place there, the first and last place of its frame, the places there are; and the value."""
        inner = f"PARTITION BY {', '.join(self.partition)} " if self.partition else ""
        place = f"ROW_NUMBER() OVER ({inner}ORDER BY {', '.join([*self.order, self._least])})"
        whole = f"MAX({place}) OVER ({inner.strip()})"
        low, high = (f"{one}({place}) {self._over}" for one in ("MIN", "MAX")) if self._framed else ("1", whole)
        return [
            (_NUMBER, f"DENSE_RANK() OVER (ORDER BY {', '.join([*self.partition, self._least])})"),
            (_PLACE, place),
            ("first place of the frame", low),
            ("last place of the frame", high),
            ("places of the partition", whole),
            (_GIVEN, self.own),
        ]


def _label(text: str) -> str:
    """A name without its quotes; another formula as it is written."""
    tree = parse(text).tree
    return tree.name if isinstance(tree, nodes.Name) else text


def _written(text: str, key: c.OrderKey) -> str:
    """A key of an order, as it is written."""
    down = " DESC" if key.descending else ""
    return f"{text[key.key.start : key.key.end]}{down} NULLS {'FIRST' if key.nulls_first else 'LAST'}"
