"""Networks, subnets and route tables from what files tell of them."""

from collections.abc import Callable, Container, Iterable, Mapping
from functools import partial
from ipaddress import ip_network

from fenrask.estate import KINDS
from fenrask.prefixes import Address, Prefix, PrefixTable, covers, fewest_prefixes, is_public, parse_prefix
from fenrask.records.existing.draft import Assumed, Draft
from fenrask.records.existing.facts import Fact, Facts, Steps, whole_name
from fenrask.records.existing.traffic import Seen
from fenrask.records.existing.updating import FIRST

__all__ = ["put_filters", "put_places", "subnet_prefixes"]

_NETWORK = "network"
"""The name of the network of subnets of which nobody tells one."""


def subnet_prefixes(facts: Facts) -> list[Prefix]:
    """The prefixes of all subnets that are told, or that interfaces and addresses of hosts are in."""
    draft = Draft()
    _subnets(facts, None, draft)
    entries = draft.of("subnets").values()
    return [parse_prefix(one[key]) for one in entries for key in ("prefix", "prefix_v6") if key in one]


def put_places(facts: Facts, seen: Seen | None, draft: Draft) -> None:
    """Set networks, subnets and route tables."""
    _subnets(facts, seen, draft)
    _networks(facts, draft)
    _tables(facts, draft)


def _subnets(facts: Facts, seen: Seen | None, draft: Draft) -> None:
    labels: dict[str, list[Steps]] = {}
    for steps in facts.told:
        if steps[0] == "subnets" and steps[2:3] == ("tags",) and len(steps) == 4:
            labels.setdefault(steps[1], []).append(steps)
    for name, told in facts.entries("subnets"):
        if "prefix" in told:
            draft.take("subnets", name, told)
            for steps in labels.get(name, ()):
                draft.put(*steps, value=facts.told[steps].value, where=facts.told[steps].where)
        else:
            draft.lack("subnets", name, why="its prefix: what is told of it is not used")
    known = [parse_prefix(one["prefix"]) for one in draft.of("subnets").values()]
    for prefix, interface, where in facts.links:
        if not any(covers(one, prefix) for one in known) and prefix.prefixlen < prefix.max_prefixlen - 1:
            _add(prefix, _free(whole_name(interface), draft), where, known, draft)
    _around_hosts(facts, seen, known, draft)


def _around_hosts(facts: Facts, seen: Seen | None, known: list[Prefix], draft: Draft) -> None:
    """A /24 around each host of an inventory that no known subnet holds, and around what sends where none is known."""
    blocks: dict[Prefix, str] = {}
    of_known = PrefixTable((prefix, None) for prefix in known)
    for host in facts.hosts:
        if of_known.match(host.address) is None:
            blocks.setdefault(_around(host.address), host.where)
    if not known and seen is not None:
        # Only where nobody tells of subnets: else an address outside of them is another network's.
        blocks |= {prefix: "addresses in the records" for prefix in seen.hosts if prefix not in blocks}
    for prefix, where in sorted(blocks.items(), key=lambda item: (item[0].version, int(item[0].network_address))):
        if not is_public(prefix):
            name = _free(whole_name(str(prefix.network_address)), draft)
            _add(prefix, name, where, known, draft)
            why = "no inventory says where subnets begin and end"
            draft.assumed.append(Assumed(("subnets", name, "prefix"), str(prefix), why))


def _add(prefix: Prefix, name: str, where: str, known: list[Prefix], draft: Draft) -> None:
    known.append(prefix)
    draft.put("subnets", name, "prefix", value=str(prefix), where=where)


def _around(address: Address) -> Prefix:
    """The /24, or the /64 of IPv6, around an address."""
    return ip_network(f"{address}/{24 if address.version == 4 else 64}", strict=False)


def _free(name: str, draft: Draft) -> str:
    taken, number, found = draft.of("subnets"), 2, name
    while found in taken:
        found, number = f"{name}-{number}", number + 1
    return found


def _networks(facts: Facts, draft: Draft) -> None:
    told = dict(facts.entries("networks"))
    for _, entry in facts.entries("subnets"):
        if (network := entry.get("network")) and network.where != FIRST:
            facts.from_files.add(("networks", str(network.value)))
    for name, values in told.items():
        draft.take("networks", name, values)
    prefixes = {
        name: [parse_prefix(one) for one in values["prefixes"].value]
        for name, values in told.items()
        if "prefixes" in values
    }
    subnets = draft.of("subnets").values()
    named = dict.fromkeys((*told, *(subnet["network"] for subnet in subnets if "network" in subnet)))
    for name, subnet in draft.of("subnets").items():
        own = parse_prefix(subnet["prefix"])
        if "network" in subnet:
            continue
        holding = next((network for network, some in prefixes.items() if any(covers(one, own) for one in some)), "")
        if holding:
            draft.put("subnets", name, "network", value=holding, where=f"its prefix, in that of {holding}")
        elif len(named) == 1:
            draft.put("subnets", name, "network", value=next(iter(named)), where="the only network that is told")
        else:
            draft.assume("subnets", name, "network", value=_NETWORK, why="no inventory says its network")
    _own_prefixes({*prefixes}, facts, draft)


