"""Situations that end one way at one provider and another way at another: what its network does by itself."""

import json
from typing import Any

from tests.situations.base import CATALOGUE, ESTATE, Situation
from tests.support import merged

JOINED: dict[str, Any] = {
    "networks": {"lab": {"region": "mid", "prefixes": ["10.61.0.0/16"]}},
    "subnets": {"lab-a": {"network": "lab", "zone": "a", "prefix": "10.61.1.0/24", "routes": "lab"}},
    "route_tables": {"lab": {}},
    "exits": {"join": {"kind": "peering", "networks": ["plant", "lab"]}},
    "destinations": {"meters": {"prefixes": ["10.61.1.0/24"], "port": 8443}},
    "flows": {"read": {"from": "pumps", "to": "meters", "per_host_per_s": 1}},
}
HUB: dict[str, Any] = {
    "networks": {"works": {"region": "mid", "prefixes": ["10.62.0.0/16"]}},
    "subnets": {"works-a": {"network": "works", "zone": "a", "prefix": "10.62.1.0/24"}},
    "exits": {
        "joint": {"kind": "hub", "offer": "joint", "networks": ["plant", "works"]},
        "trunk": {
            "kind": "circuit",
            "hub": "joint",
            "third_party": "the depot",
            "received": ["172.24.0.0/16"],
            "advertised": ["10.62.0.0/16"],
        },
    },
    "destinations": {"depot": {"prefixes": ["172.24.8.0/24"], "port": 8443}},
    "workloads": {"works": {"subnets": ["works-a"], "hosts": 4}},
    "flows": {"jobs": {"from": "works", "to": "depot", "per_host_per_s": 1}},
}


class At(Situation):
    """One estate at providers whose networks behave otherwise."""

    def at(self, behaviour: dict[str, Any], *changes: Any) -> None:
        self.put(*changes)
        self.write("catalogue.yaml", merged(CATALOGUE, {"behaviour": behaviour}))

    def decided(self, *words: str) -> dict[str, str]:
        """The facts that decided a path, each with what it did."""
        done = self.program("path", *words, "--explain", "--format", "json")
        found: dict[str, str] = {}
        for one in json.loads(done.stdout)["steps"]:
            found[one["figure"]] = f"{found.get(one['figure'], '')}{one['working']}; "
        return found


class PeeringRoutes(At):
    """A peering whose routes are there by themselves, or have to be stated on both sides."""

    def test_a_peering_without_stated_routes(self) -> None:
        self.at({}, JOINED)
        self.assertEqual(self.verdicts("pumps-a", "meters"), ["arrives"])
        self.assertIn("10.61.0.0/16 to join", self.decided("pumps-a", "meters")["peering_routes"])
        self.at({"peering_routes": "stated"}, JOINED)
        # The default takes it to the gateway, which does not reach private addresses through the internet exit.
        self.assertEqual(self.verdicts("pumps-a", "meters"), ["private destination"])
        self.write(
            "there.yaml", {"route_tables": {"plant-a": {"10.61.0.0/16": "join"}, "plant-b": {"10.61.0.0/16": "join"}}}
        )
        self.assertEqual(self.verdicts("pumps-a", "meters", "--patch", "there.yaml"), ["no return"])
        self.assertIn(
            "no table states a route to plant",
            self.decided("pumps-a", "meters", "--patch", "there.yaml")["peering_routes"],
        )
        self.write("back.yaml", {"route_tables": {"lab": {"10.60.0.0/16": "join"}}})
        both = ("--patch", "there.yaml", "--patch", "back.yaml")
        self.assertEqual(self.verdicts("pumps-a", "meters", *both), ["arrives"])
        self.assertEqual(self.rules(*both) & {"unreachable", "no-return-route"}, set())

    def test_a_remedy_states_the_routes_that_are_missing(self) -> None:
        self.at({"peering_routes": "stated"}, JOINED)
        patch = self.remedy("unreachable")
        self.assertEqual(self.verdicts("pumps-a", "meters", "--patch", patch), ["arrives"])

    def test_a_stated_route_of_the_same_prefix_wins_or_not(self) -> None:
        """A firewall that is to see what goes to the peer: a route of the same prefix, or a longer one."""
        wall: dict[str, Any] = {
            "subnets": {"wall-a": {"network": "plant", "zone": "a", "prefix": "10.60.250.0/28", "routes": "edge"}},
            "exits": {
                "wall": {
                    "kind": "inspecting-firewall",
                    "offer": "wall",
                    "subnet": "wall-a",
                    "rewrites_toward": ["private"],
                    "private_pool": "10.60.251.0/28",
                }
            },
        }
        equal = {"route_tables": {"plant-a": {"10.61.0.0/16": "wall"}}}
        longer = {"route_tables": {"plant-a": {"10.61.1.0/24": "wall"}}}
        static_first = {"equal_prefixes": ["static", "peering", "learned", "injected"]}
        peering_first = {"wins_over_longer": ["peering"]}
        for behaviour, route, exits, fact in (
            ({}, equal, ["join"], "equal_prefixes"),
            (static_first, equal, ["wall", "join"], "equal_prefixes"),
            ({}, longer, ["wall", "join"], ""),
            (peering_first, longer, ["join"], "wins_over_longer"),
        ):
            with self.subTest(behaviour=behaviour, route=route):
                self.at(behaviour, JOINED, wall, route)
                found = self.json("path", "pumps-a", "meters", "--explain")
                self.assertEqual([one["exit"] for one in found["hops"]], exits)
                decided = {one["figure"] for one in found["steps"]}
                self.assertEqual({"equal_prefixes", "wins_over_longer"} & decided, {fact} - {""})


