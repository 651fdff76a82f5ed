"""Rules about filters, and the remedies that open one just as far as a flow needs."""

from collections.abc import Iterator, Mapping
from typing import Any

from fenrask.checks.contract import Context, Doubt, Fix
from fenrask.errors import Place
from fenrask.estate import EPHEMERAL, Estate, Filter, merge
from fenrask.estate.filters import DIRECTIONS
from fenrask.estate.wire import MTU
from fenrask.routing import Filters, FlowPath, Judged, Sending, Tracer, Verdict, traces_to

__all__ = ["denying", "filter_place", "opening", "opening_for", "path_mtu_hidden", "unused_rule"]


def denying(estate: Estate, path: FlowPath) -> Judged | None:
    """The filter that stops a flow, or its reply; None where no filter does."""
    judged = Filters(estate).judged(path.trace, path.workload)
    return next((one for one in judged if not one.allowed), None)


def filter_place(context: Context, judged: Judged) -> Place:
    """Where a filter is written."""
    return context.place(judged.crossing.section, judged.crossing.owner, "filters", judged.filter)


def allowing(estate: Estate, to: str, judged: Judged) -> Fix:
    """The patch that adds a rule before all others: for this destination, its port and protocol, or its replies."""
    destination = estate.destinations[to]
    rule: dict[str, Any] = {"action": "allow", "destinations": [to], "protocol": destination.protocol}
    if judged.is_reply:
        rule["ports"] = ["{}-{}".format(*EPHEMERAL)]
    elif destination.port:
        rule["ports"] = [destination.port]
    crossing = judged.crossing
    filter_: Filter = Filters(estate).at(crossing)[judged.filter]
    orders = [one.order for _, one in filter_.toward(judged.direction).rules if one.order is not None]
    if orders or filter_.toward(judged.direction).rules:
        rule["order"] = min([*orders, 1]) - 1
    name = f"{'replies-of' if judged.is_reply else 'allow'}-{to}"
    rules = {judged.direction: {name: rule}}
    return {crossing.section: {crossing.owner: {"filters": {judged.filter: rules}}}}


def opening(context: Context, path: FlowPath) -> Fix:
    """The patch that opens every filter on a flow's paths, one after the other: out, in, and for the replies."""
    flow = context.estate.flows[path.flow]
    return opening_for(context, flow.from_, flow.to)


def opening_for(context: Context, workload: str, destination: str) -> Fix:
    """The same from a workload to a destination, whether or not a flow goes there."""
    fix: Fix = {}
    for _ in range(_MOST_FILTERS):
        described = context.described.patched(fix, "a remedy") if fix else context.described
        estate, tracer = described.estate, Tracer(described)
        stated = estate.workloads[workload]
        found = (
            judged
            for subnet in stated.subnets
            for trace, _ in traces_to(tracer, Sending(subnet, destination, stated.public_address, workload))
            if trace.verdict in _STOPPED
            for judged in Filters(estate).judged(trace, workload)
            if not judged.allowed
        )
        judged = next(found, None)
        if judged is None:
            break
        fix = merge(fix, allowing(estate, destination, judged))
    return fix


def path_mtu_hidden(context: Context) -> Iterator[Doubt]:
    """A path with packets smaller than usual, whose filter keeps senders from learning it (RFC 1191, RFC 4890)."""
    estate, filters, seen = context.estate, Filters(context.estate), set[tuple[str, str, str, str]]()
    small = {name: one.largest_packet for name, one in estate.exits.items() if one.largest_packet < MTU}
    if not small or not any(one.drops_icmp for one in estate.filters):
        return
    for path in context.paths.first_of_each(
        lambda trace: trace.verdict.arrives and not small.keys().isdisjoint(trace.exits)
    ):
        exit_ = min((name for name in path.trace.exits if name in small), key=lambda name: small[name])
        for crossing in filters.crossings(path.trace, path.workload):
            for name, filter_ in filters.at(crossing).items():
                key = (crossing.section, crossing.owner, name, exit_)
                if not filter_.drops_icmp or key in seen:
                    continue
                seen.add(key)
                cause = (
                    f"{exit_} takes packets of {small[exit_]:,} bytes, and filter {name} of {crossing.owner} drops "
                    f"ICMP: {path.flow} stalls where packets are larger"
                )
                place = context.place(crossing.section, crossing.owner, "filters", name, "drops_icmp")
                fix: Fix = {crossing.section: {crossing.owner: {"filters": {name: {"drops_icmp": False}}}}}
                remedy = f"Let ICMP errors in (RFC 4890), or set hosts' MTU to {small[exit_]:,}."
                yield Doubt(place, cause, remedy, fix)


_MOST_FILTERS = 8
_STOPPED = (Verdict.DENIED, Verdict.REPLY_DENIED)


def unused_rule(context: Context) -> Iterator[Doubt]:
    """An allow rule of a filter that no packet of a flow, and no reply, passes by."""
    estate = context.estate
    if not estate.filters:
        return
    filters = Filters(estate)
    used = {
        (one.crossing.section, one.crossing.owner, one.filter, one.direction, one.rule)
        for path in context.paths.owns
        for one in filters.judged(path.trace, path.workload)
    }
    for section, owner, name, direction, rule, alone in _allowing(estate):
        if (section, owner, name, direction, rule) not in used:
            cause = f"no flow needs what {rule} of filter {name} of {owner} allows ({direction})"
            place = context.place(section, owner, "filters", name, direction, rule)
            rules: dict[str, Any] = {direction: {rule: None}}
            if alone:
                # Without its last rule a direction would let everything pass.
                rules[f"{direction}_default"] = "deny"
            remedy = "Remove it." if direction == "out" else "State the flow that comes in by it, or remove it."
            yield Doubt(place, cause, remedy, {section: {owner: {"filters": {name: rules}}}})


def _allowing(estate: Estate) -> Iterator[tuple[str, str, str, str, str, bool]]:
    """Every allow rule: section, owner, filter, direction, its name, and whether its direction has no other rule."""
    sections: dict[str, dict[str, Mapping[str, Filter]]] = {
        "subnets": {name: one.filters for name, one in estate.subnets.items()},
        "workloads": {name: one.filters for name, one in estate.workloads.items()},
        "exits": {name: one.own_filters for name, one in estate.exits.items()},
    }
    for section, owners in sections.items():
        for owner, stated in owners.items():
            for name, filter_ in stated.items():
                for direction in DIRECTIONS:
                    rules = filter_.toward(direction).rules
                    for rule, ruled in rules:
                        if ruled.action == "allow":
                            yield section, owner, name, direction, rule, len(rules) == 1
