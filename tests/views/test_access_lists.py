"""Access lists of YANG against the filters that they are made of: random packets, judged entry by entry."""

import json
import random
from ipaddress import ip_address, ip_network
from typing import Any

from fenrask.estate import Described
from fenrask.views.handover.access_lists import filter_files
from tests.support import InFolder

Packet = tuple[str, str, str, int, int, bool]
"""Source, target, protocol, source port, target port, and whether it opens no connection (ACK)."""


NAMED = {"half": ["198.51.100.64/26"], "two": ["198.51.100.0/26", "10.1.1.8/29"], "whole": ["198.51.100.0/24"]}


def passes(acl: Any, packet: Packet) -> bool:
    """The first entry that matches decides (RFC 8519)."""
    source, target, protocol, source_port, target_port, is_answer = packet
    for ace in acl["aces"]["ace"]:
        layer, there = ace["matches"].get("ipv4", {}), ace["matches"].get(protocol)
        other = {"tcp": "udp", "udp": "tcp"}[protocol]
        fits = all(
            ip_address(address) in ip_network(layer.get(f"{end}-ipv4-network", "0.0.0.0/0"))
            for end, address in (("source", source), ("destination", target))
        )
        fits = fits and layer.get("protocol", {"tcp": 6, "udp": 17}[protocol]) == {"tcp": 6, "udp": 17}[protocol]
        fits = fits and other not in ace["matches"]
        for end, port in (("source", source_port), ("destination", target_port)):
            span = (there or {}).get(f"{end}-port", {})
            low, high = (
                (span["port"],) * 2 if "port" in span else (span.get("lower-port", 0), span.get("upper-port", 65535))
            )
            fits = fits and low <= port <= high
        if fits and ((there or {}).get("flags") != "ack" or is_answer):
            return bool(ace["actions"]["forwarding"].endswith("accept"))
    raise AssertionError("no entry for the rest")


def rule(dice: random.Random) -> dict[str, Any]:
    keys: dict[str, Any] = {
        "sources": [dice.choice(["10.1.1.0/24", "198.51.100.0/25", "198.51.100.0/24", "10.1.1.0/28"])],
        "prefixes": [dice.choice(["198.51.100.0/24", "198.51.100.64/27", "10.1.1.0/24", "192.0.2.0/25"])],
        "ports": dice.sample([443, "8000-8100", 53, "1024-65535"], dice.randint(1, 2)),
        "protocol": dice.choice(["tcp", "udp"]),
        "destinations": dice.sample([*NAMED], dice.randint(1, 2)),
    }
    kept = {key: one for key, one in keys.items() if dice.random() < 0.5}
    return {"action": dice.choice(["allow", "allow", "deny"]), **kept}


class AccessLists(InFolder):
    def lists(self, described: Described, name: str) -> dict[str, Any]:
        [file] = [one for one in filter_files(described) if one.name == name]
        acls = json.loads(file.content)["ietf-access-control-list:acls"]["acl"]
        return {one["name"]: one for one in acls}

    def judged(self, dice: random.Random, own: Any, stateful: bool) -> tuple[int, int]:
        named = {name: {"prefixes": prefixes, "port": 443} for name, prefixes in NAMED.items()}
        filters = {"guard": {**own, "stateful": stateful}}
        described = self.estate({"destinations": named, "subnets": {"app": {"filters": filters}}})
        name = "filters-stateless.yang.json" if stateful else "filters.yang.json"
        lists = self.lists(described, name)
        ending = "" if stateful else ", stateless"
        out, into = (lists[f"subnet app, guard, {one}, IPv4{ending}"] for one in ("out", "in"))
        plain = self.lists(described, "filters.yang.json")
        self.assertIn(f"subnet app, guard, out, IPv4, {'stateful' if stateful else 'stateless'}", plain)
        stated, opened, refused = described.estate.subnets["app"].filters["guard"], 0, 0
        for _ in range(60):
            inside, outside = f"10.1.1.{dice.randint(1, 40)}", f"198.51.100.{dice.randint(1, 140)}"
            inward, protocol = dice.random() < 0.5, "tcp" if dice.random() < 0.7 else "udp"
            source, target = (outside, inside) if inward else (inside, outside)
            port, there = dice.randint(1024, 65535), dice.choice([443, 53, 8050, 22, 40000])
            by_default = stated.toward("in" if inward else "out").allows_by_default
            allowed = first_match(own, inward, source, target, there, protocol, by_default)
            question: Packet = (source, target, protocol, port, there, False)
            passing = passes(into if inward else out, question)
            if protocol == "tcp" or not stateful:
                self.assertEqual(passing, allowed, (own, question))
            elif allowed:
                self.assertTrue(passing, (own, question))
            if stateful and allowed:
                answer: Packet = (target, source, protocol, there, port, True)
                self.assertTrue(passes(out if inward else into, answer), (own, answer))
            opened, refused = opened + allowed, refused + (not allowed)
        return opened, refused

    def test_a_destination_that_has_names_alone_makes_no_entry_for_any_address(self) -> None:
        own = {"own": {"out": {"far": {"action": "allow", "destinations": ["far"]}}}}
        far = {"names": ["far.example.net"], "port": 443}
        described = self.estate({"destinations": {"far": far}, "subnets": {"app": {"filters": own}}})
        entries = self.lists(described, "filters.yang.json")["subnet app, own, out, IPv4, stateful"]["aces"]["ace"]
        self.assertEqual([one["name"] for one in entries], ["rest"])

    def test_random_packets_by_the_filter_s_own_rules(self) -> None:
        """The filter's by a plain walk of its keys; answers to what it allowed pass, where it keeps state."""
        opened = refused = 0
        for seed in range(30):
            dice = random.Random(seed)
            own = {
                one: {f"r{n}": rule(dice) for n in range(dice.randint(1, 3))}
                for one in dice.sample(["out", "in"], dice.randint(1, 2))
            }
            with self.subTest(seed=seed):
                found = self.judged(dice, own, stateful=bool(seed % 3))
                opened, refused = opened + found[0], refused + found[1]
        self.assertGreater(min(opened, refused), 300)


def first_match(own: Any, inward: bool, source: str, target: str, port: int, protocol: str, rest: bool) -> bool:
    for one in own.get("in" if inward else "out", {}).values():
        spans = [str(each).split("-") for each in one.get("ports", ["0-65535"])]
        meant = [each for name in one.get("destinations", []) for each in NAMED[name]] or ["0.0.0.0/0"]
        if (
            any(ip_address(source) in ip_network(each) for each in one.get("sources", ["0.0.0.0/0"]))
            and any(ip_address(target) in ip_network(each) for each in one.get("prefixes", ["0.0.0.0/0"]))
            and any(int(span[0]) <= port <= int(span[-1]) for span in spans)
            and any(ip_address(end) in ip_network(each) for end in (source, target) for each in meant)
            and one.get("protocol", protocol) == protocol
        ):
            return bool(one["action"] == "allow")
    return rest
