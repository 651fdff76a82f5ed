"""Run every test module in a process of its own, as many at once as there are processors; then add up.

What is said at the end is what unittest says at the end of one run. Names of modules may be given instead.
"""

import os
import re
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from time import monotonic

HERE = Path(__file__).resolve().parent
ALONE = ("tests.end_to_end.test_truth",)
"""Modules that keep time with the clock: nothing else runs beside them."""
LONG = (
    "tests.evaluation.",
    "tests.designs.",
    "tests.teletraffic.test_simulation",
    "tests.what_if.test_simulated",
    "tests.what_if.test_second_methods",
    "tests.routing.test_every_packet",
    "tests.optimise.",
    "tests.end_to_end.",
)
"""What takes longest is begun first."""
_RAN = re.compile(r"^Ran (\d+) tests?", re.MULTILINE)
_BAD = re.compile(r"(failures|errors|unexpected successes|skipped)=(\d+)")


@dataclass(frozen=True)
class Ran:
    """One module: how many tests, how many of each kind did not pass, and whether the process ended well."""

    module: str
    tests: int
    counts: dict[str, int]
    well: bool


def _run(module: str) -> Ran:
    began = monotonic()
    command = [sys.executable, "-W", "error", "-m", "unittest", module]
    done = subprocess.run(command, cwd=HERE.parent, capture_output=True, text=True, check=False)
    found = _RAN.search(done.stderr)
    number = int(found[1]) if found else 0
    counts = {kind: int(count) for kind, count in _BAD.findall(done.stderr.rsplit("\n", 2)[-2] if found else "")}
    well = done.returncode == 0 and number > 0
    print(f"{module}: {number} tests in {monotonic() - began:.1f} s", flush=True)
    if not well or counts.get("skipped"):
        print(done.stdout + done.stderr, flush=True)
    if not found:
        counts = {"errors": 1}
    return Ran(module, max(number, 0 if well else 1), counts, well)


def main() -> int:
    """Exit status 1 where anything failed."""
    files = sorted(HERE.rglob("test_*.py"))
    modules = sys.argv[1:] or [".".join(("tests", *one.relative_to(HERE).with_suffix("").parts)) for one in files]
    beside = sorted((one for one in modules if one not in ALONE), key=lambda one: not one.startswith(LONG))
    began = monotonic()
    with ThreadPoolExecutor(os.cpu_count() or 1) as executor:
        ran = [*executor.map(_run, beside)]
    ran += [_run(one) for one in modules if one in ALONE]
    totals: dict[str, int] = {}
    for one in ran:
        for kind, count in one.counts.items():
            totals[kind] = totals.get(kind, 0) + count
    words = ", ".join(f"{kind}={count}" for kind, count in totals.items())
    print(f"\nRan {sum(one.tests for one in ran)} tests in {monotonic() - began:.3f}s\n")
    well = all(one.well for one in ran)
    print(("OK" if well else "FAILED") + (f" ({words})" if words else ""))
    return int(not well)


sys.exit(main())
