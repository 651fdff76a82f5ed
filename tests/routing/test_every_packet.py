"""Verdicts and shares against a slow tracer that follows every address from every host, one by one.

`make test-long` tries many more of them.
"""

import random
import tempfile
from collections.abc import Sequence
from fractions import Fraction
from ipaddress import ip_network
from pathlib import Path
from types import MappingProxyType
from typing import Any

import yaml

from fenrask.errors import UnusableInput
from fenrask.estate import Described, read_estate
from fenrask.evaluation.faults import case_patch, single_faults
from fenrask.routing import FlowPath, Trace, Tracer, Verdict, flow_paths
from tests.routing.naive_inward import NaiveInward
from tests.support import CATALOGUE, InFolder, many, merged

MANY = many(14, 60)
OFFERS = {"inner": {"kind": "in-subnet-endpoint"}, "free": {"kind": "routed-endpoint"}}


class Dice(random.Random):
    """Draws of small estates in which parts of everything are treated unlike the rest."""

    def chance(self, share: float) -> bool:
        return self.random() < share

    def part(self, text: str) -> str:
        """A prefix inside another one, or around it."""
        prefix = ip_network(text)
        longer = self.choice([-1, 0, 1, 1, 2, 2, 3])
        length = max(8, min(prefix.max_prefixlen, prefix.prefixlen + longer))
        if length <= prefix.prefixlen:
            return str(prefix.supernet(new_prefix=length))
        step = 2 ** (prefix.max_prefixlen - length)
        at = int(prefix.network_address) + step * self.randrange(2 ** (length - prefix.prefixlen))
        return f"{ip_network((at, length)) if prefix.version == 4 else ip_network((at, length))}"


def rule(dice: Dice, sources: list[str], targets: list[str], named: bool, reply: bool = False) -> dict[str, Any]:
    stated: dict[str, Any] = {"action": dice.choice(["allow", "deny"])}
    for key, some, chance in (("sources", sources, 0.4), ("prefixes", targets, 0.5)):
        if dice.chance(chance):
            stated[key] = [dice.part(dice.choice(some)) for _ in range(dice.randint(1, 2))]
    if dice.chance(0.2):
        stated["destinations"] = ["far"]
    if dice.chance(0.2) and not reply:
        stated["ports"] = [dice.choice([443, 8443])]
    if dice.chance(0.3) and named:
        stated["names"] = [dice.choice(["a.example.net", "*.example.net", "b.example.org"])]
    if dice.chance(0.3):
        stated["order"] = dice.randint(-2, 2)
    return stated


def filters(dice: Dice, sources: list[str], targets: list[str]) -> dict[str, Any]:
    stated: dict[str, Any] = {"stateful": dice.chance(0.6)}
    for way in ("out", "in"):
        stated[way] = {
            f"r{n}": rule(dice, sources + targets, sources + targets, False, True) for n in range(dice.randint(0, 2))
        }
        for one in stated[way].values():
            one.pop("ports", None)
        stated[f"{way}_default"] = dice.choice(["allow", "allow", "deny"])
    return {"f": stated}


