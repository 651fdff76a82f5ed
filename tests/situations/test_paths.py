"""Situations about which way traffic goes: forced through, learned, fixed, zonal, inspected, translated by a host."""

from typing import Any

from tests.situations.base import Situation
from tests.support import merged

WALL: dict[str, Any] = {
    "subnets": {"wall-a": {"network": "plant", "zone": "a", "prefix": "10.60.250.0/28", "routes": "walled"}},
    "route_tables": {
        "plant-a": {"0.0.0.0/0": "wall"},
        "plant-b": {"0.0.0.0/0": "wall"},
        "walled": {"0.0.0.0/0": "front"},
    },
    "exits": {
        "nat-a": None,
        "nat-b": None,
        "wall": {
            "kind": "inspecting-firewall",
            "offer": "wall",
            "subnet": "wall-a",
            "addresses": ["203.0.113.30"],
            "rules": {"weather": {"action": "allow", "destinations": ["weather"]}},
        },
    },
}


class ManagedPlatform(Situation):
    """A managed platform forced through a firewall that does not know what it needs."""

    PLATFORM = merged(
        WALL,
        {
            "destinations": {
                "control": {"prefixes": ["192.0.2.16/28"], "port": 443},
                "images": {"prefixes": ["192.0.2.32/28"], "port": 443},
            },
            "workloads": {"pumps": {"requires": ["control", "images"]}},
        },
    )

    def test_all_that_fails_is_one_finding_and_its_remedy_opens_it(self) -> None:
        self.put(self.PLATFORM)
        self.assertEqual(self.verdicts("pumps-a", "control"), ["denied"])
        findings = self.json("check", "--only", "required-unreachable", status=1)["findings"]
        self.assertEqual(len(findings), 1)
        for name in ("control", "images", "pumps-a", "pumps-b"):
            self.assertIn(name, findings[0]["cause"])
        patch = self.remedy("required-unreachable")
        self.assertNotIn("required-unreachable", self.rules("--patch", patch))
        self.assertEqual(self.verdicts("pumps-a", "control", "--patch", patch), ["arrives"])
        # The proof: before the change it fails, after it the remote end sees the firewall.
        self.assertEqual(self.observed("pumps-a,control,-\n", status=0), ["as planned: it must not arrive (denied)"])
        seen = self.observed("pumps-a,control,203.0.113.30\npumps-b,control,-\n", "--patch", patch, status=1)
        self.assertEqual(seen, ["as planned", "no answer"])


class LearnedDefault(Situation):
    """A default route learned from an appliance, through a hub, out to a circuit."""

    LEARNED: dict[str, Any] = {
        "networks": {"works": {"region": "mid", "prefixes": ["10.62.0.0/16"]}},
        "subnets": {
            "works-a": {"network": "works", "zone": "a", "prefix": "10.62.1.0/24"},
            "core": {"network": "plant", "zone": "a", "prefix": "10.60.250.0/28", "routes": "core"},
        },
        "route_tables": {
            "core": {"172.24.0.0/16": "joint", "10.62.0.0/16": "joint"},
            "central": {"172.24.0.0/16": "trunk"},
        },
        "exits": {
            "joint": {"kind": "hub", "offer": "joint", "networks": ["plant", "works"], "routes": "central"},
            "router": {
                "kind": "inspecting-firewall",
                "offer": "wall",
                "subnet": "core",
                "rewrites_toward": [],
                "announces": ["0.0.0.0/0"],
            },
            "trunk": {
                "kind": "circuit",
                "hub": "joint",
                "third_party": "the depot",
                # The depot announces a default, which the boundary does not take: what goes there is stated.
                "received": ["0.0.0.0/0"],
                "advertised": ["10.62.0.0/16"],
            },
        },
        "destinations": {"depot": {"prefixes": ["172.24.8.0/24"], "port": 8443}},
        "workloads": {"works": {"subnets": ["works-a"], "hosts": 4}},
        "flows": {"jobs": {"from": "works", "to": "depot", "per_host_per_s": 1}},
    }

    def test_the_session_that_is_down_takes_the_way_with_it(self) -> None:
        self.put(self.LEARNED)
        routes = {one["prefix"]: one for one in self.json("path", "works-a")["routes"]}
        self.assertEqual((routes["0.0.0.0/0"]["origin"], routes["0.0.0.0/0"]["exit"]), ("learned", "joint"))
        self.assertEqual(self.verdicts("works-a", "depot"), ["arrives"])
        down = ("--set", "exits.router.session=down")
        self.assertEqual(self.verdicts("works-a", "depot", *down), ["no route"])
        self.assertIn("unreachable", self.rules(*down))
        # A prefix that the line itself brings is passed on by the hub as the appliance's default is.
        own = ("--set", "exits.trunk.received=[172.24.0.0/16]")
        self.assertEqual(self.verdicts("works-a", "depot", *down, *own), ["arrives"])
        # Not advertised: the way there is fine, and no reply comes back.
        self.write("mute.yaml", {"exits": {"trunk": {"advertised": []}}})
        mute = ("--patch", "mute.yaml")
        self.assertEqual(self.verdicts("works-a", "depot", *mute), ["no return"])
        patch = self.remedy("no-return-route", *mute)
        self.assertEqual(self.verdicts("works-a", "depot", *mute, "--patch", patch)[:1], ["arrives"])


