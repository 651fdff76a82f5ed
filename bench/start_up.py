"""Start-up: `--help` against a bare Typer program with as many commands, and `check` against `--help`."""

import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from bench.clock import paired_ratio
from fenrask.cli.app import COMMANDS

_BARE = """
import typer
app = typer.Typer(name="bare", no_args_is_help=True)
def add(name, text):
    @app.command(name, help=text)
    def command(): ...
for name, text in {commands!r}.items():
    add(name, text)
app()
"""


def measure() -> Iterator[str]:
    """Medians of pairs; at most 1.3 times and 0.4 s more are asked for."""
    program = str(Path(sys.executable).with_name("fenrask"))
    with tempfile.TemporaryDirectory() as folder:
        bare = Path(folder) / "bare.py"
        bare.write_text(_BARE.format(commands=COMMANDS))
        subprocess.run([program, "demo", folder], check=True, capture_output=True)
        estate = str(Path(folder) / "estate.yaml")
        ours, theirs, ratio = paired_ratio(_call(program, "--help"), _call(sys.executable, str(bare), "--help"))
        yield f"--help {ours:.3f} s, a bare Typer program {theirs:.3f} s: {ratio:.2f} times (1.3 asked for)"
        check, helping, _ = paired_ratio(_call(program, "check", estate), _call(program, "--help"))
        more = check - helping
        yield f"check on the demo {check:.3f} s, --help {helping:.3f} s: {more:.3f} s more (0.4 asked for)"


def _call(*command: str) -> Callable[[], object]:
    return lambda: subprocess.run(command, capture_output=True, check=False)
