"""Exits and the catalogue's offers from what files tell: inventories, translation, next hops of routes."""

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from typing import Any

from pydantic import ValidationError

from fenrask.estate import KINDS, Translating
from fenrask.prefixes import Address, Prefix, covers, is_public, parse_address, parse_prefix
from fenrask.records.existing.draft import CATALOGUE, Draft
from fenrask.records.existing.facts import Facts

__all__ = ["put_exits", "put_offers"]

_GATEWAY, _HOST, _DOOR = "translation-gateway", "translator-host", "direct-internet"
_FIREWALL = "inspecting-firewall"
_DEFAULTS = ("0.0.0.0/0", "::/0")


def put_exits(facts: Facts, draft: Draft) -> None:
    """Set every exit of which enough is told; what is assumed, and what cannot be described, is listed."""
    translators = facts.names_in("translators")
    told = dict(facts.entries("exits"))
    for name in translators if "exits" in facts.complete else ():
        if name not in told:
            facts.skip(
                f"the translation {name}, which is no exit of the inventory",
                facts.of("translators", name)["told"].where,
            )
    translators = [name for name in translators if name in told or "exits" not in facts.complete]
    hops = {name for _, _, name, _ in _routes(draft)} if "exits" not in facts.complete else set()
    firewalls = [name for name in facts.passed if name in hops]
    for name in dict.fromkeys((*told, *translators, *firewalls)):
        draft.take("exits", name, told.get(name, {}))
        entry = draft.of("exits").setdefault(name, {})
        if name in facts.passed and entry.get("kind", _HOST) == _HOST and "exits" not in facts.complete:
            where = f"{facts.passed[name][0][2]}: it passes on by rule"
            draft.put("exits", name, "kind", value=_FIREWALL, where=where)
            if name not in translators:
                draft.put("exits", name, "rewrites_toward", value=[], where=f"{where}, and translates nothing")
        if "kind" not in entry:
            if name in translators:
                where = f"{facts.of('translators', name)['told'].where}: it translates"
                draft.put("exits", name, "kind", value=_GATEWAY, where=where)
            else:
                draft.drop("exits", name, "what kind of exit it is: it is not described")
    inner = {entry.get("subnet") for entry in draft.of("exits").values() if entry.get("subnet")}
    _next_hops(facts, draft, inner)
    if not any(KINDS[entry["kind"]].takes_public_sources or entry["kind"] == _GATEWAY for entry in _all(draft)):
        _assumed_gateways(draft)
    _complete_all(facts, draft)


def _all(draft: Draft) -> list[dict[str, Any]]:
    return [*draft.of("exits").values()]


def _next_hops(facts: Facts, draft: Draft, inner: set[Any]) -> None:
    """What the next hops of default routes are, of which no file says so; those of other routes stay unknown."""
    public = {draft.of("subnets").get(name, {}).get("routes") for name in inner}
    for table, prefix, exit_name, where in _routes(draft):
        if exit_name in draft.of("exits") or prefix not in _DEFAULTS or "exits" in facts.complete:
            continue
        networks = _networks_of(table, draft)
        kind = _DOOR if table in public or prefix == "::/0" or _is_edge(table, draft) else _GATEWAY
        why = f"{where} sends the default there; no file says what it is"
        draft.assume("exits", exit_name, "kind", value=kind, why=why)
        if networks:
            draft.put("exits", exit_name, "network", value=networks[0], where=f"the network of {table}")
    known, inside = draft.of("exits"), [parse_prefix(one["prefix"]) for one in draft.of("subnets").values()]
    unknown: dict[str, str] = {}
    for table, prefix, name, where in [*_routes(draft)]:
        if name in known:
            continue
        is_single = isinstance(draft.of("route_tables")[table][prefix], str)
        if is_single and _called_by(name) and _is_inside(prefix, inside):
            # From one machine of the network to another: what is local needs no route.
            draft.of("route_tables")[table].pop(prefix)
            facts.skip("a route to a subnet by a machine inside the network", where)
        else:
            unknown.setdefault(name, where)
    for name, where in unknown.items():
        draft.lack("exits", name, why=f"what it is: {where} names it as next hop; it has no exit yet")


def _is_inside(to: str, inside: Iterable[Prefix]) -> bool:
    """Whether a route is to hosts of a subnet that is described."""
    try:
        prefix = parse_prefix(to)
    except ValueError:
        return False
    return any(covers(one, prefix) for one in inside)


def _is_edge(table: str, draft: Draft) -> bool:
    """Whether all subnets of a table have public prefixes: what they send needs no translation."""
    own = [one["prefix"] for one in draft.of("subnets").values() if one.get("routes") == table]
    return bool(own) and all(is_public(parse_prefix(one)) for one in own)


