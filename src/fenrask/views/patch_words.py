"""What a JSON Merge Patch changes in an estate, in words; and patches as files."""

import json
import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from functools import reduce
from typing import Any

from fenrask.findings import Finding

__all__ = ["ALL", "patch_words", "remedy_files", "remedy_names"]

_ENTRIES = {
    "networks": "network", "subnets": "subnet", "exits": "exit", "destinations": "destination",
    "workloads": "workload", "flows": "flow", "profiles": "profile", "public_addresses": "address",
    "stress": "case", "accepted": "exception",
}  # fmt: skip
_SHOWN = 3


def patch_words(patch: Mapping[str, Any], before: Mapping[str, Any]) -> list[str]:
    """Each change that a patch makes to an estate, such as `remove the route 10.0.0.0/8 of app`.

    before: the values of the estate that it is for.
    """
    return [
        one
        for section, entries in patch.items()
        for one in _of_section(section, entries, before.get(section) if isinstance(before, Mapping) else None)
    ]


def _of_section(section: str, entries: Any, before: Any) -> Iterator[str]:
    known = before if isinstance(before, Mapping) else {}
    if not isinstance(entries, Mapping):
        yield f"remove {section}" if entries is None else f"set {section} to {_value(entries)}"
        return
    for name, stated in entries.items():
        if section == "route_tables":
            yield from _routes(name, stated)
        elif section not in _ENTRIES:
            yield f"set {section}.{name} to {_value(stated)}" if stated is not None else f"remove {section}.{name}"
        else:
            yield from _entry(f"the {_ENTRIES[section]} {name}", stated, name in known)


def _routes(table: str, routes: Any) -> Iterator[str]:
    if not isinstance(routes, Mapping):
        yield f"remove the table {table}"
        return
    for key, value in routes.items():
        yield (
            f"remove the route {key} of {table}"
            if value is None
            else f"set the route {key} of {table} to {_hop(value)}"
        )


def _hop(value: Any) -> str:
    several = value if isinstance(value, list) else [value]
    return " and ".join(str(one.get("exit")) if isinstance(one, Mapping) else str(one) for one in several)


def _entry(what: str, stated: Any, is_known: bool) -> Iterator[str]:
    if stated is None:
        yield f"remove {what}"
    elif not isinstance(stated, Mapping):
        yield f"set {what} to {_value(stated)}"
    elif not is_known:
        kind = f" ({stated['kind']})" if "kind" in stated else ""
        yield f"add {what}{kind}"
    else:
        told = (f"no {key}" if value is None else f"{key} {_value(value)}" for key, value in stated.items())
        yield f"change {what} ({', '.join(told)})"


def _value(value: Any) -> str:
    if isinstance(value, Mapping):
        return "as the patch says"
    if isinstance(value, Sequence) and not isinstance(value, str):
        words = [_value(one) for one in value]
        more = f" and {len(words) - _SHOWN} more" if len(words) > _SHOWN else ""
        return f"{', '.join(words[:_SHOWN])}{more}" if words else "nothing"
    return json.dumps(value) if isinstance(value, bool) else str(value)


ALL = "all.json"


def remedy_files(findings: Sequence[Finding]) -> dict[str, bytes]:
    """The remedies that are patches, each named by its rule and place, once, and all of them together."""
    named = zip(remedy_names(findings), findings, strict=True)
    files: dict[str, Any] = {name: finding.fix for name, finding in named if name}
    if files:
        files[ALL] = reduce(_composed, files.values())
    return {name: (json.dumps(fix, indent=2) + "\n").encode() for name, fix in files.items()}


def remedy_names(findings: Sequence[Finding]) -> list[str]:
    """Of each finding the name of the file of its patch; empty where it has none; several have the same patch."""
    names: dict[str, str] = {}
    told: list[str] = []
    for finding in findings:
        if finding.fix is None or finding.accepted:
            told.append("")
            continue
        patch = json.dumps(finding.fix, sort_keys=True)
        if patch not in names:
            names[patch] = _remedy_name(finding, {*names.values(), ALL})
        told.append(names[patch])
    return told


def _remedy_name(finding: Finding, taken: Collection[str]) -> str:
    """A name for the file of a remedy that no other has."""
    place = finding.place.path.partition(".")[2] or finding.place.path
    stem = re.sub(r"[^A-Za-z0-9]+", "-", f"{finding.rule}-{place}").strip("-")[:80]
    name, number = f"{stem}.json", 2
    while name in taken:
        name, number = f"{stem}-{number}.json", number + 1
    return name


def _composed(first: Any, then: Any) -> Any:
    """The patch that does what two do, one after the other."""
    if not isinstance(first, Mapping) or not isinstance(then, Mapping):
        return then
    return {**first, **{key: _composed(first.get(key), value) for key, value in then.items()}}
