"""Who may do what: the table itself."""

from __future__ import annotations

import unittest
from itertools import combinations

from oak_ledger.catalogue.rules import ACTIONS, COLUMNS, RIGHTS, in_words, permitted

EVERYTHING = (*RIGHTS, "maker", "named", "owner")


class Table(unittest.TestCase):
    def test_nobody_may_do_anything_without_a_condition(self) -> None:
        for action in ACTIONS:
            for to in COLUMNS:
                self.assertFalse(permitted(action, to, ()))

    def test_more_conditions_never_allow_less(self) -> None:
        held = [set(one) for size in range(4) for one in combinations(EVERYTHING, size)]
        for action in ACTIONS:
            for to in COLUMNS:
                for one in held:
                    if permitted(action, to, one):
                        self.assertTrue(all(permitted(action, to, one | {more}) for more in EVERYTHING))

    def test_what_is_read_can_be_seen(self) -> None:
        """Whoever may do anything to a version may also see it, or is told nothing of it."""
        for to in ("draft", "released", "retired", "report"):
            for needed in ACTIONS["read"].allowed[to]:
                self.assertTrue(permitted("see", to, needed))

    def test_a_draft_is_closed_to_all_but_its_maker_and_whom_they_name(self) -> None:
        for action in ACTIONS.values():
            for needed in action.allowed["draft"]:
                self.assertTrue(needed & {"maker", "named"}, action.name)

    def test_in_words(self) -> None:
        self.assertEqual(in_words("release", "retired"), "the right to release")
        self.assertEqual(in_words("see", "draft"), "being its maker or being named by its maker")
