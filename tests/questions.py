"""Whole questions drawn at random, each written twice: as a question of a source, and as SQL that knows nothing of this project.

A formula is drawn as a piece with both writings and, for each kind of value that cannot be computed, the condition in SQL under which that
happens: so the server says not only what the answer is, but which faults must be reported with it, and in how many rows or groups.
"""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import pyarrow as pa

KINDS = {"at": "bigint", "i": "bigint", "j": "bigint", "d": "numeric(12,2)", "f": "double precision", "b": "boolean", "c": "boolean",
         "t": "text", "u": "text", "k": "text", "y": "date", "w": "timestamp"}  # fmt: skip
ARROW = {"bigint": pa.int64(), "numeric(12,2)": pa.decimal128(12, 2), "double precision": pa.float64(), "boolean": pa.bool_(),
         "text": pa.string(), "date": pa.date32(), "timestamp": pa.timestamp("us")}  # fmt: skip
BY_TYPE = {"i": ("i", "j"), "d": ("d",), "f": ("f",), "b": ("b", "c"), "t": ("t", "u", "k"), "y": ("y",), "w": ("w",)}
_WORDS = ("oak", "Oak", "ash 12", "äöü", "日本", "12", "-3", "a-b-c", "0", "007")
_LIMIT = 10**4

# Formulas of rows by type: what each is made of, and how it is written for the server where that differs.
ROW: dict[str, tuple[str | tuple[str, str], ...]] = {
    "i": ("{i} + {i}", "{i} - {i}", "{i} * 3", "-({i})", "ABS({i})", "COALESCE({i}, {i})", "NULLIF({i}, {i})", "CHAR_LENGTH({t})",
          "EXTRACT(YEAR FROM {y})", "EXTRACT(MONTH FROM {y})", "EXTRACT(ISODOW FROM {y})", "POSITION('a' IN {t})", "GREATEST({i}, {i})", "MOD({i}, 7)",
          ("DIV({i}, 3)", "(({i})::bigint) / 3"), ("{y} - DATE '2026-01-01'", "({y} - DATE '2026-01-01')::bigint"), ("SIGN({i})", "sign({i})::bigint")),
    "d": ("{d} + {d}", "{d} - {i}", "{d} * 1.5", "ROUND({d}, 1)", "ABS({d})", "COALESCE({d}, 0)", "COALESCE({d}, {d})", "NULLIF({d}, 0)", "LEAST({d}, {d})"),
    "f": ("{f} + {f}", "{f} - {i}", "{f} * 2", "ABS({f})", "COALESCE({f}, 0)", "COALESCE({f}, {d})"),
    "b": ("{i} < {i}", "{d} >= 1", "{t} = {t}", "{t} < 'b'", "{y} > DATE '2026-02-01'", "NOT ({b})", "({b}) IS TRUE", "({t}) IS NULL", "({b}) IS NOT FALSE",
          "{i} IN (1, 2, NULL)", "{t} LIKE '%a%'", "{i} IS DISTINCT FROM {i}", ("STARTS_WITH({t}, 'o')", "starts_with({t}, 'o')"), "{t} IN ('oak', '12')", "{w} >= {y}"),
    "t": ("{t} || {t}", "TRIM({t})", "LEFT({t}, 2)", "RIGHT({t}, -1)", "SUBSTRING({t} FROM 2 FOR 2)", "REPLACE({t}, 'a', 'bb')", "COALESCE({t}, 'none')", "NULLIF({t}, '')",
          "CAST({i} AS TEXT)", ("CAST({y} AS TEXT FORMAT 'YYYY-MM')", "to_char({y}, 'YYYY-MM')"), ("CAST({y} AS TEXT FORMAT 'DD.MM.YYYY')", "to_char({y}, 'DD.MM.YYYY')"),
          "SPLIT_PART({t}, '-', 2)", "CONCAT({t}, {i})", "LPAD({t}, 4, '0')", "LEAST({t}, {t})"),
    "y": ("COALESCE({y}, DATE '2026-03-31')", "GREATEST({y}, {y})", ("DATE_TRUNC('month', {y})", "date_trunc('month', {y})::date"), "{y} + 3",
          ("{y} - INTERVAL '1' MONTH", "({y} - INTERVAL '1' MONTH)::date"), "CAST({w} AS DATE)"),
    "w": ("COALESCE({w}, {w})", "DATE_TRUNC('month', {w})", "{w} + INTERVAL '3' HOUR", "CAST({y} AS TIMESTAMP)"),
}  # fmt: skip
LITERALS = {"i": ("3", "-2", "0"), "d": ("1.25", "0"), "f": ("2.5e0",), "b": ("TRUE",), "t": ("'oak'", "''"), "y": ("DATE '2026-02-28'",), "w": ("TIMESTAMP '2026-03-01 10:20:30'",)}  # fmt: skip
# Aggregates: the type of what they take, and how they are written for the server.
AGGREGATES: dict[str, tuple[tuple[str, str], ...]] = {
    "i": (("SUM({i})", "sum({i})::bigint"), ("COUNT({t})", "count({t})"), ("COUNT(*)", "count(*)"), ("COUNT(DISTINCT {t})", "count(distinct {t})"), ("COUNT(DISTINCT {i})", "count(distinct {i})"),
          ("MIN({i})", "min({i})"), ("MAX({i})", "max({i})"), ("SUM(DISTINCT {i})", "sum(distinct {i})::bigint"), ("COUNT(DISTINCT {y})", "count(distinct {y})")),
    "d": (("SUM({d})", "sum({d})"), ("MIN({d})", "min({d})"), ("MAX({d})", "max({d})"), ("SUM(DISTINCT {d})", "sum(distinct {d})")),
    "f": (("SUM({f})", "sum({f})"), ("AVG({i})", "avg({i})::float8"), ("AVG({d})", "avg({d})::float8"), ("AVG({f})", "avg({f})"), ("MEDIAN({i})", "percentile_cont(0.5) within group (order by {i})"),
          ("STDDEV_SAMP({i})", "stddev_samp({i})::float8"), ("PERCENTILE_CONT(0.25) WITHIN GROUP (ORDER BY {d})", "percentile_cont(0.25) within group (order by {d})"), ("VAR_POP({i})", "var_pop({i})::float8")),
    "t": (("MIN({t})", "min({t})"), ("MAX({t})", "max({t})"), ("LISTAGG({t}, ', ') WITHIN GROUP (ORDER BY {t}, {i})", "string_agg({t}, ', ' order by {t}, {i})"),
          ("LISTAGG(DISTINCT {t}, '+') WITHIN GROUP (ORDER BY {t})", "string_agg(distinct {t}, '+' order by {t})"), ("MODE({t})", "mode() within group (order by ({t})::text)")),
    "b": (("BOOL_AND({b})", "bool_and({b})"), ("BOOL_OR({b})", "bool_or({b})")),
    "y": (("MIN({y})", "min({y})"), ("MAX({y})", "max({y})")),
}  # fmt: skip
# Windows over rows, each with an order that leaves no ties open, of plain columns.
ROW_WINDOWS: dict[str, tuple[tuple[str, str], ...]] = {
    "i": (("LAG(i) OVER (PARTITION BY k ORDER BY at)",) * 2, ("ROW_NUMBER() OVER (PARTITION BY b ORDER BY at DESC)",) * 2, ("SUM(i) OVER (PARTITION BY k)", "(sum(i) over (partition by k))::bigint"),
          ("SUM(i) OVER (ORDER BY at)", "(sum(i) over (order by at))::bigint"), ("COUNT(*) OVER ()",) * 2, ("RANK() OVER (ORDER BY d DESC)",) * 2, ("LEAD(j, 2, 0) OVER (ORDER BY at)", "lead(j, 2, 0::bigint) over (order by at)")),
    "d": (("LAG(d) OVER (PARTITION BY t ORDER BY at)",) * 2, ("MAX(d) OVER (PARTITION BY b)",) * 2, ("SUM(d) OVER (PARTITION BY k ORDER BY at ROWS BETWEEN 1 PRECEDING AND CURRENT ROW)",) * 2),
    "t": (("LAG(t) OVER (ORDER BY at)",) * 2, ("FIRST_VALUE(u) OVER (PARTITION BY k ORDER BY at)",) * 2),
}  # fmt: skip


