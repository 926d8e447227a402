"""What a definition says of an origin that is looked at for the first time: its kind, its path, how its text is written."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TypeVar

from pydantic import ValidationError

from oak_ledger.errors import OakError, UnusableInput
from oak_ledger.origin import OriginSpec
from oak_ledger.origin.csv.dialect import detect, separator_named
from oak_ledger.origin.files import name_parts_of
from oak_ledger.origin.spec import OriginKind, ReadingSpec
from oak_ledger.origin.workbook import ENDINGS, first_look, sheets

Made = TypeVar("Made", bound=ReadingSpec)
_KINDS: dict[str, OriginKind] = {
    ".parquet": "parquet",
    ".arrow": "arrow",
    ".feather": "arrow",
    ".jsonl": "json lines",
    ".ndjson": "json lines",
    ".json": "json lines",
    ".db": "database",
    ".sqlite": "database",
    ".sqlite3": "database",
    **dict.fromkeys(ENDINGS, "sheet"),
}


def first_spec(
    paths: Sequence[str | Path], files: Sequence[Path], name_parts: str, given: dict[str, Any], target: Path
) -> tuple[OriginSpec, tuple[tuple[str, str], ...]]:
    """What the definition says of the origin, and how that was found out."""
    if given.get("url"):
        return _database(given, target.parent, "a URL was given")
    several = len(files) > 1 or "*" in str(paths[0]) or bool(name_parts)
    path: str = os.path.relpath(_common(paths, files) if several else str(files[0]), str(target.parent))
    path = path.replace(os.sep, "/")
    kind = _KINDS.get(files[0].suffix.lower(), "file")
    if given.get("published") or files[0].name.endswith(".oak.toml"):
        return _origin_spec({**given, "kind": "source", "path": path}), (("kind source", "another source"),)
    if kind == "database":
        return _database({**given, "url": f"sqlite:///{path}"}, target.parent, "a SQLite file")
    if kind == "sheet":
        found, evidence = _sheet(files[0], given)
        keys = {**found, "kind": kind, "path": path, "name_parts": name_parts}
        return _origin_spec(keys), evidence + _said_of_parts(keys, files)
    if kind != "file":
        keys = {"kind": kind, "path": path, "name_parts": name_parts, **given}
        return _origin_spec(keys), (
            (f"kind {kind}", f"the file ends in {files[0].suffix}"),
            *_said_of_parts(keys, files),
        )
    names = ("separator", "quote", "escape", "spaces", "encoding", "header", "header_lines", "comment", "footer")
    if "separator" in given:
        given = {**given, "separator": separator_named(given["separator"])}
    asked: dict[str, Any] = {key: given[key] for key in names if key in given}
    if given.get("names"):
        asked.setdefault("header", "none")
    dialect = detect(files[0], **asked)
    keys = {**dialect.keys(), **given, "kind": "files" if several else "file", "path": path, "name_parts": name_parts}
    return _origin_spec({**keys, "header": dialect.header}), dialect.evidence + _said_of_parts(keys, files)


def with_part(path: str | Path) -> tuple[str | Path, dict[str, str]]:
    """A path with what is named after `#`: the sheet of a workbook, the table of a database, the source of a catalogue."""
    file, mark, part = str(path).rpartition("#")
    if not mark or Path(path).exists() or not Path(file).exists():
        return path, {}
    kind = _KINDS.get(Path(file).suffix.lower(), "file")
    key = "published" if Path(file).is_dir() else {"sheet": "sheet", "database": "table"}.get(kind)
    return (path, {}) if key is None else (file, {key: part})


def is_delimited(path: Path) -> bool:
    """Whether a file is delimited text by its ending, and not of a kind of its own."""
    return path.suffix.lower() not in _KINDS


def _database(given: dict[str, Any], folder: Path, why: str) -> tuple[OriginSpec, tuple[tuple[str, str], ...]]:
    """A table or a query of a database; the only table where none is named."""
    spec, said = _origin_spec({"kind": "database", **given}), [("kind database", why)]
    if not spec.table and not spec.query:
        from oak_ledger.origin.database import tables

        there = tables(spec, folder)
        if len(there) != 1:
            message = (
                f"The database has {len(there)} tables: {', '.join(there)}." if there else "The database has no table."
            )
            hint = "Say which one: --table NAME, or give a query." if there else "Check whether it is the right file."
            raise OakError("which-table", message, hint=hint)
        spec = spec.model_copy(update={"table": there[0]})
        said.append((f"table {there[0]}", "the only one"))
    return spec, tuple(said)


def _said_of_parts(keys: dict[str, Any], files: Sequence[Path]) -> tuple[tuple[str, str], ...]:
    """What each part of the first file's name is."""
    parts = name_parts_of(_origin_spec(keys), files[0])
    return tuple((f"part {name}", f"{value!r} in {files[0].name}") for name, value in parts.items())


