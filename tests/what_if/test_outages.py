"""A case that strikes and passes: what is held against m' = rate - m / life, solved piece by piece."""

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from fenrask.estate import Case
from fenrask.evaluation import evaluate
from fenrask.teletraffic.simulation import Pool
from fenrask.what_if import Asked, Outage, Simulated, as_sized, case_patch, simulated
from tests.support import ESTATE, InFolder, merged
from tests.what_if.test_simulated import run

LIFE_S, HOSTS = 100.0, 20
TWO_GATES: dict[str, Any] = {
    "subnets": {
        "app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private-b"},
        "edge-b": {"network": "net", "zone": "b", "prefix": "10.0.9.16/28", "routes": "public"},
    },
    "route_tables": {"private-b": {"0.0.0.0/0": "gate-b"}},
    "exits": {
        "gate": {"addresses": 5},
        "gate-b": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge-b", "addresses": 5},
    },
    "workloads": {"work": {"subnets": ["app", "app-b"], "hosts": HOSTS}},
    "flows": {"talk": {"per_host_per_s": 1, "duration_s": LIFE_S, "closed_share": 1}},
}
AT_ONCE = {"offers": {"gate": {"mapping_timeout_s": {"closed": 0}}}}
ZONE_B = Case(lose_zones=("b",))


def after(concurrent: float, rate: float, seconds: float) -> float:
    """What is held after some time of a level rate, of exponential lives: m' = rate - m / life."""
    return rate * LIFE_S + (concurrent - rate * LIFE_S) * math.exp(-seconds / LIFE_S)