@dataclass(frozen=True)
class Piece:
    """A formula in both writings. `wrong` has for each field whose formula it is ("" for the one that is drawn) and kind of fault the condition under which it happens."""

    ours: str
    theirs: str
    wrong: Mapping[tuple[str, str], str] = field(default_factory=dict)

    def under(self, condition: str) -> Mapping[tuple[str, str], str]:
        """The faults, only where a condition holds."""
        return {kind: f"(({condition}) and ({one}))" for kind, one in self.wrong.items()}


def either(*all_of_them: Mapping[tuple[str, str], str]) -> dict[tuple[str, str], str]:
    """Faults of several pieces."""
    made: dict[tuple[str, str], str] = {}
    for one in all_of_them:
        for kind, condition in one.items():
            made[kind] = condition if kind not in made else f"({made[kind]} or {condition})"
    return made


ZERO = ("", "division by zero")


@dataclass
class Measure:
    """What one column of the answer shows, with the faults that do not depend on which branch is taken."""

    name: str
    piece: Piece
    rows: dict[tuple[str, str], str] = field(default_factory=dict)
    groups: dict[tuple[str, str], str] = field(default_factory=dict)


class Drawing:
    """Draws the pieces of one question; what the server computes in steps before (windows, aggregates) is kept by name."""

    def __init__(
        self, rng: random.Random, *, earlier: bool = False, windows: bool = True, shares: bool = False, mark: str = ""
    ) -> None:
        self.rng, self.earlier, self.with_windows = rng, earlier, windows
        self.first: Drawing | None = None
        self.mark = mark  # in the names of what is its own
        self.shares = shares  # windows over groups only as sums of all
        self.windows: dict[str, str] = {}  # by what they are called: the server's writing
        self.fields: dict[str, tuple[str, str]] = {}  # saved ones, by name: ours, and the type
        self.aggregates: dict[str, str] = {}
        self.over_groups: dict[str, tuple[str, int]] = {}
        self.keys: list[tuple[str, str, str, str]] = []  # name, how it is asked for, theirs, type
        self.key_rows: dict[tuple[str, str], str] = {}
        self.rows: dict[tuple[str, str], str] = {}
        self.groups: dict[tuple[str, str], str] = {}

    # -- rows --------------------------------------------------------------------------------------------

    def leaf(self, kind: str) -> Piece:
        """A column, now and then a literal."""
        if self.rng.random() < 0.15:
            text = self.rng.choice(LITERALS[kind])
            return Piece(text, text)
        name = self.rng.choice(BY_TYPE[kind])
        return Piece(name, name)

    def row(self, kind: str, depth: int) -> Piece:
        """A formula of rows."""
        if depth <= 0:
            return self.leaf(kind)
        chance = self.rng.random()
        if chance < 0.18:
            return self.choice(lambda one: self.row(one, depth - 1), kind)
        if chance < 0.30 and kind == "f":
            return self.ratio(self.row(self.rng.choice("id"), depth - 1), self.row(self.rng.choice("id"), depth - 1))
        if chance < 0.26 and kind == "i":
            return self.read(self.row("t", depth - 1))
        if chance < 0.30 and kind == "b":
            return self.joined(self.rng.choice(("AND", "OR")), self.row("b", depth - 1), self.row("b", depth - 1))
        if chance < 0.36 and kind in ROW_WINDOWS and self.with_windows:
            ours, theirs = self.rng.choice(ROW_WINDOWS[kind])
            name = self.windows.setdefault(theirs, f"{self.mark}w{len(self.windows)}")
            return Piece(ours, name)
        if chance < 0.42 and kind in "idf":
            return self.saved(kind, self.row(kind, depth - 1))
        return self.filled(self.rng.choice(ROW[kind]), lambda one: self.row(one, depth - 1))

    def saved(self, kind: str, piece: Piece) -> Piece:
        """A formula as a field of the source: the faults are then the field's."""
        name = f"{self.mark}s{len(self.fields)}"
        self.fields[name] = (piece.ours, kind)
        wrong = {(owner or name, what): one for (owner, what), one in piece.wrong.items()}
        return Piece(name, piece.theirs, wrong)

    def filled(self, template: str | tuple[str, str], inner: Callable[[str], Piece]) -> Piece:
        """A template with pieces in its holes."""
        ours, theirs = (template, template) if isinstance(template, str) else template
        wrong: dict[tuple[str, str], str] = {}
        lazily = ours.startswith("COALESCE")
        before: list[str] = []
        at = 0
        while (begin := ours.find("{", at)) >= 0:
            one = inner(ours[begin + 1])
            own = one.under(" and ".join(f"({text}) is null" for text in before)) if lazily and before else one.wrong
            wrong = either(wrong, own)
            before.append(one.theirs)
            ours = ours[:begin] + inside(one.ours) + ours[begin + 3 :]
            place = theirs.find("{")
            theirs = theirs[:place] + inside(one.theirs) + theirs[place + 3 :]
            at = begin + len(inside(one.ours))
        return Piece(ours, theirs, wrong)

    def ratio(self, left: Piece, right: Piece) -> Piece:
        """A division."""
        zero = {ZERO: f"(({right.theirs}) = 0 and ({left.theirs}) is not null)"}
        theirs = f"({left.theirs})::float8 / nullif(({right.theirs})::float8, 0)"
        return Piece(f"{inside(left.ours)} / {inside(right.ours)}", theirs, either(left.wrong, right.wrong, zero))

    def read(self, text: Piece) -> Piece:
        """A text read as a whole number, which most are not."""
        digits = f"substring({text.theirs} from '^ *([+-]?[0-9]+) *$')"
        wrong = {("", "not a whole number"): f"(({text.theirs}) is not null and {digits} is null)"}
        return Piece(f"CAST({text.ours} AS INTEGER)", f"{digits}::bigint", either(text.wrong, wrong))

    def joined(self, word: str, left: Piece, right: Piece) -> Piece:
        """AND and OR: the right side counts where the left one leaves the answer open."""
        open_ = f"({left.theirs}) is not {'false' if word == 'AND' else 'true'}"
        ours, theirs = (f"{inside(one)} {word} {inside(other)}" for one, other in ((left.ours, right.ours), (left.theirs, right.theirs)))  # fmt: skip
        return Piece(ours, theirs, either(left.wrong, right.under(open_)))

    def choice(self, inner: Callable[[str], Piece], kind: str) -> Piece:
        """CASE or IF: what is wrong in a branch counts where the branch is taken."""
        count = self.rng.choice((1, 1, 2))
        conditions, values = [inner("b") for _ in range(count)], [inner(kind) for _ in range(count)]
        last = inner(kind) if self.rng.random() < 0.7 else None
        wrong: dict[tuple[str, str], str] = {}
        open_ = "true"
        ours = theirs = "CASE"
        for condition, value in zip(conditions, values, strict=True):
            wrong = either(wrong, condition.under(open_), value.under(f"{open_} and ({condition.theirs})"))
            open_ += f" and ({condition.theirs}) is not true"
            ours += f" WHEN {condition.ours} THEN {value.ours}"
            theirs += f" when {condition.theirs} then {value.theirs}"
        if last is not None:
            wrong = either(wrong, last.under(open_))
        if count == 1 and last is not None and self.rng.random() < 0.4:
            ours = f"IF({conditions[0].ours}, {values[0].ours}, {last.ours})"
            return Piece(ours, f"{theirs} else {last.theirs} end", wrong)
        end = (f" ELSE {last.ours}", f" else {last.theirs}") if last is not None else ("", "")
        return Piece(f"{ours}{end[0]} END", f"{theirs}{end[1]} end", wrong)

    # -- groups ------------------------------------------------------------------------------------------

    def aggregate(self, kind: str) -> Piece:
        """An aggregate, now and then with a filter; it is computed for every group, whichever branch it is in."""
        if kind == "w":
            kind = "y"
        ours, theirs = self.rng.choice(AGGREGATES[kind])
        distinct_order = "DISTINCT" in ours and "LISTAGG" in ours
        same: dict[str, Piece] = {}

        def inner(one: str) -> Piece:
            if one in same and "LISTAGG" in ours:
                return same[one]
            piece = self.row(one, self.rng.choice((0, 0, 1, 2)))
            while "LISTAGG" in ours and (distinct_order or one == "t") and "'" in piece.ours:
                piece = self.row(one, 0)  # the server wants to see that the order is of the same piece
            return same.setdefault(one, piece)

        made = self.filled((ours, theirs), inner)
        if self.rng.random() < 0.3:
            keep = self.row("b", self.rng.choice((0, 1)))
            self.rows = either(self.rows, keep.wrong, made.under(f"({keep.theirs})"))
            cast = made.theirs.rpartition("::") if made.theirs.endswith(("::bigint", "::float8")) else None
            body = cast[0] if cast else made.theirs
            theirs = f"({body} filter (where {keep.theirs})){'::' + cast[2] if cast else ''}"
            made = Piece(f"{made.ours} FILTER (WHERE {keep.ours})", theirs)
        else:
            self.rows = either(self.rows, made.wrong)
        name = self.aggregates.setdefault(made.theirs, f"a{len(self.aggregates)}")
        if self.earlier and self.rng.random() < 0.3:
            return Piece(f"BEFORE({made.ours})", f"before_{name}")
        return Piece(made.ours, f"now_{name}")

    def group(self, kind: str, depth: int, *, windows: bool = True) -> Piece:
        """A formula of groups."""
        if depth <= 0:
            return self.aggregate(kind)
        chance = self.rng.random()
        inner = lambda one: self.group(one, depth - 1, windows=windows)  # noqa: E731
        if chance < 0.30:
            return self.choice(inner, kind)
        if chance < 0.60 and kind == "f":
            return self.ratio(inner(self.rng.choice("id")), inner(self.rng.choice("id")))
        if chance < 0.40 and kind == "b":
            return self.joined(self.rng.choice(("AND", "OR")), inner("b"), inner("b"))
        if chance < 0.72 and windows and self.keys and self.with_windows:
            return self.over(kind, lambda one: self.group(one, depth - 1, windows=False))
        return self.filled(self.rng.choice(ROW[kind]), inner)

    def over(self, kind: str, inner: Callable[[str], Piece]) -> Piece:
        """A window over the groups; what is wrong in it counts for every group."""
        if self.shares:
            kind, sums = ("i", "sum(now_{0}) over ()::bigint") if kind == "i" else ("d", "sum(now_{0}) over ()")
            ours, theirs = self.rng.choice([one for one in AGGREGATES[kind] if one[0].startswith(("SUM({", "COUNT({", "COUNT(*)"))])  # fmt: skip
            made = self.filled((ours, theirs), lambda one: self.leaf(one))
            name = self.aggregates.setdefault(made.theirs, f"a{len(self.aggregates)}")
            return Piece(f"SUM({made.ours}) OVER ()", f"({sums.format(name)})")
        order_ours = ", ".join(one[0] for one in self.keys)
        order_theirs = ", ".join(f"now_{quoted(one[0])}" for one in self.keys)
        part = self.rng.choice(self.keys)
        forms: dict[str, tuple[tuple[str, str], ...]] = {
            "i": (("RANK() OVER (ORDER BY {d} DESC)",) * 2, ("SUM({i}) OVER (PARTITION BY @)", "(sum({i}) over (partition by @))::bigint"), ("LAG({i}) OVER (ORDER BY #)",) * 2, ("SUM({i}) OVER ()", "(sum({i}) over ())::bigint")),
            "d": (("SUM({d}) OVER (ORDER BY #)",) * 2, ("SUM({d}) OVER (PARTITION BY @)",) * 2, ("MAX({d}) OVER ()",) * 2, ("LAG({d}, 1, 0) OVER (ORDER BY #)",) * 2, ("{d} - LAG({d}) OVER (ORDER BY #)",) * 2),
            "f": (("AVG({d}) OVER ()", "(avg({d}) over ())::float8"), ("SUM({f}) OVER (ORDER BY #)",) * 2),
            "t": (("LAG({t}) OVER (ORDER BY #)",) * 2, ("FIRST_VALUE({t}) OVER (ORDER BY #)",) * 2),
            "b": (("BOOL_OR({b}) OVER ()",) * 2,), "y": (("MIN({y}) OVER ()",) * 2,), "w": (("MAX({w}) OVER ()",) * 2,),
        }  # fmt: skip
        ours, theirs = self.rng.choice(forms[kind])
        ours = ours.replace("#", order_ours).replace("@", part[0])
        theirs = theirs.replace("#", order_theirs).replace("@", f"now_{quoted(part[0])}")
        made = self.filled((ours, theirs), inner)
        self.groups = either(self.groups, made.wrong)
        return Piece(made.ours, made.theirs)


