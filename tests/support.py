"""What many tests need: small estates, written down as text, and the installed program."""

import json
import os
import subprocess
import sys
import tempfile
import threading
import unittest
from contextlib import redirect_stderr, redirect_stdout
from importlib.metadata import entry_points
from io import StringIO
from pathlib import Path
from time import monotonic
from typing import Any
from unittest.mock import patch

import yaml

from fenrask.demo import VELLMOUTH
from fenrask.estate import Described, read_estate
from tests.schemas import result_faults
from tests.words import gone

LATE_S = 0.08
PROGRAM = Path(sys.executable).with_name("fenrask")

CATALOGUE: dict[str, Any] = {
    "catalogue": "Test",
    "currency": "EUR",
    "read_on": "2026-09-01",
    "behaviour": {"gateways_per_subnet": 1},
    "offers": {
        "gate": {
            "kind": "translation-gateway",
            "ports": {"assignment": "shared-per-destination", "per_address": 1000},
            "mapping_timeout_s": {"closed": 60, "reset": 10, "idle": 300, "udp_idle": 30},
            "rates": {"hour": 0.1, "processed_per_gb": 0.02},
        },
        "wall": {
            "kind": "inspecting-firewall",
            "ports": {"assignment": "shared-per-destination", "per_address": 1000},
            "rates": {"hour": 1},
        },
        "host": {
            "kind": "translator-host",
            "ports": {"assignment": "shared-per-destination", "per_address": 1000},
        },
        "door-to-service": {"kind": "routed-endpoint", "scope": "region"},
        "inner": {"kind": "in-subnet-endpoint", "rates": {"hour": 0.01}},
    },
    "addresses": {"hour": 0.005, "blocks": [30, 31]},
    "transfer": {"internet_out_per_gb": 0.05, "cross_zone_per_gb": 0.01},
}

ESTATE: dict[str, Any] = {
    "estate": "Test",
    "catalogue": "catalogue.yaml",
    "networks": {"net": {"prefixes": ["10.0.0.0/16"]}},
    "subnets": {
        "app": {"network": "net", "zone": "a", "prefix": "10.0.1.0/24", "routes": "private"},
        "edge": {"network": "net", "zone": "a", "prefix": "10.0.9.0/28", "routes": "public"},
    },
    "route_tables": {"private": {"0.0.0.0/0": "gate"}, "public": {"0.0.0.0/0": "door"}},
    "exits": {
        "door": {"kind": "direct-internet", "network": "net"},
        "gate": {
            "kind": "translation-gateway",
            "offer": "gate",
            "subnet": "edge",
            "addresses": ["203.0.113.1"],
        },
    },
    "destinations": {
        "partner": {"prefixes": ["198.51.100.0/24"], "port": 443},
        "store": {"prefixes": ["192.0.2.0/25"], "service": True},
    },
    "workloads": {"work": {"subnets": ["app"], "hosts": 10}},
    "flows": {"talk": {"from": "work", "to": "partner", "per_host_per_s": 1, "duration_s": 2}},
}


LONG = int(os.environ.get("LONG", "1"))
"""How many times as many draws as usual: `make test-long`."""


WIDE = (os.cpu_count() or 1) >= 4
"""Whether there are processors enough for as many draws as are wanted of every change."""


def many(usual: int, wide: int = 0) -> int:
    """How many draws a test is to try where so many are usual; `wide`: on a machine with four processors or more."""
    return (wide if WIDE and wide else usual) * LONG


def merged(base: Any, patch: Any) -> Any:
    """A merge patch, written anew, so that the tests do not lean on what they test."""
    if not isinstance(patch, dict):
        return patch
    result = dict(base) if isinstance(base, dict) else {}
    for key, value in patch.items():
        if value is None:
            result.pop(key, None)
        else:
            result[key] = merged(result.get(key), value)
    return result


class InFolder(unittest.TestCase):
    """A test with a temporary folder of its own."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def write(self, name: str, content: Any) -> Path:
        """A file in the folder: text as it is, anything else as YAML."""
        path = self.folder / name
        text = content if isinstance(content, str) else yaml.dump(content, Dumper=yaml.CSafeDumper, sort_keys=False)
        path.write_text(text, encoding="utf-8")
        return path

    def estate(self, changes: Any = None, catalogue: Any = None) -> Described:
        """The small estate above with a patch, and its catalogue with another."""
        self.write("catalogue.yaml", merged(CATALOGUE, catalogue or {}))
        return read_estate(self.write("estate.yaml", merged(ESTATE, changes or {})))

    def program(self, *arguments: str, columns: int = 100) -> subprocess.CompletedProcess[str]:
        """The program as installed, called in this process: starting it some hundred times takes minutes."""
        [entry] = entry_points(group="console_scripts", name="fenrask")
        out, said, before = StringIO(), StringIO(), Path.cwd()
        environment = {"COLUMNS": str(columns), "LANG": "C.UTF-8"}
        with patch.dict(os.environ, environment), patch.object(sys, "argv", ["fenrask", *arguments]):
            os.environ.pop("NO_COLOR", None)
            os.chdir(self.folder)
            try:
                with redirect_stdout(out), redirect_stderr(said), self.assertRaises(SystemExit) as left:
                    entry.load()()
            finally:
                os.chdir(before)
        return subprocess.CompletedProcess(
            arguments, int(str(left.exception.code or 0)), out.getvalue(), said.getvalue()
        )

    def started(self, *arguments: str, columns: int = 100) -> subprocess.CompletedProcess[str]:
        """The installed program, started in the folder."""
        known = {name: os.environ[name] for name in ("PATH", "HOME", "TMPDIR") if name in os.environ}
        return subprocess.run(
            [str(PROGRAM), *arguments],
            cwd=self.folder,
            env={**known, "COLUMNS": str(columns), "LANG": "C.UTF-8"},
            capture_output=True,
            text=True,
            encoding="utf-8",
            timeout=120,
            stdin=subprocess.DEVNULL,
        )

    def sample(self) -> None:
        """The files of the sample estate in the folder `d`, as `fenrask demo` writes them."""
        (self.folder / "d").mkdir()
        for name, content in VELLMOUTH.contents().items():
            (self.folder / "d" / name).write_bytes(content)

    def json(self, *arguments: str, status: int | None = 0) -> Any:
        """What the program prints as JSON, with the status it is to leave with; None: 0 or 1."""
        done = self.program(*arguments, "--format", "json")
        self.assertIn(done.returncode, (0, 1) if status is None else (status,), done.stderr)
        result = json.loads(done.stdout)
        if isinstance(result, dict) and "version" in result:
            # Whatever is tested, its JSON is what `schema results` promises.
            self.assertEqual(result_faults(result)[:5], [])
            if result.get("estate") == "Vellmouth Ferries":
                self.assertEqual(gone(result), [])
        return result


class Watched:
    """How late this machine wakes who sleeps for a hundredth of a second."""

    def __enter__(self) -> "Watched":
        self.latest_s, self._done = 0.0, threading.Event()
        self._watch = threading.Thread(target=self._look)
        self._watch.start()
        return self

    def _look(self) -> None:
        while not self._done.is_set():
            before = monotonic()
            self._done.wait(0.01)
            self.latest_s = max(self.latest_s, monotonic() - before - 0.01)

    def __exit__(self, *_: object) -> None:
        self._done.set()
        self._watch.join()

    @property
    def was_late(self) -> bool:
        """Whether it had other things to do for longer than timers of a second bear."""
        return self.latest_s >= LATE_S
