"""The sample, damaged at random: it is read, or what is wrong is told; nothing else ever happens."""

import copy
import random
from collections.abc import Iterator
from typing import Any

import yaml

from fenrask.checks import check
from fenrask.demo import VELLMOUTH
from fenrask.errors import UnusableInput
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.views.pages.check import findings_page
from fenrask.views.pages.path import flows_page
from tests.support import InFolder, many

JUNK: tuple[Any, ...] = (
    None,
    "",
    [],
    {},
    0,
    -1,
    3.5,
    "x",
    True,
    ["a"],
    {"a": 1},
    1e308,
    "0.0.0.0/0",
    "10.40.0.0/16",
    "gate-a",
    "auto",
    [1, 2],
    "2001:db8::/32",
    float("nan"),
    "::/0",
    10**30,
)
Path = tuple[Any, ...]


def paths(data: Any, path: Path = ()) -> Iterator[Path]:
    entries = data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ()
    for key, value in entries:
        yield (*path, key)
        yield from paths(value, (*path, key))


def value_at(data: Any, path: Path) -> Any:
    for step in path:
        data = data[step]
    return data


def damaged(data: Any, dice: random.Random) -> Any:
    """The data with one to three of its values taken away, replaced, or put where another stood."""
    data = copy.deepcopy(data)
    for _ in range(dice.choice([1, 1, 2, 3])):
        known = list(paths(data))
        if not known:
            return data
        path = dice.choice(known)
        parent, last = value_at(data, path[:-1]), path[-1]
        match dice.randrange(4):
            case 0:
                del parent[last]
            case 1 if isinstance(parent, dict):
                parent[dice.choice(["zzz", 5, "kind", "network", "subnet"])] = dice.choice(JUNK)
            case 2:
                parent[last] = copy.deepcopy(value_at(data, dice.choice(known)))
            case _:
                parent[last] = dice.choice(JUNK)
    return data


class Damaged(InFolder):
    def read(self, estate: Any, catalogue: Any) -> None:
        """Read, check, judge and show, as the commands do."""
        self.write("ostrel.yaml", catalogue)
        described = read_estate(self.write("estate.yaml", estate))
        findings_page("damaged", check(evaluate(described)), described.data)
        evaluation = evaluate(described)
        flows_page(evaluation.paths, evaluation.broken)

    def test_it_is_read_or_told(self) -> None:
        contents = VELLMOUTH.contents()
        estate, catalogue = yaml.safe_load(contents["estate.yaml"]), yaml.safe_load(contents["ostrel.yaml"])
        told = 0
        for seed in range(many(16)):
            dice = random.Random(seed)
            with self.subTest(seed=seed):
                try:
                    if seed % 4:
                        self.read(damaged(estate, dice), catalogue)
                    else:
                        self.read(estate, damaged(catalogue, dice))
                except UnusableInput as error:
                    told += 1
                    self.assertTrue(all(one.place.file and (one.found or one.expected) for one in error.problems))
        self.assertGreater(told, many(16) // 2)

    def test_bare_numbers_may_serve_as_names(self) -> None:
        described = self.estate({"workloads": {"7": {"subnets": ["app"], "hosts": 1}}, "flows": {"talk": {"from": 7}}})
        self.assertEqual(described.estate.flows["talk"].from_, "7")
        with self.assertRaises(UnusableInput):
            self.estate({"flows": {"talk": {"from": 7}}})
