"""Rules about exits: where they stand, what they show, what they cost for nothing."""

from collections.abc import Iterator

from fenrask.checks.contract import Case, Doubt
from fenrask.estate import Onward
from fenrask.estate.exits.inspecting_firewall import InspectingFirewall
from fenrask.estate.exits.translator_host import TranslatorHost
from fenrask.evaluation.needs import broken_needs

__all__ = [
    "forwarding_off",
    "gateway_without_address",
    "rule_allows_everything",
    "gateway_without_door",
    "idle_exit",
    "keepalive_too_slow",
    "need_not_met",
    "source_may_change",
]


def gateway_without_door(case: Case) -> Iterator[Doubt]:
    """A translating exit in a subnet whose table leads to no door that lets it out."""
    internet_exits = {name for name, one in case.estate.exits.items() if one.onward is Onward.INTERNET}
    for name, exit_ in case.estate.exits.items():
        if not exit_.translates or not exit_.in_subnets:
            continue
        subnet = exit_.in_subnets[0]
        routes = case.paths.routes.of(subnet).routes
        # A table that leads back to the exit itself is a loop, and told as one.
        if not any(route.exit in internet_exits or route.exit == name for route in routes) and not _chained(
            case, subnet
        ):
            cause = f"{name} stands in {subnet}, whose table leads to no door to the internet"
            remedy = "Put it into a subnet whose default leads to a direct-internet exit."
            yield Doubt(case.place("exits", name, "subnet"), cause, remedy)


def _chained(case: Case, subnet: str) -> bool:
    """Whether a subnet's table leads on through another exit that stands in a subnet."""
    exits = (case.estate.exits.get(route.exit) for route in case.paths.routes.of(subnet).routes)
    return any(one is not None and one.onward is Onward.TABLE for one in exits)


def source_may_change(case: Case) -> Iterator[Doubt]:
    """A flow that needs a fixed source but leaves by a lent address."""
    for name, paths in case.paths.by_flow.items():
        flow = case.estate.flows[name]
        if not case.estate.needs_of(flow).fixed_source:
            continue
        for path in paths:
            lent = [one for one in path.trace.exits if one in case.estate.exits]
            lent = [one for one in lent if not case.estate.exits[one].fixed_source]
            if lent:
                cause = f"{name} needs a fixed source, but leaves {path.subnet} by {lent[0]}, lent by the provider"
                yield Doubt(case.place("flows", name), cause, case.default_for(path.subnet))
                break


def need_not_met(case: Case) -> Iterator[Doubt]:
    """A flow whose way breaks one of its other needs."""
    for name in case.estate.flows:
        for broken in broken_needs(case.paths, name):
            if broken.need not in ("arrives", "fixed_source"):
                cause = f"{name} breaks {broken.need}: {broken.why}"
                remedy = "Lead it another way (`fenrask compare` shows some), or drop the need."
                yield Doubt(case.place("flows", name), cause, remedy)


def idle_exit(case: Case) -> Iterator[Doubt]:
    """An exit that costs money, though no flow passes it."""
    used = {exit_name for path in case.paths.paths for exit_name in path.trace.exits}
    for name, exit_ in case.estate.exits.items():
        offer = case.described.offer_of(name)
        if name in used or offer is None:
            continue
        hourly = offer.rates.hour * exit_.units
        hourly += case.described.catalogue.addresses_in(case.estate.region_of(exit_)).hour * (
            exit_.stated_addresses or 0
        )
        if hourly:
            month = hourly * case.described.catalogue.hours_per_month
            cause = f"no flow passes {name}; it costs {month:.2f} {case.described.catalogue.currency} a month"
            yield Doubt(case.place("exits", name), cause, "Remove it, or route to it what it was made for.")


def keepalive_too_slow(case: Case) -> Iterator[Doubt]:
    """A keep-alive that comes later than a translating exit gives the connection up."""
    for name, paths in case.paths.by_flow.items():
        flow = case.estate.flows[name]
        protocol = case.estate.destinations[flow.to].protocol
        for path in paths if flow.keepalive_s is not None else ():
            for exit_name in path.trace.exits:
                offer = case.described.offer_of(exit_name)
                if offer is None or offer.ports is None:
                    continue
                limit = offer.mapping_timeout_s.udp_idle if protocol == "udp" else offer.mapping_timeout_s.idle
                if (flow.keepalive_s or 0) >= limit > 0:
                    cause = f"{name} probes every {flow.keepalive_s:g} s, {exit_name} gives up after {limit:g} s"
                    place = case.place("flows", name, "keepalive_s")
                    yield Doubt(place, cause, f"Probe more often than every {limit:g} s.")
                    break


def gateway_without_address(case: Case) -> Iterator[Doubt]:
    """A translating exit that is said to have no public address."""
    for name, exit_ in case.estate.exits.items():
        if exit_.translates and exit_.pool is None and case.described.offer_of(name) and exit_.stated_addresses == 0:
            cause = f"{name} has no public address: nothing leaves by it"
            yield Doubt(case.place("exits", name, "addresses"), cause, "Set `addresses: auto`, a number, or a list.")


def forwarding_off(case: Case) -> Iterator[Doubt]:
    """A translator host that does not forward others' packets."""
    for name, host in case.of(TranslatorHost):
        if not host.forwarding:
            cause = f"{name} does not forward: whatever is routed to it is lost"
            yield Doubt(
                case.place("exits", name, "forwarding"),
                cause,
                "Turn forwarding on, on the machine and its network card.",
            )


def rule_allows_everything(case: Case) -> Iterator[Doubt]:
    """A firewall rule, or its default, that lets anything pass."""
    for name, wall in case.of(InspectingFirewall):
        for rule, stated in wall.rules.items():
            if stated.action == "allow" and stated.matches_everything:
                cause = f"{name}'s rule {rule} allows everything"
                place = case.place("exits", name, "rules", rule)
                yield Doubt(place, cause, "Name the destinations, ports or names that it is for.")
        if wall.default == "allow":
            cause = f"{name} allows whatever no rule matches"
            yield Doubt(case.place("exits", name, "default"), cause, "Set `default: deny`, and allow what is needed.")
