"""Records that come unevenly: what is measured of them sizes for them, and a replay shows both, as plain events do."""

import json
import unittest
from collections import defaultdict

import numpy as np

from fenrask.records.dispersion import Dispersion, dispersion, told_apart
from fenrask.records.jobs import job
from tests.capacity import events
from tests.records.test_measure import as_csv
from tests.support import InFolder

DAY = 1_767_571_200
"""A midnight, UTC."""


class Uneven(unittest.TestCase):
    def test_what_made_the_counts_is_found_in_them(self) -> None:
        """Two days by second; batches, and a rate that changes every so often, in one figure each."""
        cases = (
            # coefficient of variation, s of a level, rate per s, batch
            (0.0, 300, 5.0, 1.0),
            (0.0, 300, 0.05, 1.0),
            (0.3, 300, 20.0, 1.0),
            (0.3, 60, 20.0, 1.0),
            (0.5, 900, 5.0, 1.0),
            (0.1, 300, 50.0, 1.0),
            (0.3, 300, 20.0, 4.0),
            (0.0, 300, 20.0, 3.0),
        )
        for number, (cv, steady_s, rate, batch) in enumerate(cases):
            dice = np.random.default_rng(number)
            levels = events.lognormal(dice, cv, int(48 * 3600 / steady_s))
            times = events.at_levels(dice, rate / batch, levels, float(steady_s))
            times = np.repeat(times, dice.geometric(1 / batch, times.size))
            seconds, starts = np.unique(times.astype(np.int64), return_counts=True)
            found = dispersion(seconds, starts, np.arange(48))
            with self.subTest(cv=cv, steady_s=steady_s, rate=rate, batch=batch):
                # Batches of a geometric size have a variance of 2 b - 1 times their mean.
                self.assertAlmostEqual(found.burstiness, 2 * batch - 1, delta=0.1 * batch)
                self.assertAlmostEqual(found.rate_cv, cv, delta=0.15 * cv + 0.03 * (batch > 1))
                if cv:
                    self.assertLess(abs(np.log(found.steady_s / steady_s)), 0.7)

    def test_a_window_that_begins_within_an_hour_is_no_burst(self) -> None:
        dice = np.random.default_rng(4)
        times = np.sort(dice.uniform(1800, 6 * 3600 + 900, 60_000))
        seconds, starts = np.unique(times.astype(np.int64), return_counts=True)
        self.assertEqual(dispersion(seconds, starts, np.arange(1, 6)), Dispersion())

    def test_hours_that_differ_by_chance_are_one_and_a_shape_stays(self) -> None:
        dice = np.random.default_rng(5)
        level = dice.normal(10.0, 0.5, 24)
        self.assertLess(np.ptp(told_apart(level, np.array(0.25))), 0.5 * np.ptp(level))
        shape = np.array([5.0] * 12 + [15.0] * 12)
        self.assertLess(np.max(np.abs(told_apart(shape, np.array(0.25)) - shape)), 0.1)


