"""What a case of `stress` does to an estate, as a merge patch."""

from typing import Any

from fenrask.designs.contract import Patch
from fenrask.estate import LOADS, Case, Described, DurationLaw

__all__ = ["all_cases", "case_patch", "scaled_flows", "single_faults", "without_exit", "without_zone"]


def case_patch(described: Described, case: Case) -> Patch:
    """All of a case at once. The load of hosts in a lost zone moves to their workload's other subnets."""
    patch: Patch = {}
    for zone in case.lose_zones:
        patch = _both(patch, without_zone(described, zone))
    if case.lose_zones:
        patch = _both(patch, _moved(described, case.lose_zones))
    for name in case.lose_exits:
        patch = _both(patch, without_exit(described, name))
    for name, number in case.lose_nodes.items():
        patch = _both(patch, _fewer(described, name, number))
    for name in case.sessions_down:
        patch = _both(patch, _down(described, name))
    if case.load_up:
        patch = _both(patch, scaled_flows(described, dict.fromkeys(described.estate.flows, 1 + case.load_up)))
    both: Patch = _both(patch, _far_end(described, case))
    return both


def _far_end(described: Described, case: Case) -> Patch:
    """What destinations do that are slow, or silent."""
    flows: dict[str, dict[str, Any]] = {}
    for name, flow in described.estate.flows.items():
        if flow.persistent_per_host is not None:
            continue
        if flow.to in case.slow:
            flows[name] = {"duration_s": _longer(flow.duration_s, case.slow[flow.to])}
        if flow.to in case.silent:
            flows[name] = {**flows.get(name, {}), **_UNANSWERED}
    return {"flows": flows} if flows else {}


_UNANSWERED = {
    "closed_share": 0.0,
    "reset_share": 0.0,
    "half_closed_share": 0.0,
    "rejected_share": 0.0,
    "unanswered_share": 1.0,
    "udp_streaming_share": 0.0,
    "udp_one_way_share": 1.0,
}
"""How connections end at a destination that is silent."""


def all_cases(described: Described) -> dict[str, Case]:
    """Every case that has a name: those that the estate states, and each single fault; a stated one wins."""
    return {**described.estate.stress, **single_faults(described), **described.estate.stress}


def single_faults(described: Described) -> dict[str, Case]:
    """The loss of each zone, each exit that an offer stands behind, each node of several, and each routing session."""
    estate = described.estate
    zones = dict.fromkeys(subnet.zone for subnet in estate.subnets.values() if subnet.zone)
    cases = {f"zone {zone} lost": Case(lose_zones=(zone,)) for zone in zones}
    for name, exit_ in estate.exits.items():
        if exit_.can_fail:
            cases[f"{name} lost"] = Case(lose_exits=(name,))
        if exit_.units > 1 and exit_.with_units(1) is not None:
            cases[f"a node of {name} lost"] = Case(lose_nodes={name: 1})
        for router in filter(None, exit_.sessions):
            cases[f"{name}'s session at {router} down"] = Case(sessions_down=(f"{name}/{router}",))
    return cases


def scaled_flows(described: Described, times: dict[str, float]) -> Patch:
    """The patch that gives flows so many times the load; volumes by the month grow with it."""
    flows: dict[str, dict[str, float]] = {}
    for name, factor in times.items():
        flow = described.estate.flows[name]
        keys = (*LOADS, "out_gib_per_month", "in_gib_per_month")
        flows[name] = {key: value * factor for key in keys if (value := getattr(flow, key)) is not None}
    return {"flows": flows}


def _both(one: Any, other: Any) -> Any:
    """Two patches as one: the second on top, and what either removes stays removed."""
    if not isinstance(one, dict) or not isinstance(other, dict):
        return other
    return {
        key: _both(one[key], other[key]) if key in one and key in other else {**one, **other}[key]
        for key in {**one, **other}
    }


def _moved(described: Described, zones: tuple[str, ...]) -> Patch:
    workloads: dict[str, dict[str, object]] = {}
    for name, workload in described.estate.workloads.items():
        left = [one for one in workload.subnets if described.estate.subnets[one].zone not in zones]
        if not left:
            workloads[name] = {"hosts": 0}
        elif len(left) < len(workload.subnets):
            workloads[name] = {"subnets": left}
    return {"workloads": workloads}


def _fewer(described: Described, name: str, number: int) -> Patch:
    exit_ = described.estate.exits[name]
    remaining = exit_.units - number
    changed = exit_.with_units(remaining) if remaining > 0 else None
    return {"exits": {name: changed}} if changed else without_exit(described, name)


def _down(described: Described, name: str) -> Patch:
    exit_name, _, router = name.partition("/")
    return {"exits": {exit_name: described.estate.exits[exit_name].without_session(router)}}


def _longer(duration: float | DurationLaw, times: float) -> Any:
    """A life as it is written, so many times as long."""
    if not isinstance(duration, DurationLaw):
        return duration * times
    scaled: dict[str, Any] = {
        key: value * times for key in ("mean", "p95") if (value := getattr(duration, key)) is not None
    }
    if duration.values:
        scaled["values"] = [value * times for value in duration.values]
    if duration.parts:
        scaled["parts"] = {name: _longer_part(part, times) for name, part in duration.parts.items()}
    return scaled


def _longer_part(part: Any, times: float) -> dict[str, float]:
    return {key: value * times for key in ("mean", "p95") if (value := getattr(part, key)) is not None}


def without_exit(described: Described, name: str) -> Patch:
    """The patch that takes an exit away, and what hangs on it."""
    hanging = [one for one, exit_ in described.estate.exits.items() if exit_.attached_to == name]
    return {"exits": dict.fromkeys([name, *hanging])}


def without_zone(described: Described, zone: str) -> Patch:
    """The patch that takes away what stands in a zone alone; an endpoint keeps its other zones."""
    lost: dict[str, object] = {}
    for name, exit_ in described.estate.exits.items():
        standing = [one for one in exit_.in_subnets if described.estate.subnets[one].zone != zone]
        if exit_.in_subnets and not standing:
            lost[name] = None
        elif len(standing) < len(exit_.in_subnets):
            lost[name] = {"subnets": standing}
    return {"exits": lost} if lost else {}
