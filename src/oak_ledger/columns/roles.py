"""What a field is for, judged at intake: to group by (a dimension) or to add up (a measure), alike for columns that are alike, with the reason."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace

from oak_ledger.columns.proposal import Proposal
from oak_ledger.origin.evidence import Evidence

_NUMBERS_OF = re.compile(
    r"(?i)(^|[ _.-])(id|ids|no|nr|num|number|code|key|ticket|zip|postcode|postal|plz|phone|fax|account|year|quarter|month|week|day|hour|line|version|index|rank|latitude|longitude|lat|lon|lng)$"
)
_NOT_ADDED = re.compile(
    r"(?i)(^|[ _.-])(rate|ratio|share|percent|percentage|pct|average|avg|mean|median|price|temperature|temp|score|rating|age|speed|density|humidity|pressure)$"
)
DENSE_SPAN, MIN_DENSE_VALUES = 2, 100  # of many different numbers, every second one between the least and the largest


def role_of(name: str, evidence: Evidence) -> tuple[str, str, str]:
    """The role of a column, how it is totalled where that is not by adding up, and why."""
    if evidence.kind not in ("integer", "decimal", "number"):
        return "dimension", "", f"it holds {evidence.kind}"
    if _NUMBERS_OF.search(name):
        return "dimension", "", "by its name it numbers or places something"
    if evidence.kind == "integer" and _counts_rows(evidence):
        return "dimension", "", "each value is there once, one after the other: it numbers the rows"
    if evidence.why == "percentages":
        return "measure", "average", "percentages do not add up"
    if _NOT_ADDED.search(name):
        return "measure", "average", "by its name it does not add up"
    return "measure", "", "it holds numbers that add up"


def _counts_rows(evidence: Evidence) -> bool:
    """Whether whole numbers are all different and nearly without gaps."""
    present = evidence.rows - evidence.nulls
    if evidence.distinct != present or present < 2:
        return False
    try:
        ends = [int(one) for one in (evidence.least, evidence.most)]
    except ValueError:
        return False
    span = max(ends) - min(ends) + 1
    return present > 2 and (span == present or (present >= MIN_DENSE_VALUES and span <= DENSE_SPAN * present))


def alike_roles(proposals: Sequence[Proposal]) -> list[Proposal]:
    """The same role for numbers whose names differ in digits only, such as Loads 1 and Loads 2: that of most."""
    groups: dict[str, list[Proposal]] = {}
    for proposal in proposals:
        if proposal.evidence.kind in ("integer", "decimal", "number") and re.search(r"[0-9]", proposal.name):
            groups.setdefault(re.sub(r"[0-9]+", "#", proposal.name.casefold()), []).append(proposal)
    usual: dict[int, str] = {}
    for own in groups.values():
        role = Counter(proposal.role for proposal in own).most_common(1)[0][0]
        usual |= {id(proposal): role for proposal in own if len(own) > 1}
    made = []
    for proposal in proposals:
        role = usual.get(id(proposal), proposal.role)
        if role != proposal.role:
            proposal.keys["role"] = role
            proposal = replace(proposal, role=role, role_why="as the columns with names like it")
        made.append(proposal)
    return made
