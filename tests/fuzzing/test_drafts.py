"""Drafts from several files of one network, some of them changed: `check` reads them, or words say why not."""

import csv
import io
import json
import os
import random

from fenrask.demo import VELLMOUTH, inventory_of
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.views.handover import Handover
from tests.fuzzing.damage import changed, damaged
from tests.support import InFolder

TRIALS = int(os.environ.get("FUZZ", "12")) * 3
"""Drafts, for 12 damaged files of each kind in `test_fuzz`."""
PLACES = ("networks.csv", "subnets.csv", "gateways.csv", "routes.csv", "hosts.csv")
"""What is told of the network in every other draft."""
HANDED = (
    "routes.yang.json",
    "nat.yang.json",
    "filters.yang.json",
    "topology.yang.json",
    "filters.csv",
    "sheet/exits.csv",
)


class Drafts(InFolder):
    def files(self) -> dict[str, bytes]:
        """By name: the sample's inventory, what is handed over of it, its names and its bill."""
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)
        evaluation = evaluate(read_estate(self.folder / "estate.yaml"))
        handed = {f"its-{one.name.replace('/', '-')}": one.content for one in Handover(evaluation).files
                  if one.name in HANDED}  # fmt: skip
        own = {name: VELLMOUTH.contents()[name] for name in ("names.zone", "bill.csv")}
        return {**inventory_of(evaluation), **handed, **own}

    def test_what_is_drafted_is_read_again(self) -> None:
        files, read = self.files(), 0
        for number in range(TRIALS):
            dice = random.Random(number)
            some = dice.sample([*files], dice.choice((1, 2, 3, 5)))
            some = [*dict.fromkeys((*PLACES, *some))] if number % 2 else some
            folder = self.folder / f"draft-{number}"
            folder.mkdir()
            for name in some:
                content = files[name]
                if name.endswith(".csv") and name != "bill.csv" and dice.random() < 0.3:
                    content = json.dumps([*csv.DictReader(io.StringIO(content.decode()))]).encode()
                if name == some[-1] or dice.random() < 0.2:
                    content = dice.choice((changed, changed, damaged))(content, dice)
                (folder / name).write_bytes(content)
            given = [f"--from={folder / name}" for name in some]
            drafted = self.program("start", f"mine-{number}", *given)
            self.assertIn(drafted.returncode, (0, 2), (number, drafted.stderr))
            if not drafted.returncode:
                read += 1
                found = self.program("check", f"mine-{number}/estate.yaml")
                self.assertIn(found.returncode, (0, 1), (number, found.stderr))
        # Both ends are met.
        self.assertGreater(read, TRIALS // 10)
        self.assertLess(read, TRIALS)