class GatewaysOfASubnet(At):
    """A public gateway for the default, and a private one for a partner behind a line."""

    TWO: dict[str, Any] = {
        "exits": {
            "inner": {
                "kind": "translation-gateway",
                "offer": "nat",
                "subnet": "edge-a",
                "private_pool": "10.60.240.32/28",
            },
            "line": {
                "kind": "circuit",
                "network": "plant",
                "third_party": "the lab",
                "received": ["172.25.0.0/16"],
                "advertised": ["10.60.240.32/28"],
            },
        },
        "route_tables": {
            "plant-a": {"172.25.0.0/16": "inner"},
            "plant-b": {"172.25.0.0/16": "inner"},
            "edge": {"172.25.0.0/16": "line"},
        },
        "destinations": {"bench": {"prefixes": ["172.25.3.0/24"], "port": 443}},
        "flows": {"probe": {"from": "pumps", "to": "bench", "per_host_per_s": 1}},
    }

    def test_two_are_a_common_design_unless_the_provider_lets_a_subnet_use_one(self) -> None:
        self.at({}, self.TWO)
        self.assertEqual(self.verdicts("pumps-a", "bench"), ["arrives"])
        self.assertNotIn("subnet-on-two-gateways", self.rules())
        self.at({"gateways_per_subnet": 1}, self.TWO)
        done = self.json("check", "--only", "subnet-on-two-gateways", status=1)["findings"]
        self.assertIn("at Ombrel a subnet can use 1 gateway", done[0]["cause"])
        # To route all to one of them would cut a flow off that works: no such remedy is given.
        self.assertFalse(done[0]["fix"])
        self.at({"gateways_per_subnet": 2}, self.TWO)
        self.assertNotIn("subnet-on-two-gateways", self.rules())


class WhatAHubLearned(At):
    """A line at a hub: whether spokes learn what it brings, and what the hub injects while no session is up."""

    def test_what_a_line_announces_is_passed_on_as_what_an_appliance_does(self) -> None:
        self.at({}, HUB)
        self.assertEqual(self.verdicts("works-a", "depot"), ["arrives"])
        self.assertIn("172.24.0.0/16", self.decided("works-a", "depot")["hub_passes_on"])
        self.at({"hub_passes_on": "nothing"}, HUB)
        self.assertEqual(self.verdicts("works-a", "depot"), ["no route"])
        self.write(
            "own.yaml", {"subnets": {"works-a": {"routes": "w"}}, "route_tables": {"w": {"172.24.0.0/16": "joint"}}}
        )
        self.assertEqual(self.verdicts("works-a", "depot", "--patch", "own.yaml"), ["arrives"])

    def test_a_stated_learned_route_goes_with_its_session_and_a_static_one_stays(self) -> None:
        down = ("--set", "exits.trunk.routers.r.session=down")
        for origin in ("learned", "static"):
            table: dict[str, Any] = {"w": {"172.24.0.0/16": {"exit": "joint", "origin": origin}}}
            self.at({"hub_passes_on": "nothing"}, HUB, {"subnets": {"works-a": {"routes": "w"}}, "route_tables": table})
            with self.subTest(origin):
                self.assertEqual(self.verdicts("works-a", "depot"), ["arrives"])
                routes = {one["prefix"] for one in self.json("path", "works-a", *down)["routes"]}
                self.assertEqual("172.24.0.0/16" in routes, origin == "static")
                # The hub's own table has lost it in both cases.
                self.assertEqual(self.verdicts("works-a", "depot", *down), ["no route"])

    def test_what_is_injected_while_no_session_is_up(self) -> None:
        second = {
            "exits": {
                "branch": {
                    "kind": "tunnel",
                    "hub": "joint",
                    "third_party": "yard",
                    "received": ["172.26.0.0/16"],
                    "advertised": ["10.62.0.0/16"],
                }
            }
        }
        cases = {"always": (True, True), "any-session": (True, False), "all-sessions": (False, False)}
        one_down = {"exits": {"trunk": {"routers": {"r": {"session": "down"}}}}}
        both_down = merged(one_down, {"exits": {"branch": {"routers": {"r": {"session": "down"}}}}})
        for condition, (with_one, with_none) in cases.items():
            stated = {"exits": {"joint": {"injects": {"prefixes": ["172.16.0.0/12"], "while": condition}}}}
            for where, found in (
                (({}, stated)),
                ({"hub_injects_while": condition}, {"exits": {"joint": {"injects": ["172.16.0.0/12"]}}}),
            ):
                for down, there in (({}, True), (one_down, with_one), (both_down, with_none)):
                    self.at(where, HUB, second, found, down)
                    prefixes = {one["prefix"] for one in self.json("path", "works-a")["routes"]}
                    with self.subTest(condition=condition, down=down):
                        self.assertEqual("172.16.0.0/12" in prefixes, there)
        # A line that is lost counts as one whose session is down.
        cut = {"stress": {"cut": {"lose_exits": ["branch"]}}, "route_tables": {"w": {"0.0.0.0/0": "gone"}}}
        injected = {"exits": {"joint": {"injects": ["172.16.0.0/12"]}}}
        for condition, lost in (("any-session", False), ("all-sessions", True)):
            self.at({"hub_injects_while": condition, "hub_passes_on": "nothing"}, HUB, second, injected, cut)
            self.assertEqual(self.verdicts("works-a", "depot"), ["arrives"])
            cases = self.json("stress", status=1)["cases"]
            [case] = [one for one in cases if one["case"] == "cut"]
            with self.subTest(lost=condition):
                self.assertEqual("jobs" in json.dumps(case), lost)


