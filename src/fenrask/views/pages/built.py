"""What a patch builds and changes, as rows: like changes in one."""

from collections.abc import Iterator, Mapping
from typing import Any

from fenrask.designs.contract import Patch
from fenrask.estate import Counted, Described
from fenrask.evaluation import Evaluation
from fenrask.units import counted
from fenrask.views.page import Column

__all__ = ["BUILT", "built"]

BUILT = (
    Column("change", "change", is_answer=True),
    Column("what", "what"),
    Column("names", "names", "list", most=3, is_answer=True),
    Column("detail", "detail"),
)


def built(before: Described | None, patch: Patch, after: Evaluation) -> Iterator[tuple[str, str, list[str], str]]:
    """Exits and subnets, routes by the exit that they point to, hosts. before: the estate that is patched."""
    same: dict[tuple[str, str, str], list[str]] = {}
    for change, what, name, detail in _single(before, patch, after):
        same.setdefault((change, what, detail), []).append(name)
    for (change, what, detail), names in same.items():
        yield change, what, names, f"{detail} each" if "address" in detail and len(names) > 1 else detail


def _single(before: Described | None, patch: Patch, after: Evaluation) -> Iterator[tuple[str, str, str, str]]:
    old = before.data.get("exits", {}) if before else {}
    exits = (patch.get("exits") or {}).items()
    for name, keys in sorted(exits, key=lambda pair: (pair[1] is None, pair[0] in old)):
        yield _exit(after, name, keys, name in old)
    for name, keys in (patch.get("subnets") or {}).items():
        if keys and "prefix" in keys:
            yield ("add", "subnet", name, f"{keys['prefix']} in {keys['network']}")
        elif keys and "routes" in keys:
            yield ("change", "subnet", f"{name}: {keys['routes']}", "route table")
        elif keys is None:
            yield ("remove", "subnet", name, "")
    for table, routes in (patch.get("route_tables") or {}).items():
        for key, value in (routes or {}).items():
            change = "remove" if value is None else "set"
            yield (change, "route", f"{table}: {key}", "" if value is None else f"to {value}")
        if routes is None:
            yield ("remove", "route table", table, "")
    for name in patch.get("workloads") or {}:
        yield ("change", "workload", name, "a public address on each host")


def _exit(after: Evaluation, name: str, keys: Mapping[str, Any] | None, existed: bool) -> tuple[str, str, str, str]:
    exit_ = after.described.estate.exits.get(name)
    if keys is None or exit_ is None:
        return ("remove", "exit", name, "")
    sized = after.capacity.of(name)
    addresses = f", {counted(sized.addresses, 'address', 'addresses')}" if sized else ""
    kind = " ".join(word for word in (exit_.kind, exit_.offer_name) if word)
    units = f", {exit_.units} {exit_.count_key}" if isinstance(exit_, Counted) and exit_.units > 1 else ""
    return ("change" if existed else "add", "exit", name, f"{kind}{addresses}{units}")
