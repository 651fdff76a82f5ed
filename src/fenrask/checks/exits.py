"""Rules about exits: where they are, what they show, what they let pass."""

from collections.abc import Iterator

import numpy as np

from fenrask.checks.contract import Context, Doubt
from fenrask.estate import Inspecting, Onward
from fenrask.estate.suggestions import some
from fenrask.routing import Verdict

__all__ = [
    "assigned_at",
    "forwarding_off",
    "gateway_without_address",
    "gateway_without_internet_route",
    "keepalive_exceeds_idle_timeout",
    "rule_allows_everything",
    "source_may_change",
    "zone_offer_for_network",
]


def gateway_without_internet_route(context: Context) -> Iterator[Doubt]:
    """An exit with public addresses in a subnet whose table has no route to an internet exit, nor to another exit."""
    for name, exit_ in context.estate.exits.items():
        if not exit_.translates or not exit_.in_subnets or exit_.pool is not None:
            continue
        subnet = exit_.in_subnets[0]
        onward = [context.estate.exits.get(route.exit) for route in context.paths.routes.of(subnet).routes]
        # A table that sends back to the exit itself is a loop, and reported as one.
        if any(one is exit_ or (one and one.onward in (Onward.INTERNET, Onward.TABLE, Onward.HUB)) for one in onward):
            continue
        network = context.estate.subnets[subnet].network
        internet = [
            one
            for one, other in context.estate.exits.items()
            if other.of_network == network and other.takes_public_sources
        ]
        cause = f"{name} is in {subnet}, whose route table has no route to an internet exit"
        place = context.place("exits", name, "subnet")
        table = context.estate.table_of(subnet)
        if internet and table is not None:
            fix = {
                "route_tables": {f"{subnet}-public": {"0.0.0.0/0": internet[0]}},
                "subnets": {subnet: {"routes": f"{subnet}-public"}},
            }
            yield Doubt(place, cause, f"Give {subnet} a table with a default route to it.", fix)
        else:
            yield Doubt(place, cause, "Put it into a subnet whose default route names a direct-internet exit.")


def zone_offer_for_network(context: Context) -> Iterator[Doubt]:
    """An exit of a whole network whose offer serves one zone."""
    for name, exit_ in context.estate.exits.items():
        offer = context.described.offer_of(name)
        if offer is None or offer.scope != "zone" or not exit_.translates or exit_.in_subnets or not exit_.of_network:
            continue
        zones = {one.zone for one in context.estate.subnets.values() if one.network == exit_.of_network and one.zone}
        if len(zones) > 1:
            cause = f"{name} serves all of {exit_.of_network}, and its offer {exit_.offer_name} serves one zone"
            remedy = (
                f"Give it a `subnet` in one zone, or an offer with `scope: region`; one for each of {len(zones)} zones."
            )
            yield Doubt(context.place("exits", name, "offer"), cause, remedy)


def source_may_change(context: Context) -> Iterator[Doubt]:
    """A flow that needs a fixed source but leaves with an address that the provider assigns and may change."""
    for number in context.paths.not_plain():
        name = context.paths.flows[number]
        if not context.estate.needs_of(context.estate.flows[name]).fixed_source:
            continue
        if hit := assigned_at(context, name):
            subnets = ", ".join(hit)
            cause = (
                f"{name} needs a fixed source address, but leaves {subnets} through {next(iter(hit.values()))}, "
                "with an address that the provider assigns and may change"
            )
            fix = context.first_that_cures(name, context.defaults_for(next(iter(hit))), "fixed_source")
            remedy = "Give the subnet a default route." if fix else _ANOTHER
            yield Doubt(context.place("flows", name), cause, remedy, fix)


def assigned_at(context: Context, flow: str) -> dict[str, str]:
    """By subnet of a flow: an exit on its path with an address that the provider assigns."""
    exits = context.estate.exits
    return {
        path.subnet: one
        for path in context.paths.by_flow[flow]
        for one in path.example.exits
        if one in exits and not exits[one].fixed_source
    }