def quoted(name: str) -> str:
    """A name as part of another that needs no quotes."""
    return "".join(one if one.isalnum() and one.isascii() else "_" for one in name.lower())


def inside(text: str) -> str:
    """A formula as part of another."""
    return text if text.replace("_", "").isalnum() else f"({text})"


@dataclass(frozen=True)
class Question:
    """A question as a source is asked it, the saved and local fields that it needs, and what the server is asked instead."""

    by: tuple[Any, ...]
    show: tuple[Any, ...]
    where: Any
    always: str | None
    sort: tuple[str, ...]
    limit: int | None
    totals: bool
    saved: tuple[tuple[str, str], ...]
    local: tuple[tuple[str, str], ...]
    answer: str
    overall: str
    faults: tuple[tuple[str, str, bool, str], ...]
    """Field, kind, whether of groups, and the statement that counts them."""
    overall_faults: tuple[tuple[str, str, str], ...]

    def __str__(self) -> str:
        given = {name: getattr(self, name) for name in ("by", "show", "where", "always", "sort", "limit", "totals", "saved", "local")}  # fmt: skip
        return ", ".join(f"{name}={value!r}" for name, value in given.items() if value)


def drawn(seed: int, *, earlier: bool = False) -> Question:
    """The question of a seed; with `earlier` it may ask for the state before."""
    rng = random.Random(seed)
    windows_over_rows = rng.random() < 0.6
    drawing = Drawing(rng, earlier=earlier and rng.random() < 0.5, windows=windows_over_rows)
    rows_wrong: dict[tuple[str, str], str] = {}
    own = Drawing(
        rng, windows=windows_over_rows, mark="own_"
    )  # the source's own filter, whose windows come before all others
    always = own.row("b", 1) if rng.random() < 0.25 else None
    if always is not None and windows_over_rows:
        while (always := own.row("b", 2)).wrong:
            own.windows.clear()
            own.fields.clear()
    drawing.first = own
    where = drawing.row("b", rng.choice((1, 2))) if rng.random() < 0.5 else None
    for _ in range(rng.choice((0, 1, 1, 1, 2, 3))):
        _key(rng, drawing)
    shown: list[tuple[str, Piece]] = []
    groups_wrong: dict[tuple[str, str], str] = {}
    kept = f"(({where.theirs}) is true)" if where is not None else "true"
    if where is not None:
        rows_wrong = either(rows_wrong, owned(where.wrong, where.ours))
    rows_wrong = either(rows_wrong, {kind: f"({kept} and {one})" for kind, one in drawing.key_rows.items()})
    saved: list[tuple[str, str]] = []
    local: list[tuple[str, str]] = []
    show: list[Any] = []
    sortable: list[str] = []
    for at in range(rng.choice((1, 1, 2, 3))):
        drawing.rows, drawing.groups = {}, {}
        kind = rng.choice("iiddffffbty")
        piece = drawing.group(kind, rng.choice((0, 1, 1, 2, 2, 3)))
        name, form = f"x{at}", rng.random()
        if form < 0.25 and not _names_a_key(piece, drawing):
            saved.append((name, piece.ours))
            show.append(name)
        elif form < 0.4 and not _names_a_key(piece, drawing):
            local.append((name, piece.ours))
            show.append(name)
        else:
            show.append((name, piece.ours))
        rows_wrong = either(
            rows_wrong, {kind: f"({kept} and {one})" for kind, one in owned(drawing.rows, name).items()}
        )
        groups_wrong = either(groups_wrong, owned(either(drawing.groups, piece.wrong), name))
        shown.append((name, piece))
        sortable += [name] if kind != "f" else []  # the last digits of floats would decide
    names = [name for name, *_ in drawing.keys] + sortable
    sort = tuple(f"{rng.choice(('', '-'))}{name}" for name in rng.sample(names, min(len(names), rng.choice((0, 0, 1, 2)))))  # fmt: skip
    limit = rng.choice((None, None, None, 1, 3)) if drawing.keys else None
    totals = rng.random() < 0.3 and not drawing.earlier
    having, deciding = _having(rng, drawing) if drawing.keys and not totals and rng.random() < 0.4 else (None, {})
    if having is not None:  # what it aggregates is computed for every group
        rows_wrong = either(
            rows_wrong, {kind: f"({kept} and {one})" for kind, one in owned(drawing.rows, having.ours).items()}
        )
    every, every_outer = _steps(drawing, always, kept, earlier=drawing.earlier)
    steps, outer = _steps(drawing, always, kept, earlier=drawing.earlier, having=having)
    apart, outer_apart = _steps(drawing, always, kept, earlier=drawing.earlier, keys=0)
    columns = [f"now_{quoted(name)} as {quoted(name)}" for name, *_ in drawing.keys] + [f"{piece.theirs} as {name}" for name, piece in shown]  # fmt: skip
    order = [
        f"{quoted(one.removeprefix('-'))} {'desc nulls first' if one.startswith('-') else 'asc nulls last'}"
        for one in sort
    ]
    order += [f"{quoted(name)} asc nulls last" for name, *_ in drawing.keys]
    answer = f"{steps} select * from (select {', '.join(columns)} from {outer}) answer"
    answer += (f" order by {', '.join(order)}" if order else "") + (f" limit {limit}" if limit is not None else "")
    overall = f"{apart} select {', '.join(piece.theirs for _, piece in shown)} from {outer_apart}"
    faults = [(owner, what, False, f"{steps} select count(*) from windowed where {one}") for (owner, what), one in rows_wrong.items()]  # fmt: skip
    faults += [(owner, what, True, f"{steps} select count(*) from (select ({one}) as wrong from {outer}) one where wrong") for (owner, what), one in groups_wrong.items()]  # fmt: skip
    faults += [(owner, what, True, f"{every} select count(*) from (select ({one}) as wrong from {every_outer}) one where wrong") for (owner, what), one in deciding.items()]  # fmt: skip
    overall_faults = [(owner, what, f"{apart} select count(*) from (select ({one}) as wrong from {outer_apart}) one where wrong") for (owner, what), one in groups_wrong.items()]  # fmt: skip
    return Question(
        tuple(asked if name == asked else (name, asked) for name, asked, *_ in drawing.keys), tuple(show), _both(rng, drawing, where, having), always.ours if always else None, sort, limit, totals,
        (*((name, ours) for name, (ours, _) in (own.fields | drawing.fields).items()), *saved), tuple(local), answer, overall, tuple(faults), tuple(overall_faults),
    )  # fmt: skip