class Jobs(InFolder):
    def starts(
        self, dice: np.random.Generator, every_s: float, spread_s: float, size: float, days: float
    ) -> events.Floats:
        """When connections of a job come that opens so many each time, more by day than by night."""
        begins = np.arange(17.0, days * 86_400, every_s)
        numbers = dice.poisson(size * (1 + 0.5 * np.sin(begins / 86_400 * 2 * np.pi)))
        times = np.repeat(begins, numbers)
        return np.sort(times + dice.uniform(0, max(spread_s, 0.5), times.size))

    def test_jobs_are_found_and_nothing_else_is_one(self) -> None:
        dice = np.random.default_rng(2)
        for every_s, spread_s, size, days in (
            (300, 0, 900, 1.0), (300, 30, 600, 1.0), (60, 5, 20, 0.5), (47, 3, 50, 0.5), (3600, 60, 500, 3.0),
            (86_400, 30, 800, 6.0), (900, 120, 50, 2.0),
        ):  # fmt: skip
            seconds, counts = np.unique(
                self.starts(dice, every_s, spread_s, size, days).astype(np.int64), return_counts=True
            )
            found = job(seconds + DAY, counts)
            with self.subTest(every_s=every_s, spread_s=spread_s):
                self.assertIsNotNone(found)
                assert found is not None
                self.assertEqual(found.every_s, every_s)
                # Of numbers that are Poisson, more of them by day than by night.
                self.assertAlmostEqual(found.cv * np.sqrt(size), 1.0, delta=0.3)
                self.assertAlmostEqual(found.spread_s, spread_s, delta=0.06 * spread_s + 0.6 * (spread_s > 0))
        hours = np.arange(72)
        for what, levels, each_s in (
            ("level", np.full(72, 5.0), 3600),
            ("by day", 200 * (1 + 0.9 * np.sin(hours / 24 * 2 * np.pi)), 3600),
            ("office", np.tile(np.r_[np.zeros(8), np.full(8, 50.0), np.zeros(8)], 3), 3600),
            ("varying", 20 * events.lognormal(dice, 1.0, 3 * 288), 300),
        ):
            times = events.at_levels(dice, 1.0, levels, float(each_s))
            seconds, counts = np.unique(times.astype(np.int64), return_counts=True)
            with self.subTest(what):
                self.assertIsNone(job(seconds, counts))

    def test_hosts_that_open_the_same_each_time_do_not_vary(self) -> None:
        seconds = np.repeat(np.arange(0, 86_400, 300), 2) + np.tile([0, 1], 288)
        found = job(seconds, np.tile([40, 20], 288))
        assert found is not None
        self.assertEqual((found.every_s, found.cv, found.share), (300.0, 0.0, 1.0))
        # 40 in one second and 20 in the next are as wide as 1.8 equal ones.
        self.assertAlmostEqual(found.spread_s, 1.8, delta=0.01)

    def test_jobs_beside_what_comes_at_any_time(self) -> None:
        dice = np.random.default_rng(21)
        cases = ((300, 120, 2, 0.2), (300, 120, 2, 0.6), (300, 300, 30, 0.3), (60, 90, 3, 1.0))
        for every_s, size, spread_s, beside in cases:
            begins = np.arange(100.0, 86_400, every_s)
            times = np.repeat(begins, size) + dice.uniform(0, spread_s, begins.size * size)
            times = np.concatenate([times, dice.uniform(0, 86_400, int(beside * times.size))])
            seconds, counts = np.unique(times.astype(np.int64), return_counts=True)
            found = job(seconds, counts)
            with self.subTest(size=size, spread_s=spread_s, beside=beside):
                assert found is not None
                self.assertEqual(found.every_s, every_s)
                self.assertAlmostEqual(found.share, 1 / (1 + beside), delta=0.03)
                self.assertAlmostEqual(found.spread_s, spread_s, delta=0.1 * spread_s + 0.5)

    def test_what_is_measured_of_a_job_sizes_for_it(self) -> None:
        for beside in (0.0, 0.5):
            with self.subTest(beside=beside):
                self.sized(beside)

    def sized(self, beside: float) -> None:
        dice = np.random.default_rng(12)
        times = self.starts(dice, 300, 2, 60, 1.0)
        times = np.sort(np.concatenate([times, dice.uniform(0, 86_400, int(beside * times.size))]))
        times = np.round(DAY + times, 3)
        (self.folder / "loads.json").unlink(missing_ok=True)
        ends = np.round(times + dice.exponential(3.0, times.size), 3)
        rows = [
            (begin, end, f"10.0.1.{host}", "198.51.100.7", 40000, 443, 6, 2048, 19)
            for begin, end, host in zip(times.tolist(), ends.tolist(), dice.integers(1, 11, times.size), strict=True)
        ]
        self.write("r.csv", as_csv(rows))
        flow = {"from": "work", "to": "partner", "per_host_per_s": None, "duration_s": None, "measured": "loads.json"}
        ports = {"offers": {"gate": {"ports": {"per_address": 4}}}}
        self.estate({"flows": {"talk": {"from": "work", "to": "partner", "per_host_per_s": 0.1}}}, ports)
        [load] = self.json("measure", "r.csv", "--save", "loads.json")["loads"]
        self.assertEqual((load["every_s"], load["batch"]), (300.0, 1.0))
        self.estate({"flows": {"talk": flow}, "exits": {"gate": {"addresses": "auto"}}}, ports)
        [row] = self.json("capacity")["exits"]
        holds = ends - times + 60
        needed = next(n for n in range(1, 200) if events.refused(times, holds, 4 * n).mean() <= 1e-4)
        self.assertLessEqual(abs(row["addresses_needed"] / needed - 1), 0.15)


