"""A slow tracer of single packets, written from the text of the model alone, on the estate as data.

It follows one packet from one host's address to one address and one name, table by table, then its reply. It shares no
code with the program, and knows no classes: who asks for a share follows every packet.
"""

from collections.abc import Iterator
from fractions import Fraction
from functools import cache
from ipaddress import ip_address
from ipaddress import ip_network as parsed
from typing import Any

Data = dict[str, Any]
Address = Any
Outcome = tuple[str, tuple[str, ...]]
Lost = list[tuple[str, Fraction]]
"""Why a reply is lost, or empty, with the share that goes so."""
PRIVATE = [parsed(text) for text in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7")]
ORDER = ["peering", "static", "learned", "injected"]
Rank = tuple[int, int, int]
Row = tuple[str, str, Rank, str]
"""A prefix, the next hop, what ranks it (the least first), and the network behind a local route."""
OWN = (-1, 0, 0)


ip_network = cache(parsed)


def inside(address: Address, prefixes: list[str]) -> bool:
    return any(address in ip_network(one) for one in prefixes)


class Naive:
    """One estate as data; every question is answered anew."""

    def __init__(self, estate: Data, behaviour: Data | None = None) -> None:
        self.estate = estate
        self.behaviour: Data = behaviour or {}
        self.order: list[str] = self.behaviour.get("equal_prefixes", ORDER)
        self.exits: Data = estate["exits"]
        self.subnets: Data = estate["subnets"]
        self.networks: Data = estate["networks"]
        self.tables: dict[str, list[Row]] = {}

    # Who is where

    def prefixes(self, subnet: str) -> list[str]:
        stated = self.subnets[subnet]
        return [stated[key] for key in ("prefix", "prefix_v6") if key in stated]

    def subnet_in(self, network: str, address: Address) -> str:
        own = [name for name, one in self.subnets.items() if one["network"] == network]
        return next((name for name in own if inside(address, self.prefixes(name))), "")

    def network_of(self, exit_name: str) -> str:
        exit_ = self.exits[exit_name]
        place = exit_.get("subnet") or (exit_.get("subnets") or [""])[0]
        return self.subnets[place]["network"] if place else exit_.get("network", "")

    def learned(self, name: str) -> list[str]:
        return self.offered(name) if self.is_heard(name) else []

    def offered(self, name: str) -> list[str]:
        """What is announced while a session is up."""
        exit_ = self.exits[name]
        if exit_["kind"] == "circuit":
            return [p for p in exit_["received"] if not p.endswith("/0")]
        return list(exit_.get("announces", []))

    def is_heard(self, name: str) -> bool:
        return not self.is_down(self.exits[name]) and self.exits[name].get("session") != "down"

    def near(self, hub: str) -> list[str]:
        """Who has a session with a hub: lines attached to it, appliances in its networks."""
        return [
            name
            for name, one in self.exits.items()
            if one.get("hub") == hub
            or (
                one["kind"] in ("inspecting-firewall", "translator-host")
                and self.network_of(name) in self.exits[hub]["networks"]
            )
        ]

    def injected(self, hub: str) -> list[str]:
        stated = self.exits[hub].get("injects", [])
        by_default = self.behaviour.get("hub_injects_while", "always")
        prefixes, condition = stated, by_default
        if isinstance(stated, dict):
            prefixes, condition = stated["prefixes"], stated.get("while", by_default)
        sessions = [n for n in self.near(hub) if self.exits[n]["kind"] == "circuit" or self.offered(n)]
        up = [self.is_heard(n) for n in sessions]
        holds = {"always": True, "any-session": any(up), "all-sessions": all(up)}
        return list(prefixes) if holds[condition] else []

    def rank(self, origin: str, name: str = "") -> Rank:
        exit_ = self.exits.get(name, {})
        return self.order.index(origin), -exit_.get("local_preference", 100), exit_.get("path_length", 1)

    # Tables

    def local(self, network: str) -> Iterator[Row]:
        own = self.networks[network]["prefixes"]
        for prefix in own:
            yield prefix, "local", OWN, network
        for name, exit_ in self.exits.items():
            pool = exit_.get("private_pool")
            own_v4 = [ip_network(one) for one in own if "." in one]
            here = pool and self.network_of(name) == network
            here = here and self.behaviour.get("private_pools", "automatic") == "automatic"
            if here and not any(ip_network(pool).subnet_of(one) for one in own_v4):
                yield pool, name, OWN, network
            by_itself = self.behaviour.get("peering_routes", "automatic") == "automatic"
            if exit_["kind"] == "peering" and network in exit_["networks"] and by_itself:
                [other] = [one for one in exit_["networks"] if one != network]
                for prefix in self.networks[other]["prefixes"]:
                    yield prefix, name, (self.order.index("peering"), 0, 0), other

    def stated(self, table: str | None) -> Iterator[Row]:
        for key, value in self.estate["route_tables"].get(table or "", {}).items():
            to = self.estate["destinations"].get(key)
            for prefix in to["prefixes"] if to else [key]:
                for one in value if isinstance(value, list) else [value]:
                    exit_name = one if isinstance(one, str) else one["exit"]
                    origin = "static" if isinstance(one, str) else one.get("origin", "static")
                    if origin == "static":
                        yield prefix, exit_name, (self.order.index("static"), 0, 0), ""
                    elif not self.withdrawn(exit_name, origin, prefix):
                        exit_ = self.exits.get(exit_name, {})
                        prefers = exit_["kind"] in ("circuit", "inspecting-firewall", "translator-host") if exit_ else 0
                        yield prefix, exit_name, self.rank(origin, exit_name) if prefers else self.plain(origin), ""

    def plain(self, origin: str) -> Rank:
        return self.order.index(origin), 0, 0

    def withdrawn(self, name: str, origin: str, prefix: str) -> bool:
        """Whether a stated route that somebody announced has gone with that session."""
        if name not in self.exits:
            return False
        if self.exits[name]["kind"] != "hub":
            return not self.is_heard(name)
        if origin == "injected":
            return bool(self.exits[name].get("injects")) and not self.injected(name)
        holds = [
            n for n in self.near(name) if any(ip_network(prefix).subnet_of(ip_network(p)) for p in self.offered(n))
        ]
        return bool(holds) and not any(map(self.is_heard, holds))

    def table(self, place: str) -> list[Row]:
        if place not in self.tables:
            self.tables[place] = self.written(place)
        return self.tables[place]

    def written(self, place: str) -> list[Row]:
        """Of a subnet, a hub, or `exit:NAME` and `network:NAME` for what comes in from outside."""
        if place.startswith("exit:"):
            name = place.removeprefix("exit:")
            return [*self.local(self.network_of(name)), *self.stated(self.exits[name]["routes"])]
        if place.startswith("network:"):
            return [*self.local(place.removeprefix("network:"))]
        if place in self.exits:
            hub = self.exits[place]
            routes = [(p, "local", OWN, n) for n in hub["networks"] for p in self.networks[n]["prefixes"]]
            routes += [*self.stated(hub.get("routes"))]
            for name in self.near(place):
                routes += [(p, name, self.rank("learned", name), "") for p in self.learned(name)]
            return routes
        network = self.subnets[place]["network"]
        routes = [*self.local(network), *self.stated(self.subnets[place].get("routes"))]
        for name, exit_ in self.exits.items():
            if self.network_of(name) == network:
                routes += [(p, name, self.rank("learned", name), "") for p in self.learned(name)]
            if exit_["kind"] == "hub" and network in exit_["networks"]:
                routes += [(p, name, self.plain("injected"), "") for p in self.injected(name)]
                to = self.behaviour.get("hub_passes_on", "to-others")
                for other in self.near(name):
                    if to == "to-all" or (to == "to-others" and self.network_of(other) != network):
                        routes += [(p, name, self.rank("learned", other), "") for p in self.learned(other)]
        return routes

    def matching(self, place: str, address: Address) -> list[Row]:
        fits = [one for one in self.table(place) if address in ip_network(one[0])]
        if not fits:
            return []
        peers = self.order.index("peering")
        for key, among in (("own", [-1]), ("peering", [peers])):
            first = [ip_network(one[0]).prefixlen for one in fits if one[2][0] in among and one[2][1:] == (0, 0)]
            if first and key in self.behaviour.get("wins_over_longer", []):
                behind = [-1] if key == "own" else [-1, peers]
                fits = [one for one in fits if ip_network(one[0]).prefixlen <= min(first) or one[2][0] in behind]
        longest = max(ip_network(one[0]).prefixlen for one in fits)
        fits = [one for one in fits if ip_network(one[0]).prefixlen == longest]
        best = min(one[2] for one in fits)
        fits = [one for one in fits if one[2] == best]
        return list(dict.fromkeys(fits))[: 1 if best[0] in (-1, peers) else None]

    # Rules

    def meant(self, names: list[str]) -> list[str]:
        """The addresses that a rule means by destinations: their prefixes, and where their endpoints are entered."""
        found = [prefix for name in names for prefix in self.estate["destinations"][name]["prefixes"]]
        for one in self.exits.values():
            if one["kind"] == "in-subnet-endpoint" and one["destination"] in names:
                places = [prefix for subnet in one["subnets"] for prefix in self.prefixes(subnet)]
                found += [str(self.first_host(prefix)) for prefix in places]
        return found

    @staticmethod
    def first_host(prefix: str) -> Address:
        return next(ip_network(prefix).hosts())

    def by_rules(self, rules: Data, packet: Data, default: bool, either: bool = False) -> bool:
        """By the first rule that matches; either: whether destinations of rules may be at either end."""
        ends = ["target", "source"] if either else ["target"]
        last = max((one.get("order", 0) for one in rules.values()), default=0) + 1
        for one in sorted(rules.values(), key=lambda rule: rule.get("order", last)):
            names = one.get("names", [])
            if (
                ("destinations" not in one or any(inside(packet[end], self.meant(one["destinations"])) for end in ends))
                and ("prefixes" not in one or inside(packet["target"], one["prefixes"]))
                and ("sources" not in one or inside(packet["source"], one["sources"]))
                and ("ports" not in one or any(self.holds(span, packet["port"]) for span in one["ports"]))
                and (
                    not names
                    or any(packet["name"] == n or (n[0] == "*" and packet["name"].endswith(n[1:])) for n in names)
                )
            ):
                return bool(one["action"] == "allow")
        return default

    @staticmethod
    def holds(span: int | str, port: int | None) -> bool:
        """Whether a port, or a range such as 1024-65535, is that of a packet."""
        low, _, high = str(span).partition("-")
        return port is not None and int(low) <= port <= int(high or low)

    def filtered(self, section: str, owner: str, inward: bool, packet: Data) -> str:
        """Which of the two is stopped by a place's filters: `denied` the packet, `reply denied` its reply, or none."""
        lost = ""
        for stated in self.estate[section][owner].get("filters", {}).values():
            for reply in (False, True):
                if reply and stated.get("stateful", True):
                    continue
                way = "in" if inward != reply else "out"
                rules = stated.get(way, {})
                closed = bool(rules) or (way == "in" and stated.get("stateful", True))
                default = stated.get(f"{way}_default", "deny" if closed else "allow") == "allow"
                asked = {**packet, "source": packet["target"], "target": packet["source"], "port": None}
                if not self.by_rules(rules, asked if reply else packet, default, either=True):
                    if not reply:
                        return "denied"
                    lost = "reply denied"
        return lost

    # One packet

    def outcomes(self, workload: str, subnet: str, host: Address, to: str, address: Address, name: str) -> Data:
        """The outcomes of one packet, with the share of each: verdict and exits."""
        found: dict[Outcome, Fraction] = {}
        stated = self.estate["destinations"][to]
        base = {"to": to, "target": address, "name": name, "port": stated.get("port")}
        start = {"place": subnet, "source": host, "exits": (), "crossed": [("workloads", workload, False, host)]}
        home = self.subnets[subnet]["network"]
        start |= {"owners": [("", host)], "kept": [[]], "network": home, "home": home, "met": []}
        pending = [(start, Fraction(1))]
        while pending:
            here, share = pending.pop()
            for after, part in self.steps(here, here.get("base", base)):
                if isinstance(after, dict):
                    pending.append((after, share * part))
                    continue
                for (verdict, exits), its in after if isinstance(after, list) else [(after, Fraction(1))]:
                    key = (verdict, exits if verdict == "arrives" else ())
                    found[key] = found.get(key, Fraction(0)) + share * part * its
        return found

    def steps(self, here: Data, base: Data) -> Iterator[tuple[Any, Fraction]]:
        place, address = here["place"], base["target"]
        named = [n for n, e in self.exits.items() if self.by_name(n, e, here["network"], base["to"], place)]
        by_name = bool(named) and not here["exits"]
        if by_name:
            # The name resolves to an address inside a subnet: the packet is for that one.
            own = self.subnets[place]
            inner = self.exits[named[0]]["subnets"]
            entry = ([one for one in inner if self.subnets[one]["zone"] == own["zone"]] or inner)[0]
            aim = self.first_host(self.subnets[entry]["prefix"])
            base = {**base, "target": aim}
            taken = any(row[1] != "local" for row in self.matching(place, aim))
            if taken or self.network_of(named[0]) != here["network"]:
                base = {**base, "bound": named[0]}
                here, by_name, address = {**here, "base": base}, False, aim
        nexts = [("", named[0], 1, "")] if by_name else self.matching(place, address)
        if not nexts:
            yield self.ended(here, base, "no route", ()), Fraction(1)
        for _, exit_name, _, behind in nexts:
            for after, part in self.entered(here, base, exit_name, behind):
                yield after, part / len(nexts)

    def by_name(self, name: str, exit_: Data, network: str, to: str, place: str) -> bool:
        private = exit_["kind"] == "in-subnet-endpoint" and exit_.get("names", "private") == "private"
        if not private:
            return False
        own = self.network_of(name) == network
        other = [n for n, e in self.exits.items() if e["kind"] == "in-subnet-endpoint" and n != name]
        mine = any(self.exits[n]["destination"] == to and self.network_of(n) == network for n in other)
        serves = own or (network in exit_.get("names_in", []) and not mine)
        if "names_for" in exit_:
            serves = place in exit_["names_for"]
        return bool(exit_["destination"] == to and serves)

    def entered(self, here: Data, base: Data, name: str, behind: str) -> Iterator[tuple[Any, Fraction]]:
        whole, exits = Fraction(1), (*here["exits"], name)
        if name == "local":
            network = here["network"] or behind
            yield self.delivered(here, base, network), whole
            return
        if name not in self.exits:
            yield self.ended(here, base, "black hole", exits), whole
            return
        exit_ = self.exits[name]
        kind, address = exit_["kind"], base["target"]
        if why := self.not_carried(here, base, name, exit_):
            yield self.ended(here, base, why, exits), whole
            return
        crossed = list(here["crossed"])
        place = exit_.get("subnet") or (exit_.get("subnets") or [""])[0]
        if place != here["place"] and here["place"] in self.subnets:
            crossed.append(("subnets", here["place"], False, here["source"]))
        if place and place != here["place"]:
            crossed.append(("subnets", place, True, here["source"]))
        if kind in ("routed-endpoint", "in-subnet-endpoint"):
            crossed.append(("exits", name, True, here["source"]))
        met = [*here["met"], (name, here["place"])]
        after = {**here, "exits": exits, "crossed": crossed, "place": place, "met": met}
        public = not any(address in one for one in PRIVATE if one.version == address.version)
        toward = exit_.get("rewrites_toward", ["public", "private"])
        rewrites = kind in ("translation-gateway", "translator-host")
        rewrites |= kind == "inspecting-firewall" and ("public" if public else "private") in toward
        rewrites &= address.version == 4
        if not rewrites:
            if kind in ("inspecting-firewall", "ipv6-outbound"):
                after["kept"] = [*here["kept"][:-1], [*here["kept"][-1], name]]
            yield self.onward(after, base, name), whole
            return
        pool = exit_.get("private_pool")
        own = exit_.get("addresses_for", {}).get(base["to"])
        shown = [*ip_network(pool)] if pool else [ip_address(one) for one in own or exit_["addresses"]]
        for source in shown:
            changed = {"source": source, "owners": [*here["owners"], (name, source)], "kept": [*here["kept"], []]}
            yield self.onward({**after, **changed}, base, name), Fraction(1, len(shown))

    def not_carried(self, here: Data, base: Data, name: str, exit_: Data) -> str:
        kind, address = exit_["kind"], base["target"]
        rules = exit_.get("rules", {})
        crossed = self.finds(here["place"], here["network"], name)
        out_of_reach = "black hole" if crossed is None else self.forwarded(here, crossed)
        if any(one == name and (kind != "hub" or at == here["place"]) for one, at in here["met"]):
            return "loop"
        if out_of_reach or (kind == "circuit" and self.is_down(exit_)):
            return out_of_reach or "black hole"
        public = not any(address in one for one in PRIVATE if one.version == address.version)
        only = {"translation-gateway": 4, "ipv6-outbound": 6}.get(kind)
        if only not in (None, address.version):
            return "address family not carried"
        if base.get("comes_in") and kind in ("translation-gateway", "ipv6-outbound"):
            return "not carried"
        outside = kind in ("direct-internet", "ipv6-outbound") or (kind == "translation-gateway" and "network" in exit_)
        if outside and not public:
            return "private destination"
        owner = here["owners"][-1][0]
        shows_public = bool(owner) and "private_pool" not in self.exits[owner]
        shows_public |= not owner and here["source"].version == 6 and not inside(here["source"], ["fc00::/7"])
        if base.get("comes_in"):
            shows_public = not any(here["source"] in one for one in PRIVATE if one.version == here["source"].version)
        if kind in ("direct-internet", "ipv6-outbound") and not shows_public:
            return "no public source"
        if kind == "peering":
            others = [p for n in exit_["networks"] if n != here["network"] for p in self.networks[n]["prefixes"]]
            if not inside(address, others):
                return "not carried"
        if kind in ("routed-endpoint", "in-subnet-endpoint") and not inside(
            address, self.meant([exit_["destination"]])
        ):
            return "not carried"
        if kind == "circuit" and not inside(address, exit_["received"]):
            return "not carried"
        packet = {**base, "source": here["source"]}
        if kind == "inspecting-firewall":
            default = exit_.get("default", "deny" if rules else "allow") == "allow"
            if not self.by_rules(rules, packet, default):
                return "denied"
        return ""

    def finds(self, place: str, own: str | None, name: str) -> str | None:
        """The peering crossed to an exit that a route names, or empty; None where it is out of reach."""
        exit_, network = self.exits[name], self.network_of(name)
        if own is None:
            near = exit_.get("hub") == place or (network and network in self.exits[place]["networks"])
            return "" if near else None
        if network == own or own in exit_.get("networks", []):
            return name if exit_["kind"] == "peering" else ""
        for peering, one in self.exits.items():
            if one["kind"] == "peering" and own in one["networks"] and network in one["networks"]:
                machine = exit_["kind"] in ("inspecting-firewall", "translator-host")
                return peering if machine or own in one.get("exits_open_to", []) else None
        return None

    def forwarded(self, here: Data, peering: str) -> str:
        owner = here["owners"][-1][0]
        home = self.network_of(owner) if owner else here["home"]
        own = self.exits[peering].get("sources", "own") == "own" if peering else False
        return "denied" if own and home != here["network"] else ""

    def onward(self, after: Data, base: Data, name: str) -> Any:
        exit_ = self.exits[name]
        kind = exit_["kind"]
        if kind == "peering":
            [other] = [one for one in exit_["networks"] if one != after["network"]]
            return self.delivered(after, base, other)
        if kind == "hub":
            return {**after, "place": name, "network": None}
        if kind in ("inspecting-firewall", "translator-host") or (kind == "translation-gateway" and "subnet" in exit_):
            return {**after, "network": self.network_of(name)}
        return self.judged(after, base, {"circuit": "line"}.get(kind, "outside"), "")

    def delivered(self, here: Data, base: Data, network: str) -> Outcome:
        there = self.subnet_in(network, base["target"])
        if not there:
            return self.ended(here, base, "address in no subnet", here["exits"], local=True)
        crossed = list(here["crossed"])
        if there != here["place"]:
            if here["place"] in self.subnets:
                crossed.append(("subnets", here["place"], False, here["source"]))
            crossed.append(("subnets", there, True, here["source"]))
        if "bound" in base:
            exits = (*here["exits"], base["bound"])
            crossed.append(("exits", base["bound"], True, here["source"]))
            return self.judged({**here, "crossed": crossed, "exits": exits}, base, "endpoint", there)
        hosts = [name for name, one in self.estate["workloads"].items() if there in one["subnets"]]
        if "to_workload" in here:
            hosts = [here["to_workload"]]
        if len(hosts) == 1:
            crossed.append(("workloads", hosts[0], True, here["source"]))
        return self.judged({**here, "crossed": crossed}, base, "here", there)

    def ended(self, here: Data, base: Data, verdict: str, exits: tuple[str, ...], local: bool = False) -> Outcome:
        """A packet that does not arrive: a filter on the path so far may have stopped it before."""
        crossed = list(here["crossed"])
        goes = local or (exits and exits[-1] in self.exits)
        place = ""
        if exits and exits[-1] in self.exits and not local:
            exit_ = self.exits[exits[-1]]
            place = exit_.get("subnet") or (exit_.get("subnets") or [""])[0]
        if goes and place != here["place"] and here["place"] in self.subnets:
            crossed.append(("subnets", here["place"], False, here["source"]))
        if not local and place and place != here["place"]:
            crossed.append(("subnets", place, True, here["source"]))
        if goes and exits and self.exits.get(exits[-1], {}).get("kind") in ("routed-endpoint", "in-subnet-endpoint"):
            crossed.append(("exits", exits[-1], True, here["source"]))
        for section, owner, inward, source in crossed:
            if self.filtered(section, owner, inward, {**base, "source": source}) == "denied":
                return "denied", ()
        return verdict, ()

    def judged(self, here: Data, base: Data, where: str, there: str) -> "Outcome | list[tuple[Outcome, Fraction]]":
        """A packet that gets there: the filters on its path, then its reply, by each of the equal routes."""
        some = [self.filtered(s, o, i, {**base, "source": source}) for s, o, i, source in here["crossed"]]
        if "denied" in some or self.by_policy(here, base, where):
            return "denied", ()
        arrives = "reply denied" if "reply denied" in some else "arrives"
        return [((lost or arrives, here["exits"]), part) for lost, part in self.reply(here, base, where, there)]

    def by_policy(self, here: Data, base: Data, where: str) -> bool:
        """Whether the policy of the endpoint, or of the service, denies what got there."""
        if where not in ("outside", "endpoint") or not here["exits"]:
            return False
        name = here["exits"][-1]
        exit_ = self.exits[name]
        meant = [one for to, one in self.estate["destinations"].items() if inside(base["target"], self.meant([to]))]
        if exit_["kind"] in ("routed-endpoint", "in-subnet-endpoint"):
            workload = here["crossed"][0][1]
            closed = "allowed_from" in exit_ and workload not in exit_["allowed_from"]
            return closed or any("only_through" in to and name not in to["only_through"] for to in meant)
        for to in meant:
            public = to.get("public_access", "open")
            if public == "closed" or (public == "listed" and not inside(here["source"], to["allowed"])):
                return True
        return False

    # Its reply

    def reply(self, here: Data, base: Data, where: str, there: str) -> Lost:
        """Why the reply is lost, or empty, with the share that goes so."""
        owners, kept, last = here["owners"], here["kept"], here["exits"][-1] if here["exits"] else ""
        owner, source = owners[-1]
        if where == "line":
            place = self.answering(last, source)
            lost = self.back(place, base, owner, source, here, kept[-1]) if place else [("no return", Fraction(1))]
        elif where in ("here", "endpoint"):
            lost = self.back(there, base, owner, source, here, kept[-1])
        else:
            due = [one for one in kept[-1] if one != last]
            lost = [("asymmetric return" if due else "", Fraction(1))]
            if owner != last and "routes" in self.exits[last]:
                target = source if not owner else ip_network(self.subnets[self.exits[owner]["subnet"]]["prefix"])[0]
                lost = self.back(f"exit:{last}", base, owner, target, here, due, known=False)
        for number in range(len(owners) - 1, 0, -1):
            name = owners[number][0]
            place = self.exits[name].get("subnet") or f"network:{self.network_of(name)}"
            if "routes" in self.exits[name]:
                place = f"exit:{name}"
            further = self.back(place, base, *owners[number - 1], here, kept[number - 1])
            gone = [one for one in lost if one[0]]
            left = sum((part for why, part in lost if not why), Fraction(0))
            lost = [*gone, *((why, left * part) for why, part in further)] if left else gone
        return lost

    def answering(self, last: str, source: Address) -> str:
        """Where a third party's reply enters: by the line that tells it of the longest prefix; empty for nowhere."""
        line = self.exits[last]
        lines = [
            n
            for n, e in self.exits.items()
            if e["kind"] == "circuit" and e["third_party"] == line["third_party"] and not self.is_down(e)
        ]
        lines = [last, *(one for one in lines if one != last)]
        fits = {
            one: max(
                (ip_network(p).prefixlen for p in self.exits[one]["advertised"] if source in ip_network(p)),
                default=-1,
            )
            for one in lines
        }
        best = max(lines, key=lambda one: fits[one])
        if fits[best] < 0:
            return ""
        if "routes" in self.exits[best]:
            return f"exit:{best}"
        return str(self.exits[best].get("hub") or f"network:{self.exits[best]['network']}")

    def back(
        self,
        place: str,
        base: Data,
        owner: str,
        target: Address,
        here: Data,
        due: list[str],
        known: bool = True,
        passed: tuple[str, ...] = (),
        steps: int = 0,
    ) -> Lost:
        """The reply from a place to the owner of a source, by each of the equal routes there."""
        home = self.network_of(owner) if owner else here["home"]
        network = self.place_network(place)
        public = bool(owner) and "private_pool" not in self.exits[owner]
        kept = any(one not in due for one in passed) or any(one not in passed for one in due)
        end = [("asymmetric return" if kept else "", Fraction(1))]
        gone = [("no return", Fraction(1))]
        if steps > 64:
            return gone
        found: Lost = []
        routes = self.matching(place, target)
        if not routes and owner and public and known and network == home:
            return end
        for _, name, _, behind in routes:
            if owner and public and known and network == home:
                some = end
            elif name in self.exits and self.finds(place, network, name) is None:
                some = gone
            elif owner and name == owner:
                some = end
            elif name == "local":
                some = end if (network or behind) == home else gone
            else:
                following = self.following(name, place, base, home)
                stops = following in ("", "there") or name in passed
                some = end if following == "there" else gone
                if not stops:
                    met = passed if self.exits[name]["kind"] == "hub" else (*passed, name)
                    some = self.back(following, base, owner, target, here, due, known, met, steps + 1)
            found += [(why, part / len(routes)) for why, part in some]
        return found or gone

    def following(self, name: str, place: str, base: Data, home: str) -> str:
        """Where an exit takes a reply; `there` where it delivers it, empty where it is lost."""
        exit_ = self.exits.get(name)
        if exit_ is None or exit_.get("forwarding") is False or self.is_down(exit_):
            return ""
        if exit_["kind"] == "peering":
            network = self.place_network(place)
            own = place in self.subnets and inside(base["target"], self.networks[network or ""]["prefixes"])
            [other] = [one for one in exit_["networks"] if one != network]
            return "there" if other == home and (own or exit_.get("sources", "own") == "any") else ""
        if exit_["kind"] == "hub":
            return name
        return str(exit_["subnet"]) if exit_["kind"] in ("inspecting-firewall", "translator-host") else ""

    def is_down(self, exit_: Data) -> bool:
        return any(one.get("session") == "down" for one in exit_.get("routers", {}).values())

    def place_network(self, place: str) -> str | None:
        if place.startswith("exit:"):
            return self.network_of(place.removeprefix("exit:"))
        if place.startswith("network:"):
            return place.removeprefix("network:")
        return None if place in self.exits else str(self.subnets[place]["network"])

    # Every packet of a flow

    def shares(self, flow: str) -> dict[tuple[str, str, tuple[str, ...]], Fraction]:
        """By subnet, verdict and exits: the share of a flow's packets, each host, address and name one by one."""
        stated = self.estate["flows"][flow]
        workload, to = stated["from"], self.estate["destinations"][stated["to"]]
        subnets = self.estate["workloads"][workload]["subnets"]
        hosts = {name: self.hosts(workload, name, 4) for name in subnets}
        everyone = sum(map(len, hosts.values()))
        found: dict[tuple[str, str, tuple[str, ...]], Fraction] = {}
        for subnet in subnets:
            versions = {ip_network(one).version for one in self.prefixes(subnet)}
            targets = {v: self.addresses(to["prefixes"], v) for v in (4, 6)}
            families = [v for v in (4, 6) if v in versions and targets[v]]
            here = Fraction(len(hosts[subnet]), everyone)
            share = self.estate["workloads"][workload].get("ipv6_share")
            asked = [(v, one) for v in families for one in targets[v]]
            orders = [([self.turn_of(subnet, families, v, one) for v, one in asked], here)]
            if share is not None and len(families) == 2:
                first = Fraction(str(share))
                orders = [([-v for v, _ in asked], here * first), ([v for v, _ in asked], here * (1 - first))]
            for turns, left in orders:
                self.in_turn(found, workload, subnet, stated["to"], asked, turns, left)
        return found

    def in_turn(
        self,
        found: dict[tuple[str, str, tuple[str, ...]], Fraction],
        workload: str,
        subnet: str,
        destination: str,
        asked: list[tuple[int, Address]],
        turns: list[int],
        left: Fraction,
    ) -> None:
        """Adds what becomes of packets that ask in this order: what one turn loses, the next asks for."""
        names = self.estate["destinations"][destination].get("names") or [""]
        for turn in sorted(set(turns)):
            if not left:
                break
            lost = Fraction(0)
            now = [one for one, its in zip(asked, turns, strict=True) if its == turn]
            for version, address in now:
                senders = self.hosts(workload, subnet, version)
                weight = left / (len(senders) * len(now) * len(names))
                for host in senders:
                    for name in names:
                        outcomes = self.outcomes(workload, subnet, host, destination, address, name)
                        for (verdict, exits), part in outcomes.items():
                            if verdict != "arrives" and turn != max(turns):
                                lost += weight * part
                                continue
                            key = (subnet, verdict, exits)
                            found[key] = found.get(key, Fraction(0)) + weight * part
            left = lost

    def turn_of(self, subnet: str, families: list[int], version: int, address: Address) -> int:
        """Global IPv6 to global IPv6 first, then IPv4, then unique local addresses; one version alone has no order."""
        if len(families) < 2 or version == 4:
            return 1
        local = inside(address, ["fc00::/7"]) or inside(ip_network(self.subnets[subnet]["prefix_v6"])[1], ["fc00::/7"])
        return 2 if local else 0

    def hosts(self, workload: str, subnet: str, version: int) -> list[Address]:
        own = [ip_network(one) for one in self.prefixes(subnet) if ip_network(one).version == version]
        ranges = [
            one for one in self.estate["workloads"][workload].get("hosts_in", []) if ip_network(one).version == version
        ]
        return [one for prefix in own for one in prefix.hosts() if not ranges or inside(one, ranges)]

    def addresses(self, prefixes: list[str], version: int) -> list[Address]:
        """All addresses of prefixes; inside one that holds subnets, theirs alone."""
        found: dict[Address, None] = {}
        for text in prefixes:
            prefix = ip_network(text)
            if prefix.version != version:
                continue
            every = [ip_network(one) for name in self.subnets for one in self.prefixes(name)]
            held = [one for one in every if one.version == version and one != prefix and one.subnet_of(prefix)]
            for one in held or [prefix]:
                found |= dict.fromkeys(one)
        return list(found)
