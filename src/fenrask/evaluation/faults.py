"""What a case of `stress` does to an estate, as a merge patch."""

from collections.abc import Container, Mapping
from typing import Any

from fenrask.estate import LOADS, Case, Described, DurationLaw, Fault, Flow, merge_patches
from fenrask.prefixes import covers

__all__ = [
    "all_cases",
    "asking_by_name",
    "case_patch",
    "faults",
    "losses_patch",
    "scaled",
    "scaled_flows",
    "single_faults",
    "survivors",
    "without_exit",
    "without_zone",
]

Patch = dict[str, Any]


def case_patch(described: Described, case: Case) -> Patch:
    """All of a case at once. The load of hosts in a lost zone moves to their workload's other subnets."""
    patch = losses_patch(described, case)
    if case.lose_zones:
        patch = merge_patches(patch, _moved(described, case.lose_zones))
    if case.load_up:
        patch = merge_patches(patch, scaled_flows(described, dict.fromkeys(described.estate.flows, 1 + case.load_up)))
    both: Patch = merge_patches(patch, _far_end(described, case))
    return both


def losses_patch(described: Described, case: Case) -> Patch:
    """What a case takes from the network: exits, nodes and sessions; all hosts stay where they are."""
    patch: Patch = {}
    for zone in case.lose_zones:
        patch = merge_patches(patch, without_zone(described, zone))
    for name in case.lose_exits:
        patch = merge_patches(patch, without_exit(described, name))
    for name, number in case.lose_nodes.items():
        patch = merge_patches(patch, _fewer(described, name, number))
    for name in case.sessions_down:
        patch = merge_patches(patch, _down(described, name))
    return patch


def _far_end(described: Described, case: Case) -> Patch:
    """What destinations do that are slow, or silent."""
    flows: dict[str, dict[str, Any]] = {}
    if not (case.slow or case.silent or case.rejecting or case.resolver_down):
        return {}
    for name, flow in described.estate.flows.items():
        if flow.persistent_per_host is not None:
            continue
        if flow.remote in case.slow:
            flows[name] = {"duration_s": _longer(flow.duration_s, case.slow[flow.remote])}
        if flow.remote in case.silent:
            flows[name] = {**flows.get(name, {}), **_UNANSWERED, **_tries(flow, _GIVES_UP_S)}
        if flow.remote in case.rejecting:
            flows[name] = {**flows.get(name, {}), **_REJECTED, **_tries(flow, 0.0)}
        if flow.remote in case.resolver_down:
            again = {key: value * _QUERIES for key in LOADS if (value := getattr(flow, key)) is not None}
            flows[name] = {**flows.get(name, {}), **_UNANSWERED, **again}
    for name in asking_by_name(described, case):
        flow = described.estate.flows[name]
        flows[name] = {key: 0.0 for key in LOADS if getattr(flow, key) is not None}
    return {"flows": flows} if flows else {}


def asking_by_name(described: Described, case: Case) -> list[str]:
    """The flows that open nothing new when resolvers are down: to named destinations, from hosts that ask these."""
    estate = described.estate
    asking = {flow.from_ for flow in estate.outward_flows.values() if flow.to in case.resolver_down}
    asking |= {name for name, one in estate.workloads.items() if one.resolver in case.resolver_down}
    return [
        name
        for name, flow in estate.outward_flows.items()
        if flow.from_ in asking
        and flow.to not in case.resolver_down
        and flow.persistent_per_host is None
        and estate.destinations[flow.to].names
    ]


def _tries(flow: Flow, takes_s: float) -> dict[str, float | None]:
    """Where a client keeps connections: a try for each request, since none comes about; of a most, one after the other.

    takes_s: how long a try takes.
    """
    if flow.requests_per_host_per_s is None:
        return {}
    most = flow.pool_max / takes_s if flow.pool_max is not None and takes_s else flow.requests_per_host_per_s
    pool = dict.fromkeys(("requests_per_host_per_s", "pool_idle_s", "pool_max", "requests_at_once"))
    return {**pool, "per_host_per_s": min(flow.requests_per_host_per_s, most)}


