"""Damaged and changed files: the program reads them or says what is wrong; nothing else ever happens."""

import os
import random
from pathlib import Path

from hypothesis import HealthCheck, given, seed, settings
from hypothesis import strategies as some

from tests.fuzzing.damage import changed, damaged
from tests.fuzzing.targets import TARGETS, Target, prepare
from tests.support import InFolder

CORPUS = Path(__file__).parent / "corpus"
"""Inputs that once did harm, by target: `TARGET.N`, spaces as hyphens."""


TRIALS = int(os.environ.get("FUZZ", "12"))
"""Damaged or changed files for each target."""


class Fuzz(InFolder):
    def setUp(self) -> None:
        super().setUp()
        prepare(self.folder)

    def test_sound_contents_are_read(self) -> None:
        for name, make in TARGETS.items():
            target = make()
            for number, content in enumerate(target.seeds):
                with self.subTest(name, number=number):
                    status, said = target.status(self.folder, content)
                    self.assertIn(status, (0, 1), said)

    def test_what_once_did_harm(self) -> None:
        for file in sorted(CORPUS.glob("*.*")):
            with self.subTest(file.name):
                target = TARGETS[file.name.split(".")[0].replace("-", " ")]()
                status, said = target.status(self.folder, file.read_bytes())
                self.assertIn(status, (0, 1, 2), said)

    def test_damaged_contents(self) -> None:
        for name, make in TARGETS.items():
            with self.subTest(name):
                self.survives(make())

    def survives(self, target: Target) -> None:
        @seed(1)
        @settings(
            max_examples=TRIALS,
            database=None,
            deadline=None,
            suppress_health_check=list(HealthCheck),
        )
        @given(number=some.integers(0, len(target.seeds) - 1), dice=some.randoms(use_true_random=False))
        def one(number: int, dice: random.Random) -> None:
            content = dice.choice((damaged, changed))(target.seeds[number], dice)
            status, said = target.status(self.folder, content)
            self.assertIn(status, (0, 1, 2), (said, content))

        one()
