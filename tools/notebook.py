"""Run the example notebook and keep what it shows: `python tools/notebook.py`."""

from __future__ import annotations

from pathlib import Path

import nbclient
import nbformat

EXAMPLE = Path(__file__).parent.parent / "examples" / "timber_loads.ipynb"


def main() -> None:
    """Run it from top to bottom."""
    notebook = nbformat.read(EXAMPLE, 4)  # type: ignore[no-untyped-call]
    nbclient.NotebookClient(notebook, timeout=120, kernel_name="python3", record_timing=False).execute()
    nbformat.write(notebook, EXAMPLE)  # type: ignore[no-untyped-call]
    print(f"{EXAMPLE.name}: {EXAMPLE.stat().st_size:,} bytes")


if __name__ == "__main__":
    main()