def _having(rng: random.Random, drawing: Drawing) -> tuple[Piece, dict[tuple[str, str], str]]:
    """A condition on groups of today's rows, and what is wrong in it; of its rows' faults `drawing.rows` knows."""
    drawing.rows, earlier, drawing.earlier = {}, drawing.earlier, False
    piece = drawing.group("b", rng.choice((1, 1, 2)), windows=False)
    drawing.earlier = earlier
    return piece, dict(owned(piece.wrong, piece.ours))


def _both(rng: random.Random, drawing: Drawing, where: Piece | None, having: Piece | None) -> Any:
    """The conditions as they are asked: as a list, or joined by AND where nothing can be wrong in them, which is said by their texts."""
    said = [one for one in (where, having) if one is not None]
    sound = not drawing.rows and not any(one.wrong for one in said)
    if len(said) == 2 and sound and rng.random() < 0.5:
        return " AND ".join(f"({one.ours})" for one in said)
    return [one.ours for one in said] or None


def owned(wrong: Mapping[tuple[str, str], str], name: str) -> dict[tuple[str, str], str]:
    """Faults of the formula that is drawn as those of a field."""
    return either(*({(owner or name, what): one} for (owner, what), one in wrong.items()))


def _names_a_key(piece: Piece, drawing: Drawing) -> bool:
    """Whether a formula names something that only the question has."""
    return any(name != asked and name in piece.ours for name, asked, *_ in drawing.keys) or "BEFORE" in piece.ours


