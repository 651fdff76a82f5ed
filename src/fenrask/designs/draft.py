"""The making of a design's patch: exits put up and taken down, tables led to them."""

from collections.abc import Iterable
from functools import cached_property
from typing import Any

from fenrask.designs.contract import Patch
from fenrask.errors import NoAnswer
from fenrask.estate import KINDS, Described, Estate, Translating, exits_of
from fenrask.prefixes import Prefix, first_free, parse_prefix
from fenrask.routing import flow_paths

__all__ = ["DEFAULT", "DEFAULT_V6", "Draft", "running_hours", "sending_subnets"]

DEFAULT = "0.0.0.0/0"
DEFAULT_V6 = "::/0"
LANDING_LENGTH = 28
"""The prefix length of a subnet that is added for a gateway."""
_SHARED_SPACE, _SMALL_NETWORK = parse_prefix("100.64.0.0/10"), 26


def sending_subnets(described: Described) -> list[str]:
    """The subnets whose hosts open connections from private addresses, in the estate's order."""
    estate = described.estate
    senders = [estate.workloads[name] for name in estate.senders]
    private = {name for one in senders if not one.public_address for name in one.subnets}
    return [name for name in estate.subnets if name in private]


def running_hours(estate: Estate, network: str) -> float | None:
    """The hours a month that a new exit of a network runs: those of the ones that it has, where all run some alone.

    None where one is there all month, and where nothing is paid for.
    """
    own = [one.running_hours for one in estate.exits.values() if one.needs_offer and estate.network_of(one) == network]
    hours = [one for one in own if one is not None]
    return max(hours) if hours and len(hours) == len(own) else None


_ENTERED = "exits by which flows come in"
"""Under which they are found among what is reused, with the estate of which they are."""


def _entered(described: Described) -> frozenset[str]:
    """The exits by which flows come in: many drafts are made of one estate."""
    inward = tuple(described.estate.inward_flows)
    if not inward:
        return frozenset()
    known = described.reused.get(_ENTERED)
    if known is None or known[0] is not described.estate:
        known = described.reused[_ENTERED] = (described.estate, flow_paths(described, inward).inward_exits)
    found: frozenset[str] = known[1]
    return found


