"""In which order a plan is built from what there is: each step a patch, tried on the estate before it is told.

What is new comes first and carries nothing; then routes move, table by table; what is no longer used goes last. A step
after which a flow fails that worked before, and works in the end, is done together with those that follow.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fenrask.designs.changes import FlowChange, moves
from fenrask.designs.contract import Patch
from fenrask.errors import UnusableInput
from fenrask.evaluation import Evaluation, evaluate
from fenrask.routing import FlowPath

__all__ = ["BuildStep", "Look", "build_steps", "nothing_built"]

_TOLD_FIRST = ("destinations", "profiles")
_TOLD = ("estate", "workloads", "flows", "targets", "wage_per_hour", "stress", "accepted")
"""What describes the work and is not built: taken over on the way, in no step of its own."""


@dataclass(frozen=True)
class Look:
    """What must be seen after a step: from a subnet, at a destination."""

    flow: str
    subnet: str
    destination: str
    exits: tuple[str, ...]
    source: str
    """The source address that the destination sees; empty where nothing arrives."""
    verdict: str
    comes_in: bool = False
    """Whether the other end opens the connections: the subnet is then theirs, or who they are."""


@dataclass(frozen=True)
class BuildStep:
    """One step: what is done, the patch of the estate that says the same, and what to look at before the next."""

    what: str
    kind: str
    """`add`, `move` or `remove`."""
    names: tuple[str, ...]
    """The exits, tables or other entries that it is about."""
    patch: Patch
    after: Evaluation
    looks: tuple[Look, ...]
    """Paths that are other than before, and, for what is new and carries nothing yet, none."""
    moved: tuple[FlowChange, ...]
    """Flows whose paths change, with the connections that break at the peak and for how long."""


_DESCRIBE, _FORGET = "describe", "forget"
"""What is not built and only said: taken over with the first step, and with the last."""


@dataclass(frozen=True)
class _Part:
    what: str
    kind: str
    names: tuple[str, ...]
    patch: Patch


def nothing_built(now: Evaluation) -> Evaluation:
    """The estate before anything of the plan is there: no exit, and every route table empty."""
    data = now.described.data
    patch: Patch = {"exits": dict.fromkeys(data.get("exits") or {})}
    patch["route_tables"] = {
        name: dict.fromkeys(stated or {}) for name, stated in (data.get("route_tables") or {}).items()
    }
    return evaluate(now.described.patched(patch, "before"))


def build_steps(base: Evaluation, now: Evaluation) -> list[BuildStep]:
    """The steps from one estate to the other; none where they say the same of what is built."""
    steps: list[BuildStep] = []
    before = base
    parts = list(_parts(base.described.data, now.described.data))
    waiting = [part for part in parts if part.kind not in (_DESCRIBE, _FORGET)]
    describing = [part for part in parts if part.kind == _DESCRIBE]
    forgetting = [part for part in parts if part.kind == _FORGET]
    while waiting:
        together, after = _next(before, waiting, describing, now)
        waiting = [part for part in waiting if part not in together]
        describing = [part for part in describing if part not in together]
        if not waiting:
            together += [*describing, *forgetting]
            after = _tried(before, together) or after
        steps.append(_step(together, before, after))
        before = after
    return steps


def _next(
    before: Evaluation, waiting: Sequence[_Part], describing: Sequence[_Part], now: Evaluation
) -> tuple[list[_Part], Evaluation]:
    """The first part after which all works that is to work; else as few of the first as do it together; else all."""
    tries = [[*describing, part] for part in waiting]
    tries += [[part] for part in waiting] if describing else []
    tries += [[*describing, *waiting[:number]] for number in range(2, len(waiting))]
    for together in tries:
        after = _tried(before, together)
        if after is not None and not _fails_on_the_way(before, after, now):
            return together, after
    together = [*describing, *waiting]
    return together, evaluate(before.described.patched(_patch(together), "build step"), like=before)


def _tried(before: Evaluation, parts: Sequence[_Part]) -> Evaluation | None:
    """The estate with these parts done; None where it does not hold together yet."""
    try:
        return evaluate(before.described.patched(_patch(parts), "build step"), like=before)
    except UnusableInput:
        return None


def _patch(parts: Sequence[_Part]) -> Patch:
    patch: Patch = {}
    for one in parts:
        patch = merge_patches(patch, one.patch)
    return patch


def merge_patches(one: Any, other: Any) -> Any:
    """Two merge patches as one: the second wins, and what it removes stays removed."""
    if not isinstance(one, dict) or not isinstance(other, dict):
        return other
    return {**one, **{key: merge_patches(one.get(key), value) for key, value in other.items()}}


def _step(parts: Sequence[_Part], before: Evaluation, after: Evaluation) -> BuildStep:
    known = {_look(path) for path in before.paths.paths}
    looks = dict.fromkeys(look for path in after.paths.paths if (look := _look(path)) not in known)
    moved = tuple(moves(before, after))
    patch = _patch(parts)
    parts = [part for part in parts if part.kind not in (_DESCRIBE, _FORGET)]
    kind = next((one for one in ("move", "remove", "add") if any(part.kind == one for part in parts)), "add")
    names = tuple(dict.fromkeys(name for part in parts for name in part.names))
    return BuildStep("; ".join(part.what for part in parts), kind, names, patch, after, tuple(looks), moved)


def _look(path: FlowPath) -> Look:
    trace = path.example
    source = str(trace.source) if trace.verdict.arrives else ""
    if trace.inward is not None:
        to = f"{path.workload}:{trace.inward.port} in {path.subnet}"
        return Look(path.flow, trace.inward.origin, to, trace.exits, source, trace.verdict.value, comes_in=True)
    return Look(path.flow, path.subnet, path.to, trace.exits, source, trace.verdict.value)


def _fails_on_the_way(before: Evaluation, after: Evaluation, now: Evaluation) -> bool:
    """Whether a flow that works before the step, and in the end, does not after it."""
    was, is_, then = (one.paths.works_from for one in (before, after, now))
    none: frozenset[str] = frozenset()
    return any(subnets & then.get(flow, none) - is_.get(flow, none) for flow, subnets in was.items())


def _parts(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[_Part]:
    """The smallest steps in the order of work."""
    yield from _told(base, now, _TOLD_FIRST)
    for section, one in (("public_addresses", "order the public address"), ("networks", "add the network")):
        for name, patch in _changed(base, now, section).items():
            yield _Part(f"{one} {name}", "add", (name,), {section: {name: patch}})
    yield from _subnets(base, now)
    was, is_ = base.get("exits") or {}, now.get("exits") or {}
    for name, stated in is_.items():
        if name not in was:
            yield _Part(f"add the exit {name} ({stated.get('kind', '')})", "add", (name,), {"exits": {name: stated}})
        elif stated != was[name]:
            patch = _difference(was[name], stated)
            yield _Part(f"change the exit {name}: {', '.join(patch)}", "add", (name,), {"exits": {name: patch}})
    yield from _told(base, now, _TOLD)
    yield from _routes(base, now)
    yield from _removals(base, now)


def _told(base: Mapping[str, Any], now: Mapping[str, Any], keys: Sequence[str]) -> Iterator[_Part]:
    """What changes in the description of the work; what goes, goes at the end."""
    for key in keys:
        is_ = now.get(key)
        if is_ is None or base.get(key) == is_:
            continue
        patch = _difference(base.get(key), is_)
        if isinstance(patch, dict):
            patch = {name: one for name, one in patch.items() if one is not None}
        yield _Part("", _DESCRIBE, (), {key: patch})


def _subnets(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[_Part]:
    """New subnets with their tables, which are still empty; and subnets' own settings, but for their tables."""
    tables = [name for name in now.get("route_tables") or {} if name not in (base.get("route_tables") or {})]
    if tables:
        yield _Part(
            f"add the route tables {', '.join(tables)}, empty",
            "add",
            tuple(tables),
            {"route_tables": {t: {} for t in tables}},
        )
    was = base.get("subnets") or {}
    for name, stated in (now.get("subnets") or {}).items():
        if name not in was:
            yield _Part(f"add the subnet {name}", "add", (name,), {"subnets": {name: stated}})
        else:
            patch = {key: value for key, value in _difference(was[name], stated).items() if key != "routes"}
            if patch:
                yield _Part(
                    f"change the subnet {name}: {', '.join(patch)}", "move", (name,), {"subnets": {name: patch}}
                )