def estate(seed: int) -> dict[str, Any]:
    """A random estate: two or three networks, a firewall, a gateway, perhaps a hub, a peering, a line, endpoints."""
    dice = Dice(seed)
    v6 = dice.chance(0.35)
    length = dice.choice([27, 28, 28, 29])
    own, far = f"10.1.1.0/{length}", f"10.2.1.0/{dice.choice([28, 29])}"
    targets = [f"198.51.100.{dice.choice([0, 32, 64])}/{dice.choice([28, 29])}", "192.0.2.8/30", "172.20.4.0/29", far]
    networks: dict[str, Any] = {"near": {"prefixes": ["10.1.0.0/16"]}, "other": {"prefixes": ["10.2.0.0/16"]}}
    subnets: dict[str, Any] = {
        "app": {"network": "near", "zone": "a", "prefix": own, "routes": "app"},
        "app-b": {"network": "near", "zone": "b", "prefix": f"10.1.2.0/{dice.choice([28, 29])}", "routes": "app-b"},
        "walls": {"network": "near", "zone": "a", "prefix": "10.1.8.0/28", "routes": "walls"},
        "edge": {"network": "near", "zone": "a", "prefix": "10.1.9.0/28", "routes": "edge"},
        "far": {"network": "other", "zone": "a", "prefix": far, "routes": "far"},
    }
    sources = [own, subnets["app-b"]["prefix"]]
    own_v6, web_v6 = dice.choice([("2001:db8:1", "2001:db8:ff"), ("2001:db8:1", "fd00:ff"), ("fd00:1", "2001:db8:ff")])
    if v6:
        networks["near"]["prefixes"].append(f"{own_v6}::/48")
        subnets["app"]["prefix_v6"] = f"{own_v6}:1::/125"
        sources.append(f"{own_v6}:1::/125")
        targets.append(f"{web_v6}::/126")
    exits: dict[str, Any] = {
        "door": {"kind": "direct-internet", "network": "near"},
        "gate": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": ["203.0.113.1"]},
        "wall": {
            "kind": "inspecting-firewall",
            "offer": "wall",
            "subnet": "walls",
            "addresses": ["203.0.113.8", "203.0.113.9"],
            "rewrites_toward": dice.choice([[], [], ["public"], ["private"], ["public", "private"]]),
            "rules": {f"r{n}": rule(dice, sources, targets, True) for n in range(dice.randint(0, 4))},
            "default": dice.choice(["allow", "allow", "deny"]),
        },
    }
    if dice.chance(0.3):
        exits["gate"] |= {"addresses": "auto", "private_pool": dice.choice(["100.64.7.0/29", "10.1.200.0/29"])}
    elif dice.chance(0.3):
        exits["gate"] = {**exits["gate"], "network": "near", "subnet": None}
        del exits["gate"]["subnet"]
    if dice.chance(0.3):
        exits["door"]["routes"] = "outside"
    if dice.chance(0.3):
        exits["wall"]["announces"] = [dice.choice(["0.0.0.0/0", dice.part(targets[0])])]
    shape = dice.choice(["none", "peering", "hub", "hub"])
    if shape == "peering":
        exits["join"] = {"kind": "peering", "networks": ["near", "other"], "sources": dice.choice(["own", "any"])}
    if shape == "hub":
        exits["join"] = {"kind": "hub", "networks": ["near", "other"], "routes": "central"}
        if dice.chance(0.3):
            exits["join"]["injects"] = [dice.choice(["172.20.0.0/16", "10.2.0.0/16"])]
    if dice.chance(0.7):
        advertised = [
            dice.part(dice.choice([*sources, "100.64.7.0/29", "10.1.0.0/16"])) for _ in range(dice.randint(1, 3))
        ]
        exits["line"] = {"kind": "circuit", "third_party": "pilots", "received": [dice.part("172.20.4.0/29")]}
        exits["line"] |= {"advertised": advertised} | ({"hub": "join"} if shape == "hub" else {"network": "near"})
        if dice.chance(0.3):
            exits["second"] = {**exits["line"], "advertised": [dice.part(own)]}
    if dice.chance(0.3):
        exits["endpoint"] = {"kind": "routed-endpoint", "offer": "free", "network": "near", "destination": "store"}
    elif dice.chance(0.3):
        exits["endpoint"] = {
            "kind": "in-subnet-endpoint",
            "offer": "inner",
            "subnets": ["walls"],
            "destination": "store",
        }
    if v6 and dice.chance(0.7):
        exits["six"] = {"kind": "ipv6-outbound", "network": "near"}
    hops = ["gate", "gate", "wall", "wall", "door", "gone", *(one for one in ("join", "line", "six") if one in exits)]

    def table(default: str, also: list[str]) -> dict[str, Any]:
        routes: dict[str, Any] = {"0.0.0.0/0": default}
        if dice.chance(0.15):
            routes["0.0.0.0/0"] = [{"exit": default}, {"exit": dice.choice(hops)}]
        for text in also:
            if dice.chance(0.5):
                routes[dice.part(text)] = dice.choice(hops)
        if dice.chance(0.3):
            routes["web"] = dice.choice(hops)
        if "join" in exits:
            routes |= {one: "join" for one in ("10.2.0.0/16", "172.20.0.0/16") if dice.chance(0.7)}
        elif "line" in exits and dice.chance(0.5):
            routes["172.20.0.0/16"] = {"exit": "line", "origin": dice.choice(["static", "learned"])}
        if exits.get("endpoint", {}).get("kind") == "routed-endpoint" and dice.chance(0.8):
            routes["store"] = "endpoint"
        if "six" in exits and dice.chance(0.8):
            routes["::/0"] = "six"
        return routes

    tables = {
        "app": table(dice.choice(["gate", "wall"]), targets),
        "app-b": table(dice.choice(["gate", "wall"]), targets),
        "walls": table(dice.choice(["gate", "gate", "door"]), [*targets[:1], *sources]),
        "edge": table("door", sources[:1]),
        "far": {dice.choice(["10.1.0.0/16", own]): "join"} if "join" in exits and dice.chance(0.8) else {},
        "outside": {
            dice.part(one): dice.choice(["wall", "gate"]) for one in [*sources, "10.1.9.0/28"] if dice.chance(0.6)
        },
        "central": {dice.part(one): dice.choice(["wall", "line"]) for one in sources if dice.chance(0.3)},
    }
    if dice.chance(0.2):
        tables["walls"] |= {own: dice.choice(["gate", "local", "gone"])}
    destinations: dict[str, Any] = {
        "web": {"prefixes": targets[:1], "port": 443, "names": ["a.example.net", "b.example.org", "c.example.net"]},
        "store": {"prefixes": targets[1:2], "port": 443, "service": True},
        "pilots": {"prefixes": targets[2:3], "port": 8443},
        "far": {"prefixes": [dice.choice([far, "10.2.0.0/16"])], "port": 443},
    }
    if v6:
        other = ["2001:db8:fe::/127"] if dice.chance(0.3) else []
        destinations["web"]["prefixes"] = [*targets[:1], targets[-1], *other]
    for name in ("app", "walls", "edge", "far"):
        if dice.chance(0.15):
            subnets[name]["filters"] = filters(dice, sources, targets)
    workloads: dict[str, Any] = {"work": {"subnets": ["app", "app-b"][: dice.randint(1, 2)], "hosts": 8}}
    if dice.chance(0.2):
        workloads["work"]["filters"] = filters(dice, sources, targets)
    if v6 and (seed % 3 == 0):
        workloads["work"]["ipv6_share"] = [0, 0.25, 0.6, 1][seed % 4]
    if dice.chance(0.2):
        workloads["work"]["hosts_in"] = [str(next(ip_network(own).subnets(1)))]
    flows = {to: {"from": "work", "to": to, "per_host_per_s": 1} for to in destinations}
    guarded(Dice(seed + 4 * 10**6), destinations, exits)
    if "endpoint" in exits and seed % 3 == 0:
        exits["endpoint"]["filters"] = filters(Dice(seed + 5 * 10**6), sources, targets)
    learning(Dice(seed + 2 * 10**6), tables, exits)
    if seed % 2:
        twins(Dice(seed + 10**6), subnets, tables, workloads, flows, hops)
    coming_in(Dice(seed + 6 * 10**6), exits, workloads, flows)
    halving(Dice(seed + 7 * 10**6), tables)
    owning(Dice(seed + 8 * 10**6), exits, subnets)
    naming(Dice(seed + 9 * 10**6), destinations, exits, subnets, workloads, tables, flows)
    if exits.get("endpoint", {}).get("kind") == "in-subnet-endpoint" and seed % 5 < 2:
        exits["endpoint"]["names_for"] = [["app"], ["app-b"], ["app", "app-b"], ["walls", "app"]][seed % 4]
    return {
        "estate": "Random",
        "catalogue": "catalogue.yaml",
        "networks": networks,
        "subnets": subnets,
        "route_tables": tables,
        "exits": exits,
        "destinations": destinations,
        "workloads": workloads,
        "flows": flows,
    }


