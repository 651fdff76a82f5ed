"""Estates and catalogues changed by their own schema: read and evaluated, or refused with what is wrong."""

import json
import os
import random
from typing import Any

from fenrask.errors import FenraskError, OwnFault
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from tests.evaluation.estates import random_estate
from tests.fuzzing.structure import Changes
from tests.support import CATALOGUE, ESTATE, InFolder

TRIALS = int(os.environ.get("FUZZ", "12")) * 210
"""Changed documents of each kind, for 12 damaged files of each kind in `test_fuzz`."""


class Changed(InFolder):
    def is_read(self, estate: Any, catalogue: Any) -> bool:
        """Whether the two are read and evaluated; what ends otherwise than in words is let through."""
        for name, content in (("catalogue.yaml", catalogue), ("estate.yaml", estate)):
            # As JSON, which YAML is a superset of but for these two: it is written and read in half the time.
            self.write(name, json.dumps(content).replace("NaN", ".nan").replace("Infinity", ".inf"))
        try:
            evaluate(read_estate(self.folder / "estate.yaml"))
        except OwnFault:
            raise
        except FenraskError as refused:
            self.assertTrue(str(refused))
            return False
        return True

    def changed(self, which: str, number: int) -> tuple[Any, Any]:
        """An estate and a catalogue, of which that one is changed."""
        dice = random.Random(number)
        estate, catalogue = (ESTATE, CATALOGUE) if number % 25 else random_estate(dice)
        if which == "estate":
            return Changes(self.schemas["estate"], dice).of(estate), catalogue
        return estate, Changes(self.schemas["catalogue"], dice).of(catalogue)

    def test_a_changed_document_is_evaluated_or_refused_in_words(self) -> None:
        printed = {name: self.program("schema", name).stdout for name in ("estate", "catalogue")}
        self.schemas = {name: json.loads(text) for name, text in printed.items()}
        for which in self.schemas:
            read = 0
            for number in range(TRIALS):
                estate, catalogue = self.changed(which, number)
                try:
                    read += self.is_read(estate, catalogue)
                except Exception as fault:
                    raise AssertionError(f"{which} {number}: {estate}\n{catalogue}") from fault
            # Both ends are met: what is always refused tries nothing that comes after the reading.
            with self.subTest(which):
                self.assertGreater(read, TRIALS // 10)
                self.assertLess(read, TRIALS)
