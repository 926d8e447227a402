"""Functions as SQL dialects and spreadsheets call them, and how each is written here.

A line is a name and, for each count of arguments, how it is written: `{0}` is the first argument, `{0:unit}` a unit of time in capitals,
`{0:quoted}` one in quotes, `{1:whole}` a whole number that must be in the formula, `{1:next}` the number after it, `{*}` all arguments.
After `?` it may mean something else: it is asked about and never applied by itself. After `!` there is nothing like it: the words say what there is.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache

_SPELLINGS = """
YEAR MONTH DAY HOUR MINUTE SECOND QUARTER | EXTRACT(# FROM {0})
WEEK ISOWEEK ISOWEEKNUM | EXTRACT(WEEK FROM {0})
WEEKNUM | ? EXTRACT(WEEK FROM {0}) : weeks begin on Monday here, the first is that of 4 January
WEEKDAY | ? EXTRACT(ISODOW FROM {0}) : 1 is Monday, 7 is Sunday; DOW counts from 0, Sunday | ? EXTRACT(ISODOW FROM {0}) : 1 is Monday, 7 is Sunday
DAYOFWEEK | ? EXTRACT(DOW FROM {0}) + 1 : 1 is Sunday
DAYOFMONTH | EXTRACT(DAY FROM {0})
DAYOFYEAR | EXTRACT(DOY FROM {0})
DATEPART DATE_PART | EXTRACT({0:unit} FROM {1})
DATETRUNC | DATE_TRUNC({0:quoted}, {1})
MONTHNAME | CAST({0} AS TEXT FORMAT 'Month')
DAYNAME | CAST({0} AS TEXT FORMAT 'Day')
TODAY CURDATE CURRENT_DATE | CURRENT_DATE
NOW GETDATE SYSDATE SYSDATETIME CURRENT_TIMESTAMP | CURRENT_TIMESTAMP
DATEADD DATE_ADD TIMESTAMPADD | {2} + INTERVAL '{1:whole}' {0:unit}
DATE_SUB | ! a date less days is d - 3, less months d - INTERVAL '1' MONTH
ADD_MONTHS EDATE | {0} + INTERVAL '{1:whole}' MONTH
ADDDAYS ADD_DAYS | {0} + {1}
DATEDIFF TIMESTAMPDIFF | ? {0} - {1} : whole days from the second to the first | DATE_DIFF({0:quoted}, {1}, {2})
DATEDIF | AGE({2:quoted}, {0}, {1})
DAYS | {0} - {1}
MONTHS_BETWEEN | ? AGE('month', {1}, {0}) : whole months that have passed
EOMONTH | DATE_TRUNC('month', {0}) + INTERVAL '{1:next}' MONTH - INTERVAL '1' DAY
LAST_DAY | DATE_TRUNC('month', {0}) + INTERVAL '1' MONTH - INTERVAL '1' DAY
NETWORKDAYS | ? WORKING_DAYS({0}, {1}) : the last day itself is not counted
WORKDAY | ! join a table of working days by the day
DATE | CAST({0} AS DATE) | MAKE_DATE({0}, {1}, {2})
DATEFROMPARTS DATE_FROM_PARTS | MAKE_DATE({0}, {1}, {2})
DATEVALUE | CAST({0} AS DATE)
IFNULL NVL | COALESCE({0}, {1})
ISNULL | {0} IS NULL | COALESCE({0}, {1})
ISBLANK | ? {0} IS NULL : an empty text is not null: COALESCE(x, '') = '' takes both
ISNOTNULL | {0} IS NOT NULL
NVL2 | IF({0} IS NOT NULL, {1}, {2})
ZEROIFNULL | COALESCE({0}, 0)
NULLIFZERO | NULLIF({0}, 0)
IIF | IF({0}, {1}, {2})
IFERROR TRY | ? COALESCE({0}, NULL) : what cannot be computed is null here, and reported | ? COALESCE({0}, {1}) : what cannot be computed is null here, and reported
SUBSTR | SUBSTRING({0}, {1}) | SUBSTRING({0}, {1}, {2})
MID | SUBSTRING({0}, {1}, {2})
LEN CHARLENGTH STRLEN | CHAR_LENGTH({0})
INSTR STRPOS | POSITION({1} IN {0})
FIND LOCATE | POSITION({0} IN {1})
CHARINDEX | POSITION({0} IN {1})
SEARCH | POSITION(LOWER({0}) IN LOWER({1}))
SUBSTITUTE | REPLACE({0}, {1}, {2})
CONCATENATE STRCAT | CONCAT({*})
CONCAT_WS TEXTJOIN | ! join with ||: a || ' ' || b
PROPER | INITCAP({0})
UCASE TOUPPER | UPPER({0})
LCASE TOLOWER | LOWER({0})
REPT REPLICATE | REPEAT({0}, {1})
EXACT | {0} = {1}
STARTSWITH | STARTS_WITH({0}, {1})
ENDSWITH | ENDS_WITH({0}, {1})
STRCONTAINS INCLUDES | CONTAINS({0}, {1})
SPLIT | ! SPLIT_PART(x, ' ', 1) is the first part
REGEXMATCH RLIKE REGEXP_CONTAINS REGEXP REGEXP_MATCH | REGEXP_LIKE({0}, {1})
REGEXEXTRACT REGEXP_EXTRACT | REGEXP_SUBSTR({0}, {1})
REGEXREPLACE REGEX_REPLACE | REGEXP_REPLACE({0}, {1}, {2}, 'g')
TO_CHAR | ? CAST({0} AS TEXT) | CAST({0} AS TEXT FORMAT {1})
TO_DATE | CAST({0} AS DATE) | CAST({0} AS DATE FORMAT {1})
TO_TIMESTAMP | CAST({0} AS TIMESTAMP) | CAST({0} AS TIMESTAMP FORMAT {1})
TO_NUMBER VALUE TODOUBLE TO_DOUBLE | ? CAST({0} AS NUMBER) : a text that is not a number is then reported
CSTR STR TOSTRING TO_STRING | CAST({0} AS TEXT)
CINT TOINT TO_INTEGER | ? CAST({0} AS INTEGER) : halves are rounded away from zero
CDATE | CAST({0} AS DATE)
DATE_FORMAT STRFTIME FORMAT TEXT | ! CAST(d AS TEXT FORMAT 'YYYY-MM') writes a date, format = "0.00" of a field shows a number
CONVERT | ! CAST(x AS INTEGER) makes another type of a value
AVERAGE MEAN | AVG({0})
COUNTA | COUNT({0})
COUNTBLANK | COUNT(*) FILTER (WHERE {0} IS NULL)
COUNT_DISTINCT COUNTDISTINCT COUNTUNIQUE NUNIQUE DISTINCTCOUNT | COUNT(DISTINCT {0})
APPROX_COUNT_DISTINCT | COUNT(DISTINCT {0})
SUMIF | SUM({0}) FILTER (WHERE {1}) | ? SUM({2}) FILTER (WHERE {0} = {1}) : a condition such as Cost > 5 is written out
AVERAGEIF AVGIF | AVG({0}) FILTER (WHERE {1}) | ? AVG({2}) FILTER (WHERE {0} = {1}) : a condition such as Cost > 5 is written out
COUNTIF COUNT_IF | COUNT(*) FILTER (WHERE {0}) | ? COUNT(*) FILTER (WHERE {0} = {1}) : a condition such as Cost > 5 is written out
MAXIF | MAX({0}) FILTER (WHERE {1})
MINIF | MIN({0}) FILTER (WHERE {1})
MAXIMUM | MAX({0})
MINIMUM | MIN({0})
STDEV STDDEV | STDDEV_SAMP({0})
STDEVP | STDDEV_POP({0})
VAR VARIANCE | VAR_SAMP({0})
VARP | VAR_POP({0})
GROUP_CONCAT STRING_AGG | ? LISTAGG({0}, ', ') WITHIN GROUP (ORDER BY {0}) | ? LISTAGG({0}, {1}) WITHIN GROUP (ORDER BY {0})
QUANTILE PERCENTILE | PERCENTILE_CONT({1}) WITHIN GROUP (ORDER BY {0})
ANY FIRST LAST | ? ANY_VALUE({0}) : which one is open; FIRST_VALUE(x) OVER (ORDER BY …) says which
MODE | ! COUNT(*) by the value, in descending order, shows the commonest first
EVERY | BOOL_AND({0})
PREVIOUS PRIOR | ? LAG({0}) OVER (ORDER BY …)
NEXT | ? LEAD({0}) OVER (ORDER BY …)
RUNNING_SUM CUMSUM RUNNING_TOTAL RUNNINGSUM | ? SUM({0}) OVER (ORDER BY …)
ROUNDUP | SIGN({0}) * CEILING(ABS({0})) | ? SIGN({0}) * CEILING(ABS({0}) * 100) / 100 : two decimals, away from zero
ROUNDDOWN TRUNCATE | TRUNC({0}) | TRUNC({0}, {1})
INT INTEGER | ? FLOOR({0}) : downwards; TRUNC(x) cuts towards zero, CAST(x AS INTEGER) rounds
POW | POWER({0}, {1})
QUOTIENT | DIV({0}, {1})
LOG | ? LOG10({0}) : LN(x) is the natural logarithm
SQUARE | POWER({0}, 2)
SUMPRODUCT | SUM({0} * {1})
VLOOKUP XLOOKUP LOOKUP HLOOKUP | ! join the other table by the key: oak join
"""
_UNITS = {
    "YEAR": "YYYY YY Y YEARS", "QUARTER": "QQ Q QUARTERS", "MONTH": "MM M MONTHS", "WEEK": "WW WK W WEEKS ISOWEEK", "DAY": "DD D DAYS",
    "HOUR": "HH H HOURS", "MINUTE": "MI N MINUTES", "SECOND": "SS S SECONDS", "DOY": "DAYOFYEAR DY", "DOW": "WEEKDAY DAYOFWEEK DW",
}  # fmt: skip
_HOLE = re.compile(r"\{(\d|\*)(?::(\w+))?\}")


@dataclass(frozen=True, slots=True)
class Spelling:
    """How a call from elsewhere is written here: `written` as a whole, empty where there is nothing like it; `note` says more; `sure` whether it means the same."""

    written: str
    note: str
    sure: bool


@lru_cache(maxsize=1)
def _table() -> dict[str, list[str]]:
    """Each name with the ways to write it."""
    made: dict[str, list[str]] = {}
    for line in _SPELLINGS.strip().splitlines():
        names, *ways = (part.strip() for part in line.split("|")) if "||" not in line else _cut(line)
        for name in names.split():
            made[name] = [way.replace("#", name) for way in ways]
    return made


def _cut(line: str) -> Iterator[str]:
    """The parts of a line that has the sign || in a text."""
    return (part.strip().replace("\0", "||") for part in line.replace("||", "\0").split("|"))


def spelling(name: str, args: Sequence[str]) -> Spelling | None:
    """How a call of a function from elsewhere is written here; None for a name that is not known, or for arguments that it does not have."""
    ways = _table().get(name)
    built = _BUILT.get(name)
    if built is not None:
        made = built(args)
        return Spelling(made, "", sure=name in ("SWITCH", "CHOOSE", "IFS")) if made else None
    for way in ways or ():
        sign, text = (way[0], way[1:].strip()) if way[0] in "?!" else ("", way)
        if sign == "!":
            return Spelling("", text, sure=False)
        template, _, note = text.partition(" : ")
        if len(args) == _count(template) or "{*}" in template:
            written = _filled(template, args)
            if written is not None:
                return Spelling(written, note, sure=not sign)
    return Spelling("", f"It is written {_shown(ways[-1])}.", sure=False) if ways else None


def written_here(name: str) -> list[str]:
    """How what is called so elsewhere is written here, with letters for its arguments; nothing for an unknown name."""
    return [
        f"{way[1:].strip()[:1].upper()}{way[1:].strip()[1:]}." if way.startswith("!") else _shown(way)
        for way in _table().get(name.upper(), ())
    ]


def written_by(name: str) -> str:
    """How what is called so elsewhere is written here, in all its ways; empty for an unknown name."""
    return " ".join(_table().get(name.upper(), ()))


def _shown(way: str) -> str:
    """A way as an example, with letters for its arguments."""
    text = way.lstrip("?! ").partition(" : ")[0]
    return _HOLE.sub(lambda hole: "…" if hole[1] == "*" else {"unit": "DAY", "quoted": "'day'", "whole": "3", "next": "1"}.get(hole[2] or "", "xyzuvw"[int(hole[1])]), text)  # fmt: skip


def _count(template: str) -> int:
    return max((int(hole[1]) + 1 for hole in _HOLE.finditer(template) if hole[1] != "*"), default=0)


def _filled(template: str, args: Sequence[str]) -> str | None:
    """A template with the arguments in place; None where one of them is not what it must be."""
    wrong: list[str] = []

    def put(hole: re.Match[str]) -> str:
        if hole[1] == "*":
            return ", ".join(args)
        text, kind = args[int(hole[1])].strip(), hole[2]
        if kind in ("unit", "quoted"):
            unit = unit_of(text)
            wrong.extend([] if unit else [text])
            return unit if kind == "unit" else f"'{unit.lower()}'"
        if kind in ("whole", "next"):
            if not re.fullmatch(r"[+-]?\s*\d{1,6}", text):
                wrong.append(text)
                return ""
            return str(int(text.replace(" ", "")) + (kind == "next"))
        return _one(text, alone=template == hole[0] or _between(template, hole))

    made = _HOLE.sub(put, template)
    return None if wrong else made


def _between(template: str, hole: re.Match[str]) -> bool:
    """Whether a hole stands between commas, parentheses or words, where any expression may come."""
    before, after = template[: hole.start()].rstrip(), template[hole.end() :].lstrip()
    return before.endswith(("(", ",", "DISTINCT", "FROM", "WHERE", "BY")) and after.startswith(
        (")", ",", "AS", "IN", "FROM")
    )


def _one(text: str, *, alone: bool) -> str:
    """An argument as part of something else: in parentheses unless it is one word, one value or one call."""
    simple = re.fullmatch(r"""[\w.]+|"[^"]*"|'[^']*'|\w+\([^()]*\)""", text)
    return text if alone or simple else f"({text})"


