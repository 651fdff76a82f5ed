"""Load that comes unevenly - in batches, at a varying rate, from day to day - against events one by one.

The other side is `events`, a simulation in plain Python that shares nothing with the program.
"""

import heapq
import math
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial

import numpy as np

from fenrask.capacity import Capacity, beyond_range, capacity
from fenrask.demand import demand
from fenrask.errors import UnusableInput
from fenrask.estate import Described
from fenrask.routing import flow_paths
from fenrask.teletraffic import erlang_b
from fenrask.teletraffic.backoff import Full, tried_again
from fenrask.teletraffic.holding import Delayed, Empirical, Exponential, Fixed, HoldingTime, hyperexponential
from fenrask.teletraffic.retrial_queue import retrial_queue
from fenrask.teletraffic.simulation import Stop, replicated
from fenrask.teletraffic.variation import day_level, held_cv, overlap
from fenrask.what_if import Asked, simulated
from tests.capacity import events
from tests.support import InFolder


def sized(described: Described) -> Capacity:
    return capacity(demand(flow_paths(described)))


class Laws(unittest.TestCase):
    def test_overlap_against_closed_forms(self) -> None:
        cases: tuple[tuple[HoldingTime, float], ...] = (
            (Exponential(7.0), 1 / 2),
            (Fixed(7.0), 1.0),
            (Empirical((5.0,) * 9), 1.0),
            # A fixed time d, then an exponential of mean m: (d + m / 2) / (d + m).
            (Delayed(Exponential(2.0), 60.0), 61 / 62),
            # Shares p of means m: the integral of (sum p e^(-t/m))^2 is the sum of p q / (1/m + 1/n).
            (hyperexponential((0.9, 0.1), (1.0, 50.0)), (0.405 + 0.25 + 2 * 0.09 / 1.02) / 5.9),
        )
        for law, exact in cases:
            with self.subTest(law=law):
                self.assertAlmostEqual(overlap(law), exact, delta=0.004)

    def test_what_is_held_varies_no_more_than_the_rate_and_short_holds_as_much(self) -> None:
        laws: tuple[Callable[[float], HoldingTime], ...] = (Exponential, Fixed)
        for law in laws:
            found = [
                math.hypot(*held_cv(law(mean), 0.3, 300.0)) for mean in (0.0, 0.1, 30.0, 300.0, 3e3, 1e5, 1e6, 1e7)
            ]
            self.assertAlmostEqual(found[1], 0.3, delta=0.003)
            self.assertEqual(found, sorted(found, reverse=True))
            self.assertLess(found[-1], 0.005)

    def test_the_level_of_a_share_of_days(self) -> None:
        levels = np.sort(events.lognormal(np.random.default_rng(3), 0.3, 400_000))
        for days in (0.9, 0.95, 0.99):
            self.assertAlmostEqual(day_level(0.3, days) / levels[int(days * levels.size)], 1.0, delta=0.01)
        self.assertEqual(day_level(0.3, 0.2), 1.0)


class OneGate(InFolder):
    def gate(self, flow: dict[str, object], ports: int, targets: dict[str, object] | None = None) -> Capacity:
        """Ten hosts behind one address of so many ports; what closes keeps its port for 60 s more."""
        changes = {"flows": {"talk": flow}, "targets": targets or {}}
        return sized(self.estate(changes, {"offers": {"gate": {"ports": {"per_address": ports}}}}))

    def simulated_share(self, one: Capacity, hours: float = 6) -> float:
        [each] = simulated(one, Asked(around_hours=hours))
        with ThreadPoolExecutor(2) as executor:
            return replicated(each.setting, executor, Stop(0.03, most_runs=400, most_attempts=3e6)).share


