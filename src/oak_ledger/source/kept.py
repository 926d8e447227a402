"""A kept copy of a source's row values: questions are asked of it instead of the origin, as long as that gives the same answer.

The copy says what it was made from: the origin's files with sizes and times, and a digest of each field with all that it rests on.
It serves a question when the files are as they were, each field that the question needs says the same (or can be computed from those that do),
and no value of those fields could not be computed; else the origin is asked. So a copy never changes an answer.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from oak_ledger.engine import Query
from oak_ledger.engine.evaluate import needed
from oak_ledger.errors import Finding, OakError, Place
from oak_ledger.formula import Grain
from oak_ledger.formula.checker import CLOCKS, clock
from oak_ledger.origin.parquet import ParquetReader
from oak_ledger.origin.spec import PartSpec
from oak_ledger.origin.stamps import Identity, identity, identity_of_files
from oak_ledger.source.compiled import Compiled, State, compile_names
from oak_ledger.source.definition import FieldSpec, FilterSpec
from oak_ledger.version import __version__

if TYPE_CHECKING:
    from oak_ledger.source.source import Source

STAMP = "oak_ledger.kept"
# Keys of a definition that say nothing about values.
_SILENT = {"description", "format", "hidden", "role", "aggregate", "rule"}


@dataclass(frozen=True, slots=True)
class Stamp:
    """What a copy says of itself: what it was made from and when, how many rows the origin had, whose values could not all be computed."""

    files: Identity
    whole: str
    fields: Mapping[str, str]
    made_at: str
    rows_read: int = 0
    faulty: tuple[str, ...] = ()
    told: tuple[Mapping[str, Any], ...] = ()
    """The warnings of reading the origin, which hold for the copy as well."""

    def text(self) -> str:
        """As it is written into the copy."""
        return json.dumps({name: getattr(self, name) for name in self.__slots__}, default=dict)


@dataclass(frozen=True, slots=True)
class Copy:
    """A copy that is there: what it says of itself, its rows, and the source's names over them."""

    stamp: Stamp
    feed: ParquetReader
    compiled: Compiled

    def fits(self, source: Source) -> bool:
        """Whether no file has changed since it was looked at."""
        return files_of(source) == self.stamp.files

    def serves(self, source: Source, question: Query) -> bool:
        """Whether it gives the same answer as the origin: no file has changed since, no value that is needed was lost."""
        if question.before or not self.fits(source):
            return False
        trees = [one.checked for one in (*question.show, *question.by, *question.where, *question.always)]
        if {*needed(question.fields, trees)} & {*self.stamp.faulty}:
            return False
        try:
            needed(self.compiled.expressions, trees)
        except KeyError:  # a plain field that reads another column now, or reads it differently
            return False
        return True

    @property
    def left_out(self) -> int:
        """How many rows of the origin the source's own filters did not let into the copy."""
        return self.stamp.rows_read - self.feed.rows()

    @property
    def findings(self) -> list[Finding]:
        """The warnings of reading the origin."""
        return [
            Finding(one["code"], one["message"], Place(one["where"]), severity="warning", numbers=dict(one["numbers"]))
            for one in self.stamp.told
        ]


def kept_path(source: Source) -> Path | None:
    """Where a source keeps its copy; None where it keeps none."""
    return source.folder / source.about.kept if source.about.kept else None


def origin_files(source: Source) -> Identity | None:
    """The files of a source's origin; None where it has none, or could not tell of a change."""
    if source.feed is not None:
        return None
    return identity(source.origin, source.folder, source.document.specs("part", PartSpec))


def files_of(source: Source) -> Identity:
    """The files that a source's values come from. Raises OakError where a change of the origin could not be told."""
    origin = origin_files(source)
    if origin is None:
        message = f"Whether the origin of {source.name} has changed cannot be told, so no copy of it is kept."
        hint = "Write its rows to a file instead: oak run SOURCE --to FILE."
        raise OakError("not-keepable", message, hint=hint)
    if source.about.baseline:
        origin |= identity_of_files([source.folder / source.about.baseline], source.folder)
    for spec in source.document.specs("field", FieldSpec):
        if spec.values_from:
            origin |= identity_of_files([source.folder / spec.values_from], source.folder)
    return origin


