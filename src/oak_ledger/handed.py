"""What a room asks of one above it, handed in by the package when it is imported; nothing here is known by name."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


class Handed:
    """The hands of the rooms above, each loaded when it is first asked."""

    checks: Callable[..., Any]
    """Whatever else is found wrong or doubtful in a source."""
    beside_answer: Callable[..., Any]
    """What is to be said beside an answer."""
    names_before: Callable[..., Any]
    """The names that fields had in an earlier state."""
    in_origin: Callable[..., Any]
    """A question answered in the database that the rows come from."""
    on_cluster: Callable[..., Any]
    """A question answered on a cluster."""
    narrowed: Callable[..., Any]
    """A reader that leaves to the database what of the filters it can say."""
    published: Callable[..., Any]
    """A source of a catalogue."""
    drawn: Callable[..., Any]
    """How something looks in a notebook."""


HANDED = Handed()
