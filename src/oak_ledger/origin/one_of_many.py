"""How a file is written, looked at by itself: it may have another encoding, separator or title than the definition says."""

from __future__ import annotations

import codecs
from collections.abc import Sequence
from pathlib import Path

from oak_ledger.errors import OakError
from oak_ledger.origin.csv.dialect import column_names, detect, footer_of, shown_separator
from oak_ledger.origin.csv.encoding import encoding_of
from oak_ledger.origin.csv.opened import head_of
from oak_ledger.origin.spec import ReadingSpec


def own_spec(path: Path, spec: ReadingSpec, like: Sequence[str]) -> tuple[ReadingSpec, str]:
    """How a file is written, and what of it the definition says otherwise (empty where nothing).

    `like` are the names of the first file's columns, or those that are read: a name that is one of them but for letter case and spaces is taken for it; and where
    others are missing, the file is taken to be written so that it has more of them.
    """
    encoding = _own_encoding(head_of(path), path, spec)
    own, said = spec, []
    if encoding != spec.encoding:
        own = own.model_copy(update={"encoding": encoding})
        if {encoding, spec.encoding} != {"utf-8", "utf-8-sig"}:
            said.append(f"encoding {encoding}")
    if like and spec.header != "none" and not spec.names:
        missing = _missing(column_names(path, own), like)
        if missing:
            dialect = detect(path, encoding=encoding, comment=spec.comment, footer=spec.footer)
            other = own.model_copy(update=dialect.keys())
            if dialect.header != "none" and _missing(column_names(path, other), like) < missing:
                said += (
                    [f"separator {shown_separator(dialect.separator)}"] if dialect.separator != spec.separator else []
                )
                said += (
                    [f"names in line {1 if dialect.header == 'first' else dialect.header}"]
                    if dialect.header != spec.header
                    else []
                )
                own = other
        named = _renamed(path, own, like)
        said += ["names in another letter case"] if named is not own else []
        own = named
    footer = footer_of(path, own)
    if footer != spec.footer:
        own = own.model_copy(update={"footer": footer})
        said.append(
            f"{footer or 'no'} line{'s' * (footer != 1)} at the end that {'is' if footer == 1 else 'are'} not rows, instead of {spec.footer}"
        )
    return own, ", ".join(said)


def _own_encoding(head: bytes, path: Path, spec: ReadingSpec) -> str:
    """The encoding of a file: as the definition says, unless its mark or its bytes say otherwise. One file alone that is not UTF-8 any more is refused."""
    said = spec.encoding
    if head.startswith((codecs.BOM_UTF8, codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-8-sig" if head.startswith(codecs.BOM_UTF8) else "utf-16"
    if head.isascii() and b"\0" not in head[:64]:
        return "utf-8" if said.startswith("utf-16") else said
    utf_8 = said.startswith("utf-8")
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
        return said if utf_8 or (said.startswith("utf-16") and b"\0" in head) else "utf-8"
    except UnicodeDecodeError:
        try:
            return encoding_of(path, head)[0] if utf_8 and spec.kind == "files" else said
        except OakError:
            return said


def _missing(names: Sequence[str], like: Sequence[str]) -> int:
    """How many names are not there."""
    there = {name.casefold() for name in names}
    return sum(name.casefold() not in there for name in like)


def _renamed(path: Path, spec: ReadingSpec, like: Sequence[str]) -> ReadingSpec:
    """The names that differ in letter case only, taken for the first file's."""
    known = {name.casefold(): name for name in like}
    names = column_names(path, spec)
    other = {name: known[name.casefold()] for name in names if name not in like and name.casefold() in known}
    return spec.model_copy(update={"renamed": {**spec.renamed, **other}}) if other else spec