class Outages(InFolder):
    def outage(self, case: Case, minutes: float, patch: Any = None, catalogue: Any = None) -> dict[str, Simulated]:
        before = as_sized(evaluate(self.estate(patch or TWO_GATES, catalogue or AT_ONCE)))
        struck = evaluate(before.described.patched(case_patch(before.described, case), "struck"))
        asked = Asked(around_hours=1, outage=Outage(struck.capacity, minutes * 60))
        return {one.exit: one for one in simulated(before.capacity, asked)}

    def curve(self, one: Simulated, concurrent: float, pieces: Sequence[tuple[float, float]]) -> list[float]:
        """What is held at the end of each step: first level, then by pieces of (s, new per s), the last to the end."""
        assert one.storm_s is not None
        first = int(one.storm_s // one.step_s)
        found = [concurrent] * first
        steps = one.setting.calls.steps
        for seconds, rate in pieces:
            for _ in range(round(seconds / one.step_s)):
                found.append(concurrent := after(concurrent, rate, one.step_s))
        while len(found) < steps:
            found.append(concurrent := after(concurrent, pieces[-1][1], one.step_s))
        return found[:steps]

    def test_the_load_of_a_lost_zone_comes_within_a_minute_and_goes_as_connections_end(self) -> None:
        gates = self.outage(ZONE_B, 20)
        self.assertEqual(set(gates), {"gate", "gate-b"})
        half = HOSTS / 2
        open_at_peak = half * LIFE_S
        stays, gone = gates["gate"], gates["gate-b"]
        self.assertEqual((stays.step_s, stays.storm_s, stays.lasts_s), (60.0, 600.0, 1200.0))
        expected = {
            # All that lived by way of the lost zone is opened anew within a minute, beside what comes anyway.
            "gate": self.curve(stays, open_at_peak, [(60, HOSTS + open_at_peak / 60), (1140, HOSTS), (60, half)]),
            "gate-b": [open_at_peak] * 10 + self.curve(gone, 0.0, [(1200, 0), (60, half)])[10:],
        }
        for name, one in gates.items():
            with self.subTest(name):
                found = run(one, 16)
                self.assertEqual(found.blocked, 0)
                # Five standard deviations of the mean of 16 Poisson numbers.
                wide = 5 * np.sqrt(np.maximum(expected[name], 1) / 16) + 1
                off = np.abs(found.held_mean - expected[name])
                self.assertTrue(np.all(off <= wide), (found.held_mean - expected[name]).round(1).tolist())
                self.assertEqual(one.recovers_s(found, 1e-4), 0.0)
        self.assertEqual(run(gone, 4).held_high[10:30].max(), 0.0)

    def test_a_slow_destination_cuts_nobody_off(self) -> None:
        # Lives are four times as long for ten minutes: no connection comes anew, and the longer ones stay behind.
        one = self.outage(Case(slow={"partner": 4}), 10)["gate"]
        rate, long = HOSTS / 2, 4 * LIFE_S
        expected, old, slow = [rate * LIFE_S] * 10, rate * LIFE_S, 0.0
        for minute in range(50):
            old = after(old, rate if minute >= 10 else 0.0, 60)
            slow = (slow - rate * long * (minute < 10)) * math.exp(-60 / long) + rate * long * (minute < 10)
            expected.append(old + slow)
        found = run(one, 16)
        wide = 5 * np.sqrt(np.array(expected) / 16) + 1
        self.assertTrue(np.all(np.abs(found.held_mean - expected) <= wide), (found.held_mean - expected).tolist())

    def test_a_silent_destination_takes_ports_for_every_try(self) -> None:
        """800 tries a second, each for 300 s, where 4,000 ports were taken: by hand."""
        patch = {
            "workloads": {"work": {"hosts": 100}},
            "flows": {"talk": {"per_host_per_s": 8, "duration_s": 5, "closed_share": 1}},
        }
        catalogue = {
            "offers": {"gate": {"ports": {"per_address": 12_000}, "mapping_timeout_s": {"closed": 0, "idle": 300}}}
        }
        before = evaluate(self.estate(patch, catalogue))
        struck = evaluate(before.described.patched(case_patch(before.described, Case(silent=("partner",))), "struck"))
        for one, held in ((before, 4000), (struck, 240_000)):
            self.assertAlmostEqual(one.demand.load(one.demand.at_exit["gate"]).peak.concurrent, held)
        found = self.json("stress", "--silent", "partner", status=1)
        self.assertEqual(found["cases"][0]["overloaded_count"], 1)
        self.assertAlmostEqual(found["cases"][0]["blocking"], 1 - 12_000 / 240_000, delta=0.001)
        # 4,000 that end with a mean of 5 s, and 800 a second more: step by step of a hundredth.
        old, new, time = 4000.0, 0.0, 0.0
        while old + new < 12_000:
            old, new, time = old * math.exp(-0.01 / 5), new + 8.0, time + 0.01
        self.assertAlmostEqual(found["cases"][0]["full_after_s"], time, delta=0.02)
        self.assertEqual(self.program("stress", "--silent", "nobody").returncode, 2)
        self.estate({**patch, "stress": {"dead": {"silent": ["partner"]}}}, catalogue)
        self.assertEqual(
            self.json("stress", "--case", "dead", status=1)["cases"][0]["blocking"], found["cases"][0]["blocking"]
        )

    def test_a_destination_that_rejects_takes_ports_for_less_long(self) -> None:
        """A reset keeps a port for 10 s: 800 a second are 8,000, where a silent destination would hold 240,000."""
        patch = {
            "workloads": {"work": {"hosts": 100}},
            "flows": {"talk": {"per_host_per_s": 8, "duration_s": 5, "closed_share": 1}},
        }
        catalogue = {"offers": {"gate": {"ports": {"per_address": 12_000}, "mapping_timeout_s": {"closed": 0}}}}
        before = evaluate(self.estate(patch, catalogue))
        struck = evaluate(
            before.described.patched(case_patch(before.described, Case(rejecting=("partner",))), "struck")
        )
        self.assertAlmostEqual(struck.demand.load(struck.demand.at_exit["gate"]).peak.concurrent, 8000)
        self.assertEqual(self.json("stress", "--rejecting", "partner")["cases"][0]["overloaded_count"], 0)

    def test_a_client_that_keeps_connections_tries_for_each_request(self) -> None:
        """50 requests a second of each of ten hosts; with ten connections at most, one try of 63 s after the other."""
        pool = {"per_host_per_s": None, "requests_per_host_per_s": 50, "duration_s": 0.2, "pool_idle_s": 60}
        for more, case, tries in (
            ({}, Case(silent=("partner",)), 500),
            ({"pool_max": 15}, Case(silent=("partner",)), 10 * 15 / 63),
            ({"pool_max": 15}, Case(rejecting=("partner",)), 500),
        ):
            before = evaluate(self.estate({"flows": {"talk": {**pool, **more}}}))
            struck = evaluate(before.described.patched(case_patch(before.described, case), "struck"))
            with self.subTest(more=more, case=case):
                self.assertAlmostEqual(struck.demand.load(struck.demand.at_exit["gate"]).busiest_new_per_s, tries)

    def test_without_a_resolver_nothing_is_opened_by_name(self) -> None:
        patch = {
            "destinations": {
                "names": {"prefixes": ["198.51.101.1/32"], "port": 53, "protocol": "udp"},
                "partner": {"names": ["pay.partner.example"]},
            },
            "flows": {
                "ask": {"from": "work", "to": "names", "per_host_per_s": 5, "duration_s": 0},
                "save": {"from": "work", "to": "store", "per_host_per_s": 1},
            },
        }
        before = evaluate(self.estate(patch))
        case = Case(resolver_down=("names",))
        struck = evaluate(before.described.patched(case_patch(before.described, case), "struck"))
        new = {part.flow: float(part.new_per_s.max()) for part in struck.demand.parts if part.exit == "gate"}
        # Each query twice; nothing to the partner by name; the store has none.
        self.assertEqual(new, {"talk": 0.0, "ask": 100.0, "save": 10.0})
        [found] = self.json("stress", "--resolver-down", "names", status=1)["cases"]
        self.assertEqual((found["cut_off_count"], found["cut_off"]), (1, ["talk"]))
        self.assertEqual(self.program("stress", "--resolver-down", "nobody").returncode, 2)

    def test_who_comes_back_by_chance_comes_slowly(self) -> None:
        """10,000 clients, of which the busiest second is counted, client by client."""
        patch = {"flows": {"talk": None, "pool": {"from": "work", "to": "partner", "persistent_per_host": 1000}}}
        offer = {"offers": {"gate": {"ports": {"per_address": 60_000}, "limits": {"new_per_s": 200}}}}
        dice = np.random.default_rng(18)
        for policy, waits in (("fixed", np.ones(10_000)), ("jitter", dice.uniform(0, 32, 10_000))):
            busiest = int(np.bincount(waits.astype(int)).max())
            self.estate({**patch, "stress": {"back": {"reconnect": {"policy": policy}}}}, offer)
            found = self.json("stress", "--case", "back", status=1)
            [told] = [row["why"] for row in found["reasons"] if "new connections/s" in row["why"]]
            rate = float(told.split(" new connections/s")[0].replace(",", ""))
            # Of a few hundred a second the busiest second has more by chance.
            self.assertLess(abs(rate / busiest - 1), 0.25, told)

    def test_a_load_that_rises_cuts_nobody_off(self) -> None:
        one = self.outage(Case(load_up=1.0), 10)["gate"]
        rate = HOSTS / 2
        expected = self.curve(one, rate * LIFE_S, [(600, 2 * rate), (60, rate)])
        found = run(one, 16)
        self.assertTrue(np.all(np.abs(found.held_mean - expected) <= 5 * np.sqrt(np.array(expected) / 16) + 1))

    def test_what_survives_refuses_until_the_load_is_gone(self) -> None:
        tight = {**TWO_GATES, "exits": {**TWO_GATES["exits"], "gate": {"addresses": ["203.0.113.1", "203.0.113.2"]}}}
        ports = {"offers": {"gate": {**AT_ONCE["offers"]["gate"], "ports": {"per_address": 600}}}}
        [stays] = [one for name, one in self.outage(ZONE_B, 20, tight, ports).items() if name == "gate"]
        found = run(stays, 8)
        recovers = stays.recovers_s(found, 1e-3)
        # 1,200 ports carry a thousand, not two; a minute or two after the case the new connections alone fit again.
        assert recovers is not None
        self.assertTrue(1200 <= recovers <= 1500, recovers)
        self.assertEqual(found.by_step[:9].max(), 0.0)
        self.assertGreater(found.by_step[15:30].min(), 0.3)

    def test_standing_connections_that_come_back_take_one_port_each(self) -> None:
        """Ten hosts keep 2,000 each here, all twenty while the zone is lost: counted once, by hand."""
        for ports, missing in ((40_100, 0), (39_000, 1000)):
            patch = {
                **TWO_GATES,
                "flows": {"pool": {"from": "work", "to": "partner", "persistent_per_host": 2000}, "talk": None},
            }
            offer = {"offers": {"gate": {"ports": {"per_address": ports // 5}}}}
            gates = self.outage(ZONE_B, 20, patch, offer)
            one = gates["gate"]
            found = run(one, 4)
            with self.subTest(ports=ports):
                setting = one.setting
                assert isinstance(setting, Pool) and not isinstance(setting.servers, int)
                # What is left to connections that come and go.
                self.assertEqual(set(setting.servers[:10]), {ports - 20_000})
                self.assertEqual(set(setting.servers[10:30]), {max(0, ports - 40_000)})
                self.assertEqual((one.standing_back, one.standing_without), (20_000, missing))
                self.assertEqual(one.standing_share, missing / 20_000)
                self.assertEqual(found.share, 0.0)
                # One that finds no port has none until the others go back.
                self.assertEqual(one.recovers_s(found, 1e-3), 1200.0 if missing else 0.0)
        self.write("estate.yaml", merged(ESTATE, {**patch, "stress": {"b-lost": {"lose_zones": ["b"]}}}))
        words = ("simulate", "--outage", "10", "--exit", "gate", "--case", "b-lost")
        self.assertIn("1,000 of 20,000 always-open connections", self.program(*words).stdout.replace("\n", " "))
        self.assertEqual(self.json(*words, status=1)["pools"][0]["recovers_s"], 600.0)

    def test_nodes_that_are_lost_take_their_ports_with_them(self) -> None:
        wall = {"assignment": "node-share", "per_address": 1000}
        nodes = {"offers": {"wall": {"ports": wall, "mapping_timeout_s": {"closed": 0}}}}
        patch = {
            "exits": {
                "gate": None,
                "wall": {"kind": "inspecting-firewall", "offer": "wall", "subnet": "edge", "nodes": 4, "addresses": 4},
            },
            "route_tables": {"private": {"0.0.0.0/0": "wall"}},
            "flows": {"talk": {"duration_s": LIFE_S, "closed_share": 1}},
        }
        [one] = self.outage(Case(lose_nodes={"wall": 1}), 20, patch, nodes).values()
        found = run(one, 16)
        # A thousand are held, by four nodes and then by three: what one node holds is simulated.
        self.assertAlmostEqual(float(found.held_mean[:9].mean()), 250, delta=8)
        self.assertAlmostEqual(float(found.held_mean[22:29].mean()), 1000 / 3, delta=12)
        self.assertAlmostEqual(float(found.held_mean[45:].mean()), 250, delta=8)

    def test_a_searched_pool_is_told_apart_only_where_its_ports_change(self) -> None:
        search = {"offers": {"gate": {**AT_ONCE["offers"]["gate"], "ports": {"search_tries": 64}}}}
        gates = self.outage(ZONE_B, 20, None, search)
        self.assertEqual(gates["gate"].not_counted, ())
        self.assertEqual(gates["gate-b"].not_counted, ("ports that come and go with the case",))

    def test_by_the_command(self) -> None:
        cases = {"b-lost": {"lose_zones": ["b"]}, "storm": {"reopen_within_s": 9}}
        self.estate({**TWO_GATES, "stress": cases}, AT_ONCE)
        words = ("simulate", "--outage", "10", "--exit", "gate", "--around", "1", "--case")
        named, single = self.json(*words, "b-lost"), self.json(*words, "zone b lost")
        self.assertEqual((named["case"], single["case"]), ("b-lost", "zone b lost"))
        self.assertEqual((named["pools"], named["ports_in_use"]), (single["pools"], single["ports_in_use"]))
        for words in (("--outage", "5"), ("--outage", "5", "--case", "storm"), ("--case", "zone q lost")):
            with self.subTest(words=words):
                wrong = self.program("simulate", *words)
                self.assertEqual(wrong.returncode, 2, wrong.stdout)
                self.assertRegex(wrong.stderr, "expected a (--case, or a loss, that does not|case of)")
