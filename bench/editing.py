"""How long a key takes in an editor, over a definition of 2,000 fields that 500 reports read: `python bench/editing.py`.

CPU seconds of what the server does for one typed character (findings of the file, proposals, meaning), the best and the median of ten.
"""

from __future__ import annotations

import statistics
import tempfile
import time
from pathlib import Path

from oak_ledger.editor.files import Desk
from oak_ledger.editor.findings import at_once
from oak_ledger.editor.meanings import meaning, types, users
from oak_ledger.editor.offers import offers

FIELDS, REPORTS = 2_000, 500


def files(folder: Path) -> str:
    """Write the rows, the reports and the definition; gives the definition's text."""
    (folder / "rows.csv").write_text("a,b\n1,2\n3,4\n")
    text = '[source]\nname = "Wide"\n\n[origin]\nkind = "files"\npath = "rows.csv"\n\n'
    text += '[[field]]\nname = "F0"\ncolumn = "a"\ntype = "integer"\n\n'
    for at in range(1, FIELDS):
        text += f'[[field]]\nname = "F{at}"\nformula = "F{at // 2} + {at}"\n\n'
    (folder / "wide.oak.toml").write_text(text)
    for at in range(REPORTS):
        panels = "".join(f'\n[[panel]]\nkind = "table"\ntitle = "P{one}"\nby = ["F{one}"]\nshow = ["SUM(F{at + one})"]\n' for one in range(4))  # fmt: skip
        (folder / f"r{at}.report.toml").write_text(f'[report]\nname = "R{at}"\nsource = "Wide"\n{panels}')
    return text


def main() -> None:
    """Measure and print."""
    with tempfile.TemporaryDirectory() as holder:
        folder = Path(holder)
        text = files(folder)
        desk = Desk()
        begin = time.process_time()
        file = desk.put(folder / "wide.oak.toml", text)
        at_once(desk, file)
        list(users(desk, file))
        print(f"opened: {time.process_time() - begin:.2f} s")
        taken: dict[str, list[float]] = {}
        for number in range(10):
            changed = text.replace('"F999 + 1999"', f'"F999 + {number} + F"')
            at = changed.index(f'{number} + F"') + len(f"{number} + F")
            steps = (
                ("findings", lambda changed=changed: at_once(desk, desk.put(file.path, changed))),
                ("proposals", lambda at=at: offers(desk, file, at, {})),
                ("meaning", lambda at=at: meaning(desk, file, at - 6, {})),
                ("types", lambda: list(types(desk, file))),
                ("uses", lambda: list(users(desk, file))),
            )
            for name, step in steps:
                begin = time.process_time()
                step()
                taken.setdefault(name, []).append(time.process_time() - begin)
        for name, seconds in taken.items():
            print(f"{name}: {min(seconds) * 1000:.0f} ms, median {statistics.median(seconds) * 1000:.0f} ms")


if __name__ == "__main__":
    main()