def _key(rng: random.Random, drawing: Drawing) -> None:
    """One more thing to group by: a column, a coded text, a formula with a name."""
    free = [name for name in ("t", "k", "b", "y", "i", "u") if name not in {one[1] for one in drawing.keys}]
    kind = {"b": "b", "c": "b", "y": "y", "i": "i"}
    if rng.random() < 0.6:
        name = rng.choice(free)
        drawing.keys.append((name, name, name, kind.get(name, "t")))
        return
    wanted = rng.choice("tbyi")
    piece = drawing.row(wanted, rng.choice((1, 2)))
    name = f"g{len(drawing.keys)}"
    drawing.key_rows = either(drawing.key_rows, owned(piece.wrong, name))
    drawing.keys.append((name, piece.ours, piece.theirs, wanted))


@dataclass(frozen=True)
class PanelQuestion:
    """A table of a report with its limit, rest, subtotals and totals, and what the server is asked instead: each level of its groups, the rest, all."""

    panel: str
    keys: int
    head: int
    subtotals: bool
    rest: bool
    totals: bool
    saved: tuple[tuple[str, str], ...]
    always: str | None
    levels: tuple[str, ...]
    """For one key, two keys and so on: the groups in order. That of the head has its limit."""
    the_rest: str
    overall: str


