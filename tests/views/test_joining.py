"""Rows that say the same of several things are one row on a screen, and each of them for machines."""

import json
import random
import unittest

from fenrask.views.formats import FORMATS, Rendering
from fenrask.views.joining import joined_rows
from fenrask.views.page import Column, Page, Table
from tests.support import InFolder


class Joining(unittest.TestCase):
    def test_every_row_stands_in_one_of_the_joined_ones(self) -> None:
        columns = (Column("who", "who"), Column("list", "list", "list"), Column("share", "share", "share"))
        draw = random.Random(7)
        for number in range(20):
            # Shares that people cannot tell apart are the same to them.
            rows = [(f"n{n}", ["x"] * draw.randint(1, 2), draw.choice([0.5, 0.5000001, 1])) for n in range(number)]
            joined = joined_rows(Table("t", "T", columns, rows, joined=("who",))).rows
            groups = {(len(row[1]), round(row[2], 3)) for row in rows}
            self.assertEqual(len(joined), len(groups))
            for row in joined:
                alike = [one[0] for one in rows if (len(one[1]), round(one[2], 3)) == (len(row[1]), round(row[2], 3))]
                few = len(alike) <= 4
                self.assertEqual(
                    row[0], ", ".join(alike if few else [*alike[:3], f"{len(alike) - 3} more"]), f"of {len(alike)}"
                )

    def test_what_only_machines_see_keeps_no_row_apart(self) -> None:
        columns = (Column("who", "who"), Column("raw", "raw", least_width=10_000), Column("what", "what"))
        table = Table("t", "T", columns, [("a", 1, "x"), ("b", 2, "x"), ("c", 3, "y")], joined=("who",))
        page = Page("t", "t", (), (table,))
        text = FORMATS["table"](page, Rendering(80))
        self.assertIn("a, b", text)
        self.assertNotIn("a, b", FORMATS["table"](page, Rendering(80, all_rows=True)))
        self.assertEqual([one["raw"] for one in json.loads(FORMATS["json"](page, Rendering()))["t"]], [1, 2, 3])


class Findings(InFolder):
    def test_sixty_flows_with_one_cure_are_one_paragraph(self) -> None:
        names = [f"feed-{number}" for number in range(60)]
        self.estate(
            {
                "flows": {name: {"from": "work", "to": "store", "per_host_per_s": 0.01} for name in names},
                "destinations": {"store": {"needs": {"off_internet": True}}},
            }
        )
        text = self.program("check", columns=80).stdout
        told = self.json("check", status=None)["findings"]
        self.assertLessEqual(len(text.splitlines()), 45)
        needs = [one for one in told if one["rule"] == "need-not-met"]
        self.assertEqual({one["path"] for one in needs}, {f"flows.{name}" for name in names})
        self.assertEqual(len({json.dumps(one["patch"]) for one in needs}), 1)
        self.assertEqual(sum("  need-not-met  " in line for line in text.splitlines()), 1)
        self.assertGreater(self.program("check", "--all", columns=80).stdout.count("flows.feed-"), 60)


if __name__ == "__main__":
    unittest.main()
