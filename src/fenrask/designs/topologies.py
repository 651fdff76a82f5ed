"""How exits are put together, each topology once: the standard designs and the choice make theirs here."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from fenrask.designs.draft import DEFAULT, Draft
from fenrask.designs.placing import named_rules
from fenrask.errors import NoAnswer
from fenrask.estate import KINDS, Catalogue, Counted, Described

__all__ = [
    "NewExit",
    "boundary_hub",
    "existing_hub",
    "firewall_before",
    "firewall_before_line",
    "hub_before",
    "hub_offer",
    "in_subnet_endpoint",
    "ipv6_outbound",
    "lead_on",
    "pass_to_line",
    "public_hosts",
    "routed_endpoint",
    "several",
    "translator",
]

_SIZED: dict[str, Any] = {"addresses": "auto"}


@dataclass(frozen=True)
class NewExit:
    """An exit that is to be put up: its offer, its network and zone, its name, and its keys beside these."""

    offer: str
    network: str
    zone: str | None
    name: str
    keys: dict[str, Any] | None = None


def translator(
    draft: Draft, new: NewExit, own_subnet: str = "", senders: tuple[str, ...] = (), number: int = 1
) -> tuple[str, str]:
    """A translating exit; its name, and its subnet (empty for a whole network). Without keys it is sized.

    One whose offer serves a region belongs to no zone. `own_subnet` is the stem of a subnet of its own, with a table
    that nothing else uses, where replies must be routed back to what is before it. `senders` are the networks whose
    traffic it gets, for its rules. `number`: which of several there; all but the first share no subnet with another.
    """
    stated, network = draft.described.catalogue.offers[new.offer], new.network
    kind = KINDS[stated.kind]
    zone = None if stated.scope == "region" else new.zone
    keys = new.keys if new.keys is not None else _SIZED
    data: dict[str, Any] = {"kind": stated.kind, "offer": new.offer, **keys}
    subnet = ""
    if own_subnet:
        subnet = draft.own_subnet(own_subnet, network, zone)
        draft.route(subnet, DEFAULT, draft.internet_exit(network))
    elif number > 1:
        subnet = draft.free_landing(network, zone)
    elif not (stated.scope == "region" and kind.serves_whole_network):
        subnet = draft.landing(network, zone)
    data |= {"subnet": subnet} if subnet else {"network": network}
    if kind.inspects:
        data |= named_rules(draft.described, *(senders or (network,)))
    return draft.add(new.name, data), subnet


def several(draft: Draft, offer: str, units: int, network: str = "", standby: str = "") -> dict[str, Any]:
    """The keys of an exit that runs so many machines or nodes, the second in the zone `standby` where one is named."""
    kind = KINDS[draft.described.catalogue.offers[offer].kind]
    if not issubclass(kind, Counted):
        return {}
    return {kind.count_key: units} | ({kind.standby_key: draft.landing(network, standby)} if standby else {})


def firewall_before(draft: Draft, new: NewExit, behind: tuple[str, str], senders: Iterable[str]) -> str:
    """A firewall that inspects and does not translate before an exit (its name, and its own subnet).

    The exit's subnet sends replies to these senders back through the firewall: it lets none pass that it did not see
    requested.
    """
    wall, inner = _firewall(draft, new)
    _lead_through(draft, wall, inner, behind, senders)
    return wall


def lead_on(draft: Draft, wall: str, behind: tuple[str, str], senders: Iterable[str]) -> None:
    """The same with an existing firewall: what it passes on by default goes to this exit from now on."""
    _lead_through(draft, wall, draft.estate.exits[wall].in_subnets[0], behind, senders)


def _lead_through(draft: Draft, wall: str, inner: str, behind: tuple[str, str], senders: Iterable[str]) -> None:
    exit_name, outer = behind
    draft.route(inner, DEFAULT, exit_name)
    for prefix in _prefixes(draft, senders):
        draft.route(outer, prefix, wall)


def firewall_before_line(
    draft: Draft, new: NewExit, line: str, senders: Iterable[str], destinations: Iterable[str]
) -> str:
    """The same before a private line that ends in the network, for some of its destinations.

    What comes back by the line to these senders is sent through the firewall, by a table of the line's own.
    """
    wall, inner = _firewall(draft, new)
    for to in dict.fromkeys(destinations):
        draft.route(inner, to, line)
    _answer_through(draft, wall, line, senders)
    return wall


def pass_to_line(
    draft: Draft, firewall: tuple[str, str], line: str, senders: Iterable[str], destinations: Iterable[str]
) -> None:
    """Let a firewall (its name, and its subnet) that translates toward the internet pass on what goes to a line.

    Replies come back through it, as with `firewall_before_line`.
    """
    wall, subnet = firewall
    draft.change(wall, {"rewrites_toward": ["public"]})
    for to in dict.fromkeys(destinations) if subnet else ():
        if subnet in draft.estate.subnets:
            draft.lead([subnet], to, line)
        elif draft.subnets[subnet]["routes"] in draft.tables:
            draft.route(subnet, to, line)
        # A new subnet with a table that others have, too, learns what the line announces.
    _answer_through(draft, wall, line, senders)


def _answer_through(draft: Draft, wall: str, line: str, senders: Iterable[str]) -> None:
    """Send what comes back by a line to these subnets through a firewall, by a table of the line's own."""
    table = (draft.exits.get(line) or {}).get("routes")
    if table is None:
        table = draft.new_table(f"{line}-in", draft.kept_routes(draft.estate.exits[line].table_for_replies))
        draft.change(line, {"routes": table})
    draft.tables[table] |= dict.fromkeys(_prefixes(draft, senders), wall)


