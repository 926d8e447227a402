"""Rules that make names of names: prefixes and suffixes, patterns, letter case, spaces. Also as standing rules of a definition."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from fnmatch import fnmatchcase
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from oak_ledger.errors import OakError

Case = Literal["", "upper", "lower", "title", "sentence"]


class NameRule(BaseModel):
    """A `[[naming]]` table: how columns yet to come are called; each key that is given is applied, in this order."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    columns: str = Field("*", description="which columns it is for; * and ? mean any characters")
    remove_prefix: str = Field("", description="what is taken off at the beginning")
    remove_suffix: str = Field("", description="what is taken off at the end")
    pattern: str = Field("", description="a regular expression to be replaced")
    by: str = Field("", description="what the pattern is replaced by; \\1 is its first group")
    underscores: bool = Field(False, description="true: underscores become spaces")
    spaces: str | None = Field(None, description="what spaces become, such as _")
    case: Case = Field("", description="upper, lower, title or sentence")
    add_prefix: str = Field("", description="what is put at the beginning")
    add_suffix: str = Field("", description="what is put at the end")

    @model_validator(mode="after")
    def _can_replace(self) -> NameRule:
        try:
            re.compile(self.pattern).sub(self.by, "")
        except (re.error, IndexError) as error:
            raise ValueError(f"the pattern {self.pattern!r} cannot be replaced by {self.by!r}: {error}") from None
        return self

    @staticmethod
    def of(**keys: Any) -> NameRule:
        """A rule with these keys. Raises OakError where they cannot be one."""
        try:
            return NameRule(**keys)
        except ValidationError as error:
            said = error.errors()[0]
            raise OakError(
                "bad-pattern", f"This is not a rule of names: {said.get('ctx', {}).get('error', said['msg'])}."
            ) from None

    def applied(self, name: str) -> str:
        """The new name of a name that the rule is for; others stay."""
        if not fnmatchcase(name.casefold(), self.columns.casefold()):
            return name
        made = name.removeprefix(self.remove_prefix).removesuffix(self.remove_suffix)
        if self.pattern:
            made = re.sub(self.pattern, self.by, made)
        if self.underscores:
            made = made.replace("_", " ")
        if self.spaces is not None:
            made = re.sub(r"\s+", lambda _match: self.spaces or "", made)
        made = _cased(made.strip(), self.case)
        return f"{self.add_prefix}{made}{self.add_suffix}" if made else name


def _cased(name: str, case: Case) -> str:
    if case == "upper":
        return name.upper()
    if case == "lower":
        return name.lower()
    if case == "title":
        return " ".join(word[:1].upper() + word[1:].lower() for word in name.split(" "))
    return name[:1].upper() + name[1:].lower() if case == "sentence" else name


def named(name: str, rules: Iterable[NameRule]) -> str:
    """The name that standing rules make of a name, one rule after the other."""
    for rule in rules:
        name = rule.applied(name)
    return name


def renames(names: Sequence[str], rule: NameRule) -> dict[str, str]:
    """What a rule makes of names: those that change (old: new)."""
    made = {name: rule.applied(name) for name in names}
    return {old: new for old, new in made.items() if new != old}
