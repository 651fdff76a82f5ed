"""Random estates: networks joined or not, zones, hubs, peerings, lines, pools, IPv6, offers of every kind and scope."""

import random
from typing import Any

__all__ = ["random_estate"]

_GRADUATED = {"sum_over": "estate", "tiers": [{"up_to_gb": 300, "rate": 0.04}, {"rate": 0.015}]}
_ASSIGNMENTS: tuple[dict[str, Any], ...] = (
    {"assignment": "shared-per-destination", "per_address": 3000},
    {"assignment": "shared-once", "per_address": 5000},
    {"assignment": "host-block", "per_address": 4000, "block": 500},
    {"assignment": "growing-block", "per_address": 4000, "block": 100, "max_block": 1000},
    {"assignment": "node-share", "per_address": 4000, "nodes": 2, "spread": "connection"},
)


def random_estate(dice: random.Random) -> tuple[dict[str, Any], dict[str, Any]]:
    """An estate file, that reads `catalogue.yaml`, and that catalogue, as data."""
    made = _Made(dice)
    return made.estate, made.catalogue()


class _Made:
    def __init__(self, dice: random.Random) -> None:
        self.dice = dice
        self.networks = [f"n{i}" for i in range(dice.choice([1, 1, 2, 2, 3]))]
        self.zones = ["a", "b", "c"][: dice.choice([1, 2, 2, 3])]
        self.v6 = dice.random() < 0.3
        self.estate: dict[str, Any] = {"estate": "Random", "catalogue": "catalogue.yaml", "wage_per_hour": 50}
        for table in ("networks", "subnets", "route_tables", "exits", "destinations", "workloads", "flows"):
            self.estate[table] = {}
        for number, name in enumerate(self.networks):
            self.network(number, name)
        self.joins()
        self.destinations()
        self.loads()
        if dice.random() < 0.35:
            self.coming_in()
        if dice.random() < 0.4:
            self.estate["targets"] = {"blocking": 0.001, "growth_margin": dice.choice([0, 0.2])}

    def network(self, number: int, name: str) -> None:
        dice, estate = self.dice, self.estate
        prefixes = [f"10.{number}.0.0/16"] + ([f"2001:db8:{number}::/48"] if self.v6 else [])
        estate["networks"][name] = {"region": "north", "prefixes": prefixes}
        estate["exits"][f"door-{name}"] = {"kind": "direct-internet", "network": name}
        estate["route_tables"][f"public-{name}"] = {"0.0.0.0/0": f"door-{name}"}
        shape = dice.choice(["zonal", "zonal", "one", "host", "wall", "none"])
        for at, zone in enumerate(self.zones):
            public = {"network": name, "zone": zone, "prefix": f"10.{number}.250.{at * 16}/28"}
            estate["subnets"][f"edge-{name}-{zone}"] = {**public, "routes": f"public-{name}"}
            table, entry = f"private-{name}-{zone}", self.gate(name, zone, shape)
            private = {"network": name, "zone": zone, "prefix": f"10.{number}.{at}.0/24", "routes": table}
            if self.v6:
                private["prefix_v6"] = f"2001:db8:{number}:{at + 1}::/64"
            estate["subnets"][f"app-{name}-{zone}"] = private
            estate["route_tables"][table] = {"0.0.0.0/0": entry} if entry else {}
            if self.v6 and dice.random() < 0.5:
                estate["exits"].setdefault(f"six-{name}", {"kind": "ipv6-outbound", "network": name})
                estate["route_tables"][table]["::/0"] = f"six-{name}"

    def gate(self, name: str, zone: str, shape: str) -> str:
        """The translating exit that a zone's default goes to, put up where it is not there yet."""
        if shape == "none":
            return ""
        kind, offer = {"host": ("translator-host", "host"), "wall": ("inspecting-firewall", "wall")}.get(
            shape, ("translation-gateway", "gate")
        )
        at = zone if shape != "one" else self.zones[0]
        addresses = self.dice.choice(["auto", "auto", 1, 2])
        own = {"kind": kind, "offer": offer, "subnet": f"edge-{name}-{at}", "addresses": addresses}
        self.estate["exits"].setdefault(f"out-{name}-{at}", own)
        return f"out-{name}-{at}"

    def joins(self) -> None:
        """A hub or a peering between the networks, and perhaps a line to a third party behind the hub."""
        dice, exits, tables = self.dice, self.estate["exits"], self.estate["route_tables"]
        shape = (
            dice.choice(["none", "hub", "hub", "peering"]) if len(self.networks) > 1 else dice.choice(["none", "hub"])
        )
        if shape == "peering":
            exits["peer"] = {"kind": "peering", "networks": self.networks[:2]}
            self.estate["networks"][self.networks[1]].setdefault("region", "north")
        if shape == "hub":
            exits["hub"] = {"kind": "hub", "networks": self.networks}
            exits["line"] = {
                "kind": "circuit",
                "hub": "hub",
                "third_party": "the pilots",
                "received": ["172.20.0.0/16"],
                "advertised": [f"10.{n}.0.0/16" for n in range(len(self.networks)) if dice.random() < 0.9],
                "routers": {"first": {"session": dice.choice(["up"] * 5 + ["down"])}},
            }
            for table in tables:
                if table.startswith("private") and dice.random() < 0.9:
                    tables[table]["172.20.0.0/16"] = "hub"

    def destinations(self) -> None:
        dice, found = self.dice, self.estate["destinations"]
        for number in range(dice.randint(1, 4)):
            needs: dict[str, Any] = dice.choice(
                [{}, {}, {"fixed_source": True}, {"fixed_source": True, "max_source_addresses": dice.choice([2, 6])}]
            )
            found[f"web-{number}"] = {"prefixes": [f"198.51.100.{number * 16}/28"], "port": 443, "needs": needs}
            if self.v6 and dice.random() < 0.4:
                found[f"web-{number}"]["prefixes"] += [f"2001:db8:ff{number}::/64"]
        if dice.random() < 0.7:
            off = {"off_internet": dice.random() < 0.2}
            found["store"] = {"prefixes": ["192.0.2.0/25"], "port": 443, "service": True, "needs": off}
        if "line" in self.estate["exits"]:
            found["pilots"] = {"prefixes": ["172.20.4.0/24"], "port": 8443}

    def loads(self) -> None:
        dice, estate = self.dice, self.estate
        for number in range(dice.randint(1, 6)):
            network = dice.choice(self.networks)
            zones = dice.sample(self.zones, dice.randint(1, len(self.zones)))
            needs = dice.choice([{}, {}, {}, {}, {"survives": "zone-loss"}, {"inspected": True}])
            hosts = dice.choice([1, 4, 20, 60])
            own = {"subnets": [f"app-{network}-{zone}" for zone in zones], "hosts": hosts, "needs": needs}
            estate["workloads"][f"work-{number}"] = own
        pairs = [(work, to) for work in estate["workloads"] for to in estate["destinations"]]
        for number, (work, to) in enumerate(dice.sample(pairs, min(len(pairs), dice.randint(2, 14)))):
            flow: dict[str, Any] = {"from": work, "to": to}
            if dice.random() < 0.15:
                flow |= {"persistent_per_host": 2, "out_gib_per_month": 40}
            else:
                flow |= {"per_host_per_s": dice.choice([0.05, 1, 6]), "duration_s": dice.choice([0.5, 5])}
                flow |= {"out_kib_per_connection": dice.choice([0, 4, 200]), "in_kib_per_connection": 20}
            estate["flows"][f"f{number}"] = flow

    def coming_in(self) -> None:
        """Flows that the internet, the pilots, a partner, a service or another network opens; ports published."""
        dice, estate = self.dice, self.estate
        origins = ["internet", *self.networks, *estate["destinations"]]
        origins += ["the pilots"] if "line" in estate["exits"] else []
        for number in range(dice.randint(1, 3)):
            work = dice.choice([*estate["workloads"]])
            flow = {"from": dice.choice(origins), "to": work, "port": 8443, "per_host_per_s": dice.choice([0.1, 2])}
            estate["flows"][f"in-{number}"] = {**flow, "out_kib_per_connection": 30, "in_kib_per_connection": 2}
            if dice.random() < 0.3:
                estate["workloads"][work]["public_address"] = True
            machines = [name for name, one in estate["exits"].items() if one.get("offer") in ("wall", "host")]
            for name in machines if dice.random() < 0.6 else ():
                one = {"port": 443 + number, "to": work, "to_port": 8443, "rewrites_source": dice.random() < 0.6}
                estate["exits"][name].setdefault("publishes", {})[f"p{number}"] = one

    def catalogue(self) -> dict[str, Any]:
        dice = self.dice
        scope = dice.choice(["zone", "zone", "region"])

        def rates(most: float) -> dict[str, Any]:
            hour = round(dice.uniform(0.01, most), 4)
            return {"hour": hour, "processed_per_gb": dice.choice([0.01, 0.03, _GRADUATED])}

        offers: dict[str, Any] = {
            "gate": {"kind": "translation-gateway", "scope": scope, "limits": {"addresses": dice.choice([2, 8])}},
            "wall": {
                "kind": "inspecting-firewall",
                "scope": dice.choice(["zone", "region"]),
                "limits": {"addresses": 8},
            },
            "host": {"kind": "translator-host", "limits": {"addresses": 3, "gbit_per_s": 4}, "upkeep_hours": 1},
            "inner": {"kind": "in-subnet-endpoint"},
            "free-door": {"kind": "routed-endpoint", "scope": "region"},
            "joint": {"kind": "hub", "scope": "region"},
        }
        for name, offer in offers.items():
            offer["rates"] = rates(1.0 if name == "wall" else 0.1)
            if name in ("gate", "wall", "host"):
                offer["ports"] = dict(dice.choice(_ASSIGNMENTS))
                offer["mapping_timeout_s"] = {"closed": dice.choice([20, 60]), "idle": 300}
        offers["free-door"]["rates"] = {}
        used = {one.get("offer") for one in self.estate["exits"].values()}
        left = [name for name in offers if name == "gate" or name in used or dice.random() < 0.8]
        facts: dict[str, Any] = {
            "peering_routes": "stated",
            "equal_prefixes": ["static", "learned", "peering", "injected"],
            "wins_over_longer": dice.choice([["own"], ["peering"]]),
            "gateways_per_subnet": 1,
            "hub_passes_on": dice.choice(["to-all", "nothing"]),
            "hub_injects_while": "any-session",
            "private_pools": "stated",
            "gateways_publish": True,
            "service_replies": "direct",
            "open_connections": "stay",
        }
        some = dice.random() < 0.4
        behaviour = {key: value for key, value in facts.items() if some and dice.random() < 0.4}
        return {
            "behaviour": behaviour,
            "catalogue": "Random",
            "currency": "EUR",
            "read_on": "2026-09-01",
            "offers": {name: offers[name] for name in left},
            "addresses": {"hour": 0.005, "blocks": dice.choice([[29, 30, 31], [30], {29: 0.03, 31: 0.009}])},
            "transfer": {
                "internet_out_per_gb": dice.choice([0.05, _GRADUATED]),
                "cross_zone_per_gb": 0.01,
                "cross_network_per_gb": dice.choice([0, 0.02]),
            },
        }
