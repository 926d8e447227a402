"""What was made of a version is kept in the process: it does not change. Whether somebody may see it is asked again each time."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from threading import Lock
from typing import Generic, TypeVar

Made = TypeVar("Made")


@dataclass(slots=True)
class Kept(Generic[Made]):
    """The latest results by what they were made of, as long as they take no more than `room` together; what one takes says `size`."""

    room: int
    size: Callable[[Made], int] = lambda _made: 1
    _found: OrderedDict[Hashable, Made] = field(default_factory=OrderedDict)
    _taken: int = 0
    _lock: Lock = field(default_factory=Lock)

    def get(self, key: Hashable, make: Callable[[], Made]) -> Made:
        """The result of a key, made where it is not there; two askers at once may both make it."""
        with self._lock:
            if key in self._found:
                self._found.move_to_end(key)
                return self._found[key]
        made = make()
        with self._lock:
            if key not in self._found:
                self._found[key] = made
                self._taken += self.size(made)
            while self._taken > self.room and self._found:
                self._taken -= self.size(self._found.popitem(last=False)[1])
        return made