class Ranges(OneGate):
    def test_what_leaves_the_range_of_the_formulas_is_said(self) -> None:
        """Rows of docs/validity.md whose formula is off: a fast ramp, few bursts, much variation."""
        base = {"per_host_per_s": 1, "duration_s": 2}
        steep = self.gate({**base, "duration_s": 7200, "per_host_per_s": 0.02}, 2000)
        self.assertEqual([*beyond_range(steep.exits[0])], [])
        for flow, ports, words in (
            ({**base, "per_host_per_s": 0.01, "burstiness": 9.0}, 15, "few connections come in bursts"),
            ({**base, "rate_cv": 0.9}, 800, "varies by 8"),
            ({**base, "every_s": 300, "retries": 3}, 4000, "not counted beside jobs"),
        ):
            with self.subTest(words):
                [said] = beyond_range(self.gate(flow, ports).exits[0])
                self.assertIn(words, said)
        changes = {"flows": {"talk": {"duration_s": 7200, "per_host_per_s": 0.02, "profile": "day"}}}
        changes["profiles"] = {"day": [1.0] * 12 + [3.0] * 12}
        ramp = sized(self.estate(changes, {"offers": {"gate": {"ports": {"per_address": 5000}}}}))
        [said] = beyond_range(ramp.exits[0])
        self.assertIn("rises 3 times within one holding time", said)
        self.assertIn("Beyond the range of the formulas", self.program("capacity").stdout)
        # With ample room no doubt matters.
        self.assertEqual([*beyond_range(self.gate({**base, "rate_cv": 0.9}, 60_000).exits[0])], [])


class Phases(OneGate):
    def test_jobs_that_start_at_other_times_do_not_add_up(self) -> None:
        """Two jobs of 300 connections every 5 minutes, at one time or 150 s apart; 62 s of holds on average."""
        dice = np.random.default_rng(31)
        each = {"from": "work", "to": "partner", "per_host_per_s": 0.1, "duration_s": 2, "every_s": 300, "spread_s": 1}
        ports = {"offers": {"gate": {"ports": {"per_address": 310}}}}
        for apart_s, at in ((0, [{}, {}]), (0, [{"at_s": 7}, {"at_s": 307}]), (150, [{"at_s": 10}, {"at_s": 160}])):
            flows = {"talk": {**each, **at[0]}, "more": {**each, **at[1]}}
            found = sized(self.estate({"flows": flows}, ports))
            begins = np.concatenate([np.arange(200) * 300.0, np.arange(200) * 300.0 + apart_s])
            times = np.sort(np.repeat(begins, 300) + dice.uniform(0, 1, 400 * 300))
            seen = events.refused(times, 60 + dice.exponential(2.0, times.size), 310).mean()
            with self.subTest(apart_s=apart_s, at=at):
                self.assertAlmostEqual(found.exits[0].blocking, seen, delta=0.02)
                self.assertAlmostEqual(self.simulated_share(found), seen, delta=0.02)
                limits = {"limits": {"new_per_s": 1000, "connections": 1000}}
                described = self.estate({"flows": flows}, {"offers": {"gate": {**limits}}})
                use = {one.limit: one.use for one in sized(described).exits[0].limits}
                self.assertAlmostEqual(use["new per second"], 600 if not apart_s else 300)
                self.assertAlmostEqual(use["connections"], 600 if not apart_s else 300, delta=10)
                [row] = self.json("demand")["exits"]
                self.assertAlmostEqual(row["worst_second_new_per_s"], use["new per second"])
        with self.assertRaises(UnusableInput):
            self.estate({"flows": {"talk": {"at_s": 5}}})

    def test_a_job_beside_what_comes_at_any_time(self) -> None:
        """600 connections every 5 minutes, of which 60 in 100 come with the start."""
        dice = np.random.default_rng(33)
        talk = {"per_host_per_s": 0.2, "duration_s": 2, "every_s": 300, "spread_s": 1, "job_share": 0.6}
        found = self.gate(talk, 400)
        begins = np.repeat(np.arange(300) * 300.0, 360) + dice.uniform(0, 1, 300 * 360)
        times = np.sort(np.concatenate([begins, dice.uniform(0, 300 * 300.0, 300 * 240)]))
        refused = events.refused(times, 60 + dice.exponential(2.0, times.size), 400)
        # Of those that come while a start's connections have their ports; and of all.
        at_worst = refused[times % 300 < 62].mean()
        self.assertAlmostEqual(found.exits[0].blocking / at_worst, 1.0, delta=0.1)
        self.assertAlmostEqual(self.simulated_share(found) / refused.mean(), 1.0, delta=0.1)
        with self.assertRaises(UnusableInput):
            self.gate({"job_share": 0.5}, 400)


