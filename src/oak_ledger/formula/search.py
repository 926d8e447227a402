"""The library searched by everyday words, by what functions are called elsewhere, and by name and description."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

from oak_ledger.formula.spellings import written_by
from oak_ledger.functions import LIBRARY, Function

# What people say, by what they look for; the first entries of a line are the ones that are meant.
_WORDS = """
LAG: previous prior last row before earlier preceding yesterday row above change since difference to the row before delta
LEAD: next following row after later row below upcoming
SUM: total sum add up amount altogether running total cumulative sum so far year to date ytd running sum moving sum subtotal grand total
COUNT: count how many number of rows records frequency occurrences count distinct unique values different distinct
AVG: average mean moving average rolling average arithmetic
MEDIAN: median middle value typical
MIN: minimum smallest lowest least earliest first date min
MAX: maximum largest highest most latest last date newest max
CURRENT_DATE: today now current date this day current time timestamp this moment
EXTRACT: year month day quarter week weekday day of week day of year hour minute second part of a date week number calendar week
DATE_TRUNC: beginning of month first of month start of month start of week start of quarter start of year round date truncate date month of group by month per month
DATE_DIFF: days between difference between dates date difference months between datediff
AGE: age duration elapsed full years whole months years between how old
INTERVAL: add days add months add date shift date date plus minus days later months ago end of month last day of month due date
WORKING_DAYS: working days business days weekdays between holidays days off
MAKE_DATE: make date date from parts build date year month day
CAST: convert change type to text to number to date parse date format date date as text as number integer decimal string month name weekday name
ROUND: round nearest decimals places two decimals
CEILING: round up ceiling upwards next whole
FLOOR: round down floor downwards whole part
TRUNC: cut off decimals truncate without rounding drop decimals whole number part
ABS: absolute value without sign magnitude distance positive
SIGN: sign positive or negative direction
MOD: remainder modulo rest of division even odd every nth
DIV: whole division integer division divide whole
POWER: power exponent square cube to the power of raised compound interest
SQRT: square root root
LN: natural logarithm log
LOG10: logarithm log base 10
EXP: exponential e to the power
WIDTH_BUCKET: bucket bin histogram classes bands equal ranges interval number
NTILE: quartile decile quantile groups equal parts tiles percent band abc classes
RANK: rank ranking place position top best order top n
DENSE_RANK: rank without gaps ranking dense
ROW_NUMBER: row number line number counter sequence running number first of each group deduplicate numbering
FIRST_VALUE: first value opening value first of group earliest value
LAST_VALUE: last value closing value latest of group newest value
PERCENTILE_CONT: percentile quantile 90th percentile quartile 95
PERCENTILE_DISC: percentile actual value quantile of values
STDDEV_SAMP: standard deviation spread stdev deviation volatility
STDDEV_POP: standard deviation of population spread
VAR_SAMP: variance dispersion
VAR_POP: variance of population
LISTAGG: join values list values concatenate rows comma separated combine texts of rows string aggregation group concat
ANY_VALUE: any value some value one of them representative
BOOL_AND: all true every all of them always
BOOL_OR: any true some at least one exists
IF: if condition either or when then else choose
CASE: case conditions categories category classify bands switch several conditions recode map values group values nested if segment
COALESCE: fill default replace null empty missing blank null to zero fallback first not null instead of null zero if null
NULLIF: null if make null avoid division by zero ignore zero zero to null blank to null placeholder to null
GREATEST: larger of greatest of columns maximum of columns highest of several at least
LEAST: smaller of least of columns minimum of columns lowest of several at most cap
UPPER: upper case capitals uppercase all caps
LOWER: lower case small letters lowercase
INITCAP: capitalize title case proper first letter capital names
BTRIM: trim spaces strip whitespace without spaces remove spaces clean spaces
LTRIM: leading spaces leading zeros left trim remove zeros strip zeros
RTRIM: trailing spaces right trim
CHAR_LENGTH: length characters how long number of letters text length
LEFT: left first letters first characters beginning of text prefix start of text
RIGHT: right last letters last characters end of text suffix
SUBSTRING: part of text middle extract characters from position mid substring cut out
POSITION: find position where in text index of location of search in text
CONTAINS: contains has includes part of text search text in it
STARTS_WITH: begins with starts with prefix is
ENDS_WITH: ends with suffix is
REPLACE: replace substitute swap text exchange remove text without character remove character delete text
REGEXP_REPLACE: pattern replace remove digits remove letters keep digits clean pattern regular expression replace only digits
REGEXP_LIKE: pattern match regular expression matches test pattern valid email
REGEXP_SUBSTR: extract pattern extract number from text digits from text find pattern
REGEXP_COUNT: count pattern how often in text occurrences in text
SPLIT_PART: split separator nth part between delimiters after the dash before the dash part of code first word last word
CONCAT: join texts concatenate combine columns merge text glue full name
"||": join texts concatenate combine text together append
LPAD: pad leading zeros add zeros fill left fixed width zero pad
RPAD: pad right fill right
REVERSE: reverse backwards mirror
REPEAT: repeat times duplicate text
LIKE: like wildcard pattern similar any text matches begins
IN: in list one of any of list of values
BETWEEN: between range from to within limits
"+ - * / %": plus minus times divided add subtract multiply divide ratio percent percentage share margin difference calculate
BEFORE: before compare with earlier state change since last month last snapshot then versus now previous state
PLAIN_NUMBER: number from text with currency thousands separator decimal comma money text price text
"IS NULL": empty missing blank is null no value
"""
_STOP = frozenset(
    ["a", "an", "the", "of", "to", "in", "for", "by", "is", "from", "with", "how", "do", "i", "get", "and", "or", "my"]
)


@lru_cache(maxsize=1)
def _said() -> dict[str, tuple[str, str]]:
    """For each entry its words, each between blanks, and their stems."""
    made = {}
    for line in _WORDS.strip().splitlines():
        name, _, words = line.rpartition(": ")
        made[name.strip('"')] = (f" {words} ", f" {' '.join(map(_stem, words.split()))} ")
    return made


def _stem(word: str) -> str:
    """A word without the ending that it has as a plural, a verb or a participle."""
    return re.sub(r"(?<=\w{3})(ies|es|s|ing|ed|e|ation|ize|ise)$", "", word)


def find_functions(word: str = "") -> list[Function]:
    """The entries, functions and constructs (CASE, CAST, operators), that fit a word or several, the best first; all by topic and name without a word.

    A word may be a name, one of SQL dialects or spreadsheets, an everyday word, or be in the description.
    """
    every = [*LIBRARY.entries.values(), *LIBRARY.constructs.values()]
    if not word.strip():
        return sorted(every, key=lambda entry: (entry.topic, entry.name))
    scores = [(_score(entry, word.casefold().strip()), entry) for entry in every]
    best = max(score for score, _ in scores)
    return [entry for score, entry in sorted(scores, key=lambda one: (-one[0], one[1].topic, one[1].name)) if score > 0 and score >= best / 8]  # fmt: skip


def _score(entry: Function, asked: str) -> float:
    """How well an entry fits what is asked for."""
    score = sum(_points(entry, asked))
    if is_named(entry, asked):
        score += 100
    elif asked in entry.name.casefold():
        score += 12 + 6 * entry.name.casefold().startswith(asked)
    elsewhere = re.findall(r"[A-Z_]{2,}[A-Z0-9_]*", written_by(asked.replace(" ", "_")))
    if entry.name in elsewhere:
        score += 40 - elsewhere.index(entry.name)
    return score


def _points(entry: Function, asked: str) -> Iterator[float]:
    words, stems = _said().get(entry.name, ("", ""))
    own = f" {entry.sentence.casefold()} {entry.topic} {entry.usage.casefold()} "
    terms = [one for one in re.findall(r"[\w%+*/-]+", asked) if one not in _STOP] or asked.split()
    if f" {asked} " in words:
        yield 10 + 3 * len(terms) + (4 if words.startswith(f" {asked} ") else 0)
    for term in terms:
        stem = _stem(term)
        at = stems.find(f" {stem} ")
        yield 5 - min(at, 400) / 200 if at >= 0 else 2 if len(stem) > 3 and f" {stem}" in stems else 0
        yield 1.5 if re.search(rf"\b{re.escape(stem)}", own) else 0


def is_named(entry: Function, word: str) -> bool:
    """Whether a word is an entry's name, or one of its signs."""
    wanted = word.casefold()
    return bool(wanted) and wanted in (entry.name.casefold(), *entry.name.casefold().split())
