"""Situations about size, price and what is left over: users, managed or self-run, teardown, blocks, leftovers."""

import json
from typing import Any

from tests.situations.base import CATALOGUE, ESTATE, Situation
from tests.support import merged


class ManyConnectionsPerUser(Situation):
    """Each user opens many connections to one address: ports run out though there are few users."""

    USERS: dict[str, Any] = {
        "flows": {
            "forecast": {
                "per_host_per_s": None,
                "users": 900,
                "connections_per_user": 40,
                "duration_s": 20,
            }
        },
        "route_tables": {"plant-b": {"0.0.0.0/0": "nat-a"}},
    }

    def test_ports_run_out_and_addresses_cure_it(self) -> None:
        # 36,000 connections last 20 s and their ports 66 s more: 36,000 x 86 / 20 = 154,800 wanted, of 50,000.
        self.put(self.USERS)
        [one] = [each for each in self.json("capacity", status=1)["exits"] if each["exit"] == "nat-a"]
        self.assertAlmostEqual(one["ports_wanted"], 154_800, delta=1)
        self.assertEqual((one["addresses_needed"], one["fits"]), (4, False))
        patch = self.remedy("port-exhaustion")
        self.assertNotIn("port-exhaustion", self.rules("--patch", patch))
        # Pooling at the client: a quarter of the connections need a quarter of the ports.
        less = self.json("capacity", "--set", "flows.forecast.connections_per_user=10")["exits"]
        self.assertTrue(all(each["fits"] for each in less))


class ManagedAgainstSelfRun(Situation):
    """A managed gateway's price against upkeep of one's own, with what either is expected to be down."""

    def test_price_upkeep_and_downtime_side_by_side(self) -> None:
        self.put({"flows": {"forecast": {"per_host_per_s": 0.2}}})
        designs = {one["design"]: one for one in self.json("compare")["designs"]}
        managed, own = designs["gateway per zone"], designs["translator hosts"]
        pairs = designs["translator hosts in pairs"]
        self.assertEqual([one["upkeep_hours"] for one in (managed, own, pairs)], [0, 12, 24])
        self.assertLess(managed["down_min_per_month"], own["down_min_per_month"])
        self.assertLess(pairs["down_min_per_month"], managed["down_min_per_month"])
        # Six hours of each machine at 55 an hour.
        self.assertAlmostEqual(pairs["month_amount"] - own["month_amount"], 2 * (6 * 55 + 730 * 0.037), places=6)
        strict = ("--set", "destinations.weather.needs.availability=0.999")
        found = {one["design"]: one["needs_met"] for one in self.json("compare", *strict)["designs"]}
        self.assertEqual(found["gateway per zone"], "yes")
        self.assertNotEqual(found["translator hosts"], "yes")
        self.assertEqual(self.program("choose", "--max-upkeep", "0").returncode, 0)
        self.assertEqual(self.rules("--set", "targets.upkeep_hours_per_month=5", level="error"), set())


