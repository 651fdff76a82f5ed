"""Filters on random paths against a slow trace of single packets, written from the text of the design alone.

The slow one follows one packet, from one address to one port, place by place: out of its subnet, into the subnet of
each exit on its path, out again; and its reply the other way, to one port of the ephemeral ones. A path passes where
every packet tried does, and every reply.
"""

import ipaddress
import random
from typing import Any

from fenrask.routing import Verdict, flow_paths
from tests.support import InFolder

REMOTE = {"partner": ("198.51.100.7", 443), "feed": ("192.0.2.9", 8080)}
PREFIXES = [
    "10.0.0.0/16",
    "10.0.1.0/24",
    "10.0.1.0/25",
    "10.0.2.0/24",
    "198.51.100.0/24",
    "0.0.0.0/0",
    "203.0.113.0/24",
]
PORTS: list[Any] = [443, 8080, "1-1023", "1024-65535", "1024-40000", "40001-65535", "8000-9000"]


def rule(dice: random.Random) -> dict[str, Any]:
    stated: dict[str, Any] = {"action": dice.choice(["allow", "allow", "allow", "deny"])}
    for key, values, chance in (("prefixes", PREFIXES, 0.3), ("sources", PREFIXES, 0.3), ("ports", PORTS, 0.4)):
        if dice.random() < chance:
            stated[key] = dice.sample(values, dice.randint(1, 2))
    if dice.random() < 0.3:
        stated["destinations"] = [dice.choice([*REMOTE])]
    if dice.random() < 0.2:
        stated["protocol"] = dice.choice(["tcp", "udp"])
    if dice.random() < 0.3:
        stated["order"] = dice.randint(-2, 2)
    return stated


def a_filter(dice: random.Random) -> dict[str, Any]:
    stated: dict[str, Any] = {"stateful": dice.random() < 0.5}
    for direction in ("out", "in"):
        stated[direction] = {f"r{n}": rule(dice) for n in range(dice.randint(0, 4))}
        if dice.random() < 0.4:
            stated[f"{direction}_default"] = dice.choice(["allow", "allow", "deny"])
    return stated


def allows(stated: dict[str, Any], direction: str, source: str, to: str, port: int, remote: str) -> bool:
    """One packet against one list: rules with an order first, then as written; else the default."""
    rules = [*stated[direction].values()]
    numbered = sorted((one for one in rules if "order" in one), key=lambda one: one["order"])
    for one in [*numbered, *(one for one in rules if "order" not in one)]:
        spans = [(int(str(p).split("-")[0]), int(str(p).split("-")[-1])) for p in one.get("ports", [])]
        if (
            (remote in one.get("destinations", [remote]))
            and (not one.get("prefixes") or any(within(to, each) for each in one["prefixes"]))
            and (not one.get("sources") or any(within(source, each) for each in one["sources"]))
            and (not spans or any(low <= port <= high for low, high in spans))
            and one.get("protocol", "tcp") == "tcp"
        ):
            return bool(one["action"] == "allow")
    default = stated.get(f"{direction}_default")
    if default is None:
        closed = bool(rules) or (direction == "in" and stated["stateful"])
        default = "deny" if closed else "allow"
    return default == "allow"


def within(address: str, prefix: str) -> bool:
    return ipaddress.ip_address(address) in ipaddress.ip_network(prefix)


def passes(estate: dict[str, Any], subnet: str, remote: str, host: str, back_to: int) -> bool:
    """One packet there through the gateway in `edge`, which shows 203.0.113.1, and its reply."""
    to, port = REMOTE[remote]
    places = [("workloads", "work", "out", host), ("subnets", subnet, "out", host)]
    places += [("subnets", "edge", "in", host), ("subnets", "edge", "out", "203.0.113.1")]
    other = {"out": "in", "in": "out"}
    for section, name, direction, source in places:
        for stated in estate[section][name].get("filters", {}).values():
            if not allows(stated, direction, source, to, port, remote):
                return False
            if not stated["stateful"] and not allows(stated, other[direction], to, source, back_to, remote):
                return False
    return True


class Filtering(InFolder):
    def test_paths_pass_where_every_packet_does(self) -> None:
        outcomes = {Verdict.ARRIVES: 0, Verdict.DENIED: 0, Verdict.REPLY_DENIED: 0}
        for seed in range(150):
            dice = random.Random(seed)
            changes: dict[str, Any] = {
                "subnets": {
                    "more": {"network": "net", "zone": "a", "prefix": "10.0.2.0/24", "routes": "private"},
                    "app": {},
                    "edge": {},
                },
                "destinations": {
                    name: {"prefixes": [address], "port": port} for name, (address, port) in REMOTE.items()
                },
                "workloads": {"work": {"subnets": ["app", "more"]}},
                "flows": {"feed": {"from": "work", "to": "feed", "per_host_per_s": 1}},
            }
            for section, name in (("subnets", "app"), ("subnets", "more"), ("subnets", "edge"), ("workloads", "work")):
                if dice.random() < 0.5:
                    changes[section][name]["filters"] = {f"f{n}": a_filter(dice) for n in range(dice.randint(1, 2))}
            described = self.estate(changes)
            for path in flow_paths(described).paths:
                remote = described.estate.flows[path.flow].to
                third = 1 if path.subnet == "app" else 2
                hosts = [ipaddress.ip_address(f"10.0.{third}.0") + last for last in (1, 100, 127, 128, 254)]
                own = path.trace.portion.sources
                hosts = [str(host) for host in hosts if any(one.first <= int(host) <= one.last for one in own)]
                back = (1024, 8000, 8080, 8081, 9001, 40000, 40001, 65535)
                every = all(passes(changes, path.subnet, remote, host, port) for host in hosts for port in back)
                with self.subTest(seed=seed, subnet=path.subnet, remote=remote, why=path.trace.why):
                    self.assertEqual(path.trace.verdict.arrives, every)
                outcomes[path.trace.verdict] += 1
        self.assertTrue(all(number >= 20 for number in outcomes.values()), outcomes)
