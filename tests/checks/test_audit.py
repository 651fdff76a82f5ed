"""The second methods: they agree on what is right, and say so where a result is changed under them."""

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

from fenrask.checks import audit
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from tests.support import InFolder

DEMO = Path(__file__).resolve().parents[2] / "src" / "fenrask" / "demo"


class Audits(InFolder):
    def test_the_samples_agree(self) -> None:
        for name in ("vellmouth", "beginning"):
            found = list(audit(evaluate(read_estate(DEMO / name / "estate.yaml"))))
            self.assertFalse([one for one in found if not one.agrees])
            wanted = {"shares of paths", "new connections/s", "GB processed"}
            wanted |= {"blocking", "addresses needed"} if name == "vellmouth" else set()
            self.assertLessEqual(wanted, {one.what for one in found})

    def test_a_wrong_result_is_found(self) -> None:
        evaluation = evaluate(self.estate())
        bill = evaluation.bill
        line = replace(bill.lines[0], quantity=bill.lines[0].quantity + Fraction(1))
        evaluation.__dict__["bill"] = replace(bill, lines=(line, *bill.lines[1:]))
        by_exit = evaluation.bill.by_exit
        by_exit.parts[0] += by_exit.denominator
        self.assertIn("by exits", [one.about for one in audit(evaluation) if not one.agrees])
        evaluation = evaluate(self.estate())
        sized = evaluation.capacity
        evaluation.__dict__["capacity"] = replace(
            sized, exits=tuple(replace(one, needed=9, needed_now=9) for one in sized.exits)
        )
        self.assertIn("addresses needed", [one.what for one in audit(evaluation) if not one.agrees])

    def test_the_command(self) -> None:
        self.estate()
        found = self.json("check", "--audit")
        self.assertIn("all agree", found["summary"][0])
        self.assertTrue(all(one["agrees"] for one in found["results"]))
