"""Every finding and error by its code: how severe it is, what it means, and how to mend it. The page, `oak help codes` and a test read this."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Code:
    """One code. `severity` is error, warning or note."""

    severity: str
    meaning: str
    mend: str


def _errors(text: str) -> dict[str, Code]:
    return _read("error", text)


def _read(severity: str, text: str) -> dict[str, Code]:
    """Lines of `code | meaning | how to mend it`."""
    rows = [line.split(" | ") for line in text.strip().splitlines()]
    return {code: Code(severity, meaning, mend) for code, meaning, mend in rows}


FORMULAS = _errors("""
aggregate-nested | an aggregate inside an aggregate | aggregate the row value instead
argument-count | a function has too many or too few arguments | see its signature: oak help functions NAME
bad-argument | a fixed argument cannot be used | correct the argument that is marked
bad-escape | ESCAPE needs one character | give one character
bad-frame | a window's frame is invalid | correct ROWS or RANGE
bad-literal | a date, timestamp or interval is written wrongly | write DATE '2026-01-31', TIMESTAMP '2026-01-31 10:00:00', INTERVAL '3' DAY
bad-pattern | a pattern, template or list of name parts is invalid | correct it at the marked place
bad-template | a date template is invalid | use parts such as YYYY, MM, DD, HH24, MI, SS
bad-type | a type is written wrongly | write DECIMAL(12,2), for example
before-nested | BEFORE inside BEFORE | take the inner BEFORE out
branch-missing | a CASE without WHEN | add WHEN condition THEN value
broken-field | a formula needs a field that is broken | mend that field first
chained | comparisons in a chain, such as a < b < c | write a < b AND b < c
condition-wanted | a condition is needed, and this is another value | compare the value with something
constant-fault | a constant part of the formula cannot be computed | correct it
constant-wanted | an argument must be fixed, and varies | write a constant
cycle | a field depends on itself | break the circle in one of the formulas
decimal-comma | a decimal comma in a formula | write a point
empty | the formula is empty | write one
foreign-operator | an operator of another notation | write the one that is offered
grain-mixed | a value per row meets a value per group | aggregate the row part, or use FILTER or OVER as offered
if-then | IF … THEN | write CASE WHEN … THEN … END, or IF(condition, value, otherwise)
list-missing | IN without a list | write IN ('a', 'b')
no-cast | a value cannot become this type | choose another type, or clean the value first
no-key | BEFORE needs the source's key | oak field key SOURCE FIELD…
not-aggregate | DISTINCT, * or FILTER outside an aggregate | remove it
not-window | a function that cannot come before OVER | remove OVER
open-case | a CASE without END | add END
open-comment | a comment is not closed | end it with */
open-parenthesis | a parenthesis is not closed | add )
open-quote | a text or a name is not closed | add the quote
order-missing | a window function needs an order | add ORDER BY in OVER
over-missing | a window function without OVER | add OVER (ORDER BY …)
quoted-function | a function's name in double quotes | remove the quotes
reserved-word | a word of the language used as a name | put it in double quotes
select | SELECT or FROM in a formula | keep the expression only
stray-character | a character that means nothing in a formula | remove it, or use what is offered
stray-comma | a comma outside a list of arguments | remove it
stray-interval | an interval that is not added to a date | add it to a date, or subtract it
stray-parenthesis | a parenthesis that closes nothing | remove it
stray-template | FORMAT in a cast that is not between text and dates | remove it
text-added | texts added with + | join texts with ||
too-deep | the formula is nested too deeply | split it into several fields
too-large | a number with more digits than fit | write a smaller number
unexpected | something unexpected at this place | correct the marked place
unfinished | the formula ends too early | complete it
unknown-field | no field has this name | use the name that is offered, or single quotes for text
unknown-function | no function has this name | oak help functions WORD
unknown-part | no part of a date has this name | use YEAR, MONTH, DAY, …
unknown-type | no type has this name | use TEXT, INTEGER, DECIMAL(12,2), NUMBER, BOOLEAN, DATE, TIMESTAMP
value-missing | an operator without a value | add the value
window-key | a window over groups uses a field that is not grouped by | group by it as well
within-group | WITHIN GROUP is missing or not allowed | see the signature: oak help functions NAME
level-alone | a value PER keys outside of an aggregate | say what comes of the values: AVG(SUM(x) PER (k))
level-key | a level is made of a value that is not one of each row | name fields of rows
level-mixed | an aggregate mixes values of different levels, or of rows and a level | one level in an aggregate
level-of-row | PER after a value of each row | aggregate it: SUM(x) PER (k)
from-missing | FROM is due, as in EXTRACT(YEAR FROM x) | write FROM where the mark is
word-missing | a word of the language is missing | add it
wrong-type | a value has another type than needed | use the cast that is offered
fault | values that cannot be computed, in strict mode | clean the values, or leave out strict
""")

DEFINITIONS = _errors("""
key-missing | a required key is missing | add it
missing-column | a column is missing from the origin | oak check shows candidates; oak mend SOURCE OLD=NEW
not-toml | the file is not valid TOML | correct the marked line
stray-key | a key outside any table | move it below its [table]
table-missing | a required table is missing | add it
table-twice | a table is there twice | remove one
unknown-key | no key has this name | correct the spelling, or remove it
wrong-value | a key has an invalid value | write what is asked for
bad-rule | a rule cannot be computed | correct its condition
not-a-piece | what is chosen is no whole piece of a formula | choose a whole call, condition or operation
not-calculated | a column is to be carried over or put into formulas, not a formula | oak field restore
hides-shared | a report's own field would have the name of a shared one | choose another name
unknown-panel | the report has no such panel | name it by its title or number
no-group | the panel has no such group | name one that it shows
several-meanings | reports have different formulas under one name | name the report with --from
other-meaning | a formula would have another type or grain by an edit | leave it as it is
not-named | no formula uses the field that shall go into formulas | oak field drop
still-named | a field is shown, grouped by or a key, so that its formula cannot go where it is used | oak trace FIELD shows where
name-taken | the name is used already | choose another, or --replace
name-twice | two entries or columns have one name | rename one
empty-name | a new name is empty | give a name
moved-to-itself | a field is to be moved beside itself | name another field
no-field | no field was given | name fields, or choose by --pattern or --type
no-column | no column was given | name the columns
group-condition | a condition on groups is used where it has no meaning | leave one of the two out
no-step | there is no step of that number | oak step list SOURCE
column-taken | a field uses this column already | nothing to do
still-used | a formula needs what is to be removed | change that formula first, or hide the field
unknown-name | nothing refers to this name | check the spelling
unknown-column | the origin has no such column | check the spelling
unknown-constant | no constant has this name | oak constant list SOURCE
unknown-filter | no filter has this name | oak filter list SOURCE
unknown-rule | no rule has this name | oak rule list SOURCE
not-broken | the name works, so there is nothing to mend | nothing to do
no-path | the source or intake has no file | give one
bad-list | a list file is malformed | two columns: found and meant
no-header | this kind of origin has no header row | give names another way
bad-setting | an environment variable holds an invalid value | correct or remove it
bad-clock | OAK_CLOCK does not hold a time | write 2026-03-01T07:30
""")

INPUT = _errors("""
bad-row | a row cannot be read | correct the row, or --bad-rows drop or keep
ragged-row | a row has too many or too few values | correct the row, or --bad-rows drop or keep
password-not-agreed | a definition asks for a variable to be sent to a server that nobody agreed to | OAK_PASSWORDS='VARIABLE@host'
password-in-url | the address of a catalogue's server has a password in it | OAK_CATALOGUE_PASSWORD
bad-url | not a valid database address | write sqlite:///file.db or postgresql://user@host/name
column-twice | a query returns two columns of one name | rename one in the query
database | the database reports an error | read its message
empty-file | the file or sheet is empty | ask for it again
file-changed | a file changed while it was read | repeat once it is complete
is-folder | a folder where a file is needed | name a file or a pattern
join-totals | a total of a part is not an aggregate | use SUM, COUNT(*) or the like
join-value | a value that decides which rows are joined cannot be read | clean it, or join a definition whose columns have types
source-cycle | sources are each other's origins | take one of them out of the other
source-origin | another source is read as an origin by a part of the program that cannot | open the definition as a whole
join-key | a join has no usable key | join on a column that both sides have, of one type
step-column | a step does not fit the columns before it | name a column that is there then, or choose another name
memory-origin | the definition has no rows of its own | give it an [origin] with a file
name-parts | a file's name does not fit name_parts | change name_parts or path
names-count | the number of names and of columns differ | correct the list of names
no-editor | what help in editors needs is not installed | pip install 'oak-ledger[editor]'
no-cluster | there is no cluster to ask, or what asks it is not installed | pip install 'oak-ledger[cluster]', Java 17, OAK_SPARK
no-driver | the database's driver is not installed | pip install 'oak-ledger[postgresql]'
no-file | the file is missing | check the path
no-fields | no field works, so nothing can be written | oak check
no-parts | a join without parts | add [[part]] tables
no-password | the variable holds no password | set it
no-pattern | no one pattern names the files | rename them, or move them into one folder
not-a-definition | the file is not a definition | oak intake FILE
not-a-snapshot | the file is neither Parquet nor Arrow | oak export SOURCE --to snapshot.parquet
not-a-select | a query does more than select rows | write one SELECT
not-a-workbook | the workbook cannot be read | check the file
not-json | the file is not valid JSON | check the file
not-text | the file is not text | unpack it, or name another
part-taken | a name part is called as a column is | rename one of them
table-or-query | a database needs a table or a query | give one of them
unknown-encoding | no encoding has this name | use utf-8, cp1252, …
unknown-sheet | the workbook has no such sheet | use one that is listed
unknown-table | the database has no such table | use one that is listed
unreadable | the file is damaged, or not of its kind | check the file
unreadable-value | a value does not fit its type | correct it where the file is made
which-encoding | no encoding fits | --encoding
which-sheet | the workbook has several sheets | --sheet
which-table | the database has several tables | --table
wrong-encoding | a byte is not of the encoding | --encoding, or --bad-rows keep
baseline-key-repeats | the baseline has a key more than once | use a key that is unique
not-in-baseline | the baseline lacks what BEFORE needs | export it again
no-baseline | BEFORE needs an earlier state | --baseline FILE
""")

WORK = _errors("""
view-taken | the database has something else of that name | choose another name: --name
no-service | no service answers, or what it needs is not installed | pip install 'oak-ledger[service]', oak serve
not-in-sql | a statement has something that is not answered | docs/sql.md says what is
sql-syntax | a statement cannot be read | correct it where it is marked
cancelled | a question was cancelled by whoever asked it | ask again
not-encrypted | tokens would be readable on their way | --certificate and --key, or 127.0.0.1
wrong-certificate | files are not a certificate and its key | both in the PEM format
port-taken | nothing can listen there | another --port
wrong-parameter | a parameter of a request is not known here, empty, or has no place in the answer | see /openapi.json
day-and-version | a question of a service names both a day and a version | leave one of them out
too-many | one token has too many questions at a time | wait for an answer
too-busy | the service is busy | ask again in a moment
too-slow | a question took too long | a filter, fewer groups
too-much | an answer, or a sheet, cannot hold so much | pages (limit and offset), or a filter
unknown-place | there is no such place | here, origin or spark
not-in-database | a question cannot be computed in the place that was asked in the same meaning | --place here
too-long | a text is longer than a catalogue takes | shorten it
no-right | a right to be taken away is not there | oak catalogue rights list shows all
rows-missing | stored rows are not there | restore the file from a backup, or publish again
rows-damaged | stored rows are not what was written | restore the file from a backup, or publish again
catalogue-damaged | an entry of the catalogue is not what was written | restore it from a backup; oak catalogue verify lists all damage
not-empty | a folder for a new catalogue has one already | name another folder
database-taken | a database has the tables of another catalogue | name another database
data-shared | the folder of a catalogue's files is another one's | each has its own
rows-removed | the rows of an old version were removed, as was asked | read another version
bad-date | a date is written wrongly | write 2026-05-31
no-member | the person is not in the group | oak catalogue groups list shows all
several-reports | reports of that name are in several areas | AREA/NAME
several-sources | sources of that name are in several areas | AREA/NAME, or --area
unknown-watch | the source has no such watch | oak watch list
unknown-report | the catalogue has no such report, or you may not see it | oak report shared
unknown-area | the catalogue has no such area, or you have no right in it | oak catalogue areas
unknown-right | there is no such right | read, edit, release, administer
no-token | a token is not valid | oak catalogue tokens make
not-allowed | something is not allowed to you | ask who administers the area: oak catalogue rights list
nothing-waits | no change waits for the report | nothing to do
base-unknown | a working copy does not say which version it was made from | base under [source]
fill-date | dates without rows are asked for, and no key is a date, or several are | group by one date
too-many-groups | filling in dates would make too many groups | cut dates off to months
source-taken | a source of that name is there, and the working copy was not made from it | another name, or --base
catalogue-layout | a catalogue was made by another version of the program | use that one
report-taken | a report of that name is there, of another source or owner | another name, or --replace
several-changes | several changes wait for the owner of a report | say which: --change
merge-differs | two people changed the same key of an entry in different ways | keep one of them by hand
base-moved | somebody has published since the base of a working copy | oak versions compare NAME A B, then oak publish --onto
hidden-field | a hidden field is asked for by somebody who only reads | ask who curates the source
no-state | there is no state of that day or before | oak snapshot list
watch-command | the command for a watch failed | correct the command
not-a-schedule | a file is not a schedule of snapshots | [[snapshot]] with source, keep, watch
snapshot-differs | the working copy lacks fields of the released version | publish and release it first
bad-name | a name cannot be one in a catalogue | letters, digits, spaces and . & ' + - _
errors-stand | a version with errors was to be released | mend them, or --overrule REASON
last-administrator | nobody would be left who may give rights | give somebody else that right first
usage | an argument or option is missing or unknown | --help lists them
own-failure | the program failed, through no mistake of yours | OAK_TRACEBACK=1 shows where
bad-log | the edit log cannot be read | remove it; undo starts again
changed-meanwhile | a file was changed by somebody else meanwhile | repeat the command
file-exists | the file already exists and was not changed | choose another name, or delete it first
folder-taken | the folder exists and no demo made it | choose another folder
locked | the catalogue is in use by somebody else | try again
no-catalogue | there is no catalogue in the folder | oak publish makes one
catalogue-unusable | the catalogue cannot be used | read the message
not-written | nothing can be written there | check the folder's rights
nothing-to-undo | no edit can be taken back | nothing to do
nothing-to-redo | no edit was taken back | nothing to do
no-earlier | there are fewer edits than asked for | oak undo list SOURCE
no-reports | no report was found | check the folder
not-publishable | a source with errors is not published | oak check SOURCE
not-released | no version is released | oak release NAME, or --draft
released-already | the version is released already | nothing to do
no-figure | a text has no figure to take apart | name another panel
numbers-wanted | a chart shows numbers only | show it in a table
dates-wanted | lines run over dates only | group by a date first, such as DATE_TRUNC('month', x)
not-totalled | the field cannot be totalled by itself | group by it, or say how: COUNT(DISTINCT x), MIN(x)
over-origin | the output would overwrite the input | write to another file
unknown-ending | the file's ending says no known format | use one that is listed
unknown-sort | the answer has no such column | sort by one that is listed
unknown-source | the catalogue has no such source | use one that is listed
unknown-version | the source has no such version | oak versions NAME
""")

WARNINGS = _read(
    "warning",
    """