def _origin_spec(keys: dict[str, Any]) -> OriginSpec:
    return made_of(OriginSpec, keys)


def made_of(model: type[Made], keys: dict[str, Any]) -> Made:
    """A part of a definition from its keys. Raises OakError for values that cannot be."""
    try:
        return model(**keys)
    except ValidationError as error:
        first = error.errors()[0]
        said = str(first.get("ctx", {}).get("error", first["msg"]))
        raise OakError("wrong-value", f"{'.'.join(map(str, first['loc']))}: {said}.") from None


def _sheet(path: Path, given: dict[str, Any]) -> tuple[dict[str, Any], tuple[tuple[str, str], ...]]:
    """Which sheet is taken, where its names are, and which lines at its end are not rows."""
    there = sheets(path)
    there = [sheet for sheet in there if sheet.rows] or there[:1]
    sheet = given.get("sheet")
    if sheet is None and len(there) > 1:
        shown = "; ".join(f"{sheet.name!r}, {sheet.rows:,} line{'s' * (sheet.rows != 1)}" for sheet in there)
        raise OakError(
            "which-sheet", f"{path.name} has {len(there)} sheets: {shown}.", hint="Say which one: --sheet NAME."
        )
    chosen = str(sheet or there[0].name)
    said = [(f"sheet {chosen}", "as asked" if sheet else "the only one with rows")]
    look = first_look(path, chosen, given)
    return {**given, "sheet": chosen, **look.keys}, (*said, *look.evidence)


def files_of(paths: Sequence[str | Path]) -> list[Path]:
    """The files that paths and patterns name, in the order given."""
    found: list[Path] = []
    for one in paths:
        path = Path(one)
        if "*" in str(one):
            found += sorted(
                Path(path.anchor).glob(str(path.relative_to(path.anchor)))
                if path.is_absolute()
                else Path().glob(str(path))
            )
        else:
            found.append(path)
    if not found:
        raise UnusableInput(
            "no-file", f"No file matches {', '.join(map(str, paths))}.", hint="Check the pattern; put it in quotes."
        )
    return found


def _common(paths: Sequence[str | Path], files: Sequence[Path]) -> str:
    """A pattern that names the files: the one given, or one made from what their names share."""
    if len(paths) == 1:
        return str(paths[0])
    folder = files[0].parent
    names = [file.name for file in files]
    start = os.path.commonprefix(names)
    end = os.path.commonprefix([name[::-1] for name in names])[::-1]
    end = end[max(0, len(start) + len(end) - min(map(len, names))) :]  # a_1.csv and a_11.csv share more than they have
    pattern = str(folder / f"{start}*{end}")
    if not {*files} <= {*files_of([pattern])}:
        message = f"No one pattern names {', '.join(map(str, files[:3]))}{' …' if len(files) > 3 else ''}."
        raise UnusableInput(
            "no-pattern", message, hint="Put the files into one folder, with names that one pattern fits."
        )
    return pattern


def stem_of(files: Sequence[Path], given: dict[str, Any]) -> str:
    """What an origin is called where nobody has said it."""
    chosen = given.get("sheet") or given.get("table")
    if chosen or not files:
        return str(chosen or "source")
    shared = os.path.commonprefix([file.stem for file in files])
    return re.sub(r"[^A-Za-z]+$", "", shared) or files[0].stem


def slug(text: str) -> str:
    """A name as part of a file's name."""
    return re.sub(r"\W+", "_", text.strip().lower()).strip("_") or "source"