class Preferences(At):
    """Two lines to one third party: the preferred takes all, and the other takes over."""

    PAIR: dict[str, Any] = {
        "exits": {
            "first": {
                "kind": "circuit",
                "network": "plant",
                "third_party": "lab",
                "received": ["172.25.0.0/16"],
                "advertised": ["10.60.0.0/16"],
            },
            "other": {
                "kind": "circuit",
                "network": "plant",
                "third_party": "lab",
                "received": ["172.25.0.0/16"],
                "advertised": ["10.60.0.0/16"],
            },
        },
        "destinations": {"bench": {"prefixes": ["172.25.3.0/24"], "port": 443}},
        "flows": {"probe": {"from": "pumps", "to": "bench", "per_host_per_s": 1}},
    }

    def lines(self, *more: str) -> dict[str, float]:
        found = json.loads(self.program("path", "pumps-a", "bench", *more, "--format", "json").stdout)
        exits = [
            found["hops" if not number else f"hops_{number + 1}"][-1]["exit"] for number in range(len(found["shares"]))
        ]
        return dict(zip(exits, found["shares"], strict=True))

    def test_preference_then_path_length_then_equal_shares(self) -> None:
        self.at({}, self.PAIR)
        self.assertEqual(self.lines(), {"first": 0.5, "other": 0.5})
        longer = ("--set", "exits.first.path_length=3")
        self.assertEqual(self.lines(*longer), {"other": 1})
        preferred = ("--set", "exits.first.local_preference=200")
        self.assertEqual(self.lines(*longer, *preferred), {"first": 1})
        down = ("--set", "exits.first.routers.r.session=down")
        self.assertEqual(self.lines(*longer, *preferred, *down), {"other": 1})
        # The one that stands by is paid for with reason, and must go on announcing what then comes over it.
        line = {"offer": "line", "advertised": "[10.60.1.0/24, 10.60.2.0/24]"}
        offered = [f"--set=exits.{name}.{key}={value}" for name in ("first", "other") for key, value in line.items()]
        self.assertEqual(self.rules(*preferred, *offered) & {"idle-exit", "advertised-too-much"}, set())
        alone = ("--set", "exits.other.received=[172.26.0.0/16]")
        found = self.rules(*preferred, *offered, *alone)
        self.assertEqual(found & {"idle-exit", "advertised-too-much"}, {"idle-exit", "advertised-too-much"})
        # A longer prefix comes before any preference.
        self.assertEqual(self.lines(*preferred, "--set", "exits.other.received=[172.25.3.0/24]"), {"other": 1})


class PrivatePools(At):
    """A private pool outside its network's prefixes: reached by itself, or by a route at every hop."""

    POOL = merged(
        GatewaysOfASubnet.TWO,
        {"exits": {"inner": {"private_pool": "100.64.9.0/28"}, "line": {"advertised": ["100.64.9.0/28"]}}},
    )

    def test_replies_find_a_pool_by_itself_or_are_lost_without_a_word_of_a_default(self) -> None:
        self.at({}, self.POOL)
        self.assertEqual(self.verdicts("pumps-a", "bench"), ["arrives"])
        self.assertIn("100.64.9.0/28", self.decided("pumps-a", "bench")["private_pools"])
        self.at({"private_pools": "stated"}, self.POOL)
        self.assertEqual(self.verdicts("pumps-a", "bench"), ["no return"])
        self.assertIn("no-return-route", self.rules())
        # What is for the pool is for its gateway: the route to it in the gateway's own subnet is no loop.
        self.put({"route_tables": {"edge": {"100.64.9.0/28": "inner"}}}, self.POOL)
        self.assertNotIn("route-loop", self.rules())