class Replays(InFolder):
    def records(self, seed: int, days: int, rate: float, cv: float) -> tuple[events.Floats, events.Floats]:
        """A file of connections to one address at a rate that changes every five minutes; they live for 20 s."""
        dice = np.random.default_rng(seed)
        times = events.at_levels(dice, rate, events.lognormal(dice, cv, days * 288), 300.0)
        times, lives = np.round(DAY + times, 3), np.round(dice.exponential(20.0, times.size), 3)
        order = np.argsort(times, kind="stable")
        times, lives = times[order], lives[order]
        ends = np.round(times + lives, 3)
        rows = [
            (begin, end, "10.0.1.5", "198.51.100.7", 40000, 443, 6, 2048, 19)
            for begin, end in zip(times.tolist(), ends.tolist(), strict=True)
        ]
        self.write("r.csv", as_csv(rows))
        return times, ends - times

    def test_measured_sizes_carry_the_records_and_stated_ones_do_not(self) -> None:
        times, lives = self.records(6, 3, 1.0, 0.3)
        ports = {"offers": {"gate": {"ports": {"per_address": 4}}}}
        flow = {"from": "work", "to": "partner"}
        stated = {**flow, "per_host_per_s": 0.1, "duration_s": 20}
        self.estate({"flows": {"talk": stated}, "exits": {"gate": {"addresses": "auto"}}}, ports)
        found = self.json("simulate", "--records", "r.csv", status=1)
        [gate] = found["exits"]
        # Every connection keeps its port for 60 s after its end, one address has four ports.
        for row in found["through"]:
            plain = int(events.refused(times, lives + 60, 4 * row["addresses"]).sum())
            self.assertEqual(row["without_port"], plain, row)
        by_day = defaultdict(int)
        lost = events.refused(times, lives + 60, 4 * gate["addresses"])
        for time, one in zip(times.tolist(), lost.tolist(), strict=True):
            by_day[int((time - DAY) // 86_400)] += one
        self.assertEqual([day["without_port"] for day in found["days"]], [by_day[day] for day in range(3)])
        # Those that try again after 1, 2, 4 ... s, as hosts do: by plain events.
        served, _ = events.tried_again(times, lives + 60, 4 * gate["addresses"], 6)
        came, waits = sum(served[:-1]), [2.0**number - 1 for number in range(7)]
        seen = [day["mean_wait_s"] * day["connections"] * (1 - day["lost_for_good"]) for day in found["days"]]
        # Which of two tries at one instant is the first is not told.
        self.assertAlmostEqual(sum(seen) / sum(n * w for n, w in zip(served, waits, strict=False)), 1.0, delta=0.02)
        lost = sum(day["lost_for_good"] * day["connections"] for day in found["days"])
        self.assertAlmostEqual(lost, served[-1], delta=0.02 * served[-1] + 3)
        self.assertEqual(came + served[-1], times.size)
        self.assertGreater(gate["blocking"], 0.01)
        self.assertLess(gate["model_blocking"], 2e-4)
        enough = events.refused(times, lives + 60, 4 * gate["needed_by_records"]).sum()
        one_less = events.refused(times, lives + 60, 4 * (gate["needed_by_records"] - 1)).sum()
        self.assertLessEqual(enough, 1e-4 * times.size)
        self.assertGreater(one_less, 1e-4 * times.size)
        text = self.program("simulate", "--records", "r.csv").stdout
        self.assertRegex(text, r"the rate varies by (2|3)\d\.\d% within the\s+hour")
        # `measure` does it with what it has found.
        beside = self.json("measure", "r.csv", "--replay", status=None)
        [own] = beside["exits"]
        self.assertGreaterEqual(own["addresses"], 0.9 * gate["needed_by_records"])
        refused = int(events.refused(times, lives + 60, 4 * own["addresses"]).sum())
        self.assertAlmostEqual(own["blocking"], refused / times.size, places=12)
        self.assertIn("With the load measured of talk:", self.program("measure", "r.csv", "--replay").stdout)
        self.assertEqual(self.program("measure", "-", "--replay").returncode, 2)
        # The same, by what `measure` says of the records.
        self.program("measure", "r.csv", "--save", "loads.json")
        measured = {"talk": {**flow, "per_host_per_s": None, "duration_s": None, "measured": "loads.json"}}
        self.estate({"flows": measured, "exits": {"gate": {"addresses": "auto"}}}, ports)
        [row] = self.json("capacity")["exits"]
        self.assertGreaterEqual(row["addresses_needed"], 0.9 * gate["needed_by_records"])
        self.assertLessEqual(row["addresses_needed"], 1.25 * gate["needed_by_records"])
        self.assertEqual(self.program("simulate", "--records", "r.csv").returncode, 0)

    def test_every_assignment_cuts_its_ports(self) -> None:
        """By destination, by host, by a hash of hosts and evenly, against events in pools that are told apart here."""
        dice = np.random.default_rng(8)
        times = np.round(DAY + np.sort(dice.uniform(0, 3600, 30_000)), 3)
        hosts, targets = dice.integers(1, 21, times.size), dice.integers(1, 4, times.size)
        rows = [
            (time, round(time + 2, 3), f"10.0.1.{host}", f"198.51.100.{target}", 40000, 443, 6, 10, 19)
            for time, host, target in zip(times.tolist(), hosts.tolist(), targets.tolist(), strict=True)
        ]
        self.write("r.csv", as_csv(rows))
        holds = np.round(times + 2, 3) - times + 60

        def by(keys: events.Floats, ports: int) -> int:
            return sum(int(events.refused(times[keys == k], holds[keys == k], ports).sum()) for k in np.unique(keys))

        cases: tuple[tuple[dict[str, object], int], ...] = (
            ({"per_address": 150}, by(targets, 150)),
            ({"assignment": "shared-once", "per_address": 500}, by(0 * hosts, 500)),
            ({"assignment": "host-block", "per_address": 640, "block": 32}, by(hosts, 32)),
        )
        for ports, refused in cases:
            with self.subTest(ports=ports):
                self.estate({}, {"offers": {"gate": {"ports": ports}}})
                [row] = [
                    one
                    for one in self.json("simulate", "--records", "r.csv", status=1)["through"]
                    if one["addresses"] == 1
                ]
                self.assertEqual(row["without_port"], refused)
        nodes = {"assignment": "node-share", "per_address": 480, "nodes": 2}
        self.estate({}, {"offers": {"gate": {"ports": nodes}}})
        [row] = [
            one for one in self.json("simulate", "--records", "r.csv", status=1)["through"] if one["addresses"] == 1
        ]
        # Which node a connection meets is a hash: in the mean as many as by chance.
        chance = np.mean([by(np.random.default_rng(n).integers(0, 2, times.size), 240) for n in range(5)])
        self.assertLess(abs(row["without_port"] / chance - 1), 0.1)

    def test_no_connection_and_unknown_files_are_told(self) -> None:
        self.estate()
        self.write("none.csv", as_csv([(DAY, DAY + 1, "192.0.2.9", "192.0.2.10", 1, 443, 6, 1, 19)]))
        told = self.program("simulate", "--records", "none.csv")
        self.assertEqual(told.returncode, 1)
        self.assertIn("No recorded connection belongs to a flow", told.stdout)
        self.assertEqual(self.program("simulate", "--records", "missing.csv").returncode, 2)
        beside = self.program("simulate", "--records", "none.csv", "--around", "1")
        self.assertEqual(beside.returncode, 2)
        self.assertIn("--records", beside.stderr)
        self.assertEqual(
            json.loads(self.program("simulate", "--records", "none.csv", "--format", "json").stdout)["exits"], []
        )


if __name__ == "__main__":
    unittest.main()