def unit_of(text: str) -> str:
    """A unit of time by one of its names, in quotes or not; empty for another word."""
    word = text.strip("'\"").upper()
    return next((unit for unit, names in _UNITS.items() if word == unit or word in names.split()), "")


def _switch(args: Sequence[str]) -> str:
    if len(args) < 3:
        return ""
    pairs = [f"WHEN {one} THEN {two}" for one, two in zip(args[1::2], args[2::2], strict=False)]
    last = f" ELSE {args[-1]}" if len(args) % 2 == 0 else ""
    return f"CASE {args[0]} {' '.join(pairs)}{last} END"


def _choose(args: Sequence[str]) -> str:
    return _switch([args[0], *(part for at, one in enumerate(args[1:], 1) for part in (str(at), one))]) if len(args) > 1 else ""  # fmt: skip


def _ifs(args: Sequence[str]) -> str:
    pairs = [f"WHEN {one} THEN {two}" for one, two in zip(args[::2], args[1::2], strict=False)]
    return f"CASE {' '.join(pairs)} END" if args and len(args) % 2 == 0 else ""


def _sums(name: str) -> Callable[[Sequence[str]], str]:
    def written(args: Sequence[str]) -> str:
        given = args if name == "COUNT" else args[1:]
        pairs = " AND ".join(f"{_one(one, alone=False)} = {_one(two, alone=False)}" for one, two in zip(given[::2], given[1::2], strict=False))  # fmt: skip
        what = "*" if name == "COUNT" else args[0] if args else ""
        return f"{name}({what}) FILTER (WHERE {pairs})" if pairs and len(given) % 2 == 0 else ""

    return written


_BUILT: dict[str, Callable[[Sequence[str]], str]] = {
    "SWITCH": _switch, "DECODE": _switch, "CHOOSE": _choose, "IFS": _ifs, "SUMIFS": _sums("SUM"), "COUNTIFS": _sums("COUNT"), "AVERAGEIFS": _sums("AVG"),
}  # fmt: skip
"""Those whose arguments come in any number."""
