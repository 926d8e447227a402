"""Where tables end: every file and sheet of many is looked at by itself, now and at every later delivery; rows are never lost, totals never counted."""

from __future__ import annotations

import random
import unittest

import xlsxwriter

import oak_ledger as oak
from tests.support import FolderCase

ENDS = (
    lambda total: f"Total;;{total}", lambda total: f"Summe: {total};;", lambda total: "-----\nTotal rows: 5", lambda total: f"\nTotal;{total}", lambda total: f"Grand total;;{total}\nEnd of report",
    lambda total: f"sub-total;;{total}\nTotal;;{total}",
)  # fmt: skip
WHICH = ("first", "last", "some", "none", "all")


class Ends(FolderCase):
    def rows(self, rng: random.Random, file: int) -> list[tuple[int, str, str]]:
        return [
            (
                file * 10_000 + at,
                rng.choice(("Low Weir", "High Ford", "Total yard")),
                f"{rng.uniform(1, 99):.2f}".replace(".", ","),
            )
            for at in range(rng.choice((3, 40, 400)))
        ]

    def has(self, which: str, file: int, files: int, rng: random.Random) -> bool:
        return {"first": file == 0, "last": file == files - 1, "some": rng.random() < 0.5, "none": False, "all": True}[
            which
        ]

    def test_text_files(self) -> None:
        for seed in range(30):
            rng = random.Random(seed)
            files, which, wanted, ended = rng.choice((1, 2, 4)), rng.choice(WHICH), 0, 0
            for path in self.folder.iterdir():
                path.unlink()
            for file in range(files):
                rows = self.rows(rng, file)
                wanted += len(rows)
                text = "Id;Mill;Volume\n" + "".join(f"{';'.join(map(str, row))}\n" for row in rows)
                if self.has(which, file, files, rng):
                    ended += 1
                    text += f"{rng.choice(ENDS)('123,45')}\n"
                self.write(f"m_{file}.csv", text)
            with self.subTest(seed=seed, which=which, files=files):
                source = oak.intake(["m_*.csv" if files > 1 else "m_0.csv"], name="M", definition="m.oak.toml").source
                source.save()
                self.assertEqual(source.tally().value(), wanted)
                if files > 1 and 0 < ended < files:
                    said = [one.message for one in source.check() if one.code == "file-otherwise"]
                    self.assertTrue(any("at the end" in one for one in said), said)
                last = self.folder / f"m_{files - 1}.csv"
                whole = last.read_text()
                kept = [line for line in whole.splitlines() if line[:1].isdigit() or line.startswith("Id;")]
                for end in ("", "Total;;9,99\n"):  # the next delivery has another end
                    last.write_text("\n".join(kept) + "\n" + end)
                    self.assertEqual(oak.open_source("m.oak.toml").tally().value(), wanted, end)

    def test_sheets(self) -> None:
        for which in WHICH:
            wanted = 0
            for path in self.folder.iterdir():
                path.unlink()
            rng = random.Random(which)
            for file in range(3):
                with xlsxwriter.Workbook(f"m_{file}.xlsx") as book:
                    sheet = book.add_worksheet("Loads")
                    sheet.write_row(0, 0, ("Id", "Mill", "Volume"))
                    for at in range(5 + file):
                        sheet.write_row(at + 1, 0, (at, "Low Weir", 1.5))
                    wanted += 5 + file
                    if self.has(which, file, 3, rng):
                        sheet.write_row(6 + file, 0, ("Total", "", 7.5))
            with self.subTest(which):
                source = oak.intake(["m_*.xlsx"], name="M", definition="m.oak.toml").source
                self.assertEqual(
                    source.tally(show=["COUNT(*)", ("v", "SUM(Volume)")]).to_dicts(),
                    [{"COUNT(*)": wanted, "v": 1.5 * wanted}],
                )

    def test_what_a_curator_says_of_the_end_holds_for_lines_that_are_no_rows(self) -> None:
        self.write("a.csv", "Id;Mill;Volume\n1;Low Weir;2,5\n2;High Ford;3,5\nchecked by two;;\nkept;;\n")
        source = oak.intake(["a.csv"], name="A", definition="a.oak.toml", footer=2).source
        self.assertEqual(source.tally().value(), 2)
        source.save()
        self.write("a.csv", "Id;Mill;Volume\n1;Low Weir;2,5\n2;High Ford;3,5\n3;High Ford;4,5\n")
        self.assertEqual(oak.open_source("a.oak.toml").tally().value(), 3)


if __name__ == "__main__":
    unittest.main()