class OpenConnections(At):
    """A gateway is put before a destination: what open connections do."""

    def test_they_break_or_stay_on_the_path_that_they_began_on(self) -> None:
        new: dict[str, Any] = {
            "exits": {
                "nat-c": {
                    "kind": "translation-gateway",
                    "offer": "nat",
                    "subnet": "edge-a",
                    "addresses": ["203.0.113.25"],
                }
            },
            "route_tables": {"plant-a": {"198.51.100.64/28": "nat-c"}},
        }
        for behaviour, broken in (({}, 20.0), ({"open_connections": "stay"}, 0.0)):
            self.at(behaviour)
            self.write("before.yaml", ESTATE)
            self.write("new.yaml", new)
            found = self.json("compare", "--base", "before.yaml", "--patch", "new.yaml")
            [change] = [one for one in found["changes"] if one["flow"] == "forecast"]
            with self.subTest(behaviour):
                self.assertEqual(change["breaking_connections"], broken)
            steps = self.json("compare", "--base", "before.yaml", "--patch", "new.yaml", "--explain")["steps"]
            self.assertEqual({one["figure"] for one in steps}, {"open_connections"})


class OnlyInspecting(At):
    """A firewall that never translates has no ports to state; one that does cannot go without."""

    def test_an_offer_without_ports(self) -> None:
        bare = {"offers": {"wall": {"ports": None}}}
        wall: dict[str, Any] = {
            "subnets": {"wall-a": {"network": "plant", "zone": "a", "prefix": "10.60.250.0/28", "routes": "walled"}},
            "route_tables": {
                "plant-a": {"0.0.0.0/0": "wall"},
                "walled": {"0.0.0.0/0": "nat-a"},
                "edge-back": {"0.0.0.0/0": "front", "10.60.1.0/24": "wall"},
            },
            "exits": {
                "wall": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "wall-a", "rewrites_toward": []}
            },
            "subnets_": None,
        }
        wall.pop("subnets_")
        wall["subnets"]["edge-a"] = {"routes": "edge-back"}
        self.put(wall)
        self.write("catalogue.yaml", merged(CATALOGUE, bare))
        self.assertEqual(self.verdicts("pumps-a", "weather"), ["arrives"])
        for command in ("check", "capacity", "charges", "addresses", "stress", "compare"):
            with self.subTest(command):
                self.assertIn(self.program(command).returncode, (0, 1))
        self.put(wall, {"exits": {"wall": {"rewrites_toward": ["public"]}}})
        self.write("catalogue.yaml", merged(CATALOGUE, bare))
        done = self.program("check")
        self.assertEqual(done.returncode, 2)
        self.assertIn("rewrites_toward: []", done.stderr)


class StatedCases(At):
    """A case of `stress` names an exit: losing it is that loss alone, and removing it takes the name along."""

    def test_losing_a_named_exit_leaves_the_rest_and_its_remedy_holds(self) -> None:
        spare: dict[str, Any] = {
            "exits": {"spare": {"kind": "translator-host", "offer": "box", "subnet": "edge-a", "addresses": 1}},
            "stress": {
                "spare lost": {"lose_exits": ["spare"]},
                "two lost": {"lose_exits": ["nat-b", "spare"]},
            },
        }
        self.put(spare)
        cases = {one["case"]: one["cut_off"] for one in self.json("stress")["cases"]}
        self.assertEqual((cases["spare lost"], cases["two lost"]), ([], ["forecast"]))
        self.assertEqual(self.json("path", "pumps-a", "weather")["seen_as"], ["203.0.113.20"])
        patch = self.remedy("idle-exit")
        self.assertNotIn("idle-exit", self.rules("--patch", patch))
        left = self.json("stress", "--patch", patch)["cases"]
        self.assertEqual([one["case"] for one in left if one["case"] in spare["stress"]], ["two lost"])


class Captured(At):
    """A third party announces a prefix that holds a destination of the internet."""

    LINE: dict[str, Any] = {
        "exits": {
            "line": {
                "kind": "circuit",
                "network": "plant",
                "third_party": "the lab",
                "received": ["172.25.0.0/16", "198.51.100.0/24"],
                "advertised": ["10.60.0.0/16"],
            }
        },
        "destinations": {
            "weather": {"needs": {"fixed_source": True}, "allowed": ["203.0.113.20/31"]},
            "feed": {"prefixes": ["192.0.2.64/28"], "needs": {"off_internet": True}},
        },
    }

    def test_what_moves_to_the_line_is_told_counts_and_is_cured(self) -> None:
        self.put(self.LINE)
        [found] = self.json("check", "--only", "captured")["findings"]
        for words in ("the lab announces 198.51.100.0/24", "weather", "forecast"):
            self.assertIn(words, found["cause"])
        broken = {one["need"] for one in self.json("path", status=1)["needs_not_met"] if one["flow"] == "forecast"}
        self.assertEqual(broken, {"fixed_source", "allowed"})
        patch = self.remedy("captured")
        self.assertEqual(self.sees("pumps-a", "weather", "--patch", patch), ["203.0.113.20"])
        self.assertEqual(self.rules("--patch", patch) & {"captured", "need-not-met"}, set())
        # So it is where the line takes it and no reply comes back.
        self.put(self.LINE, {"exits": {"line": {"advertised": []}}})
        self.assertEqual(self.verdicts("pumps-a", "weather"), ["no return"])
        self.assertEqual(self.sees("pumps-a", "weather", "--patch", self.remedy("captured")), ["203.0.113.20"])

    def test_what_is_theirs_or_sent_there_on_purpose_is_not(self) -> None:
        routes = {"route_tables": {name: {"198.51.100.0/24": "line"} for name in ("plant-a", "plant-b")}}
        for change in ({"destinations": {"weather": {"third_party": "the lab"}}}, routes):
            self.put(self.LINE, change)
            with self.subTest(change):
                self.assertNotIn("captured", self.rules())
        self.put(self.LINE, {"exits": {"line": {"accepts": ["172.16.0.0/12"]}}})
        self.assertNotIn("captured", self.rules())