class ADestinationWithAddressesOfItsOwn(Situation):
    """A partner sees addresses of a gateway that nobody else does: its own list, its own ports, its own bill."""

    OWN: dict[str, Any] = {
        "route_tables": {"plant-b": {"0.0.0.0/0": "nat-a"}},
        "exits": {"nat-b": None, "nat-a": {"addresses_for": {"weather": ["203.0.113.44"]}}},
        "destinations": {"news": {"prefixes": ["192.0.2.80/28"], "port": 443, "needs": {"fixed_source": True}}},
        "flows": {
            "forecast": {"per_host_per_s": 10},
            "headlines": {"from": "pumps", "to": "news", "per_host_per_s": 10, "duration_s": 2},
        },
    }

    def test_its_list_its_ports_and_its_bill_are_its_own(self) -> None:
        self.put(self.OWN)
        self.assertEqual(self.sees("pumps-b", "weather"), ["203.0.113.44"])
        self.assertEqual(self.sees("pumps-b", "news"), ["203.0.113.20"])
        # 10/s of 20 hosts for 1 s and 66 s more, and for 2 s and 66 s more.
        rows = {one["exit"]: one for one in self.json("capacity")["exits"]}
        self.assertAlmostEqual(rows["nat-a for weather"]["ports_wanted"], 13_400, places=2)
        self.assertAlmostEqual(rows["nat-a"]["ports_wanted"], 13_600, places=2)
        self.assertEqual([one["addresses"] for one in rows.values()], [1, 1])
        lists = {one["destination"]: one["allow"] for one in self.json("addresses")["partners"]}
        self.assertEqual(lists, {"weather": ["203.0.113.44 (nat-a)"], "news": ["203.0.113.20 (nat-a)"]})
        # Each address is paid by who shows it; 730 hours of each.
        before, after = (
            {one["flow"]: one["amount"] for one in self.json("charges", *words)["flows"]}
            for words in ((), ("--set", "exits.nat-a.addresses_for.weather=3"))
        )
        more = {name: after[name] - amount for name, amount in before.items()}
        self.assertAlmostEqual(more["forecast"], 2 * 730 * 0.0063, places=4)
        self.assertAlmostEqual(more["headlines"], 0, places=4)
        self.assertEqual(self.rules(level="error"), set())
        self.assertEqual(self.program("check", "--audit").returncode, 0)

    def test_what_runs_out_is_cured_for_it_alone(self) -> None:
        self.put(merged(self.OWN, {"flows": {"forecast": {"per_host_per_s": 50}}}))
        rows = {one["exit"]: one for one in self.json("capacity", status=1)["exits"]}
        # 67,000 want two addresses of 50,000 ports; the others' one is enough.
        self.assertEqual((rows["nat-a for weather"]["addresses_needed"], rows["nat-a"]["fits"]), (2, True))
        self.assertEqual(rows["nat-a for weather"]["ports"], 50_000)
        patch = self.remedy("port-exhaustion")
        self.assertEqual(
            json.loads((self.folder / patch).read_text())["exits"], {"nat-a": {"addresses_for": {"weather": 2}}}
        )
        self.assertNotIn("port-exhaustion", self.rules("--patch", patch))
        # The offer allows six in all.
        most = self.json("check", "--set", "exits.nat-a.addresses_for.weather=6", status=1)["findings"]
        self.assertIn("limit-exceeded", {one["rule"] for one in most})
        patch = self.remedy("limit-exceeded", "--set", "exits.nat-a.addresses_for.weather=6")
        self.assertEqual(self.rules("--patch", patch, level="error"), set())

    def test_what_is_wrong_is_said(self) -> None:
        self.put(self.OWN)
        for text, words in (
            ("exits.nat-a.addresses_for.wether=1", "Did you mean 'weather'?"),
            ("exits.nat-a.private_pool=10.60.9.0/28", "addresses_for, or private_pool, not both"),
            ("exits.nat-a.addresses_for.weather=many", "addresses_for.weather"),
            ("exits.nat-a.addresses_for.weather=[203.0.113.300]", "203.0.113.300"),
        ):
            with self.subTest(text):
                found = self.program("check", "--set", text)
                self.assertEqual(found.returncode, 2)
                self.assertIn(words, " ".join(found.stderr.split()))
        twice = self.program("check", "--set", "exits.nat-a.addresses_for.weather=[203.0.113.20]").stdout
        self.assertIn("203.0.113.20 is listed twice by nat-a", " ".join(twice.split()))
        self.assertIn("unused-address", self.rules("--set", "flows.forecast=null"))

    def test_what_others_see_is_not_what_it_sees(self) -> None:
        self.put(self.OWN)
        seen = "pumps-a,weather,203.0.113.20\npumps-b,weather,203.0.113.44\npumps-a,news,203.0.113.44\n"
        other = "another address of nat-a"
        self.assertEqual(self.observed(seen, status=1), [other, "as planned", other])

    def test_a_kernel_is_told_so(self) -> None:
        self.put(merged(self.OWN, {"exits": {"nat-a": {"kind": "translator-host", "offer": "box"}}}))
        self.program("handover", "--save", "built")
        rules = (self.folder / "built" / "nat-a.nft").read_text()
        self.assertIn("define source_1 = 203.0.113.44", rules)
        own = next(line for line in rules.splitlines() if "198.51.100.64/28" in line)
        self.assertIn("tcp dport 443 snat to $source_1:", own)
        self.assertLess(rules.index(own), rules.rindex("snat"))
        listed = (self.folder / "built" / "allow-lists" / "weather.txt").read_text()
        self.assertEqual([line for line in listed.splitlines() if not line.startswith("#")], ["203.0.113.44/32"])


