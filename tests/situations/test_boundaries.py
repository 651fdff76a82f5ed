"""Situations about what may come in and what must stay off the internet: endpoints, third parties, databases."""

from typing import Any

from tests.situations.base import Situation
from tests.support import merged

SERVICES: dict[str, Any] = {
    "destinations": {
        "vault": {"prefixes": ["192.0.2.64/27"], "port": 443, "service": True, "names": ["vault.example"]},
        "ledger": {"prefixes": ["192.0.2.128/27"], "port": 5500, "service": True, "names": ["ledger.example"]},
    },
    "flows": {
        "save": {"from": "pumps", "to": "vault", "per_host_per_s": 0.5},
        "book": {"from": "pumps", "to": "ledger", "per_host_per_s": 0.1},
    },
}
ENDPOINTS: dict[str, Any] = {
    "exits": {
        "vault-way": {"kind": "routed-endpoint", "offer": "way", "network": "plant", "destination": "vault"},
        "ledger-door": {
            "kind": "in-subnet-endpoint",
            "offer": "inside",
            "subnets": ["pumps-a", "pumps-b"],
            "destination": "ledger",
            "names": "public",
        },
    }
}


class EndpointsOfTwoKinds(Situation):
    """One entered by a route, one by its name: each falls back to the internet where that is missing."""

    def test_both_fall_back_and_both_are_put_right(self) -> None:
        self.put(merged(merged(SERVICES, ENDPOINTS), {"destinations": {"vault": {"needs": {"off_internet": True}}}}))
        found = self.rules()
        self.assertLessEqual({"endpoint-without-route", "endpoint-names-public", "need-not-met"}, found)
        listed = {one["exit"]: one for one in self.json("path", "pumps-a")["endpoints"]}
        self.assertEqual({one["access"] for one in listed.values()}, {"open to anyone"})
        self.assertIn("falls back", listed["vault-way"]["state"])
        self.assertIn("falls back", listed["ledger-door"]["state"])
        self.assertIn("endpoint-open-to-anyone", found)
        patches = []
        for rule in ("endpoint-without-route", "endpoint-names-public"):
            patches += ["--patch", self.remedy(rule)]
        self.assertEqual(self.sees("pumps-a", "vault", *patches), ["host's private address"])
        self.assertEqual(self.sees("pumps-a", "ledger", *patches), ["host's private address"])
        # The proof from inside: what the resolver answers, and what the service sees.
        self.write(
            "names.csv", "from,name,address\npumps-a,ledger.example,10.60.1.9\npumps-b,ledger.example,192.0.2.130\n"
        )
        rows = self.json("confirm", "names.csv", *patches, status=1)["compared"]
        self.assertEqual(
            {one["about"]: one["verdict"] for one in rows}, {"pumps-a": "as planned", "pumps-b": "different"}
        )
        self.write("routes.csv", "subnet,prefix,exit\npumps-a,0.0.0.0/0,nat-a\npumps-a,192.0.2.64/27,nat-a\n")
        rows = self.json("confirm", "routes.csv", *patches, status=1)["compared"]
        told = {one["item"]: one["verdict"] for one in rows}
        self.assertEqual((told["0.0.0.0/0"], told["192.0.2.64/27"]), ("as planned", "different"))


class ThirdPartyAtABoundaryHub(Situation):
    """A third party at a hub: what is exchanged with it, and that it cannot open connections to us."""

    PARTY: dict[str, Any] = {
        "networks": {"office": {"region": "mid", "prefixes": ["10.61.0.0/16"]}},
        "subnets": {"desks": {"network": "office", "zone": "a", "prefix": "10.61.1.0/24"}},
        "exits": {
            "joint": {"kind": "hub", "offer": "joint", "networks": ["plant"]},
            "wire": {
                "kind": "circuit",
                "offer": "line",
                "hub": "joint",
                "third_party": "the lab",
                "received": ["172.25.0.0/20", "10.60.0.0/24", "0.0.0.0/0"],
                "advertised": ["10.60.0.0/16", "10.61.0.0/16"],
            },
        },
        "route_tables": {"plant-a": {"172.25.0.0/20": "joint"}, "plant-b": {"172.25.0.0/20": "joint"}},
        "destinations": {
            "lab": {"prefixes": ["172.25.4.0/24"], "port": 8080, "needs": {"off_internet": True, "outbound_only": True}}
        },
        "flows": {"samples": {"from": "pumps", "to": "lab", "per_host_per_s": 0.05}},
    }

    def test_what_is_exchanged_is_judged_prefix_by_prefix(self) -> None:
        self.put(self.PARTY)
        rows = {(one["direction"], one["prefix"]): one for one in self.json("path", "--lines")["lines"]}
        self.assertEqual(rows["received", "172.25.0.0/20"]["flows"], ["samples"])
        self.assertFalse(rows["received", "0.0.0.0/0"]["taken"])
        self.assertIn("overlaps 10.60.0.0/16 of plant", rows["received", "10.60.0.0/24"]["faults"])
        self.assertIn("a leak", " ".join(rows["advertised", "10.61.0.0/16"]["faults"]))
        accepted = ("--set", "exits.wire.accepts_default=true")
        rows = {(one["direction"], one["prefix"]): one for one in self.json("path", "--lines", *accepted)["lines"]}
        self.assertTrue(rows["received", "0.0.0.0/0"]["taken"])
        self.assertIn("a default route is accepted", rows["received", "0.0.0.0/0"]["faults"][0])

    def test_only_we_open_connections(self) -> None:
        self.put(self.PARTY)
        self.assertIn("need-not-met", self.rules())
        ways = self.json("path", "--inward", status=1)
        self.assertEqual(
            {(one["origin"], one["exit"], one["open"]) for one in ways["inward"]}, {("the lab", "wire", True)}
        )
        patch = self.remedy("need-not-met")
        self.assertNotIn("need-not-met", self.rules("--patch", patch))
        ways = self.json("path", "--inward", "--patch", patch)
        self.assertEqual(ways["open"], 0)
        self.assertEqual(self.verdicts("pumps-a", "lab", "--patch", patch), ["arrives"])

    def test_the_boundary_hub_as_a_design(self) -> None:
        inside = {"exits": {"wire": {"hub": None, "network": "plant"}, "joint": None}}
        direct = {"route_tables": {"plant-a": {"172.25.0.0/20": "wire"}, "plant-b": {"172.25.0.0/20": "wire"}}}
        self.put(merged(merged(self.PARTY, inside), direct))
        designs = {one["design"]: one for one in self.json("compare", "--save", "designs", status=1)["designs"]}
        self.assertIn("boundary hub", designs)
        self.assertEqual(
            self.sees("pumps-a", "lab", "--patch", "designs/boundary-hub.json"), ["host's private address"]
        )
        paths = self.json("path", "--patch", "designs/boundary-hub.json", status=1)["paths"]
        self.assertIn(["hub-boundary", "wire"], [one["exits"] for one in paths if one["flow"] == "samples"])