def halving(dice: Dice, tables: Any) -> None:
    """Equal routes, of replies too."""
    for routes in tables.values():
        for key, value in routes.items():
            if isinstance(value, str) and value in ("wall", "gate", "join", "local") and dice.chance(0.12):
                other = dice.choice(["wall", "wall", "gate", "gone"])
                if value != "local" and other != value:
                    routes[key] = [{"exit": value}, {"exit": other}]


def owning(dice: Dice, exits: Any, subnets: Any) -> None:
    """Addresses that one destination alone sees, and filters that tell them from the others of their exit."""
    for number, name in enumerate(("wall", "gate")):
        if dice.chance(0.35) and isinstance(exits[name]["addresses"], list):
            own = [f"203.0.113.{16 + 4 * number + one}" for one in range(dice.randint(1, 2))]
            exits[name]["addresses_for"] = {dice.choice(["web", "web", "store", "pilots", "far"]): own}
            if dice.chance(0.5):
                rule = {"action": "deny", "sources": [dice.choice(["203.0.113.16/28", "203.0.113.0/28", own[0]])]}
                exits["wall"]["rules"] = {"seen": {**rule, "order": -9}, **exits["wall"]["rules"]}
                if "filters" not in subnets["edge"]:
                    subnets["edge"]["filters"] = {"seen": {"stateful": True, "out": {"seen": dict(rule)}}}
                    subnets["edge"]["filters"]["seen"] |= {"out_default": "allow", "in_default": "allow"}


