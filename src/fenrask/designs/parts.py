"""The smallest parts of a change from one estate to another, in the order in which they are best done.

What is new comes first and carries nothing; then routes move, table by table; what is no longer used goes last.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Any

from fenrask.designs.contract import Patch
from fenrask.estate import KINDS, merge_patches

__all__ = ["Part", "difference", "parts_of", "patch_of"]

_TOLD_FIRST = ("destinations", "profiles")
_TOLD = ("estate", "workloads", "flows", "targets", "wage_per_hour", "stress", "accepted")
"""What describes the work and is not built: taken over on the way, in no step of its own."""
DESCRIBE, FORGET = "describe", "forget"
"""What is not built and only said: taken over with the first step, and with the last."""


@dataclass(frozen=True, eq=False)
class Part:
    """One thing to do: `add`, `move`, `remove`, or what is only said; the entries that it is about, and the patch."""

    what: str
    kind: str
    names: tuple[str, ...]
    patch: Patch
    follows: "Part | None" = None
    """What is done before it, whatever else is."""

    @property
    def is_work(self) -> bool:
        """Whether somebody has to do something."""
        return self.kind not in (DESCRIBE, FORGET)


def patch_of(parts: Sequence[Part]) -> Patch:
    """The patch of several parts, done in this order."""
    patch: Patch = {}
    for part in parts:
        patch = merge_patches(patch, part.patch)
    return patch


def parts_of(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[Part]:
    """The smallest steps in the order of work."""
    yield from _told(base, now, _TOLD_FIRST)
    for section, new, changed in (
        ("public_addresses", "order the public address", "change the public address"),
        ("networks", "add the network", "change the network"),
    ):
        for name, patch in _changed(base, now, section).items():
            what = changed if name in (base.get(section) or {}) else new
            yield Part(f"{what} {name}", "add", (name,), {section: {name: patch}})
    yield from _subnets(base, now)
    exits = [*_exits(base, now)]
    yield from (part for when, part in exits if when is _When.FIRST)
    yield from _told(base, now, _TOLD)
    yield from _own_changes(base, now, "workloads", "the hosts of")
    yield from _routes(base, now)
    yield from (part for when, part in exits if when is _When.STEERING)
    # A service is taken off the internet when it is reached privately.
    yield from _own_changes(base, now, "destinations", "the service")
    yield from (part for when, part in exits if when is _When.LAST)
    yield from _removals(base, now)


class _When(Enum):
    FIRST = 0
    STEERING = 1
    """When every table has its new routes."""
    LAST = 2
    """When nothing uses it any more."""


def _exits(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[tuple[_When, Part]]:
    """New exits, which nothing uses yet; what changes at others, which partners may see; and what goes."""
    was, is_ = base.get("exits") or {}, now.get("exits") or {}
    for name, stated in is_.items():
        if name not in was:
            yield from _new_exit(name, stated, now)
    for name, stated in is_.items():
        if name in was and stated != was[name]:
            yield from _changed_exit(name, was[name], stated)
    for name, stated in was.items():
        if name not in is_:
            before: Part | None = None
            for what, patch in KINDS[stated["kind"]].removed_by(stated):
                before = Part(f"change the exit {name}: {what}", "move", (name,), {"exits": {name: patch}})
                yield _When.STEERING, before
            yield _When.LAST, Part(f"remove the exit {name}", "remove", (name,), {"exits": {name: None}}, before)


def _new_exit(name: str, stated: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[tuple[_When, Part]]:
    kind, before = KINDS[stated["kind"]], None
    for what, patch in kind.built_by(stated, _askers(stated, now) if kind.steering else []):
        told = f"change the exit {name}: {what}" if what else f"add the exit {name} ({stated['kind']})"
        steers = before is not None and {*patch} <= {*kind.keys_of("steering")}
        before = Part(told, "move" if steers else "add", (name,), {"exits": {name: patch}}, before)
        yield _When.STEERING if steers else _When.FIRST, before


def _askers(stated: Mapping[str, Any], now: Mapping[str, Any]) -> list[str]:
    """The subnets from which flows go to the destination of an exit, in networks where its name may resolve to it."""
    subnets, workloads = now.get("subnets") or {}, now.get("workloads") or {}
    places = [subnets[one]["network"] for one in stated.get("subnets") or () if one in subnets]
    networks = {*places, *(stated.get("names_in") or ())}
    sending = dict.fromkeys(
        flow.get("from") for flow in (now.get("flows") or {}).values() if flow.get("to") == stated.get("destination")
    )
    own = (subnet for one in sending if one in workloads for subnet in workloads[one].get("subnets") or ())
    return list(dict.fromkeys(one for one in own if one in subnets and subnets[one]["network"] in networks))


def _changed_exit(name: str, was: Mapping[str, Any], is_: Mapping[str, Any]) -> Iterator[tuple[_When, Part]]:
    patch = difference(was, is_)
    if "kind" in patch:
        yield _When.FIRST, Part(f"change the exit {name}: {', '.join(patch)}", "add", (name,), {"exits": {name: patch}})
        return
    kind = KINDS[is_["kind"]]
    first, grow, own, last = (
        [key for key in kind.keys_of(what) if key in patch]
        for what in ("in_force_first", "added_and_taken", "own_steps", "steering")
    )
    for key in first:
        yield _When.FIRST, _of_keys(name, patch, [key])
    for key in grow:
        yield from _grown(name, key, was.get(key), is_.get(key))
    for key in ("offer", *own):
        if key in patch:
            yield _When.FIRST, _of_keys(name, patch, [key])
    if rest := [key for key in patch if key not in (*first, *grow, "offer", *own, *last)]:
        yield _When.FIRST, _of_keys(name, patch, rest)
    for key in last:
        yield _When.STEERING, _of_keys(name, patch, [key])


def _of_keys(name: str, patch: Mapping[str, Any], keys: Sequence[str]) -> Part:
    own = {"exits": {name: {key: patch[key] for key in keys}}}
    return Part(f"change the exit {name}: {', '.join(keys)}", "add", (name,), own)


def _grown(name: str, key: str, was: Any, is_: Any) -> Iterator[tuple[_When, Part]]:
    """What a list gains, which is there before traffic is; and what it loses, when no traffic needs it."""
    more, before = _both(was, is_), None
    if isinstance(was, list) and more is is_ and not isinstance(is_, list):
        # None of those that are listed stays: what else is to leave this exit is gone by then.
        yield _When.LAST, Part(_set(name, key, is_), "move", (name,), {"exits": {name: {key: is_}}})
    elif more != was:
        what = f"add to the exit {name}: {key} {told}" if (told := _gained(was, more)) else _set(name, key, more)
        before = Part(what, "add", (name,), {"exits": {name: {key: more}}})
        yield _When.FIRST, before
    if more != is_:
        what = f"take from the exit {name}: {key} {told}" if (told := _gained(is_, more)) else _set(name, key, is_)
        patch = difference(more, is_) if isinstance(more, Mapping) else is_
        yield _When.LAST, Part(what, "remove", (name,), {"exits": {name: {key: patch}}}, before)


def _set(name: str, key: str, value: Any) -> str:
    return f"change the exit {name}: {key}" + (f" {value}" if isinstance(value, str | int) else "")


def _both(was: Any, is_: Any) -> Any:
    """All that one value or the other holds, of lists, and of lists by name; of two numbers the larger."""
    if isinstance(was, list) and isinstance(is_, list):
        new = [one for one in is_ if one not in was]
        return is_ if len(new) + len(was) == len(is_) else [*was, *new]
    if isinstance(was, Mapping) and isinstance(is_, Mapping):
        return {**was, **{key: _both(was.get(key), value) for key, value in is_.items()}}
    if type(was) is int and type(is_) is int:
        return max(was, is_)
    return was if is_ is None else is_


def _gained(was: Any, is_: Any) -> str:
    """The entries that a list has more than another, in words; empty for other values."""
    if not isinstance(is_, list) or not isinstance(was, list):
        return ""
    return " ".join(str(one) for one in is_ if one not in was)


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
    for name in sorted(tables, key=lambda table: (table in was, table not in edges)):
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
    """What is no longer there but for exits: flows and workloads, subnets and tables, networks and addresses last."""
    for section, words in (
        ("flows", ""), ("workloads", ""), ("destinations", ""), ("profiles", ""),
        ("subnets", "remove the subnet"), ("route_tables", "remove the route table"),
        ("networks", "remove the network"), ("public_addresses", "give back the public address"),
    ):  # fmt: skip
        for name in base.get(section) or {}:
            if name not in (now.get(section) or {}):
                # A flow that ends needs nothing on the way.
                kind = "remove" if words else DESCRIBE if section == "flows" else FORGET
                yield Part(f"{words} {name}", kind, (name,) if words else (), {section: {name: None}})


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