class PatchesForAPrivateDatabase(Situation):
    """A database host must fetch patches and nothing else: filters that are too tight, and too wide."""

    HOST: dict[str, Any] = {
        "destinations": {"mirror": {"prefixes": ["198.51.100.128/28"], "port": 443}},
        "workloads": {
            "database": {"subnets": ["pumps-a"], "hosts": 2, "filters": {"group": {"out": {}, "out_default": "deny"}}}
        },
        "flows": {"patches": {"from": "database", "to": "mirror", "per_host_per_s": 0.01}},
    }

    def test_the_filter_stops_them_and_is_opened_for_them_alone(self) -> None:
        self.put(self.HOST)
        words = ("pumps-a", "mirror", "--workload", "database")
        self.assertEqual(self.verdicts(*words), ["denied"])
        self.assertIn("flow-denied", self.rules())
        patch = self.remedy("flow-denied")
        self.assertEqual(self.verdicts(*words, "--patch", patch), ["arrives"])
        self.assertEqual(self.verdicts("pumps-a", "weather", "--workload", "database", "--patch", patch), ["denied"])
        # The rules allow everything, and still nothing passes: there is no route.
        free = {"workloads": {"database": {"filters": None}}, "route_tables": {"plant-a": {"0.0.0.0/0": None}}}
        self.write("free.yaml", free)
        self.assertEqual(self.verdicts(*words, "--patch", "free.yaml"), ["no route"])

    def test_a_stateless_filter_drops_the_replies(self) -> None:
        listed = {"stateful": False, "out": {"web": {"action": "allow", "ports": [443]}}}
        wrong = {
            "subnets": {
                "pumps-a": {"filters": {"list": {**listed, "in": {"web": {"action": "allow", "ports": [443]}}}}}
            }
        }
        self.put(wrong)
        self.assertEqual(self.verdicts("pumps-a", "weather"), ["reply denied"])
        patch = self.remedy("reply-denied")
        self.assertEqual(self.verdicts("pumps-a", "weather", "--patch", patch), ["arrives"])
        # An appliance's inside forgets what lies beyond it.
        inside = {
            "subnets": {
                "edge-a": {"filters": {"in": {"in": {"own": {"action": "allow", "prefixes": ["10.60.0.0/16"]}}}}}
            }
        }
        self.put(inside)
        self.assertEqual(self.verdicts("pumps-a", "weather"), ["denied"])
        self.assertEqual(self.verdicts("pumps-b", "weather"), ["arrives"])
        self.assertEqual(self.verdicts("pumps-a", "weather", "--patch", self.remedy("flow-denied")), ["arrives"])


class DatabaseOffTheInternet(Situation):
    """A database service is kept off the internet: the host has no internet, and the service answers."""

    def test_the_failure_is_the_proof(self) -> None:
        private = {
            "destinations": {"ledger": {"needs": {"off_internet": True}}},
            "flows": {"save": None, "forecast": None},
            "route_tables": {"plant-a": {"0.0.0.0/0": None}, "plant-b": {"0.0.0.0/0": None}},
            "exits": {"ledger-door": {"names": "private", "access": "listed"}, "vault-way": None},
        }
        self.put(SERVICES, ENDPOINTS, private)
        self.assertEqual(self.rules(level="error"), set())
        self.assertEqual(self.verdicts("pumps-a", "198.51.100.70"), ["no route"])
        seen = "pumps-a,ledger,10.60.1.20\npumps-b,ledger,10.60.2.20\npumps-a,198.51.100.70,-\n"
        self.write("seen.csv", f"from,destination,seen_as\n{seen}")
        found = self.json("confirm", "seen.csv")
        self.assertEqual([one["verdict"][:10] for one in found["observed"]], ["as planned"] * 3)
        self.write("seen.csv", "from,destination,seen_as\npumps-a,198.51.100.70,203.0.113.99\n")
        [row] = self.json("confirm", "seen.csv", status=1)["observed"]
        self.assertEqual(row["verdict"], "it arrived, and should not")
        # With the name public the traffic leaves for the internet, and there is no route.
        self.assertEqual(self.verdicts("pumps-a", "ledger", "--set", "exits.ledger-door.names=public"), ["no route"])
