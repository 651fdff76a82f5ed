"""The slow tracer of what comes in, written from the text of the model alone: one host, one sender, one packet.

It walks each packet in by itself, through the published port if there is one, and the host's reply out, by each of the
equal routes; nothing of it is shared with the program.
"""

from collections.abc import Iterator
from fractions import Fraction
from ipaddress import ip_address
from typing import Any

from tests.routing.naive import PRIVATE, Address, Data, Naive, inside, ip_network

Found = dict[tuple[str, tuple[str, ...]], Fraction]
MACHINES = ("inspecting-firewall", "translator-host")
WHOLE = Fraction(1)


class NaiveInward(Naive):
    """One estate as data; flows with a `port`."""

    # Who sends what to whom

    def inward_shares(self, flow: str) -> dict[Any, Fraction]:
        """By subnet, verdict and exits: the share of a flow that comes in."""
        stated = self.estate["flows"][flow]
        workload, total = self.estate["workloads"][stated["to"]], dict[Any, Fraction]()
        hosts = {name: [*ip_network(self.subnets[name]["prefix"]).hosts()] for name in workload["subnets"]}
        every = sum(map(len, hosts.values()))
        for subnet, v4 in hosts.items():
            for (verdict, exits), share in self.into(stated, subnet).items():
                key = (subnet, verdict, exits)
                total[key] = total.get(key, Fraction(0)) + share * Fraction(len(v4), every)
        return total

    def into(self, flow: Data, subnet: str) -> Found:
        """The outcomes of all that comes to the hosts of one subnet."""
        found: Found = {}
        ways = self.ways(flow, subnet)
        for way in ways:
            if isinstance(way, str):
                return {(way, ()): WHOLE}
            pairs = [(host, sender) for host in self.hosts_of(subnet, way) for sender in self.senders(flow, way)]
            if not pairs:
                found[("no route", ())] = found.get(("no route", ()), Fraction(0)) + way["share"]
            for host, sender in pairs:
                for key, part in self.one(flow, subnet, way, host, sender).items():
                    found[key] = found.get(key, Fraction(0)) + part * way["share"] / len(pairs)
        return found

    def hosts_of(self, subnet: str, way: Data) -> list[Address]:
        prefixes = [ip_network(one) for one in self.prefixes(subnet)]
        return [host for one in prefixes if one.version == way["version"] for host in usable(one)]

    def senders(self, flow: Data, way: Data) -> list[Address]:
        if "sender" in way:
            return self.hosts_of(way["sender"], way)
        stated = self.estate["destinations"][flow["from"]]["prefixes"]
        networks = [ip_network(one) for one in stated]
        return list(dict.fromkeys(one for each in networks if each.version == way["version"] for one in each))

    def ways(self, flow: Data, subnet: str) -> list[Any]:
        origin, workload = flow["from"], self.estate["workloads"][flow["to"]]
        own = {ip_network(one).version for one in self.prefixes(subnet)}
        if origin in self.networks:
            each = {n: one for n, one in self.subnets.items() if one["network"] == origin}
            there = {ip_network(one).version for one in self.networks[origin]["prefixes"]}
            version = min(own & there)
            sizes = {n: len(self.hosts_of(n, {"version": version})) for n in each}
            whole = sum(sizes.values())
            return [
                {"share": Fraction(size, whole), "version": version, "ingress": "", "sender": n}
                for n, size in sizes.items()
                if size
            ]
        stated = self.estate["destinations"][origin]
        there = {ip_network(one).version for one in stated["prefixes"]}
        if stated.get("service"):
            return [{"share": WHOLE, "version": min(own & there), "ingress": ""}]
        lines = [n for n, one in self.exits.items() if one["kind"] == "circuit"]
        private = all(inside(ip_network(one)[0], list(map(str, PRIVATE))) for one in stated["prefixes"])
        lines = [n for n in lines if private and any(self.meet(stated, one) for one in self.exits[n]["received"])]
        if lines:
            return self.by_lines(flow, subnet, lines)
        ports = [(name, one) for name, one in self.published(flow) if "private_pool" not in self.exits[name]]
        if ports:
            return [
                {
                    "share": Fraction(1, len(ports)),
                    "version": 4,
                    "ingress": self.ingress_of(name),
                    "at": name,
                    "as": one,
                }
                for name, one in ports
            ]
        if workload.get("public_address"):
            return [{"share": WHOLE, "version": 4, "ingress": self.internet_exit(self.subnets[subnet]["network"])}]
        v6 = self.subnets[subnet].get("prefix_v6")
        if v6 and not inside(ip_network(v6)[0], ["fc00::/7"]):
            return [{"share": WHOLE, "version": 6, "ingress": self.internet_exit(self.subnets[subnet]["network"])}]
        return ["no route"]

    def meet(self, stated: Data, prefix: str) -> bool:
        return any(ip_network(one).overlaps(ip_network(prefix)) for one in stated["prefixes"] if ":" not in one)

    def published(self, flow: Data) -> list[tuple[str, Data]]:
        return [
            (name, one)
            for name, exit_ in self.exits.items()
            for one in exit_.get("publishes", {}).values()
            if one["to"] == flow["to"] and one.get("to_port", one["port"]) == flow["port"]
        ]

    def internet_exit(self, network: str) -> str:
        return next(n for n, e in self.exits.items() if e["kind"] == "direct-internet" and e["network"] == network)

    def ingress_of(self, name: str) -> str:
        return self.internet_exit(self.network_of(name)) if "subnet" in self.exits[name] else name

    def by_lines(self, flow: Data, subnet: str, lines: list[str]) -> list[Any]:
        up = [name for name in lines if not self.is_down(self.exits[name])]
        if not up:
            return ["black hole"]
        advertised = [ip_network(one) for name in up for one in self.exits[name]["advertised"]]
        ports = []
        for name, one in self.published(flow):
            address = self.published_address(name, one)
            if any(address in prefix for prefix in advertised):
                ports.append((name, one, address))
        if not ports:
            return [{"share": WHOLE, "version": 4, "ingress": "", "choose": up}]
        each = [
            self.by_advertised(
                up, address, {"share": Fraction(1, len(ports)), "at": name, "as": one, "target": address}
            )
            for name, one, address in ports
        ]
        return [way for some in each for way in some]

    def published_address(self, name: str, one: Data) -> Address:
        exit_ = self.exits[name]
        if "address" in one:
            return ip_address(one["address"])
        pool = exit_.get("private_pool")
        return ip_network(pool)[0] if pool else ip_address(exit_["addresses"][0])

    def by_advertised(self, up: list[str], target: Address, way: Data) -> list[Any]:
        """By the lines that advertise the longest prefix around an address."""
        fits = {
            name: max(
                (ip_network(p).prefixlen for p in self.exits[name]["advertised"] if target in ip_network(p)), default=-1
            )
            for name in up
        }
        longest = max(fits.values())
        if longest < 0:
            return ["no route"]
        best = [name for name in up if fits[name] == longest]
        return [{**way, "share": way["share"] / len(best), "version": 4, "ingress": name, "lines": up} for name in best]

    # One packet in

    def one(self, flow: Data, subnet: str, way: Data, host: Address, sender: Address) -> Found:
        base = {"to": flow["from"], "host": host, "port": flow["port"], "target": host, "name": ""}
        if "sender" in way:
            return self.from_host(flow, subnet, way, host, sender)
        if "choose" in way:
            return self.by_some_line(flow, subnet, way, host, sender)
        if not way["ingress"]:
            crossed = [("subnets", subnet, base)]
            return self.got_there(flow, subnet, way, sender, base, (), crossed, [], [])
        name = way["ingress"]
        at = way.get("at", "")
        barred = self.barred(name, at, host, way.get("as", {}).get("port", flow["port"]))
        if barred:
            return {(barred, ()): WHOLE}
        first = tuple(one for one in (name, self.exits[name].get("hub")) if one)
        here = {"exits": first, "place": self.entry(name), "met": [], "kept": [], "crossed": [], "zone": None}
        if not at:
            return self.onward_from(flow, subnet, way, sender, base, here)
        if at == name:
            return self.past(flow, subnet, way, sender, base, here)
        inner = ip_network(self.subnets[self.exits[at]["subnet"]]["prefix"])[0]
        aimed = way.get("target", inner)
        outer = {**base, "target": inner, "port": way["as"]["port"], "aim": aimed}
        return self.onward_from(flow, subnet, way, sender, outer, here, until=at)

    def by_some_line(self, flow: Data, subnet: str, way: Data, host: Address, sender: Address) -> Found:
        found: Found = {}
        for each in self.by_advertised(way["choose"], host, {"share": WHOLE}):
            if isinstance(each, str):
                return {(each, ()): WHOLE}
            for key, part in self.one(flow, subnet, each, host, sender).items():
                found[key] = found.get(key, Fraction(0)) + part * each["share"]
        return found

    def barred(self, name: str, at: str, host: Address, port: int) -> str:
        """Why the first exit, or the one that publishes, takes nothing at all; in the order in which they are met."""
        for one in dict.fromkeys((name, at)):
            exit_ = self.exits.get(one, {})
            if one and (self.is_down(exit_) or exit_.get("forwarding") is False):
                return "black hole"
            if one and exit_["kind"] == "translation-gateway" and host.version == 6:
                return "address family not carried"
            if one == name and port not in exit_.get("open_ports", [port]):
                return "denied"
        if at and self.exits[at]["kind"] == "translation-gateway" and not self.behaviour.get("gateways_publish", False):
            return "not carried"
        return ""

    def entry(self, name: str) -> str:
        exit_ = self.exits[name]
        if "hub" in exit_:
            return str(exit_["hub"])
        return f"exit:{name}" if "routes" in exit_ else f"network:{self.network_of(name)}"

    def onward_from(
        self, flow: Data, subnet: str, way: Data, sender: Address, base: Data, here: Data, until: str = ""
    ) -> Found:
        """From a place on, by every equal route."""
        found: Found = {}
        aim = base.get("aim", base["target"])
        routes = self.matching(here["place"], aim)
        if not routes:
            return {(self.lost(base, sender, here, "no route"), ()): WHOLE}
        for _, name, _, behind in routes:
            for key, part in self.enter(flow, subnet, way, sender, base, here, until, name, behind).items():
                found[key] = found.get(key, Fraction(0)) + part / len(routes)
        return found

    def enter(
        self,
        flow: Data,
        subnet: str,
        way: Data,
        sender: Address,
        base: Data,
        here: Data,
        until: str,
        name: str,
        to: str,
    ) -> Found:
        place, aim = here["place"], base.get("aim", base["target"])
        network = self.place_network(place)
        if name == until:
            return self.at_publisher(flow, subnet, way, sender, base, here)
        if name == "local":
            return self.locally(flow, subnet, way, sender, base, here, until, network or to)
        if name not in self.exits:
            return {(self.lost(base, sender, here, "black hole"), ()): WHOLE}
        exit_ = self.exits[name]
        inner = exit_.get("subnet") or (exit_.get("subnets") or [""])[0]
        after = {**here, "exits": (*here["exits"], name), "crossed": self.between(here, inner, base)}
        if exit_["kind"] in ("routed-endpoint", "in-subnet-endpoint"):
            after["crossed"] = [*after["crossed"], ("exits", name, base)]
        if why := self.stopped(here, base, sender, name, exit_, network, aim):
            return {(self.lost(base, sender, after, why), ()): WHOLE}
        after["met"] = [*here["met"], (name, place)]
        if exit_["kind"] == "peering":
            [other] = [one for one in exit_["networks"] if one != network]
            return self.enter(
                flow, subnet, way, sender, base, {**after, "place": f"network:{other}"}, until, "local", other
            )
        if exit_["kind"] == "hub":
            return self.onward_from(flow, subnet, way, sender, base, {**after, "place": name}, until)
        if exit_["kind"] in MACHINES:
            after |= {"place": inner, "kept": [*here["kept"], name]}
            return self.onward_from(flow, subnet, way, sender, base, after, until)
        return {(self.lost(base, sender, after, "address in no subnet"), ()): WHOLE}

    def locally(
        self, flow: Data, subnet: str, way: Data, sender: Address, base: Data, here: Data, until: str, network: str
    ) -> Found:
        """Inside a network, to whoever has the address."""
        aim = base.get("aim", base["target"])
        there = self.subnet_in(network, aim)
        if until and not there and network == self.network_of(until) and "subnet" in self.exits[until]:
            pool = self.exits[until].get("private_pool")
            there = self.exits[until]["subnet"] if pool and inside(aim, [pool]) else ""
        if until and there and there == self.exits[until]["subnet"]:
            return self.at_publisher(flow, subnet, way, sender, base, here)
        if until or not there:
            crossed = self.between(here, "", base)
            return {(self.lost(base, sender, {**here, "crossed": crossed}, "address in no subnet"), ()): WHOLE}
        crossed = self.between(here, there, base)
        return self.got_there(flow, subnet, way, sender, base, here["exits"], crossed, here["kept"], [])

    def between(self, here: Data, inner: str, base: Data) -> list[Any]:
        """The filters of the subnets that are left and entered by a step."""
        crossed = list(here["crossed"])
        place = here["place"]
        if place in self.subnets and inner != place:
            crossed.append(("out", place, base))
        if inner and inner != place:
            crossed.append(("subnets", inner, base))
        return crossed

    def stopped(
        self, here: Data, base: Data, sender: Address, name: str, exit_: Data, network: str | None, aim: Address
    ) -> str:
        asked = {"source": sender, "owners": [("", sender)], "place": here["place"], "network": network}
        asked |= {"home": here.get("home"), "met": here["met"]}
        packet = {**base, "to": None, "target": aim}
        return self.not_carried(asked, {**packet, "comes_in": True}, name, exit_)

    def at_publisher(self, flow: Data, subnet: str, way: Data, sender: Address, base: Data, here: Data) -> Found:
        at = way["at"]
        inner = self.exits[at].get("subnet", "")
        after = {**here, "exits": (*here["exits"], at), "crossed": self.between(here, inner, base)}
        return self.past(flow, subnet, way, sender, {**base, "inner": base["target"]}, after)

    def past(self, flow: Data, subnet: str, way: Data, sender: Address, base: Data, here: Data) -> Found:
        """On from the exit that publishes."""
        at, exit_ = way["at"], self.exits[way["at"]]
        on = {"to": flow["from"], "host": base["host"], "target": base["host"], "port": flow["port"], "name": ""}
        source = sender
        if exit_["kind"] == "inspecting-firewall":
            rules = exit_.get("rules", {})
            default = exit_.get("default", "deny" if rules else "allow") == "allow"
            if not self.by_rules(rules, {**on, "to": None, "source": sender}, default):
                return {(self.lost(base, sender, here, "denied"), ()): WHOLE}
        before = list(here["kept"])
        if way["as"].get("rewrites_source") and "subnet" in exit_:
            source = ip_network(self.subnets[exit_["subnet"]]["prefix"])[0]
        place = exit_.get("subnet") or self.entry(at)
        kept = [] if source != sender else [*before, at]
        if at == way["ingress"]:
            kept = []
        # With its own address it sends from its own network.
        home = self.network_of(at) if source != sender else None
        after = {**here, "place": place, "kept": kept, "met": [], "home": home}
        way = {**way, "source": source, "before": before, "remote": sender}
        return self.onward_from(flow, subnet, way, source, on, after)

    def lost(self, base: Data, sender: Address, here: Data, verdict: str) -> str:
        """What is lost may have been stopped by a filter before."""
        return "denied" if self.filters_on(base, sender, here["crossed"], only_there=True) else verdict

    def filters_on(self, base: Data, sender: Address, crossed: list[Any], only_there: bool = False) -> str:
        """Which filter stops it: `denied`, else `reply denied`, or none."""
        some = []
        for way, owner, packet in crossed:
            section, inward = ("subnets", False) if way == "out" else (way, True)
            target = packet.get("inner", packet["target"])
            asked = {**packet, "target": target, "source": packet.get("from", sender)}
            some.append(self.filtered(section, owner, inward, asked))
        if "denied" in some:
            return "denied"
        return "" if only_there or "reply denied" not in some else "reply denied"

    # The reply out

    def got_there(
        self,
        flow: Data,
        subnet: str,
        way: Data,
        sender: Address,
        base: Data,
        exits: tuple[str, ...],
        crossed: list[Any],
        kept: list[str],
        _: list[str],
    ) -> Found:
        crossed = [*crossed, ("workloads", flow["to"], base)]
        there = self.subnet_in(self.subnets[subnet]["network"], base["host"])
        remote = way.get("remote", sender)
        crossed = [
            (one, owner, packet if "from" in packet else {**packet, "from": self.seen(way, packet, remote, sender)})
            for one, owner, packet in crossed
        ]
        stopped = self.filters_on(base, sender, crossed)
        if stopped == "denied":
            return {("denied", ()): WHOLE}
        found: Found = {}
        assert there == subnet
        for lost, part in self.replies(flow, subnet, {**way, "host": base["host"]}, remote, kept):
            verdict = lost or stopped or "arrives"
            key = (verdict, exits if verdict == "arrives" else ())
            found[key] = found.get(key, Fraction(0)) + part
        return found

    @staticmethod
    def seen(way: Data, packet: Data, remote: Address, source: Address) -> Address:
        """Whose address a packet carries: before the publisher always the sender's."""
        return source if packet["target"] == packet["host"] and "inner" not in packet else remote

    def replies(
        self, flow: Data, subnet: str, way: Data, remote: Address, kept: list[str]
    ) -> Iterator[tuple[str, Fraction]]:
        stated = self.estate["destinations"].get(flow["from"], {})
        if stated.get("service") and self.behaviour.get("service_replies") == "direct":
            yield "", WHOLE
            return
        leaving = set(way.get("lines", [way["ingress"]])) - {""}
        if stated.get("service"):
            host = way["host"]
            public = host.version == 6 and host not in ip_network("fc00::/7")
            network = self.subnets[subnet]["network"]
            leaving = {n for n, e in self.exits.items() if e.get("destination") == flow["from"]}
            if public:
                leaving |= {
                    n for n, e in self.exits.items() if e["kind"] == "direct-internet" and e["network"] == network
                }
        elif "lines" in way:
            leaving = {n for n, e in self.exits.items() if e["kind"] == "circuit" and self.reaches(flow, e)}
        if way.get("source", remote) == remote:
            yield from self.out(subnet, remote, leaving, kept, [], 0)
            return
        at = way["at"]
        for lost, part in self.home(subnet, way["source"], at, kept, [], 0):
            if lost:
                yield lost, part
                continue
            for other, share in self.out(self.exits[at]["subnet"], remote, leaving, way["before"], [], 0):
                yield other, part * share

    def reaches(self, flow: Data, exit_: Data) -> bool:
        stated = self.estate["destinations"][flow["from"]]
        return any(self.meet(stated, one) for one in exit_["received"])

    def out(
        self, place: str, target: Address, leaving: set[str], due: list[str], passed: list[str], steps: int
    ) -> Iterator[tuple[str, Fraction]]:
        """The host's reply by every equal route: why it is lost, or empty, with the share."""
        routes = self.matching(place, target)
        if not routes:
            yield "no return", WHOLE
            return
        for _, name, _, _ in routes:
            for lost, part in self.out_by(place, name, target, leaving, due, passed, steps):
                yield lost, part / len(routes)

    def out_by(
        self, place: str, name: str, target: Address, leaving: set[str], due: list[str], passed: list[str], steps: int
    ) -> Iterator[tuple[str, Fraction]]:
        if name in self.exits and self.finds(place, self.place_network(place), name) is None:
            yield "no return", WHOLE
            return
        line = self.exits.get(name, {})
        if name in leaving and line["kind"] == "circuit" and not inside(target, line["received"]):
            yield "no return", WHOLE
            return
        if name in leaving:
            yield "" if set(passed) == set(due) else "asymmetric return", WHOLE
            return
        exit_ = self.exits.get(name)
        if exit_ is None or exit_.get("forwarding") is False or self.is_down(exit_) or name in passed or steps > 64:
            yield "no return", WHOLE
            return
        publishes = name in due and "subnet" in exit_
        if exit_["kind"] == "hub" or exit_["kind"] in MACHINES or publishes:
            after = [*passed, name] if exit_["kind"] != "hub" else passed
            yield from self.out(exit_.get("subnet", name), target, leaving, due, after, steps + 1)
            return
        yield "no return" if exit_["kind"] == "peering" else "asymmetric return", WHOLE

    def home(
        self, place: str, target: Address, at: str, due: list[str], passed: list[str], steps: int
    ) -> Iterator[tuple[str, Fraction]]:
        """The reply to an exit's own address inside the estate."""
        routes = self.matching(place, target)
        if not routes:
            yield "no return", WHOLE
        for _, name, _, behind in routes:
            part = Fraction(1, len(routes))
            exit_ = self.exits.get(name, {})
            if name in ("local", at):
                here = self.place_network(place) or behind
                right = name == at or here == self.network_of(at)
                yield ("no return" if not right else "" if set(passed) == set(due) else "asymmetric return"), part
            elif exit_.get("kind") in MACHINES and name not in passed and steps <= 64 and not self.is_down(exit_):
                for lost, share in self.home(exit_["subnet"], target, at, due, [*passed, name], steps + 1):
                    yield lost, part * share
            else:
                yield from (
                    (lost, part * share) for lost, share in self.elsewhere(place, name, target, at, due, passed, steps)
                )

    def elsewhere(
        self, place: str, name: str, target: Address, at: str, due: list[str], passed: list[str], steps: int
    ) -> Iterator[tuple[str, Fraction]]:
        exit_ = self.exits.get(name)
        if exit_ is not None and exit_["kind"] == "hub" and steps <= 64:
            yield from self.home(name, target, at, due, passed, steps + 1)
            return
        if exit_ is not None and exit_["kind"] == "peering":
            own = self.place_network(place)
            [other] = [one for one in exit_["networks"] if one != own]
            if other == self.network_of(at) and (exit_.get("sources", "own") == "any" or place in self.subnets):
                yield ("" if set(passed) == set(due) else "asymmetric return"), WHOLE
                return
        yield "no return", WHOLE

    # From a host of the estate: as any packet that goes out, but for whose filters it meets at its end

    def from_host(self, flow: Data, subnet: str, way: Data, host: Address, sender: Address) -> Found:
        start: Data = {"place": way["sender"], "source": sender, "exits": (), "crossed": [], "owners": [("", sender)]}
        home = self.subnets[way["sender"]]["network"]
        start |= {"kept": [[]], "network": home, "home": home, "met": [], "to_workload": flow["to"]}
        base = {"to": flow["from"], "target": host, "name": "", "port": flow["port"], "inward": True}
        found: Found = {}
        pending = [(start, WHOLE)]
        while pending:
            here, share = pending.pop()
            for after, part in self.steps(here, base):
                if isinstance(after, dict):
                    pending.append((after, share * part))
                    continue
                for (verdict, exits), its in after if isinstance(after, list) else [(after, WHOLE)]:
                    key = (verdict, tuple(one for one in exits if one != "local") if verdict == "arrives" else ())
                    found[key] = found.get(key, Fraction(0)) + share * part * its
        return found


def usable(prefix: Any) -> list[Address]:
    """The addresses that hosts may have: of IPv4 not the first and the last."""
    return list(prefix.hosts())