def _routes(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[_Part]:
    """Tables filled and changed one by one, new ones first, and where exits stand; then subnets change tables."""
    was = base.get("route_tables") or {}
    tables = now.get("route_tables") or {}
    edges = _edges(now)
    for name in sorted(tables, key=lambda one: (one in was, one not in edges)):
        patch = _difference(was.get(name) or {}, tables[name] or {})
        if patch:
            routes = [f"{key} to {_to(value)}" if value is not None else f"no {key}" for key, value in patch.items()]
            kind = "move" if name in was else "add"
            yield _Part(
                f"in the route table {name}: {', '.join(routes)}", kind, (name,), {"route_tables": {name: patch}}
            )
    before = base.get("subnets") or {}
    for name, stated in (now.get("subnets") or {}).items():
        if name in before and before[name].get("routes") != stated.get("routes"):
            what = f"the subnet {name} uses the route table {stated.get('routes')}"
            yield _Part(what, "move", (name,), {"subnets": {name: {"routes": stated.get("routes")}}})


def _edges(data: Mapping[str, Any]) -> set[str]:
    """The tables of subnets in which exits stand: they are ready before traffic is sent to these exits."""
    places = {one.get("subnet") for one in (data.get("exits") or {}).values()}
    return {str(one.get("routes")) for name, one in (data.get("subnets") or {}).items() if name in places}


def _to(value: Any) -> str:
    several = value if isinstance(value, list) else [value]
    return " and ".join(str(one.get("exit")) if isinstance(one, dict) else str(one) for one in several)


def _removals(base: Mapping[str, Any], now: Mapping[str, Any]) -> Iterator[_Part]:
    """What is no longer there: flows and workloads, then tables and subnets with exits, networks and addresses last."""
    for section, one in (
        ("flows", ""), ("workloads", ""), ("exits", "remove the exit"), ("destinations", ""), ("profiles", ""),
        ("subnets", "remove the subnet"), ("route_tables", "remove the route table"),
        ("networks", "remove the network"), ("public_addresses", "give back the public address"),
    ):  # fmt: skip
        for name in base.get(section) or {}:
            if name not in (now.get(section) or {}):
                kind = "remove" if one else _FORGET
                yield _Part(f"{one} {name}", kind, (name,) if one else (), {section: {name: None}})


def _changed(base: Mapping[str, Any], now: Mapping[str, Any], section: str) -> dict[str, Any]:
    was = base.get(section) or {}
    return {
        name: _difference(was[name], stated) if name in was else stated
        for name, stated in (now.get(section) or {}).items()
        if was.get(name) != stated
    }


def _difference(was: Any, is_: Any) -> Any:
    """The merge patch from one value to another."""
    if not isinstance(was, Mapping) or not isinstance(is_, Mapping):
        return is_
    gone = {key: None for key in was if key not in is_}
    return gone | {key: _difference(was.get(key), value) for key, value in is_.items() if was.get(key) != value}