def _firewall(draft: Draft, new: NewExit) -> tuple[str, str]:
    """A firewall that inspects and does not translate, and its own subnet, whose table is empty."""
    stated = draft.described.catalogue.offers[new.offer]
    inner = draft.own_subnet("inner", new.network, None if stated.scope == "region" else new.zone)
    stays = {"rewrites_toward": [], **named_rules(draft.described, new.network)}
    data = {"kind": stated.kind, "offer": new.offer, "subnet": inner, **stays, **(new.keys or {})}
    return draft.add(new.name, data), inner


def _prefixes(draft: Draft, subnets: Iterable[str]) -> list[str]:
    return [str(prefix) for name in dict.fromkeys(subnets) for prefix in draft.estate.subnets[name].prefixes]


def hub_offer(catalogue: Catalogue) -> str:
    """The offer of a hub with the least hourly rate; empty where none is sold."""
    hubs = {name: one.rates.hour for name, one in catalogue.offers.items() if KINDS[one.kind].joins_many}
    return min(hubs, key=lambda name: hubs[name], default="")


def existing_hub(described: Described, networks: Iterable[str]) -> str:
    """The hub that joins all these networks already, else any hub, which can join more; empty where there is none."""
    wanted = set(networks)
    hubs = [name for name, one in described.estate.exits.items() if one.joins_many]
    return next((one for one in hubs if wanted <= {*described.estate.exits[one].joins}), next(iter(hubs), ""))


def hub_before(draft: Draft, centre: str, others: Iterable[str], exit_name: str, subnet: str) -> str:
    """The hub that brings other networks' traffic to an exit in the centre: the one that exists, or one that is sold.

    NoAnswer where there is neither. The exit's subnet has routes back to the others' prefixes.
    """
    joined = sorted({centre, *others})
    hub = existing_hub(draft.described, joined)
    if hub:
        _extended(draft, hub, joined, exit_name)
    else:
        offer = hub_offer(draft.described.catalogue)
        if not offer:
            raise NoAnswer("no hub exists, and the catalogue offers none", "Add an offer of kind hub.")
        table = draft.new_table("hub-central", {DEFAULT: exit_name})
        kind = draft.described.catalogue.offers[offer].kind
        hub = draft.add("hub-central", {"kind": kind, "networks": joined, "routes": table, "offer": offer})
    for network in joined:
        for prefix in draft.estate.networks[network].prefixes if network != centre else ():
            draft.route(subnet, str(prefix), hub)
    return hub


def boundary_hub(draft: Draft, networks: list[str], lines: Iterable[str]) -> str:
    """A hub of its own for private lines, which joins the networks that need them; NoAnswer where none is sold."""
    offer = hub_offer(draft.described.catalogue)
    kind = (
        draft.described.catalogue.offers[offer].kind if offer else next(k for k, one in KINDS.items() if one.joins_many)
    )
    hub = draft.add("hub-boundary", {"kind": kind, "networks": networks, **({"offer": offer} if offer else {})})
    for name in lines:
        draft.change(name, {"network": None, "hub": hub})
    return hub


def _extended(draft: Draft, hub: str, joined: list[str], exit_name: str) -> None:
    """A hub that exists, with these networks joined too and its default to an exit."""
    stated = draft.estate.exits[hub]
    if not {*joined} <= {*stated.joins}:
        draft.change(hub, {"networks": sorted({*stated.joins, *joined})})
    tables = {table for network in joined if (table := stated.table_for(network))}
    for table in sorted(tables):
        draft.tables.setdefault(table, {})[DEFAULT] = exit_name
    if not tables:
        draft.change(hub, {"routes": draft.new_table("hub-central", {DEFAULT: exit_name})})


def routed_endpoint(draft: Draft, offer: str, network: str, destination: str) -> str:
    """A routed endpoint of a network to a service."""
    kind = draft.described.catalogue.offers[offer].kind
    data = {"kind": kind, "offer": offer, "network": network, "destination": destination, "access": "listed"}
    return draft.add(f"endpoint-{destination}-{network}", data)


def in_subnet_endpoint(draft: Draft, offer: str, subnets: Iterable[str], network: str, destination: str) -> str:
    """An in-subnet endpoint to a service, in these subnets."""
    kind = draft.described.catalogue.offers[offer].kind
    data = {"kind": kind, "offer": offer, "subnets": sorted(subnets), "destination": destination, "access": "listed"}
    return draft.add(f"endpoint-{destination}-{network}", data)


def ipv6_outbound(draft: Draft, network: str) -> str:
    """The exit that lets a network's IPv6 hosts out as they are: the one that exists, or a new one."""
    known = [n for n, one in draft.estate.exits.items() if one.untranslated_ipv6 and one.of_network == network]
    kind = next(name for name, model in KINDS.items() if model.untranslated_ipv6)
    return known[0] if known else draft.add(f"six-{network}", {"kind": kind, "network": network})


def public_hosts(draft: Draft, workloads: Iterable[str], subnets: Iterable[str]) -> None:
    """A public address on each host of these workloads, and a default straight to their networks' internet exits."""
    for name in workloads:
        draft.workloads[name] = {"public_address": True}
    for subnet in subnets:
        draft.lead([subnet], DEFAULT, draft.internet_exit(draft.estate.subnets[subnet].network))