_ANOTHER = "Route it through an exit with fixed addresses (`fenrask compare` shows designs), or remove the need."


def keepalive_exceeds_idle_timeout(context: Context) -> Iterator[Doubt]:
    """A connection that is kept, and quiet for longer than a translating exit's idle timeout."""
    stated = (context.described.traffic.stated(key, np.nan) for key in ("keepalive_s", "pool_idle_s"))
    for number in np.flatnonzero(~np.isnan(next(stated)) | ~np.isnan(next(stated))).tolist():
        name = context.described.traffic.names[number]
        paths, flow = context.paths.by_flow[name], context.estate.flows[name]
        key = "pool_idle_s" if flow.keepalive_s is None else "keepalive_s"
        quiet_s = float(flow.quiet_s or 0)
        protocol = context.estate.remotes[flow.remote].protocol
        limits: dict[str, float] = {}
        for exit_name in (one for path in paths for one in path.example.exits):
            offer = context.described.offer_of(exit_name)
            if offer is not None and offer.ports is not None:
                timers = offer.mapping_timeout_s
                limits[exit_name] = timers.after("udp_answered" if protocol == "udp" else "idle")
        short = {one: limit for one, limit in limits.items() if quiet_s >= limit > 0}
        if short:
            least = min(short.values())
            listed = ", ".join(f"{one} ({limit:g} s)" for one, limit in short.items())
            cause = f"{name} sends a keep-alive every {quiet_s:g} s, later than the idle timeout of {listed}"
            remedy = f"Send it before {least:g} s."
            if key == "pool_idle_s":
                cause = (
                    f"{name}'s client keeps idle connections for up to {quiet_s:g} s, past the idle timeout of "
                    f"{listed}: the next request on one is lost"
                )
                remedy = f"Close them before {least:g} s, or send keep-alives."
            fix = {"flows": {name: {key: round(least * 0.8, 3)}}}
            yield Doubt(context.place("flows", name, key), cause, remedy, fix)


def gateway_without_address(context: Context) -> Iterator[Doubt]:
    """A translating exit that is said to have no public address."""
    for name, exit_ in context.estate.exits.items():
        has_offer = context.described.offer_of(name) is not None
        if exit_.translates and exit_.pool is None and has_offer and exit_.stated_addresses == 0:
            fix = {"exits": {name: {"addresses": "auto"}}}
            yield Doubt(
                context.place("exits", name, "addresses"), f"{name} has no public address", "Give it some.", fix
            )


def forwarding_off(context: Context) -> Iterator[Doubt]:
    """A machine that does not forward others' packets."""
    for name, exit_ in context.estate.exits.items():
        if not exit_.forwards:
            flows = sorted({path.flow for path in context.ending(Verdict.BLACK_HOLE) if name in path.trace.exits})
            lost = f"{some(flows)} {'is' if len(flows) == 1 else 'are'} lost" if flows else "no flow is routed to it"
            cause = f"{name} does not forward: {lost}"
            remedy = "Turn forwarding on, on the machine and its network interface."
            yield Doubt(
                context.place("exits", name, "forwarding"), cause, remedy, {"exits": {name: {"forwarding": True}}}
            )


def rule_allows_everything(context: Context) -> Iterator[Doubt]:
    """A firewall rule, or its default, that lets anything pass."""
    for name, wall in context.of(Inspecting):
        for rule in wall.open_rules:
            cause = f"rule {rule} of {name} allows everything"
            place = context.place("exits", name, "rules", rule)
            yield Doubt(place, cause, "Name the destinations, ports or names that it is for.")
        if wall.open_by_default:
            cause = f"{name} allows whatever no rule matches"
            yield Doubt(
                context.place("exits", name, "default"), cause, "Allow what is needed, then set `default: deny`."
            )