def stamped(source: Source) -> Stamp:
    """What a copy of a source made now would say of itself. Raises OakError where a change of the origin could not be told."""
    origin, digests = files_of(source), _Digests(source)
    parts = [_said(one) for one in source.document.specs("part", PartSpec)]
    whole = _digest([__version__, _said(source.origin), parts, source.about.key, digests.always()])
    fields = {state.name: digests.of(state) for state in source.compiled.states.values() if not state.broken}
    made_at = dt.datetime.now().astimezone().isoformat(timespec="seconds")
    return Stamp(origin, whole, fields, made_at)


def open_copy(source: Source) -> tuple[Copy | None, str]:
    """The copy of a source, if it can serve questions; else why not, in words (empty where the source keeps none)."""
    path = kept_path(source)
    if path is None or source.published is not None or source.baseline is not None:
        return None, ""
    if not path.is_file():
        return None, "is not there"
    feed = ParquetReader(path)
    try:
        stamp, now = _read(feed), stamped(source)
    except OakError as error:
        return None, f"cannot be used: {error.findings[0].message}"
    if stamp is None:
        return None, "was not made by oak run --keep"
    changed = [name for name in {**stamp.files, **now.files} if stamp.files.get(name) != now.files.get(name)]
    if changed:
        first, more = min(changed), len(changed) - 1
        return None, f"is older than {first}" + (f" and {more:,} file{'s' * (more > 1)} more" if more else "")
    if stamp.whole != now.whole:
        return None, "was made before the origin's reading, a filter that always holds, or oak itself, was changed"
    same = {name for name, digest in stamp.fields.items() if now.fields.get(name) == digest}
    arriving = {name: kind for name, kind in feed.columns().items() if name in same}
    made = compile_names(
        source.named, arriving, ready=True, where=source.document.where, baseline=source.compiled.baseline
    )
    return Copy(stamp, feed, made), ""


def _read(feed: ParquetReader) -> Stamp | None:
    found = feed.metadata().get(STAMP)
    if found is None:
        return None
    try:
        values = json.loads(found)
        values["faulty"], values["told"] = tuple(values["faulty"]), tuple(values["told"])
        return Stamp(**values)
    except (ValueError, KeyError, TypeError):  # written by another version
        return None


def stale_note(source: Source, why: str) -> Finding:
    """That a copy is there and was not asked."""
    message = f"The kept copy {why}; the origin was read instead."
    return Finding(
        "copy-stale",
        message,
        Place(source.document.where),
        f"oak run {source.document.where} --keep makes it anew.",
        "note",
    )


# -- digests ----------------------------------------------------------------------------------------------------


class _Digests:
    """A digest of each name with all that it rests on."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.known: dict[str, str] = {}
        states = source.compiled.states
        for key in _inner_first({key: [one.casefold() for one in state.uses] for key, state in states.items()}):
            self.known[key] = self._made(states[key])

    def of(self, state: State) -> str:
        """A name's."""
        return self.known[state.name.casefold()]

    def always(self) -> list[str]:
        """Those of the filters that hold for every row."""
        specs = self.source.document.specs("filter", FilterSpec)
        return [self.known.get(one.name.casefold(), "") for one in specs if one.always]

    def _made(self, state: State) -> str:
        rests: list[Any] = [_said(state.spec), *(self.known.get(one.casefold(), "") for one in state.uses)]
        texts = str(rests[0]).upper()
        if any(word in texts for word in CLOCKS):
            rests.append(clock().isoformat() if "CURRENT_TIMESTAMP" in texts else clock().date().isoformat())
        return _digest(rests)


def _inner_first(uses: Mapping[str, Sequence[str]]) -> list[str]:
    """Names, each after those that it uses; those of a circle anyhow."""
    order: dict[str, None] = {}
    for begin in uses:
        waiting, seen = [(begin, False)], set()
        while waiting:
            name, done = waiting.pop()
            if done:
                order.setdefault(name)
            elif name not in order and name not in seen:
                seen.add(name)
                waiting.append((name, True))
                waiting.extend((one, False) for one in uses[name] if one in uses)
    return list(order)


def _said(spec: Any) -> dict[str, Any]:
    said: dict[str, Any] = spec.model_dump(mode="json", exclude=_SILENT)
    return said


def _digest(rests: Any) -> str:
    return hashlib.sha256(json.dumps(rests, sort_keys=True, default=str).encode()).hexdigest()[:16]


def copied_names(source: Source) -> list[str]:
    """The fields that go into a copy: all with a value per row, hidden ones too."""
    return [state.name for state in source.fields if not state.broken and state.grain != Grain.GROUP]
