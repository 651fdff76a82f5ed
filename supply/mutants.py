"""Mutants of the core's formulas: does a test notice when one operator, comparison or number is another?

    python -m supply.mutants [NUMBER] [SEED] [PACKAGE...]

takes so many places at random (all of them: 0) in the packages below, changes each in a copy, and runs that package's
tests, then the wider ones; what no test notices is printed with its line, and is to be killed by a test or explained
in docs/reliability.md.
"""

import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

__all__ = ["Mutant", "mutants_of"]

ROOT = Path(__file__).resolve().parent.parent
_TESTS = {
    "teletraffic": (
        "tests.teletraffic.test_elementary",
        "tests.teletraffic.test_erlang",
        "tests.teletraffic.test_loss",
        "tests.teletraffic.test_occupancy",
    ),
    "capacity": tuple(f"tests.capacity.{one.stem}" for one in sorted((ROOT / "tests/capacity").glob("test_*.py"))),
    "charges": tuple(f"tests.charges.{one.stem}" for one in sorted((ROOT / "tests/charges").glob("test_*.py"))),
    "prefixes": tuple(f"tests.prefixes.{one.stem}" for one in sorted((ROOT / "tests/prefixes").glob("test_*.py"))),
    "routing": tuple(f"tests.routing.{one.stem}" for one in sorted((ROOT / "tests/routing").glob("test_*.py"))),
    "evaluation": (
        *(f"tests.evaluation.{one.stem}" for one in sorted((ROOT / "tests/evaluation").glob("test_*.py"))),
        "tests.what_if.test_stress",
    ),
    "optimise": tuple(f"tests.optimise.{one.stem}" for one in sorted((ROOT / "tests/optimise").glob("test_*.py"))),
}
"""Packages, and the tests that are theirs; the simulation's compiled kernel is left aside."""
_WIDER = (
    "tests.end_to_end.test_documents",
    "tests.situations.test_paths",
    "tests.situations.test_boundaries",
    "tests.situations.test_decisions",
    "tests.checks.test_rules",
    "tests.what_if.test_stress",
    "tests.designs.test_designs",
)
_SWAPS: dict[type, type] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.Lt: ast.LtE, ast.LtE: ast.Lt,
    ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.And: ast.Or, ast.Or: ast.And,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
}  # fmt: skip


@dataclass(frozen=True)
class Mutant:
    """One change: the file, the line, what it was and what it is; and the whole file with it."""

    file: Path
    line: int
    was: str
    now: str
    text: str


def mutants_of(file: Path) -> Iterator[Mutant]:
    """Every mutant of a file, one change each; annotations and texts are left alone."""
    source = file.read_text(encoding="utf-8")
    places = sum(1 for _ in _places(ast.parse(source)))
    for number in range(places):
        tree = ast.parse(source)
        node, swap = next(one for index, one in enumerate(_places(tree)) if index == number)
        was = ast.unparse(node)
        swap()
        yield Mutant(file, node.lineno, was, ast.unparse(node), ast.unparse(tree))


def _places(tree: ast.AST) -> Iterator[tuple[ast.expr, object]]:
    """The places where something can be changed, each with what changes it there."""
    for node in ast.walk(tree):
        if isinstance(node, ast.BinOp | ast.BoolOp) and type(node.op) in _SWAPS:
            yield node, lambda node=node: setattr(node, "op", _SWAPS[type(node.op)]())
        elif isinstance(node, ast.Compare) and type(node.ops[0]) in _SWAPS:
            yield node, lambda node=node: node.ops.__setitem__(0, _SWAPS[type(node.ops[0])]())
        elif isinstance(node, ast.Constant) and type(node.value) in (int, float):
            yield node, lambda node=node: setattr(node, "value", node.value + 1)


def _survives(mutant: Mutant, tests: tuple[str, ...], copies: list[Path]) -> bool:
    """Whether all these tests pass with the mutant in force, in a copy of the source that is free."""
    copy = copies.pop()
    target = copy / mutant.file.relative_to(ROOT / "src")
    whole = target.read_bytes()
    try:
        target.write_text(mutant.text, encoding="utf-8")
        environment = {**os.environ, "PYTHONPATH": str(copy), "PYTHONDONTWRITEBYTECODE": "1"}
        command = [sys.executable, "-m", "unittest", "-f", *tests]
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, timeout=300, check=False)
        return done.returncode == 0
    except subprocess.TimeoutExpired:
        return False
    finally:
        target.write_bytes(whole)
        copies.append(copy)


def main() -> None:
    """Print each survivor, then how many of how many were killed, by package."""
    number, seed = (int(given) for given in [*sys.argv[1:3], *("100", "1")[len(sys.argv[1:3]) :]])
    dice = random.Random(seed)
    tried: dict[str, int] = {}
    lived: dict[str, int] = {}
    workers = os.cpu_count() or 1
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(workers) as executor:
        copies = [Path(folder) / str(one) for one in range(workers)]
        for one in copies:
            shutil.copytree(ROOT / "src", one, ignore=shutil.ignore_patterns("__pycache__"))

        def judged(package: str, mutant: Mutant) -> None:
            tried[package] = tried.get(package, 0) + 1
            if _survives(mutant, _TESTS[package], copies) and _survives(mutant, _WIDER, copies):
                lived[package] = lived.get(package, 0) + 1
                place = f"{mutant.file.relative_to(ROOT)}:{mutant.line}"
                print(f"lives: {place}: {mutant.was}  ->  {mutant.now}", flush=True)

        for package in sys.argv[3:] or _TESTS:
            files = sorted((ROOT / "src" / "fenrask" / package).rglob("*.py"))
            every = [one for file in files if "simulation" not in file.parts for one in mutants_of(file)]
            some = every if not number else dice.sample(every, min(len(every), number))
            list(executor.map(lambda one, package=package: judged(package, one), some))
            killed = tried[package] - lived.get(package, 0)
            print(f"{package}: {killed} of {tried[package]} killed ({len(every)} places)", flush=True)


if __name__ == "__main__":
    main()