class EqualPrefixes(At):
    """Two networks with one prefix at one hub: one of them is reached, and an address of both is nobody's alone."""

    TWINS: dict[str, Any] = {
        "networks": {
            "east": {"region": "mid", "prefixes": ["10.70.0.0/16"]},
            "west": {"region": "mid", "prefixes": ["10.70.0.0/16"]},
        },
        "subnets": {
            "east-a": {"network": "east", "zone": "a", "prefix": "10.70.1.0/24", "routes": "spokes"},
            "west-a": {"network": "west", "zone": "a", "prefix": "10.70.1.0/24", "routes": "spokes"},
        },
        "route_tables": {
            "spokes": {"10.60.0.0/16": "joint"},
            "plant-a": {"10.70.0.0/16": "joint"},
        },
        "exits": {"joint": {"kind": "hub", "offer": "joint", "networks": ["plant", "east", "west"]}},
        "destinations": {"pump-logs": {"prefixes": ["10.60.1.0/24"], "port": 443}},
        "workloads": {
            "easterly": {"subnets": ["east-a"], "hosts": 4},
            "westerly": {"subnets": ["west-a"], "hosts": 4},
        },
        "flows": {
            "from-east": {"from": "easterly", "to": "pump-logs", "per_host_per_s": 1},
            "from-west": {"from": "westerly", "to": "pump-logs", "per_host_per_s": 1},
        },
    }

    def test_one_flow_is_lost_in_every_command(self) -> None:
        self.put(self.TWINS)
        self.assertEqual(self.verdicts("east-a", "pump-logs"), ["arrives"])
        self.assertEqual(self.verdicts("west-a", "pump-logs"), ["no return"])
        self.assertTrue({"overlapping-prefixes", "no-return-route"} <= self.rules())
        lost = {one["flow"] for one in self.json("path", status=1)["needs_not_met"]}
        self.assertEqual(lost, {"from-west"})
        east, west = (
            self.json("path", "east-a", "pump-logs", status=None),
            self.json("path", "west-a", "pump-logs", status=1),
        )
        self.assertEqual((east["verdicts"], west["verdicts"]), (["arrives"], ["no return"]))

    def test_an_address_of_both_is_booked_to_neither(self) -> None:
        self.put(self.TWINS)
        for words in (("path", "10.70.1.9", "pump-logs"),):
            done = self.program(*words)
            self.assertEqual(done.returncode, 2)
            self.assertIn("an address of east-a and west-a", done.stderr)
        self.write("seen.csv", "from,destination,seen_as\n10.70.1.9,pump-logs,10.70.1.9\n")
        done = self.program("confirm", "seen.csv")
        self.assertEqual(done.returncode, 2)
        self.assertIn("an address of east-a and west-a", done.stderr)
        self.write(
            "records.csv",
            "srcaddr,dstaddr,srcport,dstport,protocol,packets,bytes,start,end\n"
            "10.70.1.9,10.60.1.4,40000,443,6,4,400,1700000000,1700000003\n"
            "10.60.1.5,198.51.100.65,40001,443,6,4,400,1700000000,1700000003\n",
        )
        found = self.json("measure", "records.csv")
        self.assertEqual([one["subnet"] for one in found["loads"]], ["pumps-a"])
        self.assertEqual(found["unmatched_records"], 1)
        self.assertIn("10.70.1.0/24 are of east-a and of west-a", " ".join(found["summary"]))