stacked-no-sum | parts on one bar do not add up to the whole | take stacked out
not-additive | a ratio or average is added up or averaged | use the ratio of sums that is offered
nulls-spread | a sum becomes null because one term is null | COALESCE the terms, where null means zero
null-in-else | rows go to ELSE because a value is null | say what a null gives
branch-gap | a value falls between two branches | let the branches meet
branch-overlap | a value is in two branches | let one end before it
branch-unreachable | earlier branches cover all values of this one | put the narrower branch first
holds-always | a condition holds for every value | correct it, or remove it
holds-never | a condition never holds | correct it, or remove it
letter-case | a text matches no value, but would in another letter case or without spaces | write the text that is offered
values-lost | values cannot be read or computed, and count as null | clean them, or correct them at the origin
rule-broken | rows do not meet a rule | correct the rows, or the rule
key-repeats | the key is not unique | correct the key or the rows
constant-late | rows before the first value of a dated constant | add an earlier value
join-multiplies | a join multiplies a total | aggregate first, or join on a unique key
recode-hidden | a clean hides the replacements before it | use the replaced values in the clean
filter-matches-nothing | the filter matches no row | check letter case, spaces and dates
no-rows | the origin has no rows | check whether the file is complete
fields-broken | fields are broken and left out | oak check SOURCE
columns-gone | no column that the fields read is there | oak check SOURCE
column-not-read | a column of a type that is not read | convert it at the origin, if it is needed
file-differs | a file has other columns than the first | oak mend SOURCE NAME=THEIRS reads both
file-twice | two files have the same content | remove one
file-not-read | a newer file is not matched by the path | rename it, or change path
order-leaves-ties | rows are alike in what a window is ordered by | add a field to ORDER BY that is different in every row
frame-ends-here | LAST_VALUE looks no further than the current row | ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING
nearly-equal | numbers miss a comparison by their last digits | compare rounded numbers, or decimals
text-emptied | a joined text is null where one part is | COALESCE(part, '')
ratio-rows | two sums of a ratio leave out different rows | say both FILTER conditions, or COALESCE
distinct-added | distinct counts are added up | COUNT(DISTINCT …) over all rows
rows-twice | rows are there again, alike in all fields | oak step add SOURCE distinct, or oak field key
shares-averaged | percentages are averaged without weight | SUM(share * weight) / SUM(weight)
midnight-end | a last day is only its first moment | compare with what comes before the next day
text-order | numbers that are texts are compared letter by letter | CAST, or oak field retype
currencies-mixed | amounts of several currencies are added up | group by the currency, or make them one
input-not-computed | a source that rows come from has values that could not be computed | oak check that source
bad-plan | a file is not the plan of a mend | oak mend SOURCE --json makes one
mend-loses | a mend would make values null, or leave rows out | name what is meant; --yes writes it all the same
rows-dropped | rows were left out | see NAME.bad_rows.csv
rows-mended | malformed rows were kept | see NAME.bad_rows.csv
mark-open | a mark may be one of decimals or of thousands | decide with the command that is offered
nearly-typed | nearly all values have a type, some do not | declare the others as null words, or correct them
order-open | nothing shows which is the day and which the month | give the template, if the month comes first
other-source | the report reads another source | give it the right one
copy-not-kept | no typed copy could be kept | read the message
drift-unit | values changed by a common factor, or their median changed strongly | check the unit
drift-reading | values are written otherwise than before: dates, marks, words for null | oak mend SOURCE --sure reads them so
unit-back | values arrive in the unit that they had before a clean was written | remove the clean: oak field clean SOURCE FIELD ''
origin-key | a mend names a key that this kind of origin does not have | see the keys: oak help keys
name-again | a column is called again as it was before a mend, or both names are there | nothing to do; it is read
drift-nulls | a field has many more nulls than in the released version | check the origin
drift-constant | a field has one value in all rows | check the origin
shared-hidden | a report has a field of its own with the name of a shared one | rename one of them
drift-files | files of the released version are missing | check the folder and the path
drift-column | a field's column is there and holds what another one had | oak mend SOURCE OLD=NEW
drift-rows | rows of the released version are missing, or are there twice | ask whether they were delivered
drift-keys | no row has a key that was there before | clean the key, or read the rows as new ones
drift-cut | decimals or texts are cut off | ask how the values are made now
drift-moved | dates or moments are all later or earlier by the same time | ask for the time zone
drift-zeros | leading zeros are lost | read the column as text
drift-values | values are gone, new, or written otherwise | oak mend SOURCE --values FIELD OLD=NEW
drift-type | a field has another type than in the released version | retype it
""",
)

NOTES = _read(
    "note",
    """
