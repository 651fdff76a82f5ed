"""Run every test module in a process of its own, one more at once than there are processors; then add up.

Some wait for others, for a time-out or for a disk: so no processor is idle then.

What is said at the end is what unittest says at the end of one run. Names of modules may be given instead. They are
forks of this one, which has imported the program already: that takes each of them a second or two.
"""

import faulthandler
import gc
import multiprocessing
import os
import pkgutil
import re
import sys
import tempfile
import unittest
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from importlib import import_module
from multiprocessing.connection import wait
from multiprocessing.process import BaseProcess
from pathlib import Path
from time import monotonic

import fenrask

HERE = Path(__file__).resolve().parent
FIRST = ("tests.teletraffic.test_simulation", "tests.records.test_captures", "tests.records.test_exported")
"""Modules that compile loops which others use: these find them compiled then, and do not do the same at one time."""
LONG = (
    "tests.evaluation.",
    "tests.designs.",
    "tests.teletraffic.test_simulation",
    "tests.what_if.test_simulated",
    "tests.what_if.test_second_methods",
    "tests.routing.test_every_packet",
    "tests.rehearsal.",
    "tests.optimise.",
    "tests.end_to_end.",
)
"""What takes longest is begun first."""
LONGEST_S = 900
"""A module that takes longer hangs: it says where, and ends; the longest takes two minutes, on a busy machine five."""
_RAN = re.compile(r"^Ran (\d+) tests?", re.MULTILINE)
_BAD = re.compile(r"(failures|errors|unexpected successes|skipped)=(\d+)")


@dataclass(frozen=True)
class Ran:
    """One module: how many tests, how many of each kind did not pass, and whether the process ended well."""

    module: str
    tests: int
    counts: dict[str, int]
    well: bool


@dataclass(frozen=True)
class Running:
    """One module under way, and where what it says is kept."""

    module: str
    process: BaseProcess
    said: Path
    began: float


def _tests(module: str, said: Path) -> None:
    """In a process of its own: one module's tests, a warning being an error."""
    with said.open("wb") as file:
        os.dup2(file.fileno(), 1)
        os.dup2(file.fileno(), 2)
    faulthandler.dump_traceback_later(LONGEST_S, exit=True)
    sys.warnoptions.append("error")
    warnings.simplefilter("error")
    os.chdir(HERE.parent)
    unittest.main(module=None, argv=["python -m unittest", module])


def _begun(module: str, folder: str) -> Running:
    said = Path(folder) / module
    process = multiprocessing.get_context("fork").Process(target=_tests, args=(module, said))
    process.start()
    return Running(module, process, said, monotonic())


def _ended(one: Running) -> Ran:
    one.process.join()
    said = one.said.read_text("utf-8", errors="replace")
    found = _RAN.search(said)
    number = int(found[1]) if found else 0
    counts = {kind: int(count) for kind, count in _BAD.findall(said.rsplit("\n", 2)[-2] if found else "")}
    well = one.process.exitcode == 0 and number > 0
    print(f"{one.module}: {number} tests in {monotonic() - one.began:.1f} s", flush=True)
    if not well or counts.get("skipped"):
        print(said, flush=True)
    if not found:
        counts = {"errors": 1}
    return Ran(one.module, max(number, 0 if well else 1), counts, well)


def _run(modules: Sequence[str], at_once: int) -> list[Ran]:
    """All of them, in order, so many at once."""
    waiting, running, ran = [*modules], list[Running](), list[Ran]()
    with tempfile.TemporaryDirectory() as folder:
        while waiting or running:
            while waiting and len(running) < at_once:
                running.append(_begun(waiting.pop(0), folder))
            wait([one.process.sentinel for one in running])
            done = [one for one in running if not one.process.is_alive()]
            ran += map(_ended, done)
            running = [one for one in running if one not in done]
    return ran


def _imported() -> None:
    """Import the program, and what tests lean on, once for all."""
    for one in pkgutil.walk_packages(fenrask.__path__, "fenrask."):
        if not one.name.endswith("__main__"):
            import_module(one.name)
    for name in ("hypothesis", "hypothesis.strategies", "tests.support"):
        import_module(name)
    gc.collect()
    gc.freeze()


def main() -> int:
    """Exit status 1 where anything failed."""
    files = sorted(HERE.rglob("test_*.py"))
    modules = sys.argv[1:] or [".".join(("tests", *one.relative_to(HERE).with_suffix("").parts)) for one in files]
    modules = sorted(modules, key=lambda one: (one not in FIRST, not one.startswith(LONG)))
    began = monotonic()
    _imported()
    ran = _run(modules, (os.cpu_count() or 1) + 1)
    totals: dict[str, int] = {}
    for one in ran:
        for kind, count in one.counts.items():
            totals[kind] = totals.get(kind, 0) + count
    words = ", ".join(f"{kind}={count}" for kind, count in totals.items())
    print(f"\nRan {sum(one.tests for one in ran)} tests in {monotonic() - began:.3f}s\n")
    well = all(one.well for one in ran)
    print(("OK" if well else "FAILED") + (f" ({words})" if words else ""))
    return int(not well)


if __name__ == "__main__":
    sys.exit(main())
