"""Flows that were checked by their columns, against each row read by itself: the second method is pydantic's."""

import json
import random
import unittest
from fractions import Fraction
from typing import Any

import numpy as np
from pydantic import ValidationError

from fenrask.errors import Problem
from fenrask.estate import Estate, Flow
from fenrask.estate.csv_tables import read_table
from fenrask.estate.flow_table import FlowTable
from fenrask.estate.rows import Rows
from fenrask.estate.traffic import Traffic
from fenrask.estate.volumes import as_written
from tests.support import CATALOGUE, ESTATE, InFolder, merged

CELLS: dict[str, tuple[str, ...]] = {
    "per_host_per_s": ("0.25", "1", "3.5e-2", "7"),
    "duration_s": ("", "0", "12", "0.125", "61.5"),
    "profile": ("", "day"),
    "out_kib_per_connection": ("", "3", "0.7"),
    "in_gib_per_month": ("", "12", "0.1"),
    "burstiness": ("", "1", "2.5"),
    "packet_bytes": ("", "1", "800"),
    "max_per_host": ("", "", "20"),
    "reset_share": ("", "0.5", "0.1"),
    "rejected_share": ("", "0.25"),
    "retry_share": ("", "0", "0.9"),
    "retries": ("", "", "6"),
    "every_s": ("", "300"),
    "spread_s": ("", "", "5"),
    "batch": ("", "2.5"),
    "rate_cv": ("", "0.3"),
    "day_cv": ("", "0.2"),
}
WRONG = {
    "per_host_per_s": ("-1", "many", "1e999", ".nan", "010", "00.5", "+007", "1.5.", "true", '"1,5"'),
    "duration_s": ("-0.1", "long", "0x10"),
    "burstiness": ("0", "-1"),
    "packet_bytes": ("0", "1.0", "1e3"),
    "max_per_host": ("0", "2.0"),
    "reset_share": ("1.5", "0.9"),
    "retry_share": ("1", "1.0"),
    "retries": ("-1", "2.0"),
    "every_s": ("0", "90000"),
    "batch": ("0.5",),
    "rate_cv": ("-0.1",),
    "out_kib_per_connection": ("-3",),
}
COLUMNS = ("workload", "destination", "profile", "hosts", "rate_per_s", "persistent", "is_standing", "duration_s",
           "burstiness", "retry_share", "max_open", "bytes_per_s", "retries", "every_s",
           "spread_s", "batch", "rate_cv", "day_cv")  # fmt: skip


def table(dice: random.Random, wrong: bool) -> str:
    keys = ["per_host_per_s", *dice.sample([key for key in CELLS if key != "per_host_per_s"], dice.randint(1, 7))]
    rows = [
        [
            f"f{number}",
            dice.choice(("web", "batch")),
            dice.choice(("here", "there")),
            *(dice.choice(CELLS[key]) for key in keys),
        ]
        for number in range(dice.randint(1, 40))
    ]
    if wrong:
        key = dice.choice([one for one in keys if one in WRONG])
        dice.choice(rows)[3 + keys.index(key)] = dice.choice(WRONG[key])
    return "\n".join(",".join(row) for row in (["name", "from", "to", *keys], *rows))


def rows_of(text: str) -> Rows:
    problems: list[Problem] = []
    rows, _ = read_table(text, "flows.csv", "flows", problems)
    assert isinstance(rows, Rows) and not problems
    return rows


def each(rows: Rows) -> dict[str, Flow] | None:
    """Every row read by itself; None where any is at fault."""
    try:
        return {name: Flow.model_validate(values) for name, values in rows.items()}
    except ValidationError:
        return None


def traffic(flows: Any) -> Traffic:
    """The columns of flows in an estate of two workloads."""
    stated = {
        "estate": "Columns",
        "catalogue": "catalogue.yaml",
        "networks": {"net": {"prefixes": ["10.0.0.0/16"]}},
        "subnets": {"app": {"network": "net", "prefix": "10.0.1.0/24"}},
        "destinations": {name: {"prefixes": [f"192.0.2.{n}/32"]} for n, name in enumerate(("here", "there"))},
        "workloads": {name: {"subnets": ["app"], "hosts": n} for n, name in enumerate(("web", "batch"), 3)},
        "profiles": {"day": [1.0] * 12 + [0.5] * 12},
        "flows": flows,
    }
    return Traffic.of(Estate.model_validate(stated), Fraction(730))


