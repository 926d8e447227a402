"""Writing a report to a file, by the file's ending."""

from __future__ import annotations

from pathlib import Path

from oak_ledger.errors import OakError
from oak_ledger.files import write_atomically
from oak_ledger.report import ReportView

ENDINGS = (".html", ".png")


def save_report(view: ReportView, path: str | Path) -> Path:
    """Write a computed report as a page (`.html`) or a picture (`.png`), whole or not at all.

    Raises OakError for another ending, UnusableInput where the file cannot be written.
    """
    target = Path(path)
    ending = target.suffix.lower()
    if ending == ".html":
        from oak_ledger.present.page import report_html

        content = report_html(view).encode("utf-8")
    elif ending == ".png":
        from oak_ledger.present.figures import report_png

        content = report_png(view)
    else:
        raise OakError(
            "unknown-ending",
            f"A report cannot be written as {target.name}.",
            hint="Name a file ending in .html or .png.",
        )
    write_atomically(target, lambda temporary: temporary.write_bytes(content))
    return target
