"""Run every command shown in the README and the guides, and put its output under it.

A block that starts with `$ fenrask ...` is run in the folder that its page works on; the tests run the
same code and fail where a page says something else than the program.
"""

import atexit
import os
import re
import shlex
import sys
import tempfile
from contextlib import redirect_stderr, redirect_stdout
from functools import cache
from io import StringIO
from pathlib import Path

from fenrask.cli.app import run
from fenrask.demo import INVENTORY, RECORDS, inventory_of
from fenrask.demo.records import day_of_records
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate

sys.path.insert(0, str(Path(__file__).parent))
from calls import NAMES, listed_commands, with_options  # noqa: E402 - beside this file, wherever it is called from.

ROOT = Path(__file__).resolve().parent.parent
PAGES = {
    "README.md": "vellmouth",
    "docs/guide.md": "vellmouth",
    "docs/first-answer.md": "vellmouth",
    "docs/own-estate.md": "vellmouth",
    "docs/worked-example.md": "beginning",
    **{f"docs/commands/{name}.md": "vellmouth" for name in NAMES},
}
"""Each page, and which of the shipped estates its commands are run on."""
LISTS = ("docs/commands/index.md",)
"""Pages with lists that are written from the program."""
_APART = ("docs/own-estate.md",)
"""Pages whose commands write files that later ones read."""
SHIPPED = ROOT / "src" / "fenrask" / "demo"
_BLOCK = re.compile(r"```console\n\$ (?P<command>fenrask [^\n]*)\n.*?```", re.DOTALL)
_SECONDS = re.compile(r" \(\d+(\.\d+)? s\)$")
_FILE = re.compile(r"`(?P<name>[\w-]+\.json)`:\n\n```json\n(?P<content>.*?)```", re.DOTALL)
"""A file that a page shows, and its commands read."""
_ESTATE = re.compile(r"```yaml\n.*?```", re.DOTALL)


def refreshed(page: str) -> str:
    """The page's text as it should be."""
    text = (ROOT / page).read_text(encoding="utf-8")
    if page in PAGES:
        if PAGES[page] == "beginning":
            estate = (SHIPPED / "beginning" / "estate.yaml").read_text(encoding="utf-8")
            text = _ESTATE.sub(lambda _: f"```yaml\n{estate}```", text)
        folder = _folder(PAGES[page], page if page in _APART else "")
        for file in _FILE.finditer(text):
            (Path(folder) / file["name"]).write_text(file["content"], encoding="utf-8")
        text = _BLOCK.sub(lambda found: _run(found["command"], folder), text)
    name = Path(page).stem
    if Path(page).parent.name == "commands":
        text = listed_commands(text) if name == "index" else with_options(name, text)
    return text


@cache
def _folder(shipped: str, page: str) -> str:
    """A folder with an estate, as `fenrask demo` writes it, for one page or for all that change nothing in it."""
    holder = tempfile.TemporaryDirectory()
    atexit.register(holder.cleanup)
    folder = Path(holder.name)
    for source in (SHIPPED / shipped).iterdir():
        (folder / source.name).write_bytes(source.read_bytes())
    if shipped == "vellmouth":
        described = read_estate(folder / "estate.yaml")
        (folder / RECORDS).write_bytes(day_of_records(described))
        (folder / INVENTORY).mkdir()
        for name, content in inventory_of(evaluate(described)).items():
            (folder / INVENTORY / name).write_bytes(content)
    return holder.name


def _run(command: str, folder: str) -> str:
    call, *filters = command.replace(" | ", "\0").split("\0")
    # How long it took is another figure each time.
    lines = [_SECONDS.sub("", line) for line in _cut(_lines(call, folder), filters)]
    return "\n".join(["```console", f"$ {command}", *lines, "```"])


@cache
def _lines(call: str, folder: str) -> list[str]:
    """What a command prints, once for all pages that show some of it."""
    status, printed, said = _printed(shlex.split(call), folder)
    if status > 1:
        raise SystemExit(f"{call}: {said}")
    return printed.splitlines()


def _printed(words: list[str], folder: str) -> tuple[int, str, str]:
    """Status, stdout and stderr of the program, called in this process: starting it each time takes minutes."""
    out, said, before = StringIO(), StringIO(), Path.cwd()
    environment, started_with = {"COLUMNS": "100", "NO_COLOR": "1"}, sys.argv
    kept = {name: os.environ.get(name) for name in environment}
    os.environ.update(environment)
    sys.argv = words
    os.chdir(folder)
    try:
        with redirect_stdout(out), redirect_stderr(said):
            return run(), out.getvalue(), said.getvalue()
    finally:
        os.chdir(before)
        sys.argv = started_with
        for name, value in kept.items():
            os.environ.pop(name, None) if value is None else os.environ.update({name: value})


def _cut(lines: list[str], filters: list[str]) -> list[str]:
    """What `head -n N` would leave."""
    for one in filters:
        lines = lines[: int(one.rsplit(" ", 1)[1])]
    return lines


if __name__ == "__main__":
    for name in (*PAGES, *LISTS):
        (ROOT / name).write_text(refreshed(name), encoding="utf-8")
        print(f"refreshed {name}")
    from man import manual
    from reference import reference, results

    (ROOT / "docs" / "fenrask.1").write_text(manual(), encoding="utf-8")
    (ROOT / "docs" / "files.md").write_text(reference(), encoding="utf-8")
    (ROOT / "docs" / "results.md").write_text(results(), encoding="utf-8")