class Teardown(Situation):
    """A gateway goes for good: what points nowhere, what partners may remove, what still costs."""

    def test_what_is_left_over(self) -> None:
        held = {"public_addresses": {"old": {"address": "203.0.113.21"}}}
        self.put(merged(held, {"route_tables": {"plant-b": {"0.0.0.0/0": "nat-a"}}}))
        found = self.json("check", "--without", "nat-b", "--save", "gone.json")
        self.assertEqual(found["flows_cut_off"], [])
        self.assertGreater(found["saved_amount"], 730 * 0.071 - 0.01)
        self.assertTrue(any("address" in one["what"] for one in found["still_paid"]), found["still_paid"])
        self.assertEqual(self.json("charges", "--patch", "gone.json")["estate"], "Tarn Valley Water")
        # To the cent what `charges` says of it; and what is held by name.
        self.assertAlmostEqual(found["after_amount"], self.json("charges", "--patch", "gone.json")["month_amount"])
        self.assertEqual(found["held"], ["old"])
        self.assertEqual([one["what"] for one in found["steps"]], ["remove the exit nat-b"])
        # What is unused then is what was before, and what is left over.
        forgotten = ("--set", "public_addresses.more={address: 203.0.113.99}")
        both = self.json("check", "--without", "nat-b", *forgotten)
        left = sum(one["month_amount"] for one in both["still_paid"])
        unused = self.json("charges", "--patch", "gone.json", *forgotten)["unallocated_amount"]
        self.assertAlmostEqual(both["unused_before_amount"], 730 * 0.0063)
        self.assertAlmostEqual(both["unused_before_amount"] + left, unused)
        # One that is used: its flows are cut off, its route is named, its entry comes off the list.
        found = self.json("check", "--without", "nat-a", status=1)
        self.assertEqual(found["flows_cut_off"], ["forecast"])
        self.assertEqual({one["table"] for one in found["routes"]}, {"plant-a", "plant-b"})
        self.assertEqual([one["entry"] for one in found["may_remove"]], ["203.0.113.20"])
        # Routes go first, one table after the other, and the gateway last.
        self.assertEqual(found["steps"][-1]["what"], "remove the exit nat-a")
        self.assertEqual(len(found["steps"]), 3)
        # Its addresses are bound by way of the internet exit: that one may not go before it.
        told = self.program("check", "--without", "front").stderr
        self.assertIn("Add `--without nat-a --without nat-b`", told)


