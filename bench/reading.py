"""Reading 20,000 lines of estate against PyYAML's own safe loader, in C, on the same text."""

import tempfile
from collections.abc import Iterator
from pathlib import Path

import yaml

from bench.clock import best_s
from fenrask.demo import BEGINNING
from fenrask.estate import read_estate

_SUBNET = "  s{n}:\n    network: office\n    zone: a\n    prefix: 10.{high}.{low}.0/24\n    routes: private\n"


def measure() -> Iterator[str]:
    """Seconds of processor time, and times the plain loader's."""
    with tempfile.TemporaryDirectory() as folder:
        for name, content in BEGINNING.contents().items():
            (Path(folder) / name).write_bytes(content)
        path = Path(folder) / "estate.yaml"
        more = "".join(_SUBNET.format(n=n, high=n >> 8, low=n & 255) for n in range(4000))
        path.write_text(path.read_text().replace("subnets:", f"subnets:\n{more}  #", 1))
        text = path.read_text()
        ours = best_s(lambda: read_estate(path))
        plain = best_s(lambda: yaml.load(text, yaml.CSafeLoader))
        lines = len(text.splitlines())
        yield f"{lines:,} lines read and validated in {ours:.2f} s (1 s asked for)"
        yield f"{ours / plain:.2f} times as long as loading them alone, {plain:.2f} s"
