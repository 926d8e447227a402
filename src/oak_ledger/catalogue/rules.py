"""Who may do what in a catalogue: one table, which the catalogue, the page and the tests read."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

RIGHTS: Mapping[str, str] = {
    "read": "use released versions, and reports",
    "edit": "publish drafts, snapshots, watches and reports",
    "release": "sign, release and retire versions",
    "administer": "give and take rights, and read the audit log",
}
STAGES = ("draft", "released", "retired")
ANY = "*"  # the whole catalogue, as an area
EVERYONE = "everyone"  # the group that all belong to

# What is done, and on which conditions, by what it is done to: a version in one of its stages, an area, or a report.
# A condition is a right in the area, or: `maker` of the version, `named` by its maker, `owner` of the report.
# Conditions joined by + must all hold; of those with a comma between, one is enough; - means that it cannot be.
_TABLE = """
see       | maker, named                 | read         | read         | -          | owner, read      | know that it is there, and what it says
read      | maker, named                 | read         | read         | -          | owner, read      | have its rows and figures
publish   | -                            | -            | -            | edit       | -                | make a new version, a snapshot, or a watch
checkout  | maker+edit, named+edit       | edit+read    | edit+read    | -          | -                | fetch the definition, to edit it
name      | maker                        | -            | -            | -          | -                | say who else may see it
withdraw  | maker                        | -            | -            | -          | -                | take it back
sign      | maker+release, named+release | release+read | -            | -          | -                | vouch for it
release   | maker+release, named+release | -            | release+read | -          | -                | make it what all reports read
retire    | -                            | release+read | -            | -          | -                | take it away from readers, and say what replaces it
change    | -                            | -            | -            | edit       | owner, edit+read | publish a report, or a new state of it
propose   | -                            | -            | -            | -          | owner, read      | leave a change for its owner to accept
accept    | -                            | -            | -            | -          | owner, edit+read | accept a change that was left
grant     | -                            | -            | -            | administer | -                | give and take rights
look after | -                           | -            | -            | administer | -                | move, remove and hand over what is in it, and remove old rows; in all areas: back it up
audit     | -                            | -            | -            | administer | -                | read the audit log
"""
WRITES = ("publish", "name", "withdraw", "change", "propose", "accept")
"""What a token does only with the right to edit, also for a maker or an owner."""
COLUMNS = (*STAGES, "area", "report")


@dataclass(frozen=True, slots=True)
class Action:
    """Something that can be done: to what, and the conditions; each of `allowed` is a set that must hold as a whole."""

    name: str
    about: str
    allowed: Mapping[str, tuple[frozenset[str], ...]]


def _read() -> dict[str, Action]:
    found = {}
    for line in _TABLE.strip().splitlines():
        name, *cells, about = (cell.strip() for cell in line.split("|"))
        allowed = {
            column: tuple(frozenset(one.strip().split("+")) for one in cell.split(",")) if cell != "-" else ()
            for column, cell in zip(COLUMNS, cells, strict=True)
        }
        found[name] = Action(name, about, allowed)
    return found


ACTIONS = _read()


def permitted(action: str, to: str, conditions: Collection[str]) -> bool:
    """Whether an action is allowed to somebody for whom these conditions hold; `to` is a stage, `area` or `report`."""
    return any(needed <= set(conditions) for needed in ACTIONS[action].allowed[to])


def in_words(action: str, to: str) -> str:
    """The conditions of an action, as a message says them."""
    options = [" and ".join(_named(one) for one in sorted(needed)) for needed in ACTIONS[action].allowed[to]]
    return " or ".join(options)


def _named(condition: str) -> str:
    people = {"maker": "being its maker", "named": "being named by its maker", "owner": "being its owner"}
    return people.get(condition, f"the right to {condition}")