def _routes(draft: Draft) -> Iterator[tuple[str, str, str, str]]:
    """Table, prefix, exit and where it is written, of each route."""
    for table, routes in draft.of("route_tables").items():
        for prefix, value in routes.items():
            for entry in value if isinstance(value, list) else [value]:
                name = entry["exit"] if isinstance(entry, dict) else entry
                yield table, prefix, str(name), draft.where.get(("route_tables", table, prefix), "")


def _networks_of(table: str, draft: Draft) -> list[str]:
    own = Counter(one["network"] for one in draft.of("subnets").values() if one.get("routes") == table)
    return [name for name, _ in own.most_common()]


def _assumed_gateways(draft: Draft) -> None:
    """A gateway for each network, where no file tells of any exit to the internet."""
    for network in draft.of("networks"):
        name, table = f"gate-{network}", f"{network}-routes"
        why = "no file says how its subnets reach the internet: one gateway for the network stands for it"
        draft.assume("exits", name, "kind", value=_GATEWAY, why=why)
        draft.put("exits", name, "network", value=network, where="assumed")
        for subnet, entry in draft.of("subnets").items():
            if entry["network"] == network:
                own = entry.get("routes", table)
                if "routes" not in entry:
                    draft.put("subnets", subnet, "routes", value=table, where="assumed")
                if "0.0.0.0/0" not in draft.of("route_tables").get(own, {}):
                    draft.put("route_tables", own, "0.0.0.0/0", value=name, where="assumed")
                    draft.assumed = [one for one in draft.assumed if one.steps != ("route_tables", own)]


def _complete(name: str, facts: Facts, draft: Draft) -> None:
    """Fill in what an exit's kind needs, from what it is attached to; an exit that lacks something is taken out."""
    entry = draft.of("exits")[name]
    model = KINDS[entry["kind"]]
    fields = model.model_fields
    _attached(name, entry, fields, facts, draft)
    if "network" in fields and not {"network", "subnet", "hub"} & {*entry}:
        _network_of(name, entry, facts, draft)
    if "subnet" in fields and fields["subnet"].is_required() and "subnet" not in entry:
        _subnet_of(name, entry, facts, draft)
    if "networks" in fields and "networks" not in entry:
        _joined(name, draft)
    if "offer" in fields and fields["offer"].is_required() and "offer" not in entry:
        draft.put("exits", name, "offer", value=_offer_name(name, facts, draft), where="a name for what it offers")
    if model.needs_offer and issubclass(model, Translating) and "addresses" in fields and _translates(entry):
        _public_addresses(name, entry, facts, draft)
    if "subnet" in entry and "network" in entry and "network" in fields:
        # A gateway is in a subnet, or of a network: the subnet says more.
        draft.data["exits"][name].pop("network")
    try:
        model.model_validate({key: one for key, one in entry.items() if key in fields})
    except ValidationError as error:
        lacking = ", ".join(dict.fromkeys(str(one["loc"][0]) for one in error.errors() if one["loc"])) or "place"
        draft.drop("exits", name, f"its {lacking}: it is not described: routes to it are black holes")
        return
    for key in [key for key in entry if key not in fields]:
        entry.pop(key)


def _complete_all(facts: Facts, draft: Draft) -> None:
    for name in [*draft.of("exits")]:
        _complete(name, facts, draft)
    for name in [*draft.of("exits")]:
        _goes_on(name, draft)
    for name, entry in [*draft.of("exits").items()]:
        if KINDS[entry["kind"]].model_fields.keys() >= {"networks", "routes"}:
            _own_table(name, draft)


def _own_table(name: str, draft: Draft) -> None:
    """The table of what joins networks: the one of its name, else the way out that one of the networks alone has."""
    entry, assumed = draft.of("exits")[name], f"{name}-routes"
    if entry.get("routes", assumed) != assumed:
        return
    if name in draft.of("route_tables"):
        draft.put("exits", name, "routes", value=name, where="the table of its name")
        return
    for prefix in _DEFAULTS:
        senders: set[str] = set()
        elsewhere: dict[str, set[str]] = {}
        for table, to, exit_name, _ in _routes(draft):
            for network in _networks_of(table, draft) if to == prefix else ():
                if exit_name == name:
                    senders.add(network)
                elif draft.of("exits").get(exit_name, {}).get("kind") not in (None, _DOOR):
                    elsewhere.setdefault(network, set()).add(exit_name)
        ways = [out for network, out in elsewhere.items() if network in entry["networks"] and network not in senders]
        if senders and len(ways) == 1 and len(ways[0]) == 1:
            why = f"no file says the routes of {name}; of its networks one alone has a way out of its own"
            draft.assume("exits", name, "routes", value=assumed, why=why)
            draft.assume("route_tables", assumed, prefix, value=next(iter(ways[0])), why=why)