def naming(dice: Dice, destinations: Any, exits: Any, subnets: Any, workloads: Any, tables: Any, flows: Any) -> None:
    """Rules that name any destination, addresses that several have, and routes and filters before endpoints."""
    if dice.chance(0.4):
        of = dice.choice(["web", "store", "pilots"])
        destinations["beside"] = {"prefixes": [dice.part(destinations[of]["prefixes"][0])], "port": 443}
        flows["beside"] = {"from": "work", "to": "beside", "per_host_per_s": 1}
    entered = exits.get("endpoint", {}).get("subnets", [])
    places = [one for one in ("app", *entered) if "filters" not in subnets[one]] if dice.chance(0.3) else []
    inner = [subnets[one]["prefix"] for one in entered] or [subnets["walls"]["prefix"]]
    for name in places:
        subnets[name]["filters"] = filters(
            dice, [subnets["app"]["prefix"]], [*inner, destinations["store"]["prefixes"][0]]
        )
    if entered and dice.chance(0.5):
        tables["app"][dice.part(inner[0])] = dice.choice(["wall", "wall", "gate", "gone"])
    if dice.chance(0.3):
        subnets["app-b"]["routes"] = "app"
    lists = [one["filters"].values() for one in (*subnets.values(), *workloads.values()) if "filters" in one]
    ruled = [rules for some in lists for one in some for rules in (one.get("out", {}), one.get("in", {}))]
    for one in (one for rules in (*ruled, exits["wall"]["rules"]) for one in rules.values()):
        if "destinations" in one or dice.chance(0.1):
            one["destinations"] = [dice.choice(["far", "web", "store", "pilots"]) for _ in range(dice.randint(1, 2))]


