"""Whole commands on estates that grow: seconds of processor time and memory, output included, and how both grow."""

import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from functools import partial
from math import log
from pathlib import Path

from bench.clock import best_s
from bench.estates import write_varied
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.views.formats import FORMATS, Rendering
from fenrask.views.pages.path import flows_page

_PROGRAM = Path(sys.executable).with_name("fenrask")
_FLOWS = tuple(int(text) for text in os.environ.get("FLOWS", "1000 10000 50000").split())
_COMMANDS = ("check", "path", "demand", "capacity", "addresses", "charges")
_STAGES = {"tracing": "paths", "loading": "demand", "sizing": "capacity", "billing": "bill"}
"""Each asked for in turn, so that none pays for one before it."""
_CASES = ("compare", "stress", "choose", "handover")
"""Commands that evaluate many estates: of the smallest estate alone."""


def measure() -> Iterator[str]:
    """A line for each command; the growth is the exponent of seconds over flows, 1 for a straight line."""
    yield "beside each: how many times as long as 10^7 loops just before; FLOWS='1000 10000' chooses the sizes"
    seconds: dict[str, list[tuple[int, float]]] = {}
    for flows in _FLOWS:
        with tempfile.TemporaryDirectory() as folder:
            path = write_varied(Path(folder), flows)
            for command in (*_COMMANDS, *(_CASES if flows == _FLOWS[0] else ())):
                yardstick = best_s(lambda: sum(1 for _ in range(10_000_000)), 1)
                took, mib = _once(command, path)
                seconds.setdefault(command, []).append((flows, took))
                yield f"{command:10} {flows:7,} flows {took:7.1f} s {took / yardstick:6.1f} loops {mib:6.0f} MiB"
            yield from _stages(path, flows)
    for command in _COMMANDS:
        told = zip(seconds[command], seconds[command][1:], strict=False)
        growth = [log(t2 / t1) / log(n2 / n1) for (n1, t1), (n2, t2) in told]
        yield f"{command:10} grows with the flows to the power of {', '.join(f'{one:.2f}' for one in growth)}"


def _stages(path: Path, flows: int) -> Iterator[str]:
    """The share of each stage of one evaluation in the time of all, reading included."""
    seconds = {"reading": best_s(lambda: read_estate(path), 1)}
    evaluation = evaluate(read_estate(path))
    for name, stage in _STAGES.items():
        seconds[name] = best_s(partial(getattr, evaluation, stage), 1)
    page = flows_page(evaluation.paths, evaluation.broken)
    seconds["showing"] = best_s(lambda: FORMATS["table"](page, Rendering()), 1)
    whole = sum(seconds.values())
    shares = ", ".join(f"{name} {spent / whole:.0%}" for name, spent in seconds.items())
    yield f"{flows:,} flows, of {whole:.1f} s: {shares}"


def _once(command: str, path: Path) -> tuple[float, float]:
    """Seconds of processor time of one command, and the most memory that it held, MiB."""
    with tempfile.TemporaryFile() as nothing:
        into = ("--out", path.with_name("handover"), "--force") if command == "handover" else ()
        run = subprocess.Popen([_PROGRAM, command, path, *into], stdout=nothing, stderr=nothing)
        _, status, used = os.wait4(run.pid, 0)
        run.returncode = os.waitstatus_to_exitcode(status)
    if run.returncode not in (0, 1):
        raise RuntimeError(f"{command} ended with status {run.returncode}")
    return used.ru_utime + used.ru_stime, used.ru_maxrss / 1024
