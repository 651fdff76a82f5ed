"""The part of the lock that running needs, for `make demo`.

    python -m supply.locks

writes running.lock: of requirements.lock every version that Fenrask needs to run, directly or not, with what builds it
in place. `make test` installs the rest beside it.
"""

import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

__all__ = ["Locked", "locked", "running"]

ROOT = Path(__file__).resolve().parent.parent
_BUILDS = "setuptools"
"""Builds the program in place, in an environment of its own making."""
_ENTRY = re.compile(r"^(?=\S+==)", re.MULTILINE)


@dataclass(frozen=True)
class Locked:
    """One entry of a lock: its text with all hashes, and who needs it."""

    text: str
    needed_by: frozenset[str]


def locked(text: str) -> dict[str, Locked]:
    """The entries of a lock by canonical name; who needs one is what its comment names."""
    entries = [one for one in _ENTRY.split(text) if "==" in one]
    names = [canonicalize_name(one.partition("==")[0]) for one in entries]
    return {name: Locked(one, frozenset(_needing(one))) for name, one in zip(names, entries, strict=True)}


def _needing(entry: str) -> list[str]:
    _, _, comment = entry.partition("# via")
    return [canonicalize_name(one) for one in re.findall(r"[\w.-]+(?= *(?:\n|$|\())", comment)]


def running(entries: Mapping[str, Locked], direct: frozenset[str]) -> str:
    """The lock of what the direct dependencies need, whatever platform it is for."""
    wanted = {_BUILDS, *direct}
    while more := {name for name, one in entries.items() if one.needed_by & wanted} - wanted:
        wanted |= more
    return "".join(one.text for name, one in entries.items() if name in wanted)


def main() -> None:
    """Write running.lock beside requirements.lock."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    direct = frozenset(canonicalize_name(Requirement(one).name) for one in project["dependencies"])
    entries = locked((ROOT / "requirements.lock").read_text(encoding="utf-8"))
    (ROOT / "running.lock").write_text(running(entries, direct), encoding="utf-8")


if __name__ == "__main__":
    main()
