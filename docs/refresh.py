"""Run every command shown in the README and the guides, and put its output under it.

A block that starts with `$ fenrask ...` is run in the folder that its page works on; the tests run the
same code and fail where a page says something else than the program.
"""

import os
import re
import shlex
import subprocess
import sys
import tempfile
from pathlib import Path

from fenrask.demo import RECORDS
from fenrask.demo.records import day_of_records
from fenrask.estate import read_estate

ROOT = Path(__file__).resolve().parent.parent
PAGES = {"README.md": "vellmouth", "docs/guide.md": "vellmouth", "docs/worked-example.md": "beginning"}
"""Each page, and which of the shipped estates its commands are run on."""
SHIPPED = ROOT / "src" / "fenrask" / "demo"
PROGRAM = Path(sys.executable).with_name("fenrask")
_BLOCK = re.compile(r"```console\n\$ (?P<command>fenrask [^\n]*)\n.*?```", re.DOTALL)
_ESTATE = re.compile(r"```yaml\n.*?```", re.DOTALL)


def refreshed(page: str) -> str:
    """The page's text as it should be."""
    text = (ROOT / page).read_text(encoding="utf-8")
    with tempfile.TemporaryDirectory() as folder:
        for source in (SHIPPED / PAGES[page]).iterdir():
            (Path(folder) / source.name).write_bytes(source.read_bytes())
        if PAGES[page] == "vellmouth":
            (Path(folder) / RECORDS).write_bytes(day_of_records(read_estate(Path(folder) / "estate.yaml")))
        if PAGES[page] == "beginning":
            estate = (SHIPPED / "beginning" / "estate.yaml").read_text(encoding="utf-8")
            text = _ESTATE.sub(lambda _: f"```yaml\n{estate}```", text)
        return _BLOCK.sub(lambda found: _run(found["command"], folder), text)


def _run(command: str, folder: str) -> str:
    shown = command.replace(" | ", "\0").split("\0")
    environment = {**os.environ, "COLUMNS": "100", "NO_COLOR": "1"}
    done = subprocess.run(
        [str(PROGRAM), *shlex.split(shown[0])[1:]],
        cwd=folder,
        env=environment,
        capture_output=True,
        text=True,
        encoding="utf-8",
        check=False,
    )
    if done.returncode > 1:
        raise SystemExit(f"{command}: {done.stderr}")
    lines = _cut(done.stdout.splitlines(), shown[1:])
    return "\n".join(["```console", f"$ {command}", *lines, "```"])


def _cut(lines: list[str], filters: list[str]) -> list[str]:
    """What `head -n N` would leave."""
    for one in filters:
        lines = lines[: int(one.rsplit(" ", 1)[1])]
    return lines


if __name__ == "__main__":
    for name in PAGES:
        (ROOT / name).write_text(refreshed(name), encoding="utf-8")
        print(f"refreshed {name}")
    sys.path.insert(0, str(ROOT / "docs"))
    from reference import reference

    (ROOT / "docs" / "files.md").write_text(reference(), encoding="utf-8")
