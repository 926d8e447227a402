"""What a kind of panel is: the keys that it takes, what it asks, what it shows."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import Any, ClassVar

from oak_ledger.errors import Finding
from oak_ledger.report.content import Computed
from oak_ledger.report.panel_spec import PanelSpec
from oak_ledger.report.top import Top
from oak_ledger.source.questions import PlannedTally
from oak_ledger.source.source import Source

Question = Mapping[str, Any]
"""Arguments of a tally: by, show, where, sort."""


class PanelKind(ABC):
    """A kind of panel."""

    word: ClassVar[str]
    about: ClassVar[str]
    keys: ClassVar[frozenset[str]]
    example: ClassVar[str]

    def problem(self, spec: PanelSpec) -> str:
        """Why a panel of this kind cannot be; empty where it can."""
        return "" if spec.show else "shows nothing; name a measure in show"

    def question(self, spec: PanelSpec, question: Question) -> Question | None:
        """What is asked, all groups of it; None where nothing is."""
        return {**question, "sort": spec.sort}

    def planned(self, spec: PanelSpec, source: Source, question: Question) -> PlannedTally | None:
        """The question with everything checked and nothing computed. Raises OakError where it cannot be asked."""
        asked = self.question(spec, question)
        return None if asked is None else source.planned_tally(**asked)

    def doubts(self, spec: PanelSpec, source: Source, question: Question) -> tuple[Finding, ...]:
        """What misleads in a panel that can be asked, known before a row is read."""
        return ()

    def top(self, spec: PanelSpec, source: Source, question: Question) -> Top | None:
        """The first groups and the rest, where groups may be limited. Raises OakError where it cannot be asked."""
        return None

    @abstractmethod
    def compute(self, spec: PanelSpec, source: Source, question: Question) -> Computed:
        """What the panel shows. Raises OakError where it cannot be computed."""