def _goes_on(name: str, draft: Draft) -> None:
    """Where a machine sends on what it passes, by its own table, where nobody tells the routes of its subnet."""
    entry = draft.of("exits")[name]
    table = draft.of("subnets").get(str(entry.get("subnet")), {}).get("routes", "")
    own, routes = draft.of("route_tables").get(name, {}), draft.of("route_tables").get(table)
    if table == name or routes or routes is None:
        return
    for prefix in (one for one in _DEFAULTS if one in own):
        why = f"no file says the routes of {entry['subnet']}; {name} itself sends its own there"
        draft.assume("route_tables", table, prefix, value=own[prefix], why=why)
        draft.assumed = [one for one in draft.assumed if one.steps != ("route_tables", table)]


def _public_addresses(name: str, entry: Mapping[str, Any], facts: Facts, draft: Draft) -> None:
    """Those that are told of it, else of the machine that it is, else as many as it needs."""
    if "addresses" in entry:
        return
    if own := facts.public.get(name):
        draft.put("exits", name, "addresses", value=own.value, where=own.where)
    elif public := [str(one) for one, machine in facts.devices.items() if machine == name and is_public(one)]:
        draft.put("exits", name, "addresses", value=public, where="its own public addresses")
    else:
        why = "no file says its public addresses: as many as needed"
        draft.assume("exits", name, "addresses", value="auto", why=why)


def _offer_name(name: str, facts: Facts, draft: Draft) -> str:
    """The name of its kind; with a number where another of the kind has other ports or timers."""
    kind, number = draft.of("exits")[name]["kind"], 1
    own = _told_of(name, facts)
    while True:
        offer = kind if number == 1 else f"{kind}-{number}"
        others = [one for one, entry in draft.of("exits").items() if entry.get("offer") == offer]
        if all(_told_of(one, facts) == own for one in others):
            return str(offer)
        number += 1


def _told_of(name: str, facts: Facts) -> dict[str, Any]:
    return {key: fact.value for key, fact in facts.of("translators", name).items()}


def _attached(name: str, entry: Mapping[str, Any], fields: Mapping[str, Any], facts: Facts, draft: Draft) -> None:
    several: dict[str, list[str]] = {}
    for kind, other, where in facts.attached.get(name, ()):
        key = {"exit": "hub", "party": "third_party", "prefix": "received"}.get(kind, kind)
        plural = f"{key}s"
        if key in fields and key not in entry and key != "received":
            draft.put("exits", name, key, value=other, where=where)
        elif (plural in fields and plural not in entry) or (key == "received" and key in fields and key not in entry):
            listed = key if key == "received" else plural
            several.setdefault(listed, []).append(other)
            draft.where["exits", name, listed] = where
    for key, values in several.items():
        draft.put("exits", name, key, value=values, where=draft.where["exits", name, key])


def _network_of(name: str, entry: Mapping[str, Any], facts: Facts, draft: Draft) -> None:
    """The network whose hosts it serves, or whose tables lead to it."""
    subnets = draft.of("subnets")
    for prefix, where in facts.served.get(name, ()):
        for subnet in subnets.values():
            if covers(prefix, parse_prefix(subnet["prefix"])):
                draft.put("exits", name, "network", value=subnet["network"], where=where)
                return
    for table, _, exit_name, where in _routes(draft):
        if exit_name == name and (networks := _networks_of(table, draft)):
            draft.put("exits", name, "network", value=networks[0], where=where)
            return
    if len(draft.of("networks")) == 1:
        draft.assume("exits", name, "network", value=next(iter(draft.of("networks"))), why="the only network there is")


def _joined(name: str, draft: Draft) -> None:
    """The networks whose tables have routes to it, and those that these routes are for."""
    found: dict[str, str] = {}
    own = [(network, parse_prefix(one)) for network, entry in draft.of("networks").items() for one in entry["prefixes"]]
    for table, to, exit_name, where in _routes(draft):
        if exit_name == name:
            found.update(dict.fromkeys(_networks_of(table, draft), where))
            with suppress(ValueError):
                # A route may be for a destination, by name.
                prefix = parse_prefix(to)
                found.update({network: where for network, one in own if covers(one, prefix) and network not in found})
    if len(found) > 1:
        draft.put("exits", name, "networks", value=[*found], where=next(iter(found.values())))


