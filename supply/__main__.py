"""The parts of an installation: a CycloneDX 1.6 list of components, and licences and sizes as a table.

    python -m supply FOLDER

writes FOLDER/components.cdx.json and FOLDER/licences.csv about what is installed beside this Python and what Fenrask
needs of it, directly or not.
"""

import csv
import hashlib
import io
import json
import sys
from collections.abc import Iterator
from importlib.metadata import Distribution, distribution
from pathlib import Path
from typing import Any

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

__all__ = ["components", "licence_of", "needed"]

_CLASSIFIER = "License :: OSI Approved :: "


def needed(name: str = "fenrask") -> dict[str, Distribution]:
    """A distribution and all that it needs where it is installed, extras left aside, by canonical name."""
    found: dict[str, Distribution] = {}
    waiting = [name]
    while waiting:
        one = canonicalize_name(waiting.pop())
        if one not in found:
            found[one] = distribution(one)
            waiting += [need.name for need in _direct(found[one])]
    return dict(sorted(found.items()))


def _direct(one: Distribution) -> Iterator[Requirement]:
    for text in one.requires or ():
        need = Requirement(text)
        if need.marker is None or need.marker.evaluate({"extra": ""}):
            yield need


def licence_of(one: Distribution) -> str:
    """What a distribution says of its licence: an SPDX expression, a classifier, or its first line."""
    stated = one.metadata.get("License-Expression")
    if stated:
        return str(stated)
    listed = [text for text in one.metadata.get_all("Classifier") or () if text.startswith(_CLASSIFIER)]
    if listed:
        return " AND ".join(text.removeprefix(_CLASSIFIER) for text in listed)
    return str(one.metadata.get("License") or "not stated").splitlines()[0]


def _bytes(one: Distribution) -> int:
    return sum(file.size or 0 for file in one.files or ())


def components(found: dict[str, Distribution]) -> dict[str, Any]:
    """The list as CycloneDX 1.6: the same for the same installation."""
    ours, others = found["fenrask"], {name: one for name, one in found.items() if name != "fenrask"}
    return {
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "version": 1,
        "metadata": {"component": _component("application", ours)},
        "components": [_component("library", one) for one in others.values()],
        "dependencies": [
            {
                "ref": _reference(one),
                "dependsOn": sorted({_reference(found[canonicalize_name(need.name)]) for need in _direct(one)}),
            }
            for one in found.values()
        ],
    }


def _component(kind: str, one: Distribution) -> dict[str, Any]:
    # The list of an installed distribution's own files, with their hashes, stands for all of them.
    record = one.read_text("RECORD") or ""
    return {
        "type": kind,
        "bom-ref": _reference(one),
        "name": one.name,
        "version": one.version,
        "purl": _reference(one),
        "licenses": [_licence(one)],
        "properties": [
            {"name": "installed bytes", "value": str(_bytes(one))},
            {"name": "SHA-256 of RECORD", "value": hashlib.sha256(record.encode()).hexdigest()},
        ],
    }


def _licence(one: Distribution) -> dict[str, Any]:
    stated = licence_of(one)
    is_expression = stated == one.metadata.get("License-Expression")
    return {"expression": stated} if is_expression else {"license": {"name": stated}}


def _reference(one: Distribution) -> str:
    return f"pkg:pypi/{canonicalize_name(one.name)}@{one.version}"


def _table(found: dict[str, Distribution]) -> str:
    text = io.StringIO()
    rows = csv.writer(text, lineterminator="\n")
    rows.writerow(["name", "version", "licence", "installed_bytes"])
    rows.writerows([one.name, one.version, licence_of(one), _bytes(one)] for one in found.values())
    return text.getvalue()


def main() -> None:
    """Write both files and say how large it all is."""
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else "build")
    folder.mkdir(parents=True, exist_ok=True)
    found = needed()
    whole = json.dumps(components(found), indent=1) + "\n"
    (folder / "components.cdx.json").write_text(whole, encoding="utf-8")
    (folder / "licences.csv").write_text(_table(found), encoding="utf-8")
    print(f"{len(found)} distributions, {sum(map(_bytes, found.values())) / 2**20:,.0f} MiB, in {folder}")


if __name__ == "__main__":
    main()