class Batches(OneGate):
    def test_batches_of_any_holds(self) -> None:
        """A batch of b makes what is held vary 1 + 2 (b - 1) w times as much as single ones do."""
        dice = np.random.default_rng(11)
        for mean_s in (2, 200):
            rate, batch, size = 1.24 * 10 / (mean_s + 60), 5.0, 500_000
            found = self.gate({"per_host_per_s": rate * 0.5, "duration_s": mean_s, "batch": batch}, 800)
            [stream] = found.exits[0].streams
            held = stream.load.peak.concurrent
            ports = round(held * 1.25)
            found = self.gate({"per_host_per_s": rate * 0.5, "duration_s": mean_s, "batch": batch}, ports)
            per_s = held / (mean_s + 60)
            instants = np.cumsum(dice.exponential(batch / per_s, int(size / batch)))
            times = np.repeat(instants, dice.geometric(1 / batch, instants.size))
            holds = 60 + dice.exponential(mean_s, times.size)
            seen = float(np.mean(events.refused(times, holds, ports)[times.size // 50 :]))
            with self.subTest(mean_s=mean_s):
                self.assertAlmostEqual(found.exits[0].blocking / seen, 1.0, delta=0.12)
                self.assertAlmostEqual(self.simulated_share(found) / seen, 1.0, delta=0.12)


class Rates(OneGate):
    def test_a_rate_that_varies_within_the_hour(self) -> None:
        dice = np.random.default_rng(12)
        cases = ((2, 0.3, 300, 75), (2, 0.5, 60, 90), (240, 0.3, 300, 75), (540, 0.6, 60, 75), (540, 0.6, 180, 85))
        for mean_s, cv, steady_s, ports in cases:
            rate = 60 / (mean_s + 60)
            flow = {
                "per_host_per_s": rate / 10,
                "duration_s": mean_s,
                "rate_cv": cv,
                "rate_steady_s": steady_s,
            }
            found = self.gate(flow, ports)
            levels = events.lognormal(dice, cv, int(700_000 / rate / steady_s))
            times = events.at_levels(dice, rate, levels, steady_s)
            holds = 60 + dice.exponential(mean_s, times.size)
            seen = float(np.mean(events.refused(times, holds, ports)[times.size // 50 :]))
            even = self.gate({"per_host_per_s": rate / 10, "duration_s": mean_s}, ports).exits[0].blocking
            with self.subTest(mean_s=mean_s, cv=cv, steady_s=steady_s):
                self.assertLess(even, seen / 2)
                # Four ports in a hundred fewer or more, and the formula is on the other side.
                self.assertGreater(self.gate(flow, round(ports * 0.96 - 0.5)).exits[0].blocking, seen)
                self.assertLess(self.gate(flow, round(ports * 1.04 + 0.5)).exits[0].blocking, seen)
                self.assertAlmostEqual(self.simulated_share(found) / seen, 1.0, delta=0.15)

    def test_flows_of_a_pool_rise_together_so_that_one_or_twenty_give_one_answer(self) -> None:
        flow = {"per_host_per_s": 0.1, "duration_s": 2, "rate_cv": 0.3}
        one = self.gate(flow, 90).exits[0].blocking
        part = {"from": "work", "to": "partner", **flow, "per_host_per_s": 0.005}
        many = {"flows": {"talk": None, **{f"talk-{n}": part for n in range(20)}}}
        twenty = sized(self.estate(many, {"offers": {"gate": {"ports": {"per_address": 90}}}})).exits[0].blocking
        self.assertAlmostEqual(twenty / one, 1.0, places=9)


class Days(OneGate):
    def test_addresses_carry_the_busy_hour_of_the_days_that_are_asked_for(self) -> None:
        """Erlang's recursion on 20,000 days: no more than the rest of them exceed the target, and not many fewer."""
        dice = np.random.default_rng(13)
        flow = {"per_host_per_s": 0.1, "duration_s": 2, "day_cv": 0.3}
        needed = {}
        for days in (0.8, 0.95, 0.99):
            self.estate({"flows": {"talk": flow}})
            targets = {"blocking": 0.01, "days": days}
            changes = {"flows": {"talk": flow}, "targets": targets, "exits": {"gate": {"addresses": "auto"}}}
            [gate] = sized(self.estate(changes, {"offers": {"gate": {"ports": {"per_address": 1}}}})).exits
            needed[days] = gate.needed
            levels = events.lognormal(dice, 0.3, 20_000)
            over = np.mean([_erlang(gate.needed or 0, 62 * level) > 0.01 for level in np.sort(levels)[::20]])
            self.assertLess(over, 1 - days + 0.01)
            self.assertGreater(over, (1 - days) * 0.7)
        self.assertLess(needed[0.8] or 0, needed[0.95] or 0)

    def test_every_limit_is_of_that_day_and_the_bill_of_the_mean_one(self) -> None:
        limits = {"offers": {"gate": {"limits": {"new_per_s": 100, "gbit_per_s": 1}}}}
        flow = {"out_kib_per_connection": 100, "day_cv": 0.3}
        even, uneven = (
            sized(self.estate({"flows": {"talk": {**flow, "day_cv": cv}}}, limits)).exits[0] for cv in (0.0, 0.3)
        )
        for name in ("new per second", "bits per second"):
            [before], [after] = ([one.use for one in of.limits if one.limit == name] for of in (even, uneven))
            self.assertAlmostEqual(after / before, math.exp(1.6448536 * math.sqrt(math.log(1.09)) - math.log(1.09) / 2))
        self.json("charges", status=1)
        self.assertEqual(self.json("demand", status=1)["flows"][0]["peak_new_per_s"], 10.0)


class HostsLimits(OneGate):
    def test_a_host_runs_out_of_ports_of_its_own_first(self) -> None:
        """Two hosts, 600 ports each toward one address, held for 60 s after a connection: event by event."""
        flow = {"per_host_per_s": 12.5, "duration_s": 0.05}
        workload = {"hosts": 2, "ephemeral_ports": 600, "closed_wait_s": 60}
        for ports in (1400, 1000):
            changes = {"workloads": {"work": workload}, "flows": {"talk": flow}}
            found = sized(self.estate(changes, {"offers": {"gate": {"ports": {"per_address": ports}}}}))
            [gate] = found.exits
            assert gate.ports is not None
            dice = np.random.default_rng(17)
            times = np.cumsum(dice.exponential(1 / 25, 100_000))
            host, holds = dice.integers(0, 2, times.size), 60 + dice.exponential(0.05, times.size)
            taken: list[list[float]] = [[], []]
            here: list[float] = []
            at_host = refused = reached = 0
            for time, which, hold in zip(times.tolist(), host.tolist(), holds.tolist(), strict=True):
                own = taken[which]
                while own and own[0] <= time:
                    heapq.heappop(own)
                while here and here[0] <= time:
                    heapq.heappop(here)
                if time < 600:
                    # Until what is held has settled.
                    at_host = refused = reached = 0
                if len(own) >= 600:
                    at_host += 1
                    continue
                reached += 1
                if len(here) >= ports:
                    refused += 1
                    continue
                heapq.heappush(own, time + hold)
                heapq.heappush(here, time + hold)
            with self.subTest(ports=ports):
                self.assertAlmostEqual(gate.ports.at_host, at_host / (at_host + reached), delta=0.015)
                self.assertAlmostEqual(gate.blocking, refused / reached, delta=0.01)
                text = " ".join(self.program("capacity").stdout.split())
                self.assertEqual("by the hosts' own limits" in text, ports == 1400)
        # Of the 1,501 ports that the load would take the hosts can open 1,200.
        auto = {**changes, "exits": {"gate": {"addresses": "auto"}}}
        [gate] = sized(self.estate(auto, {"offers": {"gate": {"ports": {"per_address": 100}}}})).exits
        self.assertLessEqual(gate.needed or 99, 14)

    def test_a_limit_counts_open_connections_and_ports_stay_taken(self) -> None:
        """Hosts that open ten at most, of 2 s, whose ports stay for 60 more: event by event, host by host."""
        flow = {"per_host_per_s": 4, "duration_s": 2, "max_per_host": 10}
        for hosts, ports in ((20, 4000), (20, 4400), (5, 1000)):
            changes = {"workloads": {"work": {"hosts": hosts}}, "flows": {"talk": flow}}
            found = sized(self.estate(changes, {"offers": {"gate": {"ports": {"per_address": ports}}}}))
            [gate] = found.exits
            assert gate.ports is not None
            refused, not_opened, held = events.behind_hosts(np.random.default_rng(14), hosts, 4.0, 10, 2.0, 60.0, ports)
            with self.subTest(hosts=hosts, ports=ports):
                self.assertAlmostEqual(gate.blocking / refused, 1.0, delta=0.05 if refused > 0.05 else 0.15)
                self.assertAlmostEqual(gate.ports.at_host / not_opened, 1.0, delta=0.05)
                # What is wanted, less what is refused of it, is what is held.
                self.assertAlmostEqual(gate.ports.concurrent * (1 - gate.blocking) / held, 1.0, delta=0.01)
                self.assertAlmostEqual(
                    self.simulated_share(found, 1) / refused, 1.0, delta=0.05 if refused > 0.05 else 0.2
                )
                self.assertIn("not opened at the peak", self.program("capacity").stdout)


class Jobs(OneGate):
    def test_jobs_that_all_hosts_start_at_one_time(self) -> None:
        """Three connections of each of 200 hosts every five minutes, others by chance: event by event."""
        dice = np.random.default_rng(16)
        for mean_s, spread_s, others, ports in ((2, 0, 0.0, 560), (2, 20, 2.0, 680), (300, 0, 1.0, 1450)):
            hold_s, size = mean_s + 60, 300
            starts = np.repeat(np.arange(size) * 300.0, 600)
            begins = np.sort(starts + dice.uniform(0, max(spread_s, 1e-9), starts.size))
            by_chance = events.at_levels(dice, others, np.ones(size), 300.0) if others else np.zeros(0)
            times = np.concatenate([begins, by_chance])
            order = np.argsort(times, kind="stable")
            lost = events.refused(times[order], 60 + dice.exponential(mean_s, times.size), ports)
            # While the connections of a start hold their ports: these, and the others that begin meanwhile.
            ours = (times[order] % 300 < spread_s + hold_s) & (times[order] > 20 * hold_s)
            at_start = float(np.mean(lost[ours]))
            flows = {
                "talk": {"per_host_per_s": 0.01, "every_s": 300, "spread_s": spread_s, "duration_s": mean_s},
                "more": {"from": "work", "to": "partner", "per_host_per_s": others / 200, "duration_s": mean_s},
            }
            changes = {"workloads": {"work": {"hosts": 200}}, "flows": flows if others else {"talk": flows["talk"]}}
            catalogue = {
                "offers": {
                    "gate": {
                        "ports": {"per_address": ports},
                        "limits": {"new_per_s": 1000, "connections_per_tuple": 9000, "connections": 9000},
                    }
                }
            }
            found = sized(self.estate(changes, catalogue))
            [gate] = found.exits
            with self.subTest(mean_s=mean_s, spread_s=spread_s, others=others):
                self.assertAlmostEqual(gate.blocking, at_start, delta=0.15 * at_start + 0.01)
                share = self.simulated_share(found, 3)
                counted = times[order] > 20 * hold_s
                self.assertAlmostEqual(share, float(np.mean(lost[counted])), delta=0.1 * share + 0.005)
                assert gate.ports is not None
                [new] = [one for one in gate.limits if one.limit == "new per second"]
                held = {one.limit: one.use for one in gate.limits}
                # One destination takes all: its tuple, and all connections, are what is wanted of ports.
                for limit in ("connections", "connections of a tuple"):
                    self.assertAlmostEqual(held[limit] / gate.ports.concurrent, 1.0, places=6)
                self.assertAlmostEqual(new.use, 600 / max(spread_s, 1) + others, delta=1e-6)
                even = {name: {**flow, "every_s": None, "spread_s": None} for name, flow in changes["flows"].items()}
                level = sized(self.estate({**changes, "flows": even}, catalogue)).exits[0]
                self.assertLess(level.blocking, 1e-3 if mean_s == 2 else 0.2)

    def test_the_ports_of_a_start_are_as_many_as_its_connections(self) -> None:
        """Nothing in their number is chance: 600 connections, 600 ports, where bursts by chance would want more."""
        flow = {"per_host_per_s": 0.06, "every_s": 1000, "duration_s": 2}
        needed = {}
        for key, value in (("every_s", 1000), ("burstiness", 50.0)):
            changes = {
                "flows": {"talk": {**flow, "every_s": None, "per_host_per_s": 600 / 62 / 10, key: value}},
                "exits": {"gate": {"addresses": "auto"}},
            }
            if key == "every_s":
                changes["flows"] = {"talk": flow}
            [gate] = sized(self.estate(changes, {"offers": {"gate": {"ports": {"per_address": 1}}}})).exits
            needed[key] = gate.needed or 0
        # A few of the start before may still hold a port: e^(-940 / 2) of them.
        self.assertEqual(needed["every_s"], 600)
        self.assertGreater(needed["burstiness"], 1000)


class Retries(OneGate):
    def test_what_users_feel_of_a_full_pool(self) -> None:
        """SYNs sent again as hosts do, at loads above, at and below the ports, event by event."""
        for ports, mean_s, retries, near in (
            (248, 2, 6, 0.05),
            (248, 2, 2, 0.1),
            (296, 2, 6, 0.1),
            (305, 340, 6, 0.1),
            (320, 2, 6, 0.15),
            (340, 2, 6, 0.2),
            (340, 40, 4, 0.2),
        ):
            dice = np.random.default_rng(15)
            rate = 310 / (mean_s + 60)
            times = np.cumsum(dice.exponential(1 / rate, 100_000))
            holds = 60 + dice.exponential(mean_s, times.size)
            served, attempts = events.tried_again(times, holds, ports, retries)
            dropped, lost = 1 - served[0] / times.size, served[-1] / times.size
            flow = {"per_host_per_s": rate / 10, "duration_s": mean_s, "retries": retries}
            gate = self.gate(flow, ports).exits[0]
            assert gate.ports is not None and gate.ports.waits is not None
            felt, waited = gate.ports.waits, [2.0**number - 1 for number in range(retries + 1)]
            mean = float(np.dot(served[:-1], waited)) / sum(served[:-1])
            p95 = waited[int(np.searchsorted(np.cumsum(served[:-1]), 0.95 * sum(served[:-1])))]
            with self.subTest(ports=ports, mean_s=mean_s, retries=retries):
                self.assertAlmostEqual(felt.dropped / dropped, 1.0, delta=near)
                self.assertAlmostEqual(felt.lost, lost, delta=0.01)
                self.assertAlmostEqual(felt.attempts / (attempts / times.size), 1.0, delta=max(0.08, near / 2))
                self.assertAlmostEqual(felt.mean_s, mean, delta=max(0.3 * mean, 0.1))
                self.assertLessEqual(abs(math.log2((felt.p95_s + 1) / (p95 + 1))), 1.0)
                [pool] = self.json("simulate", "--around", "2", status=1)["pools"]
                self.assertAlmostEqual(pool["blocking"] / dropped, 1.0, delta=0.12 if dropped > 0.5 else 0.25)
                self.assertAlmostEqual(pool["lost_for_good"], lost, delta=0.01)
                self.assertAlmostEqual(pool["mean_wait_s"], mean, delta=max(0.25 * mean, 0.1))

    def test_the_table_of_retries_is_what_its_chain_says(self) -> None:
        """Some of its values worked out again; between them, the chain itself."""
        for load, servers, hold_s, retries in ((230.0, 250, 62.0, 6), (250.0, 250, 400.0, 6), (50.0, 40, 20.0, 3)):
            formula = partial(erlang_b, float(servers))
            found = tried_again(np.array([load]), Full(float(servers), formula), hold_s, retries)
            for one, exact in zip(found, retrial_queue(load, servers, hold_s, retries), strict=True):
                self.assertAlmostEqual(float(one[0]) / exact, 1.0, delta=0.05)

    def test_addresses_for_a_target_hardly_hang_on_retries_and_users_of_a_full_pool_are_told(self) -> None:
        flow = {"per_host_per_s": 0.5, "duration_s": 2}
        needed = []
        for retries in (0, 6):
            changes = {"flows": {"talk": {**flow, "retries": retries}}, "exits": {"gate": {"addresses": "auto"}}}
            [gate] = sized(self.estate(changes, {"offers": {"gate": {"ports": {"per_address": 8}}}})).exits
            needed.append(gate.needed)
        self.assertIn((needed[1] or 0) - (needed[0] or 0), (0, 1))
        self.gate(flow, 248)
        text = " ".join(self.program("capacity").stdout.split())
        self.assertRegex(
            text, r"gate: where SYNs are sent again 6 times, \d\d\.\d% of the first are dropped, \d+\.\d% of conn"
        )
        self.gate({**flow, "retries": 3}, 248)
        self.assertIn("gate: after 3 retries", " ".join(self.program("capacity").stdout.split()))


def _erlang(ports: int, load: float) -> float:
    inverse = 1.0
    for number in range(1, ports + 1):
        inverse = 1 + number / load * inverse
    return 1 / inverse


if __name__ == "__main__":
    unittest.main()