def drawn_panel(seed: int) -> PanelQuestion:
    """The table of a seed."""
    rng = random.Random(seed)
    drawing = Drawing(rng, windows=False, shares=True)
    always = drawing.row("b", 1) if rng.random() < 0.2 else None
    where = drawing.row("b", 1) if rng.random() < 0.5 else None
    kept = f"(({where.theirs}) is true)" if where is not None else "true"
    while len(drawing.keys) < rng.choice((1, 2, 2, 3)):
        _key(rng, drawing)
    drawing.with_windows = True
    shown: list[tuple[str, str, Piece]] = []
    for at in range(rng.choice((1, 2))):
        kind = rng.choice("iiddf")
        drawing.with_windows = False
        piece = drawing.group(kind, rng.choice((0, 1, 2)))
        if rng.random() < 0.4:
            whole = drawing.over(kind, lambda one: one)
            piece = drawing.ratio(piece, whole) if rng.random() < 0.7 else whole
            kind = "f"
        shown.append((f"x{at}", kind, piece))
    count = len(drawing.keys)
    subtotals = count > 1 and rng.random() < 0.6
    head = 1 if subtotals else count
    names = [name for name, *_ in drawing.keys] + [name for name, kind, _ in shown if kind != "f"]
    sort = [f"{rng.choice(('', '-'))}{name}" for name in rng.sample(names, rng.choice((0, 1, min(2, len(names)))))]
    limit, rest, totals = rng.choice((1, 2, 3)), rng.random() < 0.7, rng.random() < 0.5
    measures = ", ".join(f"{piece.theirs} as {name}" for name, _, piece in shown)

    def level(depth: int) -> str:
        steps, outer = _steps(drawing, always, kept, keys=depth)
        keys = [quoted(name) for name, *_ in drawing.keys[:depth]]
        order = [f"{quoted(one.removeprefix('-'))} {'desc nulls first' if one[0] == '-' else 'asc nulls last'}" for one in sort
                 if one.removeprefix("-") in {name for name, *_ in [*drawing.keys[:depth], *shown]}]  # fmt: skip
        order += [f"{one} asc nulls last" for one in keys]
        columns = ", ".join(f"now_{one} as {one}" for one in keys)
        ordered = (
            f"{steps} select * from (select {columns}, {measures} from {outer}) answer order by {', '.join(order)}"
        )
        return ordered + (f" limit {limit}" if depth == head else "")

    named = [(f"head_{at}", theirs) for at, (_, _, theirs, _) in enumerate(drawing.keys[:head])]
    same = " and ".join(f"(({theirs}) is not distinct from {name})" for name, theirs in named)
    inside_head = f"exists (select 1 from ({level(head)}) heads({', '.join(name for name, _ in named)}) where {same})"
    steps, outer = _steps(drawing, always, kept, keys=0, apart=inside_head)
    the_rest = f"{steps} select {', '.join(name for name, *_ in shown)} from (select now_apart, {measures} from {outer}) one where not now_apart"
    steps, outer = _steps(drawing, always, kept, keys=0)
    items = ", ".join(_toml(name, asked) for name, asked, *_ in drawing.keys)
    keys = [
        f"by = [{items}]",
        f"show = [{', '.join(_toml(name, piece.ours) for name, _, piece in shown)}]",
        f"limit = {limit}",
    ]
    keys += [f"where = {_text(where.ours)}"] if where is not None else []
    keys += [f"sort = [{', '.join(map(_text, sort))}]"] if sort else []
    keys += [f"{word} = true" for word, said in (("subtotals", subtotals), ("rest", rest), ("totals", totals)) if said]
    saved = tuple((name, ours) for name, (ours, _) in drawing.fields.items())
    levels = tuple(level(depth) for depth in range(1, count + 1))
    return PanelQuestion("\n".join(keys), count, head, subtotals, rest, totals, saved, always.ours if always else None, levels, the_rest, f"{steps} select {measures} from {outer}")  # fmt: skip