_GIVES_UP_S = 63.0
"""After which a host takes a SYN that is never answered for lost: tries after 1, 2, 4, 8, 16, 32 s (RFC 6298)."""
_QUERIES = 2
"""How often a host asks a resolver that does not answer: twice is what C libraries do unless they are told (RFC 1123,
6.1.3.3, asks for several tries)."""
_REJECTED = {
    "closed_share": 0.0,
    "reset_share": 0.0,
    "half_closed_share": 0.0,
    "rejected_share": 1.0,
    "unanswered_share": 0.0,
    "udp_streaming_share": 0.0,
    "udp_one_way_share": 1.0,
}
"""How connections end at a destination that rejects them all: a reset for each, no answer to a datagram."""
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
    return {name: case for name, (_, case) in faults(described).items()}


def faults(described: Described) -> dict[str, tuple[Fault, Case]]:
    """The same, each with its kind."""
    estate = described.estate
    zones = dict.fromkeys(subnet.zone for subnet in estate.subnets.values() if subnet.zone)
    cases: dict[str, tuple[Fault, Case]]
    cases = {f"zone {zone} lost": ("zone-loss", Case(lose_zones=(zone,))) for zone in zones}
    for name, exit_ in estate.exits.items():
        if exit_.can_fail:
            cases[f"{name} lost"] = "exit-loss", Case(lose_exits=(name,))
        if exit_.units > 1 and exit_.with_units(1) is not None:
            cases[f"a node of {name} lost"] = "node-loss", Case(lose_nodes={name: 1})
        for router, is_up in exit_.sessions.items() if exit_.speaks else ():
            at = f" at {router}" if router else ""
            if is_up:
                case = Case(sessions_down=(f"{name}/{router}" if router else name,))
                cases[f"{name}'s session{at} down"] = "session-loss", case
    return cases


def scaled_flows(described: Described, times: dict[str, float]) -> Patch:
    """The patch that gives flows so many times the load; volumes by the month grow with it."""
    flows: dict[str, dict[str, Any]] = {}
    for name, factor in times.items():
        flow = described.estate.flows[name]
        keys = (*LOADS, "out_gib_per_month", "in_gib_per_month")
        stated = (described.data.get("flows") or {}).get(name) or {}
        known = {key: value for key in keys if (value := getattr(flow, key)) is not None}
        flows[name] = {key: scaled(stated.get(key), value, factor) for key, value in known.items()}
    return {"flows": flows}


def scaled(stated: Any, value: float, factor: float) -> Any:
    """A quantity that is so many times as large: a range where it is stated as one, but for nothing at all."""
    if not isinstance(stated, Mapping) or factor <= 0:
        return value * factor
    return {key: one if isinstance(one, str) else one * factor for key, one in stated.items()}


def survivors(described: Described, workload: str, zones: Container[str | None]) -> list[str]:
    """The subnets in which hosts of a workload are left after the loss of zones: those that it has hosts in."""
    estate = described.estate
    return [one for one, part in estate.host_shares(workload).items() if part and estate.subnets[one].zone not in zones]


def _moved(described: Described, zones: tuple[str, ...]) -> Patch:
    estate, workloads = described.estate, dict[str, dict[str, object]]()
    for name, workload in estate.workloads.items():
        left = [one for one in workload.subnets if estate.subnets[one].zone not in zones]
        if not survivors(described, name, zones):
            workloads[name] = {"hosts": 0}
        elif len(left) < len(workload.subnets):
            workloads[name] = {"subnets": left}
            prefixes = [prefix for one in left for prefix in estate.subnets[one].prefixes]
            inside = [one for one in workload.hosts_in if any(covers(prefix, one) for prefix in prefixes)]
            if len(inside) < len(workload.hosts_in):
                workloads[name]["hosts_in"] = [*map(str, inside)]
            if not workload.load_moves:
                shares = estate.host_shares(name)
                workloads[name]["hosts"] = round(workload.hosts * float(sum(shares[one] for one in left)))
    return {"workloads": workloads}


def _fewer(described: Described, name: str, number: int) -> Patch:
    exit_ = described.estate.exits[name]
    remaining = exit_.units - number
    changed = exit_.with_units(remaining) if remaining > 0 else None
    return {"exits": {name: changed}} if changed else without_exit(described, name)


def _down(described: Described, name: str) -> Patch:
    exit_name, router = described.estate.session(name)
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
        scaled |= {"shares": [*duration.shares]} if duration.shares else {}
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
            lost[name] = exit_.left_in(standing)
    return {"exits": lost} if lost else {}
