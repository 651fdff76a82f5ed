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
    for section, new, one in (
        ("public_addresses", "order the public address", "change the public address"),
        ("networks", "add the network", "change the network"),
    ):
        for name, patch in _changed(base, now, section).items():
            what = one if name in (base.get(section) or {}) else new
            yield Part(f"{what} {name}", "add", (name,), {section: {name: patch}})
    yield from _subnets(base, now)
    yield from _exits(base.get("exits") or {}, now.get("exits") or {})
    yield from _told(base, now, _TOLD)
    yield from _own_changes(base, now, "workloads", "the hosts of")
    yield from _routes(base, now)
    # A service is taken off the internet when it is reached privately.
    yield from _own_changes(base, now, "destinations", "the service")
    yield from _removals(base, now)


_BEFORE_TRAFFIC = ("filters", "rules", "default", "access", "allowed_from", "networks", "publishes")
_AFTER_ALL = ("names_in",)
"""Keys of an exit: what is in force before traffic comes, and what brings it, each in a step of its own."""


def _exits(was: Mapping[str, Any], is_: Mapping[str, Any]) -> Iterator[Part]:
    """New exits, which nothing uses yet; then what changes at others, which partners may see."""
    for name, stated in is_.items():
        if name not in was:
            yield Part(f"add the exit {name} ({stated.get('kind', '')})", "add", (name,), {"exits": {name: stated}})
    for name, stated in is_.items():
        if name not in was or stated == was[name]:
            continue
        patch = difference(was[name], stated)
        apart = set() if {"kind", "offer"} & {*patch} else {*_BEFORE_TRAFFIC, *_AFTER_ALL} & {*patch}
        rest = [key for key in patch if key not in apart]
        first, last = ([[key] for key in some if key in apart] for some in (_BEFORE_TRAFFIC, _AFTER_ALL))
        for keys in (*first, *([rest] if rest else []), *last):
            own = {"exits": {name: {key: patch[key] for key in keys}}}
            yield Part(f"change the exit {name}: {', '.join(keys)}", "add", (name,), own)


_OWN = {"workloads": ("filters", "public_address"), "destinations": ("public_access", "allowed", "only_through")}
"""What of an entry that describes the work is built, by section."""


def _own_changes(base: Mapping[str, Any], now: Mapping[str, Any], section: str, of: str) -> Iterator[Part]:
    """What is built of entries that exist already and are described beside it."""
    was = base.get(section) or {}
    for name, patch in _changed(base, now, section).items():
        own = {key: value for key, value in patch.items() if key in _OWN[section]} if name in was else {}
        if own:
            told = ", ".join(f"{key} {value}" if isinstance(value, str | bool) else key for key, value in own.items())
            yield Part(f"change {of} {name}: {told}", "move", (name,), {section: {name: own}})


def _told(base: Mapping[str, Any], now: Mapping[str, Any], keys: Sequence[str]) -> Iterator[Part]:
    """What changes in the description of the work; what goes, goes at the end."""
    for key in keys:
        is_ = now.get(key)
        if is_ is None or base.get(key) == is_:
            continue
        patch = difference(base.get(key), is_)
        if isinstance(patch, dict):
            patch = {name: _only_said(base, key, name, one) for name, one in patch.items() if one is not None}
            patch = {name: one for name, one in patch.items() if one != {} or name not in (base.get(key) or {})}
        if patch != {}:
            yield Part("", DESCRIBE, (), {key: patch})


def _only_said(base: Mapping[str, Any], section: str, name: str, patch: Any) -> Any:
    """Without what is built of an entry that exists already: see `_own_changes`."""
    if section not in _OWN or name not in (base.get(section) or {}) or not isinstance(patch, Mapping):
        return patch
    return {key: value for key, value in patch.items() if key not in _OWN[section]}


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