class TheirTranslation(At):
    """A third party translates what comes over its line: its ports are a limit like any other."""

    def test_their_ports_run_out(self) -> None:
        line: dict[str, Any] = {
            "exits": {
                "line": {
                    "kind": "circuit",
                    "network": "plant",
                    "third_party": "the lab",
                    "received": ["172.25.0.0/16"],
                    "advertised": ["10.60.0.0/16"],
                    "third_party_nat": {"addresses": 1, "ports": 4000, "mapping_timeout_s": {"closed": 118}},
                }
            },
            "destinations": {"bench": {"prefixes": ["172.25.3.0/24"], "port": 443}},
            "flows": {"probe": {"from": "pumps", "to": "bench", "per_host_per_s": 2, "duration_s": 2}},
        }
        self.put(line)
        # 20 hosts, 2 a second each, for 2 s and 118 s: 4,800 wanted of 4,000.
        [limit] = [one for one in self.json("capacity", status=1)["limits"] if one["exit"] == "line"]
        self.assertEqual((limit["limit"], limit["capacity"]), ("translated ports at the lab", 4000))
        self.assertAlmostEqual(limit["use"], 4800, delta=1)
        [found] = self.json("check", "--only", "limit-exceeded", status=1)["findings"]
        self.assertIn("the lab", found["cause"])
        self.assertIn("more addresses of its translation", found["remedy"])
        two = ("--set", "exits.line.third_party_nat.addresses=2")
        self.assertNotIn("limit-exceeded", self.rules(*two))
        # Nothing else knows of it: a line without an offer costs nothing, and is not idle.
        self.assertEqual(*(self.json("charges", *each, status=None)["month_amount"] for each in (two, ())))
        # Twice the load: what fits with two addresses does not any more.
        grown = self.json("capacity", *two, "--set", "flows.probe.per_host_per_s=4", status=1)["limits"]
        self.assertLess(next(one["headroom"] for one in grown if one["exit"] == "line"), 0)


class Pairs(At):
    """Two translator hosts in two zones, one at work: what the loss of its zone does, and what the pair promises."""

    PAIR: dict[str, Any] = {
        "exits": {
            "nat-a": None,
            "nat-b": None,
            "pair": {
                "kind": "translator-host",
                "offer": "box",
                "subnet": "edge-a",
                "standby_subnet": "edge-b",
                "machines": 2,
                "fails_over_s": 8,
                "addresses": ["203.0.113.40"],
            },
        },
        "route_tables": {"plant-a": {"0.0.0.0/0": "pair"}, "plant-b": {"0.0.0.0/0": "pair"}},
        "destinations": {"weather": {"needs": {"survives": "zone-loss"}}},
    }

    def test_the_standby_takes_over_and_what_is_lost_then_is_told(self) -> None:
        self.put(self.PAIR)
        self.assertNotIn("need-not-met", self.rules())
        found = self.json("stress")
        # 20 hosts, 2 a second each, for a second.
        [told] = [one["why"] for one in found["reasons"] if one["case"] == "zone a lost" and one["what"] == "pair"]
        for words in ("edge-b", "nothing passes for 8 s", "40 open connections break"):
            self.assertIn(words, told)
        cases = {one["case"]: one["cut_off"] for one in found["cases"]}
        self.assertEqual((cases["zone a lost"], cases["zone b lost"]), ([], []))
        self.assertEqual([one for one in found["reasons"] if one["case"] == "zone b lost"], [])
        shown = {one["case"]: one["seen_as"] for one in self.json("path", "pumps-b", "weather")["cases"]}
        self.assertEqual(shown["zone a lost"], "203.0.113.40")
        # So it does where the machine at work is lost, and not its zone.
        [told] = [one["why"] for one in found["reasons"] if one["case"] == "a node of pair lost"]
        self.assertIn("nothing passes for 8 s", told)
        self.assertEqual(cases["a node of pair lost"], [])
        # Hosts in zone b cross to the machine at work.
        hops = self.json("path", "pumps-b", "weather")["hops"]
        self.assertEqual(hops[0]["zones"], "b to a")
        # One alone: the zone's loss cuts off the other one's hosts.
        self.put(self.PAIR, {"exits": {"pair": {"standby_subnet": None, "fails_over_s": None, "machines": 1}}})
        self.assertIn("need-not-met", self.rules())
        self.put(self.PAIR, {"exits": {"pair": {"machines": 1}}})
        self.assertIn("machines: 2", self.program("check").stderr)

    def test_the_pair_is_down_when_both_are_and_while_one_takes_over(self) -> None:
        """Both at once; and of the time that one works, eight seconds a failure: up time is a / (1 - a) repairs."""
        for works, repair_s in ((0.996, None), (0.996, 3600), (0.7, 60)):
            self.put(self.PAIR)
            box = {"availability": works, "repair_s": repair_s}
            self.write("catalogue.yaml", merged(CATALOGUE, {"offers": {"box": box}}))
            [flow] = {one["down_min_per_month"] for one in self.json("path")["paths"]}
            down = 1 - works
            expected = (1 - down**2) * (1 - 8 / (repair_s * works / down)) if repair_s else 1 - down**2
            with self.subTest(works=works, repair_s=repair_s):
                self.assertAlmostEqual(flow, (1 - expected) * 730 * 60, places=4)