def _text(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _toml(name: str, formula: str) -> str:
    return f"{{ name = {_text(name)}, formula = {_text(formula)} }}" if name != formula else _text(name)


def _steps(drawing: Drawing, always: Piece | None, kept: str, *, earlier: bool = False, keys: int | None = None, apart: str = "", having: Piece | None = None) -> tuple[str, str]:  # fmt: skip
    """The server's steps up to the groups by the first `keys` (all by default), and what the answer is selected from. `apart`: groups by a condition instead."""
    first = len(drawing.keys) if keys is None else keys
    windows = "".join(f", {text} as {name}" for text, name in drawing.windows.items())

    def groups(table: str, prefix: str) -> str:
        keys = [f"{theirs} as {prefix}_{quoted(name)}" for name, _, theirs, _ in drawing.keys[:first]]
        keys += [f"{apart} as {prefix}_apart"] if apart else []
        nothing = [f"null::{_SQL[kind]} as {prefix}_{quoted(name)}" for name, _, _, kind in drawing.keys[first:]]
        aggregates = [f"{text} as {prefix}_{name}" for text, name in drawing.aggregates.items()]
        by = f" group by {', '.join(map(str, range(1, len(keys) + 1)))}" if keys else ""
        return f"select {', '.join([*keys, *nothing, *aggregates] or ['1'])} from {table} where {kept}{by}"

    first_windows = (
        "".join(f", {text} as {name}" for text, name in drawing.first.windows.items())
        if drawing.first is not None
        else ""
    )
    only = f" where ({always.theirs}) is true" if always is not None else ""

    def rows(table: str) -> str:
        return f"select *{windows} from (select *{first_windows} from {table}) first{only}"

    steps = f"with windowed as ({rows('q')}), now as ({groups('windowed', 'now')})"
    if having is not None:
        steps += f", now_kept as (select * from now where ({having.theirs}) is true)"
    outer = "now" if having is None else "(select * from now_kept) now"
    if earlier:
        steps += (
            f", windowed_before as (select *{windows} from q_before), before as ({groups('windowed_before', 'before')})"
        )
        on = " and ".join(f"now_{quoted(name)} is not distinct from before_{quoted(name)}" for name, *_ in drawing.keys)
        outer = f"{outer} left join before on {on if first and on else 'true'}"
    return steps, outer


_SQL = {"t": "text", "b": "boolean", "y": "date", "i": "bigint"}


def table(rng: random.Random, rows: int, *, plain: bool = False) -> pa.Table:
    """Rows of every type with nulls, zeros and repeated values; some columns are null throughout. `plain`: no empty texts, as in delimited text."""
    words = _WORDS if plain else (*_WORDS, "", " ash ")
    values: dict[str, Callable[[], Any]] = {
        "i": lambda: rng.choice((0, 0, 1, 2, -3, 5, rng.randrange(-_LIMIT, _LIMIT))), "j": lambda: rng.choice((0, 1, 7, -1)),
        "d": lambda: Decimal(rng.choice((0, 100, 250, -125, rng.randrange(-_LIMIT, _LIMIT)))).scaleb(-2), "f": lambda: rng.choice((0.0, 0.25, -1.5, rng.randrange(-400, 400) / 4)),
        "b": lambda: rng.random() < 0.6, "c": lambda: rng.random() < 0.3, "t": lambda: rng.choice(words[:6]), "u": lambda: rng.choice(words), "k": lambda: rng.choice("ABC"),
        "y": lambda: dt.date(2026, 1, 1) + dt.timedelta(days=rng.randrange(90)), "w": lambda: dt.datetime(2026, 1, 1) + dt.timedelta(minutes=rng.randrange(90 * 24 * 60)),
    }  # fmt: skip
    empty = {name for name in values if rng.random() < 0.06}
    share = rng.choice((0.0, 0.15, 0.4))
    columns: dict[str, Any] = {"at": pa.array(range(1, rows + 1), pa.int64())}
    for name, one in values.items():
        made = [None if name in empty or rng.random() < share else one() for _ in range(rows)]
        columns[name] = pa.array(made, ARROW[KINDS[name]])
    return pa.table(columns)


def careless(rng: random.Random) -> dict[str, Any]:
    """A question as somebody in a hurry might put it: formulas of any kind in any place, pieces swapped, letters lost; most are refused."""
    drawing = Drawing(rng, earlier=True)
    drawing.keys.append(("k", "k", "k", "t"))

    def formula() -> str:
        piece = drawing.group(rng.choice("idfbty"), 2) if rng.random() < 0.4 else drawing.row(rng.choice("idfbtyw"), 2)
        text = piece.ours
        for name, (ours, _) in drawing.fields.items():
            text = text.replace(name, f"({ours})") if rng.random() < 0.9 else text
        for _ in range(rng.choice((0, 0, 0, 1, 2))):
            at = rng.randrange(len(text) + 1)
            lost = text[:at] + text[at + rng.randrange(3) :]
            swapped = text.replace(
                rng.choice("idfbtukyw"),
                rng.choice(("i", "t", "y", "'x'", "0", "NULL", "-9223372036854775808", "SUM(i)", "at", "k")),
                1,
            )
            text = rng.choice(
                (
                    lost,
                    swapped,
                    text
                    + rng.choice(
                        (" + 1", " || k", " AND b", " OVER ()", " FILTER (WHERE b)", " IS NULL", ")", "'", ", 2")
                    ),
                )
            )
        return text

    by = [rng.choice((rng.choice("itkbyw"), formula(), ("g", formula()))) for _ in range(rng.choice((0, 1, 1, 2)))]
    show = [rng.choice((rng.choice("idftkb"), formula(), (f"x{at}", formula()))) for at in range(rng.choice((1, 1, 2)))]
    sort = [rng.choice(("x0", "-x0", "g", "k", "zebra"))] if rng.random() < 0.3 else []
    return {
        "by": by,
        "show": show,
        "where": formula() if rng.random() < 0.5 else None,
        "sort": sort,
        "limit": rng.choice((None, 1, 5)),
        "totals": rng.random() < 0.4,
    }


def insertions(rows: pa.Table) -> Iterator[Sequence[Any]]:
    """The rows of a table, one after the other."""
    yield from zip(*(column.to_pylist() for column in rows.columns), strict=True)
