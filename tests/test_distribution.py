"""What is built: the archives hold what they should, and the wheel runs where it is only unpacked, read-only."""

import ast
import io
import json
import os
import subprocess
import sys
import tarfile
import tomllib
import unittest
import zipfile
from importlib.metadata import packages_distributions
from pathlib import Path

from supply.__main__ import components, needed
from supply.building import normalised
from supply.locks import locked
from tests.support import LONG, InFolder

ROOT = Path(__file__).resolve().parent.parent


class Distribution(InFolder):
    def test_the_archives_and_a_run_from_the_wheel_alone(self) -> None:
        # From a copy, so that nothing is left in the checkout and nothing stale is taken from there.
        copy = self.folder / "copy"
        listed = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, check=False).stdout
        if not listed:
            self.skipTest("no git checkout")
        for name in listed.decode().split("\0"):
            if name and (ROOT / name).is_file():
                (copy / name).parent.mkdir(parents=True, exist_ok=True)
                (copy / name).write_bytes((ROOT / name).read_bytes())
        source, wheel = self.built(copy, "dist")
        with tarfile.open(source) as archive:
            held = {name.partition("/")[2] for name in archive.getnames()}
        wanted = {
            "CHANGELOG.md",
            "LICENSE",
            "installer.lock",
            "requirements.lock",
            "running.lock",
            "CONTRIBUTING.md",
            "SECURITY.md",
            "Makefile",
            ".ci/run",
            "docs/guide.md",
            "docs/fenrask.1",
        }
        wanted |= {
            "tests/support.py",
            "bench/__main__.py",
            "truth/__main__.py",
            "src/fenrask/views/report/page.html.j2",
        }
        self.assertEqual(wanted - held, set())
        with zipfile.ZipFile(wheel) as archive:
            names = archive.namelist()
            archive.extractall(self.folder / "installed")
        self.assertTrue(any(name.endswith("/share/man/man1/fenrask.1") for name in names))
        self.assertEqual([name for name in names if name.startswith(("tests", "docs", "bench"))], [])
        self.runs(self.folder / "installed")
        # Packed again, in another order, by someone else and on another day, it is the same to the byte.
        self.assertEqual(normalised(self.packed_otherwise(source), 1764547200), source.read_bytes())
        if LONG > 1:
            for path in copy.rglob("*"):
                os.utime(path, (1e9, 1e9))
            again = self.built(copy, "again")
            self.assertEqual([one.read_bytes() for one in again], [one.read_bytes() for one in (source, wheel)])

    @staticmethod
    def packed_otherwise(source: Path) -> bytes:
        other = io.BytesIO()
        # Read forward: each step back would unpack all before it once more.
        with tarfile.open(source) as before:
            held = [(one, before.extractfile(one).read() if one.isfile() else b"") for one in before.getmembers()]
        with tarfile.open(fileobj=other, mode="w:gz", compresslevel=1) as after:
            for member, content in reversed(held):
                member.mtime, member.uid, member.uname = 1e9, 1000, "someone"
                after.addfile(member, io.BytesIO(content) if member.isfile() else None)
        return other.getvalue()

    def built(self, copy: Path, name: str) -> list[Path]:
        command = [sys.executable, "-m", "supply.building", str(self.folder / name)]
        environment = {**os.environ, "SOURCE_DATE_EPOCH": "1764547200"}
        told = subprocess.run(command, cwd=copy, check=True, capture_output=True, text=True, env=environment).stdout
        return [Path(line) for line in told.splitlines()[-2:]]

    def runs(self, installed: Path) -> None:
        """Outside the checkout, from files that cannot be written, without a home."""
        for path in installed.rglob("*"):
            path.chmod(path.stat().st_mode & ~0o222)
        start = "import sys; sys.path.insert(0, {0!r}); import fenrask; assert fenrask.__file__.startswith({0!r}); "
        code = start.format(str(installed)) + "from fenrask.__main__ import main; sys.exit(main())"
        environment = {"PATH": os.environ["PATH"], "HOME": "/nonexistent", "LANG": "C"}
        for words in (["start", "mine"], ["report", "mine/estate.yaml", "plan.html"], ["check", "mine/estate.yaml"]):
            command = [sys.executable, "-B", "-P", "-c", code, *words]
            done = subprocess.run(
                command, cwd=self.folder, env=environment, capture_output=True, text=True, check=False
            )
            self.assertEqual(done.returncode, 0, (words, done.stdout, done.stderr))


class Supply(unittest.TestCase):
    def test_every_part_is_listed_once_and_nothing_hangs_in_the_air(self) -> None:
        found = needed()
        whole = components(found)
        references = [one["bom-ref"] for one in [whole["metadata"]["component"], *whole["components"]]]
        self.assertEqual(len(references), len(set(references)))
        self.assertEqual({one["ref"] for one in whole["dependencies"]}, set(references))
        self.assertTrue(all({*one["dependsOn"]} <= set(references) for one in whole["dependencies"]))
        self.assertEqual(json.loads(json.dumps(whole)), whole)

    def test_the_locked_versions_are_those_that_are_listed(self) -> None:
        locked = [line.split(" ")[0] for line in (ROOT / "requirements.lock").read_text().splitlines() if "==" in line]
        versions = {line.split("==")[0]: line.split("==")[1] for line in locked if not line.startswith(("#", "-"))}
        for name in needed():
            if name != "fenrask":
                self.assertIn(name, versions)

    def test_what_runs_is_locked_as_what_is_tested(self) -> None:
        """And it is whole: what is installed here and needed, and nothing else but for another system."""
        whole, part = (
            locked((ROOT / f"{name}.lock").read_text(encoding="utf-8")) for name in ("requirements", "running")
        )
        self.assertEqual({name: whole[name].text for name in part}, {name: one.text for name, one in part.items()})
        for_others = {name for name, one in part.items() if "sys_platform" in one.text.splitlines()[0]}
        self.assertEqual({*part} - for_others, {*needed()} - {"fenrask"} | {"setuptools"})

    def test_what_is_imported_is_what_an_installation_has(self) -> None:
        """Against every import statement of the program, those within functions too."""
        imported = {
            (name if isinstance(node, ast.Import) else node.module or "").partition(".")[0]
            for path in (ROOT / "src").rglob("*.py")
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
            if isinstance(node, ast.Import | ast.ImportFrom)
            for name in [alias.name for alias in node.names]
        }
        project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
        stated = {
            one.split(">=")[0] for one in (*project["dependencies"], *project["optional-dependencies"]["cluster"])
        }
        whose = packages_distributions()
        # A part of pydantic, which pins it.
        outside = imported - {"fenrask", "pydantic_core", *sys.stdlib_module_names}
        self.assertEqual({whose[name][0].lower() for name in outside}, stated)

    def test_each_direct_dependency_has_its_reason(self) -> None:
        text = (ROOT / "docs" / "dependencies.md").read_text(encoding="utf-8")
        project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
        for entry in project["dependencies"]:
            self.assertIn(f"| {entry.split('>=')[0]} |", text)
