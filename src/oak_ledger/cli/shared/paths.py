"""What a name on the command line means as a file."""

from __future__ import annotations

import re
from pathlib import Path

DEFINITION_SUFFIX = ".oak.toml"


def definition_path(name: str) -> Path:
    """The definition file that a name means; its ending may be left out."""
    path = Path(name)
    if not path.is_file() and not name.endswith(".toml") and Path(name + DEFINITION_SUFFIX).is_file():
        return Path(name + DEFINITION_SUFFIX)
    return path


def is_date(text: str) -> bool:
    """Whether a text is a date, and not a file of that name."""
    return re.fullmatch(r"\d{4}-\d\d-\d\d( .*)?", text) is not None and not Path(text).exists()