class BlocksTimeoutsMetricsTwinsTemplates(Situation):
    """A block of ports for each host, a timeout that can be set, metrics against the model, a second deployment."""

    BLOCKS: dict[str, Any] = {
        "exits": {"nat-a": {"kind": "translator-host", "offer": "box", "addresses": "auto"}},
        "route_tables": {"plant-b": {"0.0.0.0/0": "nat-a"}},
    }

    def test_a_block_is_full_long_before_the_pool(self) -> None:
        # Two a second of each host, 82 s each: 164 at once, in a block of 1,000; at 14 a second 1,148.
        self.put(self.BLOCKS)
        [one] = [each for each in self.json("capacity")["exits"] if each["exit"] == "nat-a"]
        self.assertEqual((one["ports"], round(one["ports_wanted"])), (1000, 164))
        busy = ("--set", "flows.forecast.per_host_per_s=14")
        self.assertIn("port-exhaustion", self.rules(*busy))

    def test_a_longer_timeout_costs_ports(self) -> None:
        self.put({"flows": {"forecast": {"closed_share": 0.5}}})
        rows = self.json("capacity", "--timeout", "idle=180..5400", "--exit", "nat-a")["timeouts"]
        for row in rows:
            # 20 a second from one of two subnets; half closed (66 s), half idle.
            expected = 20 * (1 + 0.5 * 66 + 0.5 * row["timeout_s"])
            self.assertAlmostEqual(row["ports_wanted"], expected, delta=1)
        self.assertEqual([rows[0]["timeout_s"], rows[-1]["timeout_s"]], [180, 5400])
        # What is needed is what it costs: no two numbers of addresses have one price, and no number two.
        priced = {(row["addresses_needed"], row["month_amount"]) for row in rows}
        self.assertEqual(len(priced), len({one for one, _ in priced}))
        self.assertEqual(len(priced), len({one for _, one in priced}))
        self.put({"flows": {"forecast": {"closed_share": 0.5, "keepalive_s": 400}}})
        rows = self.json("capacity", "--timeout", "idle=180..5400", "--exit", "nat-a")["timeouts"]
        self.assertEqual(
            [row["ends"] for row in rows], [["forecast"] if row["timeout_s"] <= 400 else [] for row in rows]
        )
        self.assertEqual(self.program("capacity", "--set", "exits.nat-a.mapping_timeout_s.idle=60").returncode, 2)
        longer = ("--set", "exits.nat-a.mapping_timeout_s.idle=5400")
        [one] = [each for each in self.json("capacity", *longer, status=1)["exits"] if each["exit"] == "nat-a"]
        self.assertAlmostEqual(one["ports_wanted"], 20 * (1 + 33 + 2700), delta=1)

    def test_metrics_against_the_model_and_the_load_they_propose(self) -> None:
        self.put()
        rows = ["time,exit,metric,value"]
        rows += [f"2026-11-0{day}T12:00:00Z,nat-a,connections,{value}" for day, value in ((1, 2600), (2, 2680))]
        rows += ["2026-11-01T12:00:00Z,nat-b,connections,1300", "2026-11-01T12:00:00Z,nat-z,connections,5"]
        self.write("metrics.csv", "\n".join(rows) + "\n")
        found = self.json("confirm", "metrics.csv", "--propose", "measured.json", status=1)
        verdicts = {(one["about"], one["item"]): one["verdict"] for one in found["compared"]}
        # 20 a second for 67 s: 1,340 planned.
        self.assertEqual(verdicts["nat-a", "peak connections"], "different")
        self.assertEqual(verdicts["nat-b", "peak connections"], "as planned")
        self.assertIn("nat-z", found["not_counted"][0])
        measured = json.loads((self.folder / "measured.json").read_text())
        self.assertAlmostEqual(measured["flows"]["forecast"]["per_host_per_s"], 2 * 2680 / 1340, places=4)
        text = '# TYPE nat_connections gauge\nnat_connections{exit="nat-a"} 1350 1762000000\n# EOF\n'
        self.write("metrics.txt", text)
        found = self.json("confirm", "metrics.txt")
        self.assertEqual([one["verdict"] for one in found["compared"]], ["as planned"])

    def test_a_template_becomes_another_deployment(self) -> None:
        self.put()
        mapping = {
            "estate": "Moor Valley Water",
            "names": {"plant": "mill", "nat-a": "gate-a"},
            "prefixes": {"10.60.0.0/16": "10.90.0.0/16", "203.0.113.16/28": "203.0.113.160/28"},
            "zones": {"a": "x", "b": "y"},
        }
        self.write("names.yaml", mapping)
        done = self.program("start", "second", "--from", "estate.yaml", "--names", "names.yaml")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(self.verdicts("second/estate.yaml", "pumps-a", "weather"), ["arrives"])
        self.assertEqual(self.sees("second/estate.yaml", "pumps-a", "weather"), ["203.0.113.164"])
        first, second = self.json("charges")["month_amount"], self.json("charges", "second/estate.yaml")["month_amount"]
        self.assertEqual(first, second)
        # What is the first deployment's alone stays there: addresses without a new prefix, cost centres, allow-lists.
        self.put(
            {
                "subnets": {"pumps-a": {"tags": {"cost_centre": "pumping", "tier": "gold"}}},
                "public_addresses": {"old": {"address": "203.0.113.99"}},
                "destinations": {"weather": {"allowed": ["203.0.113.20/31"]}},
            }
        )
        done = self.program("start", "fourth", "--from", "estate.yaml")
        written = (self.folder / "fourth" / "estate.yaml").read_text()
        for gone in ("203.0.113.", "pumping", "public_addresses", "allowed"):
            self.assertNotIn(gone, written)
        self.assertIn("gold", written)
        self.assertEqual(done.stderr.count("not copied"), 4)
        self.write(
            "wrong.yaml", {"names": {"plent": "mill", "nat-a": "nat-b"}, "prefixes": {"10.60.0.0/16": "10.9.0.0/8"}}
        )
        done = self.program("start", "third", "--from", "estate.yaml", "--names", "wrong.yaml")
        self.assertEqual((done.returncode, done.stderr.count("names.yaml")), (2, 0))
        self.assertIn("3 problems", done.stderr)

    def test_merged_is_the_estate_with_all_that_was_laid_over_it(self) -> None:
        self.put()
        changed = ("--set", "exits.nat-a.addresses=3")
        self.program("merged", *changed, "--out", "whole.yaml")
        self.assertEqual(self.json("charges", "whole.yaml"), self.json("charges", *changed))