class Draft:
    """A patch in the making. Retired exits lose their routes, and so do exits that do not exist."""

    def __init__(self, described: Described, kept: Iterable[str] = ()) -> None:
        """Retire every exit that has an offer, apart from those kept and those by which flows come in."""
        self.described = described
        self.estate = described.estate
        stays = {*kept, *_entered(described)}
        self.retired = {name for name, one in self.estate.exits.items() if one.needs_offer and name not in stays}
        self.exits: dict[str, Any] = dict.fromkeys(sorted(self.retired))
        self.networks: dict[str, dict[str, Any]] = {}
        self.subnets: dict[str, dict[str, Any]] = {}
        self.tables: dict[str, dict[str, Any]] = {}
        self.led: dict[str, dict[str, str]] = {}
        self.workloads: dict[str, dict[str, Any]] = {}

    def offer(self, kind: str, destination: str = "", translates: bool = True) -> str:
        """The offer to take for a kind of exit: the preferred one, one that the estate uses, the least hourly rate.

        NoAnswer where the catalogue has none (none that leads to `destination`, for an endpoint).
        """
        catalogue = self.described.catalogue
        offers = {n: one for n, one in catalogue.offers.items() if one.kind == kind and one.leads_to(destination)}
        if issubclass(KINDS[kind], Translating) and translates:
            offers = {name: one for name, one in offers.items() if one.ports is not None}
        if not offers:
            to = f" to {destination}" if destination else ""
            # An offer without ports inspects and leaves the source as it is.
            if any(one.kind == kind for one in catalogue.offers.values()) and not destination:
                to = " that translates"
            raise NoAnswer(f"{catalogue.catalogue} offers no {kind}{to}", f"Add an offer of kind {kind}.")
        used = [self.described.preferred.get(kind, ""), *(one.offer_name for one in self.estate.exits.values())]
        return next((name for name in used if name in offers), min(offers, key=lambda n: offers[n].rates.hour))

    def add(self, name: str, exit_data: dict[str, Any]) -> str:
        """Put an exit up under this name, or under the next free one like it."""
        name = _free_name(name, {*self.estate.exits, *self.exits} - self.retired)
        kind = KINDS[exit_data["kind"]]
        stays_retired = self.estate.exits.get(name)
        # A merge patch keeps the keys it does not name: an exit that takes a retired one's name drops them.
        old = self.described.data["exits"][name] if stays_retired else {}
        unset = dict.fromkeys(key for key in old if key not in exit_data)
        self.exits[name] = {**unset, **{key: exit_data[key] for key in exit_data if key in kind.model_fields}}
        hours = running_hours(self.estate, self._network_of(exit_data))
        if hours is not None and kind.needs_offer:
            self.exits[name]["running_hours"] = hours
        return name

    def _network_of(self, exit_data: dict[str, Any]) -> str:
        """The network that a new exit is in; empty for one that joins several."""
        inside = exit_data.get("subnet") or next(iter(exit_data.get("subnets", ())), "")
        if inside:
            known = self.estate.subnets.get(inside)
            return known.network if known else str(self.subnets[inside]["network"])
        return str(exit_data.get("network", ""))

    def change(self, name: str, keys: dict[str, Any]) -> None:
        """Change keys of an exit that stays."""
        self.exits[name] = {**(self.exits.get(name) or {}), **keys}

    def lead(self, subnets: Iterable[str], key: str, exit_name: str) -> None:
        """Give the tables of these subnets a route."""
        for name in subnets:
            self.led.setdefault(name, {})[key] = exit_name

    def has_ipv6_route(self, subnet: str) -> bool:
        """Whether the table of a subnet keeps a default for IPv6."""
        return DEFAULT_V6 in self.kept_routes(self.estate.table_of(subnet))

    def landing(self, network: str, zone: str | None) -> str:
        """A subnet of a network, in a zone, whose default leads to a direct door; added where none is."""
        for name, subnet in self.estate.subnets.items():
            if subnet.network == network and subnet.zone == zone and self._is_public(name):
                return name
        for name, added in self.subnets.items():
            if added.get("network") == network and added.get("zone") == zone and name.startswith("landing-"):
                return name
        return self._new_subnet("landing", network, zone, self._public_table(network))

    def free_landing(self, network: str, zone: str | None) -> str:
        """A landing without an exit in it, for one more; a new one where each has one."""
        standing = {name: one for name, one in self.estate.exits.items() if name not in self.retired}
        taken = {subnet for one in standing.values() for subnet in one.in_subnets}
        for exit_ in filter(None, self.exits.values()):
            taken |= {exit_.get("subnet", ""), *exit_.get("subnets", ())}
        for name, subnet in self.estate.subnets.items():
            if name not in taken and subnet.network == network and subnet.zone == zone and self._is_public(name):
                return name
        return self._new_subnet("further", network, zone, self._public_table(network))

    def new_network(self, stem: str, region: str) -> str:
        """A small network beside the others, with a prefix of the shared address space (RFC 6598) that none has."""
        taken = [prefix for one in self.estate.networks.values() for prefix in one.prefixes]
        prefix = first_free([_SHARED_SPACE], taken, _SMALL_NETWORK)
        if prefix is None:
            raise NoAnswer(f"{_SHARED_SPACE} has no free /{_SMALL_NETWORK}", "Free a prefix of it.")
        name = _free_name(stem, self.estate.networks)
        self.networks[name] = {"prefixes": [str(prefix)], **({"region": region} if region else {})}
        return name

    def own_subnet(self, stem: str, network: str, zone: str | None) -> str:
        """A new subnet for an exit, with an empty table of its own; see `route`."""
        table = _free_name(f"{stem}-{network}-{zone}" if zone else f"{stem}-{network}", self._tables())
        self.tables[table] = {}
        return self._new_subnet(stem, network, zone, table)

    def route(self, subnet: str, key: str, exit_name: str) -> None:
        """Give a subnet a route: a new one's table has it, and one's that exists, which then has it alone."""
        if subnet in self.estate.subnets:
            self.lead([subnet], key, exit_name)
        else:
            self.tables[self.subnets[subnet]["routes"]][key] = exit_name

    def new_table(self, stem: str, routes: dict[str, str]) -> str:
        """A table that no subnet names, for an exit."""
        name = _free_name(stem, self._tables())
        self.tables[name] = dict(routes)
        return name

    def internet_exit(self, network: str) -> str:
        """The network's direct door, added where it has none."""
        exits = self.estate.exits.items()
        internet_exits = [n for n, one in exits if one.takes_public_sources and one.of_network == network]
        door = _internet_exit(network)
        added = [name for name, one in self.exits.items() if one and door.items() <= one.items()]
        return next(iter([*internet_exits, *added]), "") or self.add(f"internet-{network}", door)

    def _is_public(self, subnet: str) -> bool:
        """Whether a subnet's default names the internet exit, and stays so: not one that sends, whose may change."""
        return bool(self.estate.internet_exit_of(subnet)) and subnet not in self._senders

    @cached_property
    def _senders(self) -> frozenset[str]:
        return frozenset(subnet for name in self.estate.senders for subnet in self.estate.workloads[name].subnets)

    def _tables(self) -> set[str]:
        return {*self.estate.route_tables, *self.tables}

    def _new_subnet(self, stem: str, network: str, zone: str | None, table: str) -> str:
        added = self.networks.get(network)
        within = [*map(parse_prefix, added["prefixes"])] if added else self.estate.networks[network].prefixes
        prefix = first_free(within, self._taken(), LANDING_LENGTH)
        if prefix is None:
            raise NoAnswer(f"{network} has no free /{LANDING_LENGTH} for a gateway's subnet", "Add a prefix to it.")
        name = _free_name(
            f"{stem}-{network}-{zone}" if zone else f"{stem}-{network}", {*self.estate.subnets, *self.subnets}
        )
        self.subnets[name] = {"network": network, "prefix": str(prefix), "routes": table}
        if zone:
            self.subnets[name]["zone"] = zone
        return name

    def patch(self) -> Patch:
        """The patch as it stands: exits, subnets, and tables split where their subnets differ."""
        self._write_tables()
        parts = {
            "networks": self.networks,
            "exits": self.exits,
            "subnets": self.subnets,
            "route_tables": self.tables,
            "workloads": self.workloads,
        }
        return {section: entries for section, entries in parts.items() if entries}

    def _taken(self) -> list[Prefix]:
        added = [one["prefix"] for one in self.subnets.values() if "prefix" in one]
        return [*(one.prefix for one in self.estate.subnets.values()), *map(parse_prefix, added)]

    def _public_table(self, network: str) -> str:
        """A table of this network whose default leads to its door; door and table are added where missing."""
        for name, subnet in self.estate.subnets.items():
            if subnet.network == network and subnet.routes and self._is_public(name):
                return subnet.routes
        name = f"public-{network}"
        if name not in self.tables:
            self.tables[name] = {DEFAULT: self.internet_exit(network)}
        return name

    def kept_routes(self, table: str | None) -> dict[str, Any]:
        """The routes of a table, as written, that lead to exits which stay."""
        routes = self.estate.route_tables.get(table or "", {})
        written = self.described.data.get("route_tables", {}).get(table, {})
        gone = self.retired | {one for value in routes.values() for one in exits_of(value)} - {*self.estate.exits}
        return {key: written[key] for key, value in routes.items() if not gone & {*exits_of(value)}}

    def _write_tables(self) -> None:
        variants: dict[str | None, list[tuple[dict[str, Any], list[str]]]] = {}
        for name in self.estate.subnets:
            table = self.estate.table_of(name)
            content = self.kept_routes(table) | self.led.get(name, {})
            same = [names for known, names in variants.setdefault(table, []) if known == content]
            if same:
                same[0].append(name)
            else:
                variants[table].append((content, [name]))
        for old in self.estate.route_tables:
            variants.setdefault(old, [(self.kept_routes(old), [])])
        for table, contents in variants.items():
            self._write_variants(table, contents)

    def _write_variants(self, old: str | None, contents: list[tuple[dict[str, Any], list[str]]]) -> None:
        """The first variant keeps the table's name, the others get names of their own."""
        written = self.described.data.get("route_tables", {}).get(old, {})
        for number, (content, subnets) in enumerate(contents):
            if old is None and not content:
                continue
            if old is not None and number == 0:
                changes = dict.fromkeys(key for key in written if key not in content)
                changes |= {key: value for key, value in content.items() if written.get(key) != value}
                if changes:
                    self.tables[old] = changes
                continue
            first = self.estate.subnets[subnets[0]]
            stem = f"{old or first.network}-{first.zone or number}"
            name = _free_name(stem, {*self.estate.route_tables, *self.tables})
            self.tables[name] = content
            for subnet in subnets:
                self.subnets.setdefault(subnet, {})["routes"] = name


def _internet_exit(network: str) -> dict[str, Any]:
    return {"kind": "direct-internet", "network": network}


def _free_name(name: str, taken: Iterable[str]) -> str:
    used = set(taken)
    number, free = 1, name
    while free in used:
        number += 1
        free = f"{name}-{number}"
    return free