STORE: dict[str, Any] = {
    "destinations": {
        "vault": {"prefixes": ["192.0.2.128/26"], "names": ["vault.ombrel.example"], "service": True, "port": 443}
    },
    "exits": {
        "vault-door": {
            "kind": "in-subnet-endpoint",
            "offer": "inside",
            "subnets": ["edge-a"],
            "destination": "vault",
            "allowed_from": ["pumps"],
        }
    },
    "flows": {"archive": {"from": "pumps", "to": "vault", "per_host_per_s": 1, "out_kib_per_connection": 4}},
}


class WhoMayUseAnEndpoint(At):
    """A private endpoint and its service: whom the policies of both let in, and what comes over the internet."""

    OTHERS: dict[str, Any] = {
        "workloads": {"guests": {"subnets": ["pumps-b"], "hosts": 3}},
        "flows": {"peek": {"from": "guests", "to": "vault", "per_host_per_s": 1}},
    }

    def test_the_policy_of_an_endpoint_names_workloads(self) -> None:
        self.put(STORE, self.OTHERS)
        broken = {one["flow"] for one in self.json("path", status=1)["needs_not_met"]}
        self.assertEqual(broken, {"peek"})
        [found] = self.json("check", "--only", "flow-denied", status=1)["findings"]
        self.assertIn("the policy of vault-door lets in pumps only", found["cause"])
        self.assertNotIn("flow-denied", self.rules("--patch", self.remedy("flow-denied")))
        # Open to anyone is a doubt, and its remedy lists those who use it.
        self.put(STORE, {"exits": {"vault-door": {"allowed_from": None}}})
        patch = self.remedy("endpoint-open-to-anyone")
        self.assertEqual(
            json.loads((self.folder / patch).read_text())["exits"]["vault-door"], {"allowed_from": ["pumps"]}
        )

    def test_what_a_service_takes(self) -> None:
        public = {"exits": {"vault-door": {"names": "public"}}}
        for change, verdict in (
            ({}, "arrives"),
            ({"public_access": "closed"}, "denied"),
            ({"public_access": "listed", "allowed": ["203.0.113.20/31"]}, "arrives"),
            ({"public_access": "listed", "allowed": ["203.0.113.21/32"]}, "denied"),
            ({"only_through": []}, "arrives"),
        ):
            self.put(STORE, public, {"destinations": {"vault": change}})
            with self.subTest(change):
                # By its gateway, 203.0.113.20, over the internet.
                self.assertEqual(self.verdicts("pumps-a", "vault"), [verdict])
        self.put(STORE, {"destinations": {"vault": {"only_through": [], "public_access": "closed"}}})
        self.assertEqual(self.verdicts("pumps-a", "vault"), ["denied"])
        patch = self.remedy("flow-denied")
        self.assertEqual(self.verdicts("pumps-a", "vault", "--patch", patch), ["arrives"])


class EndpointsInTheirPlace(At):
    """What is no endpoint of that region, and a route where hosts come by name."""

    def test_a_region_that_its_subnets_are_not_in_is_an_error(self) -> None:
        self.put(STORE, {"exits": {"vault-door": {"region": "east"}}})
        done = self.program("check")
        self.assertEqual(done.returncode, 2)
        self.assertIn("mid", done.stderr)

    def test_a_route_to_an_endpoint_that_is_found_by_name_is_an_error(self) -> None:
        self.put(STORE, {"route_tables": {"plant-a": {"vault": "vault-door"}}})
        [found] = self.json("check", "--only", "route-to-named-endpoint", status=1)["findings"]
        self.assertIn("vault-door", found["cause"])
        patch = self.remedy("route-to-named-endpoint")
        self.assertNotIn("route-to-named-endpoint", self.rules("--patch", patch))
        self.assertEqual(self.verdicts("pumps-a", "vault", "--patch", patch), ["arrives"])