class Leftovers(Situation):
    """Exits without a flow, routes into nothing, addresses on no exit."""

    def test_each_is_found_priced_and_removed(self) -> None:
        self.put(
            {
                "exits": {"spare": {"kind": "translation-gateway", "offer": "nat", "subnet": "edge-a", "addresses": 2}},
                "route_tables": {"old": {"0.0.0.0/0": "gone"}, "plant-a": {"192.0.2.0/24": "gone"}},
            }
        )
        self.assertLessEqual({"idle-exit", "black-hole"}, self.rules())
        self.assertIn("unused-table", {one["rule"] for one in self.json("check", status=1)["findings"]})
        before = self.json("charges", status=1)["month_amount"]
        patch = self.remedy("idle-exit")
        after = self.json("charges", "--patch", patch, status=1)["month_amount"]
        # An hourly rate and two addresses for 730 hours.
        self.assertAlmostEqual(before - after, 730 * (0.071 + 2 * 0.0063), places=6)


class OneTranslationForEachNetwork(Situation):
    """Two networks with the same prefixes, joined by translation: no exception to any finding is needed."""

    def test_twins_are_joined_by_pools_that_the_hub_knows(self) -> None:
        twin = {"region": "mid", "prefixes": ["10.60.0.0/16", "100.64.1.0/24"]}
        other = {"region": "mid", "prefixes": ["10.60.0.0/16", "100.64.2.0/24"]}
        estate = merged(
            ESTATE,
            {
                "networks": {"plant": twin, "twin": other},
                "subnets": {
                    "cross": {"network": "plant", "zone": "a", "prefix": "100.64.1.0/28", "routes": "cross"},
                    "shown": {"network": "twin", "zone": "a", "prefix": "100.64.2.0/28", "routes": "shown"},
                    "hidden": {"network": "twin", "zone": "a", "prefix": "10.60.1.0/24"},
                },
                "route_tables": {
                    "plant-a": {"100.64.2.0/24": "inner"},
                    "plant-b": {"100.64.2.0/24": "inner"},
                    "cross": {"100.64.2.0/24": "joint"},
                    "shown": {"100.64.1.0/24": "joint"},
                },
                "exits": {
                    "joint": {"kind": "hub", "offer": "joint", "networks": ["plant", "twin"]},
                    "inner": {
                        "kind": "translation-gateway",
                        "offer": "nat",
                        "subnet": "cross",
                        "private_pool": "100.64.1.0/30",
                    },
                },
                "destinations": {"desk": {"prefixes": ["100.64.2.8"], "port": 9000}},
                "flows": {"ask": {"from": "pumps", "to": "desk", "per_host_per_s": 0.1}},
            },
        )
        self.write("catalogue.yaml", CATALOGUE)
        self.write("estate.yaml", estate)
        self.assertIn("overlapping-prefixes", self.rules())
        known = {"plant": ["100.64.1.0/24"], "twin": ["100.64.2.0/24"]}
        self.write("known.yaml", {"exits": {"joint": {"knows": known}}})
        self.assertNotIn("overlapping-prefixes", self.rules("--patch", "known.yaml"))
        self.assertEqual(self.verdicts("pumps-b", "desk", "--patch", "known.yaml"), ["arrives"])
        self.assertEqual(self.sees("pumps-b", "desk", "--patch", "known.yaml"), ["inner's pool 100.64.1.0/30"])
        sized = {one["exit"]: one for one in self.json("capacity", "--patch", "known.yaml")["exits"]}
        self.assertEqual(sized["inner"]["addresses"], 4)
        public = {one["exit"] for one in self.json("addresses", "--patch", "known.yaml")["exits"]}
        self.assertNotIn("inner", public)
