"""A source: a definition and the rows it yields. A value: every edit gives a new source and leaves the old one alone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, TypeVar

import pyarrow as pa
import tomlkit

from oak_ledger.columns.arrival import dropped_findings
from oak_ledger.definition.document import no_name_twice, parse_document, read_document
from oak_ledger.definition.model import DEFINITION, FieldSpec
from oak_ledger.definition.references import listed
from oak_ledger.engine import Fault, Query, execute, stream
from oak_ledger.engine.faults import Faults
from oak_ledger.engine.query import Result
from oak_ledger.engine.scan import Scan
from oak_ledger.errors import Finding, FormulaError, OakError, Place, UnusableInput
from oak_ledger.formula import Grain
from oak_ledger.formula.assist import format_formula
from oak_ledger.formula.lexer import quote_identifier
from oak_ledger.handed import HANDED
from oak_ledger.names.compiled import ResolvedName
from oak_ledger.origin import OriginReader, TableReader
from oak_ledger.origin.memory import RenamedReader
from oak_ledger.origin.reader import Progress
from oak_ledger.origin.spec import PartSpec
from oak_ledger.origin.stamps import origin_paths
from oak_ledger.source import whole
from oak_ledger.source.answer import Answer
from oak_ledger.source.baseline import baseline_values, snapshot
from oak_ledger.source.cache import typed_copy
from oak_ledger.source.editable import Published
from oak_ledger.source.export import WriteResult, schema_of, write_rows
from oak_ledger.source.levels import with_levels
from oak_ledger.source.questions import Questions, Shown, is_value
from oak_ledger.source.workbook import FORMAT

if TYPE_CHECKING:
    import pandas as pd

Made = TypeVar("Made")
MOST_GROUPS = 2_000  # that meet a condition on groups, for totals over them
PLACES = ("origin", "spark")


class SupportsArrowStream(Protocol):
    """What gives an Arrow stream."""

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        """The stream, in a capsule."""


@dataclass(frozen=True, repr=False)
class Source(Questions):
    """A curated source. Make one with `open_source` or `Source.from_table`."""

    # -- making ------------------------------------------------------------------------------------------

    @staticmethod
    def from_table(table: pa.Table | pd.DataFrame | SupportsArrowStream, *, name: str) -> Source:
        """A source over an Arrow table, a pandas frame, or whatever gives an Arrow stream (the Arrow PyCapsule protocol); each column becomes
        a plain field of the same name."""
        if not isinstance(table, pa.Table):
            framed = type(table).__module__.partition(".")[0] == "pandas"
            table = pa.Table.from_pandas(table, preserve_index=False) if framed else pa.table(table)
        feed = TableReader(table)
        text = f'[source]\nname = {tomlkit.item(name).as_string()}\n\n[origin]\nkind = "memory"\n\n'
        document = parse_document(text, DEFINITION, name)
        for column in feed.columns():
            document = document.added("field", {"name": column, "column": column})
        return Source(document, Path(), feed=feed)

    def __arrow_c_stream__(self, requested_schema: object | None = None) -> object:
        """All shown fields of all rows for any library that takes Arrow streams (the Arrow PyCapsule protocol)."""
        return self.rows().table.__arrow_c_stream__(requested_schema)

    def with_baseline(self, baseline: str | Path | pa.Table | Source) -> Source:
        """The source with an earlier state that BEFORE takes values from: a file that `write` made, a table of such rows, or a
        published version. A field that has another name there is recognised. Raises UnusableInput for a file that is none."""
        if isinstance(baseline, Source):
            feed: OriginReader = baseline.opened
        else:
            feed = TableReader(baseline) if isinstance(baseline, pa.Table) else snapshot(Path(baseline))
        definition = baseline.document if isinstance(baseline, Source) else None
        names = HANDED.names_before(self, feed, definition)
        return replace(self, baseline=RenamedReader(feed, names) if names else feed)

    def computed(self, place: str) -> Source:
        """The source with its questions computed `here`, in its `origin` (a PostgreSQL or SQLite database) or on a cluster (`spark`: the
        session that is open, or that of the address in OAK_SPARK); where none is set, in the origin where all of a question can be said
        there in the same meaning. Raises OakError for another place."""
        if place not in ("", "here", *PLACES):
            raise OakError("unknown-place", f"There is no place {place!r}.", hint="Places are here, origin and spark.")
        return replace(self, place=place)

    def at_baseline(self) -> Source:
        """The same source over the rows of its baseline."""
        if self.baseline_feed is None:
            raise OakError("no-baseline", f"{self.name} has no baseline.")
        was = Published(0, "baseline", "", "")
        return replace(self, feed=self.baseline_feed, published=was, baseline=None, earlier=None, reader=False)

    # -- formulas ----------------------------------------------------------------------------------------

    def with_formatted_formulas(self, names: Sequence[str] | None = None) -> Source:
        """The source with the formulas of fields (all calculated ones, or those named) in one look; their meaning stays."""
        source = self
        for state in self.fields if names is None else [self.state(name) for name in names]:
            if isinstance(state.spec, FieldSpec) and state.spec.calculated:
                block = source.block(state.name)
                source = source.changed(
                    source.document.replaced(block, {"formula": format_formula(state.spec.formula)})
                )
        return source

    def with_local_fields(self, fields: Sequence[FieldSpec]) -> tuple[Source, Mapping[str, tuple[Finding, ...]]]:
        """The source with fields beside it that change nothing of it, and what is wrong with those that do not work."""
        source = replace(self, local=(*self.local, *fields), earlier=self.shared)
        return source, source.layered[1]

    def check(self) -> list[Finding]:
        """Everything found wrong or doubtful, errors first: broken fields, totals that mislead, nulls that spread."""
        findings = [finding for state in self.compiled.states.values() for finding in state.findings if state.own_fault]
        findings += HANDED.checks(self)
        rank = {"error": 0, "warning": 1, "note": 2}
        return sorted(findings, key=lambda finding: rank[finding.severity])

    # -- questions ---------------------------------------------------------------------------------------

    def rows(
        self,
        show: Sequence[Shown] | None = None,
        *,
        where: str | Sequence[str] | None = None,
        sort: Sequence[str] = (),
        limit: int | None = None,
        strict: bool = False,
        explain: bool = False,
    ) -> Answer:
        """Rows of the source.

        `show` takes field names or formulas (all visible fields by default), `where` a filter's name or a condition,
        `sort` names, with `-` before one for downwards, `limit` a number of rows. `strict` turns any fault into an error; `explain` keeps the steps that were taken, with rows, bytes and time.
        Raises OakError for a name or a formula that is wrong.
        """
        items = [quote_identifier(state.name) for state in self.shown_fields] if show is None else listed(show)
        planned = self.planned_rows(items, where=where, sort=sort, limit=limit, explain=explain)
        question = self._with_baseline_values(planned.query, (), where)
        answer = self._answer(question, planned.formats, [], strict, filtered=where is not None)
        return answer if show is not None else replace(answer, findings=(*answer.findings, *whole.left_out(self)))

    def tally(
        self,
        by: Sequence[Shown] = (),
        show: Sequence[Shown] = (),
        *,
        where: str | Sequence[str] | None = None,
        sort: Sequence[str] = (),
        limit: int | None = None,
        totals: bool = False,
        fill: str = "",
        strict: bool = False,
        explain: bool = False,
    ) -> Answer:
        """A grouped answer: one row per group of `by`, with what `show` asks for.

        A measure named in `show` is totalled as its field says (`total`), else summed; a formula says it itself. With `totals`, one
        row more is computed over all rows together: totals are never added up. Without `by`, one row. `explain` keeps the steps that were taken.
        With `fill`, every day, week, month, … between the first and the last date is a group, sums being null or, with `zero`, 0 where there are no rows.
        A condition on aggregates in `where` leaves out groups; totals are over those that remain. `sort` may name what is not shown.
        Raises OakError for a name or a formula that is wrong.
        """
        try:
            planned = self.planned_tally(
                by, show, where=where, sort=sort, limit=limit, totals=totals, fill=fill, explain=explain
            )
        except OakError as error:
            unseen = error.place.text
            if error.code != "unknown-sort" or self.check_formula(unseen).checked is None:
                raise
            shown = [*(listed(show) or ["COUNT(*)"]), unseen]
            given: dict[str, Any] = {
                "where": where,
                "sort": sort,
                "limit": limit,
                "totals": totals,
                "fill": fill,
                "strict": strict,
                "explain": explain,
            }
            return self.tally(by, shown, **given).without_column(-1)
        question, rows = planned.query, where
        if question.having:
            question, rows = replace(question, totals=False), self.conditions(where)[0]
        question = self._with_baseline_values(question, by, rows)
        answer = self._answer(question, planned.formats, planned.summed, strict, filtered=where is not None)
        return replace(answer, totals=self._totals_of_some(by, show, where)) if totals and question.having else answer

    def _totals_of_some(self, by: Sequence[Shown], show: Sequence[Shown], where: str | Sequence[str] | None) -> Any:
        """One row over the rows of the groups that meet the conditions on groups."""
        keys = self.tally(by, ["COUNT(*)"], where=where).table
        if keys.num_rows > MOST_GROUPS:
            message = f"Totals over {keys.num_rows:,} groups that meet a condition are not computed; at most {MOST_GROUPS:,} are."
            raise OakError(
                "group-condition", message, hint="Ask for the groups without totals, or narrow the rows first."
            )
        groups = [[*row.values()][: len(by)] for row in keys.to_pylist()]
        parts = [
            " AND ".join(is_value(item, value) for item, value in zip(by, group, strict=True)) or "TRUE"
            for group in groups
        ]
        some = " OR ".join(f"({part})" for part in parts) or "FALSE"
        return self.tally(by, show, where=[*self.conditions(where)[0], some], totals=True).totals

    def _with_baseline_values(self, question: Query, by: Sequence[Shown], where: str | Sequence[str] | None) -> Query:
        """The question with what its BEFOREs find."""
        if self.compiled.baseline is None:
            return question
        values = baseline_values(self, question, by, where)
        return replace(question, before=values.by_key, before_overall=values.overall)

    def row_fields(self, *, hidden: bool = False) -> list[str]:
        """The fields with a value per row, as formulas name them; hidden ones only if asked for."""
        shown = self.shown_fields
        if hidden and self.reader:
            raise OakError("hidden-field", f"Hidden fields of {self.name} are for those who may edit it.")
        if hidden:
            shown = [state for state in self.fields if not state.broken and state.grain != Grain.GROUP]
        return [quote_identifier(state.name) for state in shown]

    def write(
        self,
        path: str | Path,
        show: Sequence[Shown] | None = None,
        *,
        where: str | Sequence[str] | None = None,
        exact: bool = False,
        marked: bool = False,
    ) -> WriteResult:
        """Write rows through to a Parquet, Arrow, CSV or xlsx file (by its ending), batch by batch, whole or not at all.

        `show` and `where` are as for `rows`. In CSV, texts that a spreadsheet would run are made harmless, unless all is to be `exact`; `marked` begins it with the byte order mark by which spreadsheets know UTF-8. Raises OakError for a name that is wrong, UnusableInput where nothing can be written.
        """
        shown = tuple(
            self._expression(item, place=Place("show"))[0]
            for item in (self.row_fields() if show is None else listed(show))
        )
        question = Query(self.compiled.expressions, shown, (), tuple(self._filters(where)), self._always)
        question = self._with_baseline_values(question, (), where)
        self._refuse_overwriting_origin(Path(path))
        whole.some_field(self, shown)

        schema = schema_of(shown)
        if Path(path).suffix.casefold() == ".xlsx":
            states = [self.compiled.states.get(expression.name.casefold()) for expression in shown]
            schema = pa.schema([field.with_metadata({FORMAT: state.format}) if state is not None and state.format else field for field, state in zip(schema, states, strict=True)])  # fmt: skip
        if self.published is not None:  # the file says what it is of
            schema = schema.with_metadata({"source": f"{self.name}, {self.published}"})

        def write(scan: Scan, tables: Iterator[pa.Table], _faults: Faults) -> tuple[int, tuple[Finding, ...]]:
            watched = whole.watched(tables, scan, self._origin_paths(), self.name)
            return write_rows(Path(path), schema, watched, exact=exact, marked=marked)

        ((rows, findings), faults), _ = self._asked(question, lambda query, reader: stream(query, reader, write))
        return WriteResult(Path(path), rows, self._told(faults.found()), findings)

    def _refuse_overwriting_origin(self, path: Path) -> None:
        """Raise UnusableInput where writing a file would write over what the rows come from."""
        if any(origin_path.resolve() == path.resolve() for origin_path in self._origin_paths()):
            raise whole.over_origin(path, self.name)

    def _origin_paths(self) -> list[Path]:
        parts = self.document.models("part", PartSpec)
        return [] if self.feed is not None else origin_paths(self.origin, self.folder, parts) or []

    def arrival_findings(self) -> list[Finding]:
        """What was left out or mended in the last reading of the origin, be it the one that made its typed copy."""
        return dropped_findings(self.opened)

    def _asked(self, question: Query, ask: Callable[[Query, OriginReader], Made]) -> tuple[Made, list[Finding]]:
        """What comes of a query: of the typed copy of the origin where there is one, else of the origin. Also what is to be said of the copy."""
        copy, finding = typed_copy(self)
        findings = [finding] if finding is not None else []
        if copy is not None:
            if question.stats is not None:
                question.stats.add("typed copy", copy.reader.parquet.path.name, note="made now" if copy.made else "")
            try:
                return ask(copy.over(question), copy.reader), findings
            except UnusableInput as error:
                if str(copy.reader.parquet.path) not in error.findings[0].message:
                    raise
                if copy.reader.parquet.path.exists():  # else another process has just put a newer one in its place
                    copy.drop()
                    message = f"The typed copy of the rows of {self.name} was damaged, and is removed; the origin was read instead."
                    findings.append(Finding("copy-damaged", message, self.document.place(), severity="note"))
        before = whole.states_of(self._origin_paths())
        made = ask(question, self._reader_for(question))
        whole.unchanged_since(before)
        return made, findings

    def _answer(
        self,
        question: Query,
        formats: Mapping[str, str],
        summed: Sequence[ResolvedName],
        strict: bool,
        *,
        filtered: bool,
    ) -> Answer:
        counted = Counter(expression.name.casefold() for expression in (*question.by, *question.show))
        twice = next((name for name, times in counted.items() if times > 1), None)
        if twice is not None:
            raise OakError(
                "name-twice", f"The answer has two columns called {twice!r}.", hint="Name one of them differently."
            )
        result, findings, place, of_levels = self._computed(question)
        faults = self._told((*result.faults.found(), *of_levels))
        if strict and faults:
            raise FormulaError.of(
                [Finding("fault", fault.sentence() + ".", Place(name=fault.field)) for fault in faults]
            )
        complete = question.grouped or question.limit is None or result.table.num_rows < question.limit
        findings += whole.columns_gone(self)
        if filtered and complete and result.rows_read and not result.rows_used:
            findings.append(
                Finding(
                    "filter-matches-nothing",
                    "The filter lets no row through.",
                    severity="warning",
                    hint="Look for letter case, spaces, and dates beyond the data.",
                )
            )
        elif question.having and result.rows_used and not result.groups:
            hint = "Ask without it, sorted by what it compares, to see how far the groups are."
            findings.append(
                Finding("filter-matches-nothing", "No group meets the condition.", severity="warning", hint=hint)
            )
        elif filtered and complete and result.rows_used == result.rows_read > 0 and not question.having:
            findings.append(
                Finding(
                    "filter-matches-all", f"The filter lets all {result.rows_read:,} rows through.", severity="note"
                )
            )
        if not result.rows_read and complete and self.feed is None:
            findings.append(whole.no_rows(self._origin_paths(), self.name))
        findings += HANDED.beside_answer(self, summed)
        return Answer(
            result.table,
            result.totals,
            faults,
            tuple(findings),
            dict(formats),
            result.rows_read,
            result.rows_used,
            result.groups,
            tuple(question.stats.steps.values()) if question.stats is not None else (),
            place,
        )

    def _computed(self, question: Query) -> tuple[Result, list[Finding], str, tuple[Fault, ...]]:
        """What a question gives, what is to be said of how its rows were read, where it was computed, and what could not be at its levels."""
        there, place = self._in_origin(question)
        if there is not None:
            return there, [], place, ()
        question, faults = with_levels(question, lambda query: self._computed(query)[0])
        result, findings = self._asked(question, _executed)
        return result, [*findings, *self.arrival_findings()], place, faults

    def _told(self, faults: tuple[Fault, ...]) -> tuple[Fault, ...]:
        """Faults without what went in, where that may be of fields that are hidden from who asks."""
        if not self.reader:
            return faults
        seen = {
            text for shown_field in self.shown_fields for text in (shown_field.name, quote_identifier(shown_field.name))
        }
        return tuple(
            replace(fault, samples=tuple((row, {text: value for text, value in inputs.items() if text in seen}) for row, inputs in fault.samples))
            for fault in faults
        )  # fmt: skip

    def _reader_for(self, question: Query) -> OriginReader:
        """The origin opened, or of one in a database only the rows that the filters let through, as far as it knows them."""
        if self.place == "here" or self.origin.kind != "database" or self.feed is not None:
            return self.opened
        reader: OriginReader = HANDED.narrowed(self, question) or self.opened
        left_out = getattr(reader, "left_out", 0)
        if left_out and question.stats is not None:
            question.stats.add("database", "the filter", note=f"{left_out:,} rows were left out there")
        return reader

    def _in_origin(self, question: Query) -> tuple[Result | None, str]:
        """What the origin's database or the cluster answers, if it is asked, and where the question is computed."""
        if self.place != "spark" and (self.place == "here" or self.origin.kind != "database" or self.feed is not None):
            return None, "here"
        place = self.place or "origin"
        try:
            result = (HANDED.on_cluster if place == "spark" else HANDED.in_origin)(self, question)
        except OakError as error:
            if self.place or error.code != "not-in-database":
                raise
            if question.stats is not None:
                question.stats.add("here", "not in the database", note=error.findings[0].message)
            return None, "here"
        if question.stats is not None:
            question.stats.add(
                "database" if place == "origin" else "cluster", self.origin.table or "the rows", rows=result.rows_used
            )
        return result, place


def _executed(question: Query, reader: OriginReader) -> Result:
    result = execute(question, reader)
    if getattr(reader, "condition", None) is None:
        return result
    if result.faults.kept:  # which rows they are is known where all are read
        return execute(question, replace(reader, condition=None))  # type: ignore[type-var]
    return replace(result, rows_read=result.rows_read + reader.left_out)  # type: ignore[attr-defined]


def open_source(path: str | Path, *, progress: Progress | None = None) -> Source:
    """Open a source by its definition file (`NAME.oak.toml`, or NAME alone).

    `progress` is called with the number of rows read so far. Raises UnusableInput where the definition cannot be
    read or is wrong; rows are read only when they are asked for.
    """
    file = Path(path)
    if not file.is_file() and file.with_name(f"{file.name}.oak.toml").is_file():
        file = file.with_name(f"{file.name}.oak.toml")
    document = no_name_twice(read_document(file, DEFINITION))
    return Source(document, file.parent, file, progress=progress)