class FixedSource(Situation):
    """A fixed source for a partner that limits its list."""

    PARTNER: dict[str, Any] = {
        "destinations": {"weather": {"needs": {"fixed_source": True, "max_source_addresses": 2}}},
        "route_tables": {"plant-b": {"0.0.0.0/0": None}},
        "exits": {"assigned": {"kind": "dynamic-address", "network": "plant"}},
    }

    def test_the_subnet_without_a_default_shows_an_address_that_may_change(self) -> None:
        self.put(self.PARTNER)
        self.assertIn("source-may-change", self.rules())
        partner = self.json("addresses", status=1)["partners"][0]
        self.assertFalse(partner["fits"] == "yes")
        seen = self.observed("pumps-a,weather,203.0.113.20\npumps-b,weather,198.51.100.9\n", status=0)
        self.assertEqual(seen, ["as planned", "as planned, but the source may change (assigned)"])
        patch = self.remedy("source-may-change")
        self.assertNotIn("source-may-change", self.rules("--patch", patch))
        self.assertEqual(self.json("addresses", "--patch", patch)["partners"][0]["entries"], 2)
        # One subnet that was seen says nothing of its neighbour.
        seen = self.json("confirm", "seen.csv", "--patch", patch, status=1)["observed"]
        self.assertIn("different", {"different" if one["verdict"] not in ("as planned",) else "" for one in seen})


class ZonalOrRegional(Situation):
    """A gateway in one zone for two, one in each, or one across zones: what the loss of a zone does."""

    def test_what_a_lost_zone_takes_with_it(self) -> None:
        needy = {"destinations": {"weather": {"needs": {"survives": "zone-loss"}}}}
        for changes, cut_off, broken in (
            ({"route_tables": {"plant-b": {"0.0.0.0/0": "nat-a"}}}, 1, True),
            ({}, 0, False),
            (
                {
                    "exits": {"wide": {"kind": "translation-gateway", "offer": "nat-wide", "network": "plant"}},
                    "route_tables": {"plant-a": {"0.0.0.0/0": "wide"}, "plant-b": {"0.0.0.0/0": "wide"}},
                },
                0,
                False,
            ),
        ):
            with self.subTest(changes=changes):
                self.put(merged(needy, changes))
                [case] = self.json("stress", "--case", "zone a lost", status=int(bool(cut_off)))["cases"]
                self.assertEqual(case["cut_off_count"], cut_off)
                self.assertEqual("need-not-met" in self.rules(), broken)


class InspectionWithoutTranslation(Situation):
    """A firewall inspects, a gateway behind it translates: replies must come back past the firewall."""

    CHAIN = merged(
        WALL,
        {
            "subnets": {"outer": {"network": "plant", "zone": "a", "prefix": "10.60.251.0/28", "routes": "outer"}},
            "route_tables": {"walled": {"0.0.0.0/0": "out"}, "outer": {"0.0.0.0/0": "front"}},
            "exits": {
                "wall": {"rewrites_toward": [], "addresses": 0},
                "out": {
                    "kind": "translation-gateway",
                    "offer": "nat",
                    "subnet": "outer",
                    "addresses": ["203.0.113.40"],
                },
            },
            "destinations": {"weather": {"needs": {"inspected": True, "fixed_source": True}}},
        },
    )

    def test_the_return_route_is_missing_and_then_given(self) -> None:
        self.put(self.CHAIN)
        self.assertEqual(self.verdicts("pumps-a", "weather"), ["asymmetric return"])
        patch = self.remedy("asymmetric-return")
        self.assertEqual(self.verdicts("pumps-a", "weather", "--patch", patch), ["arrives"])
        self.assertEqual(self.sees("pumps-a", "weather", "--patch", patch), ["203.0.113.40"])


class HostThatTranslates(Situation):
    """A machine of one's own translates: forwarding, one machine or a pair, the rules that it is given."""

    BOX: dict[str, Any] = {
        "exits": {
            "nat-a": {"kind": "translator-host", "offer": "box", "forwarding": False, "addresses": ["203.0.113.20"]},
        },
        "route_tables": {"plant-b": {"0.0.0.0/0": "nat-a"}},
    }

    def test_forwarding_pairs_and_its_rules(self) -> None:
        self.put(self.BOX)
        self.assertEqual(self.verdicts("pumps-a", "weather"), ["black hole"])
        patch = self.remedy("forwarding-off")
        self.assertEqual(self.verdicts("pumps-a", "weather", "--patch", patch), ["arrives"])
        down = [
            self.json("path", "--patch", patch, *more)["paths"][0]["down_min_per_month"]
            for more in ((), ("--set", "exits.nat-a.machines=2"))
        ]
        # 0.4 % of 730 hours, and 0.4 % of that with a second machine.
        self.assertAlmostEqual(down[0], 0.004 * 730 * 60, places=6)
        self.assertAlmostEqual(down[1], 0.004**2 * 730 * 60, places=6)
        self.program("handover", "--patch", patch, "--save", "built")
        self.assertIn("203.0.113.20", (self.folder / "built" / "nat-a.nft").read_text())
