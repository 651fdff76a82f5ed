"""The tables that are read: each example, as the documentation has it, by the program itself on the demo's estate."""

import shutil
import unittest
from pathlib import Path
from typing import ClassVar

from fenrask.records.tables import TABLES
from tests.support import InFolder

DEMO = Path(__file__).resolve().parents[2] / "src" / "fenrask" / "demo" / "vellmouth"


class Examples(InFolder):
    CALLS: ClassVar[dict[str, tuple[str, ...]]] = {
        "confirm": ("confirm", "read.csv"),
        "confirm --bill": ("confirm", "--bill", "read.csv"),
        "measure": ("measure", "read.csv"),
    }

    def setUp(self) -> None:
        super().setUp()
        for file in DEMO.glob("*.yaml"):
            shutil.copy(file, self.folder)

    def test_each_is_read_whole(self) -> None:
        documented = (DEMO.parents[3] / "docs" / "files.md").read_text(encoding="utf-8")
        for name, one in TABLES.items():
            with self.subTest(table=name):
                self.assertIn(f"```text\n{one.example}```", documented)
                self.assertTrue(one.knows(one.example.splitlines()[0]))
                rows = len(one.example.splitlines()) - 1
                (self.folder / "read.csv").write_text(one.example, encoding="utf-8")
                if one.command == "resolve --history":
                    found = self.json("check", "--set", "names_history=read.csv", status=None)
                    self.assertIn("findings", found)
                    continue
                found = self.json(*self.CALLS[one.command], status=None)
                self.assertFalse([line for line in found["not_counted"] if "read.csv" in line])
                if one.command != "measure":
                    seen = [*found.get("observed", ()), *found.get("compared", ())]
                    self.assertGreaterEqual(len(seen), rows if name != "metrics" else 1)

    def test_an_error_names_the_columns_of_each_table_that_is_read(self) -> None:
        (self.folder / "read.csv").write_text("a,b\n1,2\n", encoding="utf-8")
        for command, arguments in self.CALLS.items():
            told = self.program(*arguments).stderr
            for one in TABLES.values():
                if one.command == command:
                    with self.subTest(command=command, about=one.about):
                        self.assertIn(", ".join(one.columns), " ".join(told.split()))


if __name__ == "__main__":
    unittest.main()