def coming_in(dice: Dice, exits: Any, workloads: Any, flows: Any) -> None:
    """A workload that others open connections to: from a partner, the pilots, a service, either network."""
    workloads["site"] = {"subnets": dice.choice([["app"], ["app-b"], ["edge"], ["app", "edge"]]), "hosts": 2}
    workloads["site"]["public_address"] = dice.chance(0.5)
    for name in ("wall", "gate"):
        if not dice.chance(0.4):
            continue
        one: dict[str, Any] = {"port": 443, "to": "site"}
        if dice.chance(0.5):
            one |= {"port": 8080, "to_port": 443}
        if dice.chance(0.4):
            one["rewrites_source"] = True
        exits[name]["publishes"] = {"site": one}
        if name == "wall" and "line" in exits and dice.chance(0.4):
            one["address"] = "203.0.113.9"
            exits["line"]["advertised"].append("203.0.113.8/31")
    for name in ("line", "second"):
        if name in exits and dice.chance(0.3):
            exits[name]["open_ports"] = dice.choice([[443], [443, 8080], []])
    if dice.chance(0.6):
        exits["wall"]["rules"] = {"site": {"action": "allow", "ports": [443], "order": -9}, **exits["wall"]["rules"]}
    for origin, chance in (("web", 0.7), ("store", 0.4), ("pilots", 0.6), ("near", 0.15), ("other", 0.5)):
        if dice.chance(chance) and not (origin == "pilots" and "line" not in exits):
            flows[f"from-{origin}"] = {"from": origin, "to": "site", "port": 443, "per_host_per_s": 1}
    if dice.chance(0.3):
        workloads["site"]["filters"] = filters(dice, ["198.51.100.0/28", "172.20.4.0/29"], ["10.1.1.0/28"])


def guarded(dice: Dice, destinations: Any, exits: Any) -> None:
    """A service that does not take all that gets there."""
    if dice.chance(0.3):
        destinations["store"]["public_access"] = dice.choice(["open", "closed", "listed"])
        destinations["store"]["allowed"] = [dice.choice(["203.0.113.1/32", "203.0.113.8/32", "203.0.113.8/31"])]
    if "endpoint" in exits and dice.chance(0.2):
        destinations["store"]["only_through"] = dice.choice([["endpoint"], ["door"]])


def learning(dice: Dice, tables: Any, exits: Any) -> None:
    """Sessions that are down, announcements that are preferred, and routes that are stated and yet learned."""
    speakers = [name for name in ("wall", "line", "second") if name in exits]
    for name in speakers:
        if dice.chance(0.3):
            exits[name]["local_preference"] = dice.choice([50, 200])
        if dice.chance(0.3):
            exits[name]["path_length"] = dice.choice([0, 3])
    if dice.chance(0.3):
        exits["wall"]["announces"] = ["172.20.4.0/24", "198.51.100.0/24"][: dice.randint(1, 2)]
    if dice.chance(0.3):
        name = dice.choice(speakers)
        down: dict[str, Any] = {"session": "down"}
        exits[name] |= down if name == "wall" else {"routers": {"r": down}}
    if exits.get("endpoint", {}).get("kind") == "in-subnet-endpoint" and "join" in exits and dice.chance(0.6):
        # A central one: hosts of `near` reach it in `other`, over the hub or the peering.
        exits["endpoint"] |= {"subnets": ["far"], "names_in": ["near"]}
    if "endpoint" in exits and dice.chance(0.3):
        exits["endpoint"]["allowed_from"] = dice.choice([["work"], []])
    for name in ("line", "second"):
        if exits.get(name, {}).get("network") and dice.chance(0.3):
            exits[name]["routes"] = "outside"
    if exits.get("join", {}).get("injects") and dice.chance(0.6):
        condition = dice.choice(["always", "any-session", "all-sessions"])
        exits["join"]["injects"] = {"prefixes": exits["join"]["injects"], "while": condition}
    for name in ("app", "app-b"):
        if dice.chance(0.4):
            origin = dice.choice(["learned", "injected", "static"])
            prefix = dice.choice(["172.20.0.0/16", "172.20.4.0/29", "198.51.100.0/24"])
            tables[name][prefix] = {"exit": dice.choice([*speakers, "join"]), "origin": origin}


def behaviour(seed: int) -> dict[str, Any]:
    """What a random provider's network does by itself."""
    dice = Dice(seed + 3 * 10**6)
    order = ["peering", "static", "learned", "injected"]
    dice.shuffle(order)
    some: dict[str, Any] = {
        "peering_routes": "stated",
        "equal_prefixes": order,
        "wins_over_longer": dice.choice([["own"], ["peering"], ["own", "peering"]]),
        "hub_passes_on": dice.choice(["to-all", "nothing"]),
        "hub_injects_while": dice.choice(["any-session", "all-sessions"]),
        "private_pools": "stated",
        "gateways_publish": True,
        "service_replies": "direct",
    }
    return {key: value for key, value in some.items() if dice.chance(0.4)}


