"""A definition with its origin: what it says, every name of it made ready, and edits of it, each of which gives a new value."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any, Self

from oak_ledger.columns.arrival import refused_columns
from oak_ledger.columns.judging import propose, verdict_of
from oak_ledger.definition.document import Block, Document, no_name_twice, read_document
from oak_ledger.definition.lists import two_columns
from oak_ledger.definition.model import DEFINITION, ConstantSpec, FieldSpec, FilterSpec, SourceSpec
from oak_ledger.definition.naming import NameRule, renames
from oak_ledger.definition.references import bare_name, renamed_references
from oak_ledger.errors import Finding, FormulaError, OakError, Place
from oak_ledger.files import write_text
from oak_ledger.formula import Grain, check
from oak_ledger.formula.builder import nearest_hint
from oak_ledger.names.compiled import AnySpec, Compiled, ResolvedName, recoding_formula, resolve_names
from oak_ledger.names.local import with_local
from oak_ledger.names.published import Published as Published
from oak_ledger.origin import OriginReader, OriginSpec, open_origin
from oak_ledger.origin.files import FILE_COLUMN
from oak_ledger.origin.inputs import open_input
from oak_ledger.origin.reader import Progress
from oak_ledger.origin.spec import PartSpec, ReadingSpec, StepSpec
from oak_ledger.source.baseline import snapshot
from oak_ledger.source.cache import origin_columns
from oak_ledger.source.notebook import InNotebook


@dataclass(frozen=True)
class EditableDefinition(InNotebook):
    """What a source is without its questions (see `Source`)."""

    document: Document
    folder: Path
    path: Path | None = None
    feed: OriginReader | None = None
    published: Published | None = None
    progress: Progress | None = field(default=None, compare=False)
    baseline: OriginReader | None = field(default=None, compare=False)
    local: tuple[FieldSpec, ...] = ()  # fields of a report, beside those of the source
    place: str = ""  # where questions are computed: here, origin, or (empty) in the origin where all of a question can be said there
    reader: bool = False  # as report builders have it: hidden fields serve the source's own formulas only
    earlier: Compiled | None = field(default=None, compare=False, repr=False)
    """What the source before an edit was made into: what the edit does not reach is reused."""

    def __repr__(self) -> str:
        fields, published = len(self.document.all("field")), self.published
        where = f"version {published.number}, {published.stage}" if published else self.path or self.folder
        return f"{type(self).__name__} {self.name!r} over {self.origin.kind}; fields: {fields}\n  {where}"

    def changed(self, document: Document) -> Self:
        """The same source with another definition. Raises OakError for who only reads: of a definition only what is shown is theirs."""
        if self.reader:
            message = f"{self.name} is read here, and not edited: some of it may be hidden."
            raise OakError(
                "not-allowed", message, hint="Use fields of your own (with_local_fields), or check the source out."
            )
        return replace(self, document=no_name_twice(document), earlier=self.__dict__.get("shared", self.earlier))

    def save(self, path: str | Path | None = None) -> Path:
        """Write the definition, whole or not at all; raises UnusableInput where it cannot be written."""
        target = Path(path) if path else self.path
        if target is None:
            raise OakError(
                "no-path", "This source has no file yet.", hint="Say where to: source.save('name.oak.toml')."
            )
        write_text(target, self.document.text)
        return target

    # -- what it says ------------------------------------------------------------------------------------

    @property
    def name(self) -> str:
        """What report builders call the source."""
        return self.about.name

    @property
    def as_argument(self) -> str:
        """What a command calls the source, as the shell takes it."""
        return shlex.quote(self.path.name.removesuffix(".oak.toml") if self.path is not None else self.name)

    @property
    def about(self) -> SourceSpec:
        """The `[source]` table."""
        return self.document.models("source", SourceSpec)[0]

    @property
    def origin(self) -> OriginSpec:
        """The `[origin]` table."""
        return self.document.models("origin", OriginSpec)[0]

    @cached_property
    def opened(self) -> OriginReader:
        """The origin, opened."""
        parts = self.document.models("part", PartSpec)
        steps = self.document.models("step", StepSpec)
        return self.feed or self.opened_as(self.origin, parts, steps)

    def opened_as(
        self, spec: ReadingSpec, parts: Sequence[PartSpec] = (), steps: Sequence[StepSpec] = ()
    ) -> OriginReader:
        """An origin opened as if this definition named it: paths are relative to its folder."""
        columns = [str(block.values["column"]) for block in self.document.all("field") if "column" in block.values]
        return open_origin(spec, self.folder, self.progress, parts, steps, open_input(self._beside), columns)

    def _beside(self, path: Path) -> Self:
        """The source of another definition."""
        return type(self)(no_name_twice(read_document(path, DEFINITION)), path.parent, path)

    @cached_property
    def baseline_feed(self) -> OriginReader | None:
        """The earlier state that BEFORE takes values from: the one given, else the one that the definition names."""
        if self.baseline is not None or not self.about.baseline:
            return self.baseline
        return snapshot(self.folder / self.about.baseline)

    @property
    def named(self) -> list[AnySpec]:
        """What the definition says of everything that formulas may name."""
        fields, constants = self.document.models("field", FieldSpec), self.document.models("constant", ConstantSpec)
        return [*fields, *constants, *self.document.models("filter", FilterSpec)]

    @cached_property
    def layered(self) -> tuple[Compiled, Mapping[str, tuple[Finding, ...]]]:
        """The names with those of local fields, and what is wrong with local fields that do not work."""
        return with_local(self.shared, self.local, reader=self.reader)

    @property
    def compiled(self) -> Compiled:
        """Every name, bound and typed, those of local fields included."""
        return self.layered[0] if self.local else self.shared

    @cached_property
    def shared(self) -> Compiled:
        """Every name of the definition, bound and typed."""
        published = self.published is not None
        recoding = {} if published else self._recoding()
        origin_schema = origin_columns(self)
        was = published and self.published is not None and self.published.stage == "baseline"
        key = None if was or self.baseline_feed is None else self.about.key
        where = self.document.where
        missing = not published and any(
            model.column not in origin_schema for model in self.document.models("field", FieldSpec) if model.column
        )
        refused = refused_columns(self.opened) if missing else {}
        return resolve_names(
            self.named,
            origin_schema,
            ready=published,
            where=where,
            recoding=recoding,
            earlier=self.earlier,
            baseline=key,
            refused=refused,
        )

    def _recoding(self) -> dict[str, str]:
        """The recode lists of fields, as formulas."""
        made = {}
        for spec in self.document.models("field", FieldSpec):
            if spec.values or spec.values_from or spec.renamed_values:
                listed = two_columns(self.folder / spec.values_from) if spec.values_from else {}
                made[spec.name] = recoding_formula({**spec.renamed_values, **listed, **spec.values})
        return made

    @property
    def fields(self) -> list[ResolvedName]:
        """The fields in order, broken and hidden ones included."""
        states = self.compiled.states.items()
        return [state for key, state in states if isinstance(state.spec, FieldSpec) and key == state.name.casefold()]

    @property
    def shown_fields(self) -> list[ResolvedName]:
        """The fields that report builders see and that have a value per row."""
        return [
            state
            for state in self.fields
            if isinstance(state.spec, FieldSpec)
            and not state.spec.hidden
            and not state.broken
            and state.grain != Grain.GROUP
        ]

    def state(self, name: str) -> ResolvedName:
        """A field, constant or filter by name; raises OakError with the nearest names where there is none."""
        found = self.compiled.states.get(bare_name(name).casefold()) or self.compiled.states.get(name.casefold())
        if found is None:
            hint = self.compiled.scope().advice(name) or nearest_hint(name, self.compiled.scope().names(), str)
            place = Place(text=name, start=0, end=len(name))
            raise OakError("unknown-field", f"There is no field {name!r} in {self.name}.", hint=hint, place=place)
        return found

    def block(self, name: str, kind: str = "field") -> Block:
        """The block of a field (or constant, filter) by name; raises OakError where there is none."""
        for block in self.document.all(kind):
            if str(block.values["name"]).casefold() == name.casefold():
                return block
        names = [str(block.values["name"]) for block in self.document.all(kind)]
        raise OakError(
            f"unknown-{kind}", f"There is no {kind} {name!r} in {self.name}.", hint=nearest_hint(name, names, str)
        )

    # -- edits -------------------------------------------------------------------------------------------

    def with_field(self, name: str, formula: str, **keys: Any) -> Self:
        """A calculated field more (or another formula for one that is there). Raises FormulaError where the formula is wrong.

        `keys` are those of a `[[field]]`: description, format, hidden, role, total.
        """
        probe = check(formula, self.compiled.scope(), place=Place(kind="field", name=name))
        probe.require()
        key = name.casefold()
        if key in self.compiled.states:
            existing = self.state(name)
            if not (isinstance(existing.spec, FieldSpec) and existing.spec.calculated):
                raise OakError(
                    "name-taken",
                    f"{existing.name} is a {existing.what} already.",
                    hint="Choose another name, or use clean.",
                )
            made = self.changed(self.document.replaced(self.block(name), {"formula": formula, **keys}))
        else:
            made = self.changed(self.document.added("field", {"name": name, "formula": formula, **keys}))
        state = made.state(name)
        if state.broken:
            raise FormulaError.of(state.findings)
        return made

    def with_changed(self, field: str, /, **keys: Any) -> Self:
        """The source with some keys of a field changed (None takes a key out). Raises OakError where that breaks the field."""
        before = self.state(field)
        made = self.changed(self.document.replaced(self.block(before.name), keys))
        after = made.state(keys.get("name", before.name))
        if after.broken and not before.broken:
            raise FormulaError.of(after.findings)
        return made

    def with_renamed(self, names: Mapping[str, str]) -> Self:
        """Fields under new names (old: new); every formula, filter, rule and key that names them follows.

        Raises OakError where a name is unknown, or a new one is taken: both are named.
        """
        renames = {self.state(old).name.casefold(): new.strip() for old, new in names.items()}
        after: dict[str, str] = {}
        for state in self.compiled.states.values():
            new = renames.get(state.name.casefold(), state.name)
            if not new:
                raise OakError("empty-name", f"{state.name} needs a new name that is not empty.")
            other = after.setdefault(new.casefold(), state.name)
            if other != state.name:
                message = f"{state.name!r} and {other!r} would both be called {new!r}."
                raise OakError("name-taken", message, hint="Choose another name; nothing was changed.")
        document = renamed_references(self.document, renames)
        for block in [*document.all("field"), *document.all("constant"), *document.all("filter")]:
            new = renames.get(str(block.values["name"]).casefold(), "")
            if new:
                document = document.replaced(block, {"name": new})
        return self.changed(document)

    def with_kept(self, names: Sequence[str]) -> Self:
        """Only these fields, in the file's order; others leave the definition, their columns stay in the origin.

        Raises OakError where a kept field needs one that would leave: both are named.
        """
        kept = {self.state(name).name for name in names}
        return self.without([state.name for state in self.fields if state.name not in kept])

    def without(self, names: Sequence[str]) -> Self:
        """The source without some fields. Raises OakError where a field that stays needs one of them."""
        gone = {self.state(name).name for name in names}
        for state in self.compiled.states.values():
            used = gone.intersection(state.uses)
            if state.name not in gone and used:
                message = f"{state.name} needs {min(used)}, which would be gone."
                raise OakError("still-used", message, hint=f"Hide it instead, or take {state.name} out as well.")
        key = tuple(name for name in self.about.key if name not in gone)
        document = self.document.without([self.block(name) for name in gone])
        if key != self.about.key:
            document = document.replaced(document.all("source")[0], {"key": list(key)})
        return self.changed(document)

    def with_entry(self, table: str, name: str, /, **keys: Any) -> Self:
        """The source with a constant, filter or rule added, or with some keys of it changed. Raises OakError where it does not work."""
        block = self.entry(table, name)
        if block is None:
            document = self.document.added(
                table, {"name": name, **{key: value for key, value in keys.items() if value is not None}}
            )
        else:
            document = self.document.replaced(block, keys)
        made = self.changed(document)
        state = made.compiled.states.get(name.casefold())
        if state is not None and state.broken:
            raise FormulaError.of(state.findings)
        if table == "rule":
            holds = str(keys.get("holds", "TRUE"))
            condition = check(holds, made.compiled.scope(), place=Place(kind="rule", name=name)).require()
            if condition.type.kind != "boolean" or condition.grain == Grain.GROUP:
                message = f"A rule is a condition on a row; this is {condition.type} per {condition.grain}."
                raise OakError("condition-wanted", message)
        return made

    def entry(self, table: str, name: str) -> Block | None:
        """The block of a constant, filter or rule."""
        rng = (
            block
            for block in self.document.all(table)
            if str(block.values.get("name", "")).casefold() == name.casefold()
        )
        return next(rng, None)

    def without_entry(self, table: str, name: str) -> Self:
        """The source without a constant, filter or rule. Raises OakError where it is not there, or a formula needs it."""
        block = self.entry(table, name)
        if block is None:
            there = [str(block.values["name"]) for block in self.document.all(table)]
            hint = nearest_hint(name, there, str) or (
                f"There are {', '.join(there)}." if there else f"There is no {table} at all."
            )
            raise OakError(f"unknown-{table}", f"There is no {table} {name!r}.", hint=hint)
        user = next(
            (
                state.name
                for state in self.compiled.states.values()
                if name.casefold() in {use.casefold() for use in state.uses}
            ),
            None,
        )
        if user is not None:
            raise OakError("still-used", f"{user} needs {name}.", hint=f"Change {user} first.")
        return self.changed(self.document.without([block]))

    def with_key(self, names: Sequence[str]) -> Self:
        """The source with these fields as the key of its rows; none takes the key out."""
        key = [self.state(name).name for name in names]
        return self.changed(self.document.replaced(self.document.all("source")[0], {"key": key or None}))

    def with_order(self, names: Sequence[str]) -> Self:
        """The fields in this order; those not named follow in the order that they have."""
        wanted = [self.state(name).name for name in names]
        blocks = {str(block.values["name"]): block for block in self.document.all("field")}
        order = [*wanted, *(name for name in blocks if name not in wanted)]
        return self.changed(self.document.reordered("field", [blocks[name] for name in order]))

    def with_moved(self, names: Sequence[str], *, before: str | None = None, after: str | None = None) -> Self:
        """Some fields moved together before or after another one; to the end where neither is said."""
        moved = [self.state(name).name for name in names]
        rest = [state.name for state in self.fields if state.name not in moved]
        beside = before or after
        anchor = self.state(beside).name if beside else None
        if anchor in moved:
            raise OakError("moved-to-itself", f"{anchor} cannot be moved beside itself.")
        at = len(rest) if anchor is None else rest.index(anchor) + (after is not None)
        return self.with_order([*rest[:at], *moved, *rest[at:]])

    def with_sorted(self, *, by: str = "name", descending: bool = False) -> Self:
        """The fields sorted by `name`, or by `type` and name."""
        kinds = ("text", "boolean", "date", "timestamp", "integer", "decimal", "number")

        def key(state: ResolvedName) -> tuple[int, str]:
            rank = kinds.index(state.type.kind) if by == "type" and state.type and state.type.kind in kinds else 0
            return rank, state.name.casefold()

        return self.with_order([state.name for state in sorted(self.fields, key=key, reverse=descending)])

    def with_rule_names(self, rule: NameRule, names: Sequence[str] | None = None, *, standing: bool = False) -> Self:
        """Fields renamed by a rule (all, or those named); with `standing` the rule is kept for columns yet to come."""
        chosen = [state.name for state in self.fields] if names is None else [self.state(name).name for name in names]
        changes = renames(chosen, rule)
        made = self.with_renamed(changes) if changes else self
        if standing:
            made = made.changed(made.document.added("naming", rule.model_dump(exclude_defaults=True)))
        return made

    def with_listed_names(self, names: Sequence[str]) -> Self:
        """The plain fields renamed from a list, in the order of their columns in the origin."""
        order = list(self.compiled.origin_schema)
        plain = [state for state in self.fields if isinstance(state.spec, FieldSpec) and state.spec.column in order]
        plain.sort(key=lambda state: order.index(state.spec.column) if isinstance(state.spec, FieldSpec) else 0)
        if len(plain) != len(names):
            message = f"The list has {len(names)} names, but there are {len(plain)} plain fields."
            raise OakError("names-count", message, hint="Keep the fields that the list is for, or correct the list.")
        return self.with_renamed({state.name: name for state, name in zip(plain, names, strict=True)})

    def with_first_row_names(self) -> Self:
        """The first row taken as the header: fields get its values as names, the row is not a row any more, and types are judged without it."""
        header = self.origin.header
        if self.origin.kind not in ("file", "files", "sheet"):
            raise OakError("no-header", f"An origin of kind {self.origin.kind} has no header row.")
        first = self._first_arriving()
        line = 1 if header == "none" else 2 if header == "first" else header + 1
        document = self.document.replaced(self.document.all("origin")[0], {"header": line, "names": None})
        for block in document.all("field"):
            column = str(block.values.get("column", ""))
            if first.get(column):
                document = document.replaced(block, {"column": str(first[column]).strip()})
        made = self.changed(document)
        taken = {}
        for state in self.fields:
            if isinstance(state.spec, FieldSpec) and first.get(state.spec.column):
                taken[state.name] = str(first[state.spec.column]).strip()
        return made.with_renamed(taken).judged_again()

    def judged_again(self) -> Self:
        """The source with the types of plain text fields judged again."""
        document = self.document
        for state in self.fields:
            spec = state.spec
            if (
                isinstance(spec, FieldSpec)
                and spec.column in self.compiled.origin_schema
                and spec.type == "text"
                and not spec.clean
            ):
                proposal = propose(
                    spec.column,
                    state.name,
                    verdict_of(self.opened, spec.column, self.compiled.origin_schema[spec.column]),
                )
                document = document.replaced(
                    self.block(state.name),
                    {key: value for key, value in proposal.keys.items() if key not in ("name", "column")},
                )
        return self.changed(document)

    def _first_arriving(self) -> dict[str, Any]:
        """The first row as it arrives, by column."""
        names = [name for name in self.compiled.origin_schema if name != FILE_COLUMN]
        for batch in self.opened.batches(names):
            if batch.num_rows:
                return dict(batch.slice(0, 1).to_pylist()[0])
        raise OakError("no-rows", "There is no first row to take names from.")

    def new_columns(self) -> list[str]:
        """The columns of the origin that no field uses."""
        taken = {state.spec.column for state in self.fields if isinstance(state.spec, FieldSpec)}
        return [name for name in self.compiled.origin_schema if name not in taken and name != FILE_COLUMN]

    def naming(self) -> list[NameRule]:
        """The standing rules for names."""
        return self.document.models("naming", NameRule)