class CentralEndpoint(At):
    """One endpoint in a shared network, used over a hub by others in which its names resolve."""

    SHARED = merged(
        STORE,
        {
            "networks": {"shared": {"region": "mid", "prefixes": ["10.63.0.0/16"]}},
            "subnets": {
                "shared-a": {"network": "shared", "zone": "a", "prefix": "10.63.1.0/24", "routes": "shared"},
                "shared-b": {"network": "shared", "zone": "b", "prefix": "10.63.2.0/24", "routes": "shared"},
            },
            "route_tables": {
                "shared": {"10.60.0.0/16": "joint"},
                "plant-a": {"10.63.0.0/16": "joint"},
                "plant-b": {"10.63.0.0/16": "joint"},
            },
            "exits": {
                "joint": {"kind": "hub", "offer": "joint", "networks": ["plant", "shared"]},
                "vault-door": {"subnets": ["shared-a", "shared-b"], "names_in": ["plant"]},
            },
        },
    )

    def test_hosts_of_another_network_reach_it_over_the_hub_and_back(self) -> None:
        self.put(self.SHARED)
        for subnet, entry in (("pumps-a", "shared-a"), ("pumps-b", "shared-b")):
            found = self.json("path", subnet, "vault")
            self.assertEqual([one["exit"] for one in found["hops"]], ["joint", "local", "vault-door"])
            self.assertEqual(found["hops"][-1]["subnet"], entry)
            self.assertEqual(found["verdicts"], ["arrives"])
            self.assertEqual([one["exit"] for one in found["hops_back"]], ["joint", "local"])
        self.assertEqual(self.rules() & {"unreachable", "no-return-route", "need-not-met", "idle-exit"}, set())
        # 20 connections a second each way: over the hub and through the endpoint, and nothing crosses a zone.
        lines = {(one["item"], one["about"]) for one in self.json("charges")["lines"] if one["amount"]}
        self.assertTrue({("processed", "joint"), ("processed", "vault-door")} <= lines, lines)

    def test_where_its_names_do_not_resolve_or_no_route_leads_there_or_back(self) -> None:
        self.put(self.SHARED, {"exits": {"vault-door": {"names_in": None}}})
        # By its public address and the default instead.
        self.assertEqual([one["exit"] for one in self.json("path", "pumps-a", "vault")["hops"]], ["nat-a", "front"])
        self.put(self.SHARED, {"route_tables": {"plant-a": {"10.63.0.0/16": None}}})
        self.assertEqual(self.verdicts("pumps-a", "vault"), ["private destination"])
        self.put(self.SHARED, {"route_tables": {"shared": {"10.60.0.0/16": None}}})
        self.assertEqual(self.verdicts("pumps-a", "vault"), ["no return"])

    def test_the_route_back_is_a_remedy_over_a_hub_or_a_peering_whatever_it_survives(self) -> None:
        peering = {"kind": "peering", "offer": None, "networks": ["plant", "shared"]}
        lost = {"route_tables": {"shared": {"10.60.0.0/16": None}}}
        # What is lost meets no need, so that a remedy may leave it without its zone.
        one_zone = {"exits": {"vault-door": {"subnets": ["shared-a"]}}}
        survives = {"destinations": {"vault": {"needs": {"survives": "zone-loss"}}}}
        for joint in ({}, {"exits": {"joint": peering}}):
            self.at({"peering_routes": "stated"}, self.SHARED, joint, lost, one_zone, survives)
            patch = self.remedy("no-return-route")
            self.assertEqual(self.verdicts("pumps-a", "vault", "--patch", patch), ["arrives"])


class PoolBeyondTheLimit(At):
    """A private pool larger than a gateway may have addresses: what is beyond the limit counts for nothing."""

    def test_the_limit_counts_and_its_remedy_is_a_smaller_pool(self) -> None:
        self.put(GatewaysOfASubnet.TWO)
        [ports] = [one for one in self.json("capacity", status=1)["exits"] if one["exit"] == "inner"]
        # 16 addresses in the pool, 6 allowed, 50,000 ports each.
        self.assertEqual((ports["addresses"], ports["ports"]), (6, 300_000))
        [found] = self.json("check", "--only", "limit-exceeded", status=1)["findings"]
        self.assertIn("16 of 6 addresses", found["cause"])
        patch = self.remedy("limit-exceeded")
        self.assertNotIn("limit-exceeded", self.rules("--patch", patch))
        self.assertEqual(self.verdicts("pumps-a", "bench", "--patch", patch), ["arrives"])


class FiltersOfAnEndpoint(At):
    """An endpoint inside a subnet has a filter of its own: whoever it does not let in is denied there."""

    def test_half_of_the_hosts_are_let_in(self) -> None:
        group = {"in": {"west": {"action": "allow", "sources": ["10.60.1.0/25"], "ports": [443]}}}
        self.put(STORE, {"exits": {"vault-door": {"filters": {"group": group}}}})
        found = self.json("path", "pumps-a", "vault", status=1)
        self.assertEqual(sorted(zip(found["verdicts"], found["shares"], strict=True))[0][0], "arrives")
        self.assertEqual(sorted(found["verdicts"]), ["arrives", "denied"])
        self.assertIn("filter group of exit vault-door denies it", " ".join(found["summary"]))
        [denied] = [one for one in self.json("check", status=1)["findings"] if one["rule"] == "flow-denied"][:1]
        self.assertIn("exits.vault-door.filters", denied["path"])
        self.assertNotIn("flow-denied", self.rules("--patch", self.remedy("flow-denied")))


class Misstated(At):
    """What cannot be meant is said with its place, never taken and never a fault of the program."""

    def test_each_is_an_error_of_the_file(self) -> None:
        line = {"kind": "circuit", "network": "plant", "third_party": "lab"}
        for behaviour, exits, words in (
            ({"equal_prefixes": ["static"]}, {}, "all four origins"),
            ({"equal_prefixes": ["static", "static", "learned", "injected"]}, {}, "all four origins"),
            ({"gateways_per_subnet": 0}, {}, "at least 1"),
            ({}, {"line": {**line, "third_party_nat": {"addresses": 10**12, "ports": 10**11}}}, "at most"),
        ):
            self.at(behaviour, {"exits": exits})
            done = self.program("check")
            with self.subTest(words):
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)