def twins(dice: Dice, subnets: Any, tables: Any, workloads: Any, flows: Any, hops: list[str]) -> None:
    """Subnets beside the first two with tables of their own, which differ from theirs in a route or in none."""
    to = [*flows]
    for number in range(dice.randint(1, 3)):
        like = dice.choice(["app", "app-b"])
        name, routes = f"twin{number}", {**tables[like]}
        if dice.chance(0.4):
            routes.pop(dice.choice([*routes]))
        if dice.chance(0.4):
            routes[dice.part("198.51.100.0/27")] = dice.choice(hops)
        subnets[name] = {**subnets[like], "prefix": f"10.1.{20 + number}.0/29", "routes": name}
        for key in ("prefix_v6", "filters"):
            subnets[name].pop(key, None)
        tables[name] = routes
        workloads[name] = {"subnets": [name], "hosts": 3}
        flows |= {f"{name}-{one}": {"from": name, "to": one, "per_host_per_s": 1} for one in to}


def described(data: dict[str, Any], seed: int, offers: Any = MappingProxyType({})) -> Described:
    """An estate as read from files, at a provider of its own."""
    with tempfile.TemporaryDirectory() as folder:
        catalogue = merged(CATALOGUE, {"offers": OFFERS | dict(offers), "behaviour": behaviour(seed)})
        (Path(folder) / "catalogue.yaml").write_text(yaml.safe_dump(catalogue), "utf-8")
        path = Path(folder) / "estate.yaml"
        path.write_text(yaml.safe_dump(data, sort_keys=False), "utf-8")
        return read_estate(path)