nulls-left-out | a filter that says what a value is not leaves out nulls | IS DISTINCT FROM, or OR x IS NULL
not-compared | nothing was compared with a published version | --catalogue, or publish one
branch-empty | no row reaches a branch | check whether it is needed
clean-idle | a clean changes no value | remove it, or correct it
recode-idle | replacements match no value | remove them
columns-untaken | columns that no field uses | oak field restore
made-harmless | texts that a spreadsheet would run are written behind an apostrophe | --exact leaves them
written-otherwise | values are written as texts, or without characters that the file cannot hold | a Parquet file keeps them
filter-matches-all | the filter matches every row | check whether it is needed
rows-prepared | what a step did to the rows | nothing to do
file-otherwise | files differ from what the definition says of reading, and are read as found | nothing to do
text-garbled | texts that are not UTF-8 were read as null | write the file again as UTF-8
times-cut | times finer than a microsecond were cut | nothing to do
numbers-as-text | cells of text that look like numbers | retype the field, if numbers are meant
may-be-level | a measure may be a stock or a headcount, which is not added up over days | oak field set SOURCE FIELD --total last --over DAY
may-be-moment | numbers that may be dates or times | use the formula that is offered
copy-damaged | a typed copy was damaged and removed | nothing to do
""",
)

CODES: dict[str, Code] = {**FORMULAS, **DEFINITIONS, **INPUT, **WORK, **WARNINGS, **NOTES}
TOPICS = {
    "Formulas": FORMULAS,
    "Definitions and edits": DEFINITIONS,
    "Input": INPUT,
    "Files, catalogue and output": WORK,
    "Warnings": WARNINGS,
    "Notes": NOTES,
}
