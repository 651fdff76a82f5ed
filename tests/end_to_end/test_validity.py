"""The figures of docs/validity.md, simulated again: what is written is what comes out, and the better formulas hold."""

import importlib.util
import unittest
from pathlib import Path
from typing import Any

from tests.end_to_end.test_documents import ROOT


def script() -> Any:
    """The script that writes the document, as a module."""
    spec = importlib.util.spec_from_file_location("validity", Path(ROOT) / "docs" / "validity.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


class Validity(unittest.TestCase):
    def test_the_document_is_what_comes_out(self) -> None:
        module = script()
        found = list(module.rows())
        written = (Path(ROOT) / "docs" / "validity.md").read_text(encoding="utf-8")
        self.assertEqual(written, module.HEAD + "".join(f"{row}\n" for row in found) + module.TAIL)
        for row in found:
            if row.better is not None:
                with self.subTest(row.case):
                    self.assertAlmostEqual(row.better / row.simulated, 1.0, delta=0.1)
        # Where nothing is assumed that is not so, the plain formula is the simulation's.
        for row in found[:2]:
            self.assertAlmostEqual(row.plain / row.simulated, 1.0, delta=0.15)


if __name__ == "__main__":
    unittest.main()