def change(dice: Dice, data: dict[str, Any]) -> dict[str, Any]:
    """A random patch: a route set or removed, a rule, an exit that goes, hosts elsewhere, another load."""
    tables, exits = data["route_tables"], data["exits"]
    table = dice.choice([*tables])
    some = [*exits, "gone"]
    kinds: list[dict[str, Any]] = [
        {"route_tables": {table: {dice.part(dice.choice(["198.51.100.0/28", "10.1.1.0/27"])): dice.choice(some)}}},
        {"route_tables": {table: {key: None for key in [*tables[table]][:1]}}},
        {"exits": {"wall": {"rules": {"new": rule(dice, ["10.1.1.0/27"], ["198.51.100.0/28"], True)}}}},
        {"exits": {dice.choice(["gate", "wall", "door", *exits]): None}},
        {"exits": {"more": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge", "addresses": 1}}},
        {"workloads": {"work": {"hosts": dice.randint(1, 9), "subnets": ["app"]}}},
        {"flows": {"web": {"per_host_per_s": 7}, "far": None}},
        {"exits": {"wall": {"session": dice.choice(["up", "down"])}}},
        {"exits": {"line": {"routers": {"r": {"session": dice.choice(["up", "down"])}}}}} if "line" in exits else {},
        {"exits": {"gate": {"addresses": ["203.0.113.77"]}}} if "private_pool" not in exits["gate"] else {},
    ]
    return dice.choice(kinds)


def shares(data: dict[str, Any], seed: int) -> dict[str, dict[Any, Fraction]]:
    """The program's answer: by flow, and by subnet, verdict and exits, the share of the flow."""
    paths = flow_paths(described(data, seed))
    found: dict[str, dict[Any, Fraction]] = {name: {} for name in data["flows"]}
    for one in paths.paths:
        arrives = one.trace.verdict.arrives
        key = (one.subnet, one.trace.verdict.value, one.trace.exits if arrives else ())
        found[one.flow][key] = found[one.flow].get(key, Fraction(0)) + one.share
    return found


class EveryPacket(InFolder):
    def test_verdicts_and_shares_are_those_of_every_packet(self) -> None:
        seen: dict[str, int] = {}
        parts = 0
        for seed in range(MANY):
            data = estate(seed)
            naive = NaiveInward(data, behaviour(seed))
            for flow, found in shares(data, seed).items():
                with self.subTest(seed=seed, flow=flow):
                    inward = "port" in data["flows"][flow]
                    self.assertEqual(found, naive.inward_shares(flow) if inward else naive.shares(flow))
                    self.assertEqual(sum(found.values()), 1)
                for _, verdict, _ in found:
                    seen[verdict] = seen.get(verdict, 0) + 1
                parts += len({key[1:] for key in found}) > 1
        # What is compared must be there to compare.
        self.assertGreater(parts, MANY // 4)
        self.assertGreaterEqual(len(seen), 8, seen)

    def test_what_a_patch_leaves_is_what_is_traced_from_the_ground_up(self) -> None:
        tried = kept = 0
        for seed in range(MANY):
            data, dice = estate(seed), Dice(-seed)
            base = described(data, seed)
            first = flow_paths(base)
            for _ in range(4):
                patch = change(dice, data)
                try:
                    after, afresh = base.patched(patch, "patch"), described(merged(data, patch), seed)
                except UnusableInput:
                    continue
                with self.subTest(seed=seed, patch=patch):
                    known = {id(path.example) for path in first.paths}
                    reused = flow_paths(after).paths
                    kept += sum(id(path.example) in known for path in reused)
                    tried += len(reused)
                    self.assertEqual(rows(reused), rows(flow_paths(afresh).paths))
        self.assertGreater(kept, tried / 5)

    def test_what_a_lost_zone_leaves_is_traced_as_from_the_ground_up(self) -> None:
        kept = tried = 0
        for seed in range(0, MANY, 4):
            data, dice = estate(seed), Dice(seed + 11 * 10**6)
            patch = change(dice, data)
            try:
                base, afresh = described(data, seed), described(merged(data, patch), seed)
                after = base.patched(patch, "patch")
            except UnusableInput:
                continue
            first = flow_paths(after)
            known = {id(path.example) for path in first.paths}
            for name, case in single_faults(after).items():
                lost = case_patch(after, case)
                try:
                    like = flow_paths(base.struck(case_patch(base, case), name), like=flow_paths(base))
                except (UnusableInput, KeyError):
                    like = None
                with self.subTest(seed=seed, patch=patch, fault=name):
                    reused = flow_paths(after.struck(lost, name), like=like, beside=first).paths
                    self.assertEqual(rows(reused), rows(flow_paths(afresh.struck(lost, name)).paths))
                tried += len(reused)
                kept += sum(id(path.example) in known for path in reused)
        self.assertGreater(kept, tried / 8)

    def test_a_path_known_from_others_is_what_its_own_packet_takes(self) -> None:
        told = 0
        for seed in range(MANY):
            data = described(estate(seed), seed)
            tracer = Tracer(data)
            for path in flow_paths(data).where(lambda _: True):
                trace = path.trace
                if trace.verdict is Verdict.UNRESOLVED:
                    continue
                alone = [one for one, _ in tracer.traces(path.subnet, trace.packet, path.workload)]
                told += trace is not path.example and trace.hops != path.example.hops
                with self.subTest(seed=seed, flow=path.flow, subnet=path.subnet):
                    self.assertIn(steps(trace), [*map(steps, alone)])
                    self.assertEqual(path.example.verdict, trace.verdict)
        # Paths whose table or hosts are others than those of the example.
        self.assertGreater(told, MANY)


def steps(trace: Trace) -> tuple[Any, ...]:
    """All that a trace tells, but for which packets share it."""
    return (trace.verdict, trace.hops, trace.back, trace.onward, trace.there, trace.reason, trace.origin)


def rows(paths: Sequence[FlowPath]) -> list[tuple[Any, ...]]:
    return [
        (path.flow, path.subnet, path.trace.verdict, path.trace.hops, path.trace.why, path.share, path.trace.portion)
        for path in paths
    ]