def _own_prefixes(told: Container[str], facts: Facts, draft: Draft) -> None:
    """Networks whose prefixes nobody tells have what their tables call local, and their subnets'."""
    by_network: dict[str, list[Prefix]] = {}
    for subnet in draft.of("subnets").values():
        some = [parse_prefix(subnet[key]) for key in ("prefix", "prefix_v6") if key in subnet]
        by_network.setdefault(subnet["network"], []).extend(some)
    for network, own in by_network.items():
        if network in told:
            continue
        others = [prefix for other, some in by_network.items() if other != network for prefix in some]
        local = [one for one in _local(network, facts, draft) if _holds(one[0], own) and not _holds(one[0], others)]
        value = [str(one) for one in fewest_prefixes([*own, *(prefix for prefix, _ in local)])]
        if all(any(covers(prefix, one) for prefix, _ in local) for one in own):
            draft.put("networks", network, "prefixes", value=value, where=f"{local[0][1]}: local")
        else:
            why = "no inventory says its prefixes: its subnets'"
            draft.assume("networks", network, "prefixes", value=value, why=why)
    for network in [*draft.of("networks")]:
        if "prefixes" not in draft.of("networks")[network]:
            draft.drop("networks", network, "its prefixes, and it has no subnet: it is not described")


def _local(network: str, facts: Facts, draft: Draft) -> list[tuple[Prefix, str]]:
    """What the tables of a network's subnets have without a next hop, with where."""
    tables = dict.fromkeys(one.get("routes") for one in draft.of("subnets").values() if one["network"] == network)
    return [link for table in tables if table for link in facts.connected.get(table, ()) if link[0].prefixlen]


def _holds(prefix: Prefix, some: Iterable[Prefix]) -> bool:
    return any(covers(prefix, one) for one in some)


def _tables(facts: Facts, draft: Draft) -> None:
    meant = _Meant(facts, draft)
    for table, routes in facts.entries("route_tables"):
        for key, fact in routes.items():
            value = _named(fact.value, partial(meant.owner, table=table, where=fact.where))
            draft.put("route_tables", table, key, value=value, where=fact.where)
    subnets = draft.of("subnets")
    by_prefix = {parse_prefix(one["prefix"]): name for name, one in subnets.items()}
    for table, links in facts.connected.items():
        for prefix, where in links:
            name = by_prefix.get(prefix, "")
            if name and "routes" not in subnets[name]:
                draft.put("subnets", name, "routes", value=table, where=where)
                draft.data.setdefault("route_tables", {}).setdefault(table, {})
    for subnet in subnets.values():
        if subnet.get("routes") and subnet["routes"] not in draft.of("route_tables"):
            draft.data.setdefault("route_tables", {})[subnet["routes"]] = {}
            if subnet["routes"] not in facts.connected:
                draft.lack("route_tables", subnet["routes"], why="its routes: it is empty")


def _named(value: object, name_of: Callable[[str], str]) -> object:
    """Next hops by their own names."""
    if isinstance(value, list):
        return [_named(one, name_of) for one in value]
    if isinstance(value, dict):
        return {**value, "exit": name_of(value["exit"])}
    return name_of(value) if isinstance(value, str) else value


class _Meant:
    """Who is meant by a next hop."""

    def __init__(self, facts: Facts, draft: Draft) -> None:
        self._facts, self._several = facts, len(draft.of("networks")) > 1
        subnets = draft.of("subnets").values()
        self._network = {one["routes"]: one["network"] for one in reversed([*subnets]) if one.get("routes")}
        self._exits: dict[tuple[str, str], list[str]] = {}
        for name, entry in facts.entries("exits") if facts.unnamed else ():
            self._exits.setdefault((_told(entry, "kind"), _network_told(entry, draft)), []).append(name)

    def owner(self, name: str, table: str, where: str) -> str:
        """Whose an address is; of a kind alone, the exit of this kind in the network of the table."""
        kind = self._facts.unnamed.get(name)
        if kind is None:
            return self._facts.aliases.get(name, name)
        network = self._network.get(table, "")
        for of in (network,) if self._several else (network, ""):
            found = self._exits.get((kind, of), ())
            if len(found) == 1 and (of or not self._several):
                self._facts.from_files.add(("exits", found[0]))
                return found[0]
        own = f"{name}-{network}" if network and self._several else name
        self._facts.add("exits", own, "kind", value=kind, where=where)
        self._facts.add("exits", own, "network", value=network, where=where)
        self._facts.from_files.add(("exits", own))
        # Another word for the same kind, in the same network, is the same exit.
        self._exits.setdefault((kind, network), [own])
        return own


def _told(entry: Mapping[str, Fact], key: str) -> str:
    return str(entry[key].value) if key in entry else ""


def _network_told(entry: Mapping[str, Fact], draft: Draft) -> str:
    """The network that an exit is told to be in; empty for none."""
    of_subnet = draft.of("subnets").get(_told(entry, "subnet"), {})
    return _told(entry, "network") or str(of_subnet.get("network", ""))


def put_filters(facts: Facts, draft: Draft) -> None:
    """Set filters of subnets and workloads, and rules of exits, for what the estate has."""
    for machine, steps, value, where in facts.own_filters:
        section = next((one for one in ("workloads", "subnets") if machine in draft.of(one)), "")
        if section:
            facts.told.setdefault((section, machine, "filters", "own", *steps), Fact(value, where))
        else:
            facts.skip(f"filter rules of {machine}, which is no workload or subnet", where)
    for machine, rules in facts.passed.items():
        for name, value, where in rules:
            steps = ("exits", machine, "rules", name) if name else ("exits", machine, "default")
            facts.told.setdefault(steps, Fact(value, where))
    for steps, fact in facts.told.items():
        if len(steps) > 3 and steps[2] in ("filters", "rules") or steps[2:] == ("default",):
            entry = draft.of(steps[0]).get(steps[1])
            if entry is None:
                facts.skip(f"rules of {steps[1]}, of which nothing else is told", fact.where)
            elif steps[0] == "exits" and steps[2] not in KINDS[entry["kind"]].model_fields:
                facts.skip(f"rules of {steps[1]}, which is no firewall ({entry['kind']})", fact.where)
            else:
                draft.put(*steps, value=fact.value, where=fact.where)