class FlowTables(unittest.TestCase):
    def test_what_columns_let_pass_every_row_lets_pass_and_with_the_same_values(self) -> None:
        passed = refused = 0
        for seed in range(300):
            dice = random.Random(seed)
            rows = rows_of(table(dice, wrong=seed % 3 == 0))
            found, expected = FlowTable.of(rows), each(rows)
            with self.subTest(seed=seed):
                if found is None:
                    refused += 1
                    self.assertTrue(seed % 3 == 0 or expected is None)
                    continue
                passed += 1
                self.assertEqual(dict(found), expected)
                table_of, flows_of = traffic(rows), traffic(dict(rows))
                self.assertIsInstance(table_of.estate.flows, FlowTable)
                for column in COLUMNS:
                    np.testing.assert_array_equal(getattr(table_of, column), getattr(flows_of, column), column)
                self.assertEqual(table_of.volumes.both.tolist(), flows_of.volumes.both.tolist())
                for one, other in ((table_of, flows_of), (flows_of, table_of)):
                    examples, numbers = one.endings
                    own = [examples[number].ending_key for number in numbers.tolist()]
                    self.assertEqual(own, [flow.ending_key for flow in other.estate.flows.values()])
        self.assertGreater(passed, 150)
        self.assertGreater(refused, 60)

    def test_tables_whose_cells_are_no_plain_values_are_read_row_by_row(self) -> None:
        problems: list[Problem] = []
        for text in (
            "name,from,to,per_host_per_s,duration_s.mean\nf,web,here,1,2",
            "name,from,to,per_host_per_s\nf,web,here,1\nf,web,there,2",
            "name,from,to,per_host_per_s\nf,web,here,1,2",
        ):
            self.assertNotIsInstance(read_table(text, "flows.csv", "flows", problems)[0], Rows)

    def test_numbers_are_taken_as_they_were_written(self) -> None:
        values = [0.1, 0.3, 2.675, 1e-7, 123456.789, 0.1 + 0.2, 5e-324, 1e300, 0.0, 3.0, 1 / 3, 9007199254740993.0]
        dice = random.Random(1)
        values += [dice.random() * 10 ** dice.randint(-9, 9) for _ in range(300)]
        values += [round(dice.random() * 1000, dice.randint(0, 9)) for _ in range(300)]
        whole, below = as_written(np.array(values))
        for value, number in zip(values, whole.tolist(), strict=True):
            # `repr` gives the shortest decimal that is read as the same float.
            self.assertEqual(Fraction(number, below), Fraction(repr(value)))


class Commands(InFolder):
    """What commands say of a table of flows is what they say of the same flows in the estate."""

    def test_a_table_and_a_section_are_one(self) -> None:
        self.write("catalogue.yaml", CATALOGUE)
        flows = {
            f"f{number}": {"from": "work", "to": "partner", "per_host_per_s": 0.25 * number, "duration_s": 2 * number}
            for number in range(1, 12)
        }
        heading = ["name", "from", "to", "per_host_per_s", "duration_s"]
        lines = [heading, *([name, *map(str, one.values())] for name, one in flows.items())]
        self.write("flows.csv", "\n".join(map(",".join, lines)) + "\n")
        self.write("section.yaml", merged(ESTATE, {"flows": {"talk": None, **flows}}))
        self.write("table.yaml", merged(ESTATE, {"flows": None, "flows_csv": "flows.csv"}))
        patch = {"flows": {"f3": {"retry_share": 0.5}, "f4": None, "more": {**flows["f1"], "duration_s": 7}}}
        self.write("patch.json", json.dumps(patch))
        for words in (
            ("merged",),
            ("merged", "--patch", "patch.json"),
            ("check", "--set", "flows.f2.from=nobody"),
            ("demand", "--format", "json", "--patch", "patch.json"),
            ("charges", "--format", "json", "--set", "flows.f5.out_gib_per_month=3"),
            ("capacity", "--format", "json", "--set", "workloads.work.hosts=40"),
            ("stress", "--format", "json", "--months", "3", "--growth", "0.1"),
        ):
            with self.subTest(words=words):
                command, *others = words
                done = [self.program(command, file, *others) for file in ("section.yaml", "table.yaml")]
                self.assertEqual(*((one.returncode, one.stdout, one.stderr) for one in done))
                self.assertLess(done[0].returncode, 3)


if __name__ == "__main__":
    unittest.main()