def _called_by(name: str) -> list[Address]:
    """The address by which a route calls a machine that nobody tells the name of; none of one that has a name."""
    found: list[Address] = []
    for parted in (name.replace("-", "."), name.replace("-", ":")):
        with suppress(ValueError):
            found.append(parse_address(parted))
    return found


def _subnet_of(name: str, entry: Mapping[str, Any], facts: Facts, draft: Draft) -> None:
    """The subnet that one of its own addresses is in."""
    own = [address for address, machine in facts.devices.items() if machine == name] + _called_by(name)
    for subnet, subnet_entry in draft.of("subnets").items():
        if any(address in parse_prefix(subnet_entry["prefix"]) for address in own):
            draft.put("exits", name, "subnet", value=subnet, where="an address of its own is in it")
            return


def put_offers(facts: Facts, draft: Draft) -> None:
    """Set an offer for each that exits name: its ports and timers as told of any of them, else by the standards."""
    users: dict[str, list[str]] = {}
    for name, entry in draft.of("exits").items():
        if entry.get("offer"):
            users.setdefault(str(entry["offer"]), []).append(name)
    for offer, exits in users.items():
        _offer(offer, exits, facts, draft)
    if not users:
        _offer(_GATEWAY, [], facts, draft)


def _offer(offer: str, exits: list[str], facts: Facts, draft: Draft) -> None:
    entries = [draft.of("exits")[one] for one in exits]
    kind = entries[0]["kind"] if entries else _GATEWAY
    here = (CATALOGUE, "offers", offer)
    draft.put(*here, "kind", value=kind, where=f"the kind of {exits[0]}" if exits else "assumed")
    whole = [one for one, entry in zip(exits, entries, strict=True) if entry.get("network") and "subnet" not in entry]
    spans = [one for one in exits if not _zones(draft, one)]
    scope = "region" if whole or (exits and len(spans) == len(exits)) else "zone"
    draft.put(*here, "scope", value=scope, where=f"where {', '.join(exits)} is" if exits else "assumed")
    model = KINDS[kind]
    services = [entry["destination"] for entry in entries if entry.get("destination")]
    if services and "destination" in model.model_fields:
        draft.put(*here, "services", value=[*dict.fromkeys(services)], where=f"what {', '.join(exits)} reach")
    if not issubclass(model, Translating) or not any(_translates(entry) for entry in entries or [{"kind": kind}]):
        return
    told = {key: fact for one in exits for key, fact in reversed(facts.of("translators", one).items())}
    draft.assume(
        *here, "ports", "assignment", value="shared-once",
        why="no file says how its ports are assigned; with one port for each connection it needs the most",
    )  # fmt: skip
    if "per_address" in told:
        draft.put(*here, "ports", "per_address", value=told["per_address"].value, where=told["per_address"].where)
    else:
        why = "no file says its ports; those above the well-known ones (RFC 6335) would be the most"
        draft.assume(*here, "ports", "per_address", value=_MOST_PORTS, why=why)
    for ending, (seconds, source) in _TIMERS.items():
        if ending in told:
            draft.put(*here, "mapping_timeout_s", ending, value=told[ending].value, where=told[ending].where)
        elif ending in _ALWAYS:
            why = f"no file says this timer: {source}"
            draft.assume(*here, "mapping_timeout_s", ending, value=seconds, why=why)


def _translates(entry: Mapping[str, Any]) -> bool:
    """Whether an exit rewrites sources at all: some only inspect where they say so."""
    return not KINDS[entry["kind"]].may_only_inspect or entry.get("rewrites_toward") != []


def _zones(draft: Draft, exit_name: str) -> list[str]:
    entry = draft.of("exits")[exit_name]
    names = entry.get("subnets") or [entry.get("subnet")]
    return [zone for one in names if (zone := draft.of("subnets").get(one, {}).get("zone"))]


_MOST_PORTS = 65_535 - 1_023
_TIMERS: Mapping[str, tuple[int, str]] = {
    "closed": (240, "the minimum for a closing connection (RFC 5382, REQ-5)"),
    "reset": (240, "the minimum for a closing connection (RFC 5382, REQ-5)"),
    "idle": (7440, "the minimum for an open connection (RFC 5382, REQ-5)"),
    "half_closed": (240, ""),
    "unanswered": (240, ""),
    "udp_idle": (300, "what is recommended (RFC 4787, REQ-5)"),
    "udp_one_way": (300, ""),
    "udp_answered": (300, ""),
}
"""Timers of the catalogue, and where nobody tells them the standard's."""
_ALWAYS = ("closed", "reset", "idle", "udp_idle")
