"""How the output of one command looks, as its options say."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(slots=True)
class Look:
    """The width in columns, when to use colour, what is left out; with `as_json` only the object is printed, with `everything` long tables are whole."""

    width: int | None = None
    color: str = "auto"
    quiet: bool = False
    no_progress: bool = False
    as_json: bool = False
    everything: bool = False

    def become(self, other: Look) -> None:
        """Look like another one."""
        for name in self.__slots__:
            setattr(self, name, getattr(other, name))

    def options(self) -> list[str]:
        """The options that make a command look the same, for a command that runs others; with `as_json` these print nothing."""
        said = ["--color", self.color]
        said += ["--width", str(self.width)] if self.width else []
        said += ["--all"] if self.everything else []
        said += ["--quiet"] if self.quiet or self.as_json else []
        return said + (["--no-progress"] if self.no_progress else [])


LOOK = Look()
