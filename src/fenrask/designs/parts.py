"""The smallest parts of a change from one estate to another, in the order in which they are best done.

What is new comes first and carries nothing; then routes move, table by table; what is no longer used goes last.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fenrask.designs.contract import Patch

__all__ = ["Part", "difference", "merge_patches", "parts_of", "patch_of"]

_TOLD_FIRST = ("destinations", "profiles")
_TOLD = ("estate", "workloads", "flows", "targets", "wage_per_hour", "stress", "accepted")
"""What describes the work and is not built: taken over on the way, in no step of its own."""
DESCRIBE, FORGET = "describe", "forget"
"""What is not built and only said: taken over with the first step, and with the last."""


@dataclass(frozen=True)
class Part:
    """One thing to do: `add`, `move`, `remove`, or what is only said; the entries that it is about, and the patch."""

    what: str
    kind: str
    names: tuple[str, ...]
    patch: Patch

    @property
    def is_work(self) -> bool:
        """Whether somebody has to do something."""
        return self.kind not in (DESCRIBE, FORGET)


def patch_of(parts: Sequence[Part]) -> Patch:
    """The patch of several parts, done in this order."""
    patch: Patch = {}
    for one in parts:
        patch = merge_patches(patch, one.patch)
    return patch


def merge_patches(one: Any, other: Any) -> Any:
    """Two merge patches as one: the second wins, and what it removes stays removed."""
    if not isinstance(one, dict) or not isinstance(other, dict):
        return other
    return {**one, **{key: merge_patches(one.get(key), value) for key, value in other.items()}}


def parts_of(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[Part]:
    """The smallest steps in the order of work."""
    yield from _told(base, now, _TOLD_FIRST)
    for section, one in (("public_addresses", "order the public address"), ("networks", "add the network")):
        for name, patch in _changed(base, now, section).items():
            yield Part(f"{one} {name}", "add", (name,), {section: {name: patch}})
    yield from _subnets(base, now)
    was, is_ = base.get("exits") or {}, now.get("exits") or {}
    for name, stated in is_.items():
        if name not in was:
            yield Part(f"add the exit {name} ({stated.get('kind', '')})", "add", (name,), {"exits": {name: stated}})
    # Partners may see what changes at an exit that exists: all that nobody sees comes before it.
    for name, stated in is_.items():
        if name in was and stated != was[name]:
            patch = difference(was[name], stated)
            yield Part(f"change the exit {name}: {', '.join(patch)}", "add", (name,), {"exits": {name: patch}})
    yield from _told(base, now, _TOLD)
    yield from _routes(base, now)
    yield from _removals(base, now)


def _told(base: Mapping[str, Any], now: Mapping[str, Any], keys: Sequence[str]) -> Iterator[Part]:
    """What changes in the description of the work; what goes, goes at the end."""
    for key in keys:
        is_ = now.get(key)
        if is_ is None or base.get(key) == is_:
            continue
        patch = difference(base.get(key), is_)
        if isinstance(patch, dict):
            patch = {name: one for name, one in patch.items() if one is not None}
        yield Part("", DESCRIBE, (), {key: patch})


def _subnets(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[Part]:
    """New subnets with their tables, which are still empty; and subnets' own settings, but for their tables."""
    tables = [name for name in now.get("route_tables") or {} if name not in (base.get("route_tables") or {})]
    if tables:
        yield Part(
            f"add the route tables {', '.join(tables)}, empty",
            "add",
            tuple(tables),
            {"route_tables": {t: {} for t in tables}},
        )
    was = base.get("subnets") or {}
    for name, stated in (now.get("subnets") or {}).items():
        if name not in was:
            yield Part(f"add the subnet {name}", "add", (name,), {"subnets": {name: stated}})
        else:
            patch = {key: value for key, value in difference(was[name], stated).items() if key != "routes"}
            if patch:
                yield Part(f"change the subnet {name}: {', '.join(patch)}", "move", (name,), {"subnets": {name: patch}})


def _routes(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[Part]:
    """Tables filled and changed one by one, new ones first, and where exits stand; then subnets change tables."""
    was = base.get("route_tables") or {}
    tables = now.get("route_tables") or {}
    edges = _edges(now)
    for name in sorted(tables, key=lambda one: (one in was, one not in edges)):
        patch = difference(was.get(name) or {}, tables[name] or {})
        if patch:
            routes = [f"{key} to {_to(value)}" if value is not None else f"no {key}" for key, value in patch.items()]
            kind = "move" if name in was else "add"
            yield Part(
                f"in the route table {name}: {', '.join(routes)}", kind, (name,), {"route_tables": {name: patch}}
            )
    before = base.get("subnets") or {}
    for name, stated in (now.get("subnets") or {}).items():
        if name in before and before[name].get("routes") != stated.get("routes"):
            what = f"the subnet {name} uses the route table {stated.get('routes')}"
            yield Part(what, "move", (name,), {"subnets": {name: {"routes": stated.get("routes")}}})


def _edges(data: Mapping[str, Any]) -> set[str]:
    """The tables of subnets in which exits stand: they are ready before traffic is sent to these exits."""
    places = {one.get("subnet") for one in (data.get("exits") or {}).values()}
    return {str(one.get("routes")) for name, one in (data.get("subnets") or {}).items() if name in places}


def _to(value: Any) -> str:
    several = value if isinstance(value, list) else [value]
    return " and ".join(str(one.get("exit")) if isinstance(one, dict) else str(one) for one in several)


def _removals(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[Part]:
    """What is no longer there: flows and workloads, then tables and subnets with exits, networks and addresses last."""
    for section, one in (
        ("flows", ""), ("workloads", ""), ("exits", "remove the exit"), ("destinations", ""), ("profiles", ""),
        ("subnets", "remove the subnet"), ("route_tables", "remove the route table"),
        ("networks", "remove the network"), ("public_addresses", "give back the public address"),
    ):  # fmt: skip
        for name in base.get(section) or {}:
            if name not in (now.get(section) or {}):
                kind = "remove" if one else FORGET
                yield Part(f"{one} {name}", kind, (name,) if one else (), {section: {name: None}})


def _changed(base: Mapping[str, Any], now: Mapping[str, Any], section: str) -> dict[str, Any]:
    was = base.get(section) or {}
    return {
        name: difference(was[name], stated) if name in was else stated
        for name, stated in (now.get(section) or {}).items()
        if was.get(name) != stated
    }


def difference(was: Any, is_: Any) -> Any:
    """The merge patch from one value to another."""
    if not isinstance(was, Mapping) or not isinstance(is_, Mapping):
        return is_
    gone = {key: None for key in was if key not in is_}
    return gone | {key: difference(was.get(key), value) for key, value in is_.items() if was.get(key) != value}
