"""What is saved of a measured load is safe to size by: against the records themselves, swept instant by instant."""

import json
import random
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.evaluation import evaluate
from fenrask.records.batch import CLOSED, Addresses, Batch
from fenrask.records.matching import Pairs
from fenrask.records.measuring import Measured, measured, measured_file
from fenrask.records.summary import Summary, spanned
from fenrask.records.tallying import summarised
from fenrask.teletraffic.holding import Empirical
from tests.support import InFolder

Floats = NDArray[np.float64]
DAY = 1_793_491_200  # a midnight, UTC
NO_TIMERS = {"offers": {"gate": {"mapping_timeout_s": dict.fromkeys(("closed", "reset", "idle", "udp_idle"), 0)}}}
LAWS: dict[str, Callable[[np.random.Generator, int], Floats]] = {
    "Pareto 1.2": lambda dice, n: 1.0 * dice.random(n) ** (-1 / 1.2),
    "two kinds": lambda dice, n: np.where(dice.random(n) < 0.992, 1.0, 3600.0),
    "constant": lambda _, n: np.full(n, 7.5),
    "lognormal": lambda dice, n: np.exp(dice.standard_normal(n) * 1.2),
    "wide lognormal": lambda dice, n: np.exp(dice.standard_normal(n) * 2.2),
    "exponential": lambda dice, n: dice.standard_exponential(n) * 20,
}


def swept(start: Floats, end: Floats) -> tuple[float, int]:
    """The mean number open if every day were this one, and the most at any instant, to the millisecond."""
    # Where one begins, all that began by then and did not end by then are open.
    begins, ends = np.sort(np.round(start * 1000)), np.sort(np.round(end * 1000))
    opened = np.arange(1, begins.size + 1) - np.searchsorted(ends, begins, side="right")
    return float(np.sum(end - start)) / 86_400, int(np.max(opened))


def batch(start: Floats, end: Floats) -> Batch:
    """Records of one host's connections to one address."""
    n = start.size
    ones = np.ones(n, dtype=np.int64)
    return Batch(
        start, end, Addresses(np.full(n, 0x0A000105, dtype=np.uint32)),
        Addresses(np.full(n, 0xC6336407, dtype=np.uint32)), (1024 + np.arange(n) % 60_000).astype(np.uint16),
        np.full(n, 443, dtype=np.uint16), np.full(n, 6, dtype=np.uint8), ones, ones,
        np.full(n, CLOSED, dtype=np.uint8),
    )  # fmt: skip


def poisson(dice: np.random.Generator, begin: float, end: float, rate: float) -> tuple[Floats, Floats]:
    """Connections of a second each, at a rate, from one time to another."""
    start = np.sort(begin + dice.random(int(dice.poisson(rate * (end - begin)))) * (end - begin))
    return start, start + 1.0


def joined(*some: tuple[Floats, Floats]) -> tuple[Floats, Floats]:
    starts, ends = (np.concatenate(each) for each in zip(*some, strict=True))
    return starts, ends


class Sizing(InFolder):
    def load(self, start: Floats, end: Floats, *more: tuple[Floats, Floats]) -> Measured:
        """What is measured of records, of one file or of several."""
        described = self.estate({"destinations": {"partner": {"port": 443}}})
        pairs, whole = Pairs(described.estate), Summary()
        for number, some in enumerate(((start, end), *more)):
            spans: dict[str, tuple[int, int]] = {}
            own = summarised(spanned([batch(*some)], f"file {number}", spans), pairs)
            own.spans |= spans
            whole += own
        self.summary = whole
        [found] = measured(whole, pairs)
        return found

    def predicted(self, found: Measured) -> float:
        """What an estate whose flow refers to the file has open: of the mean through the day, the most."""
        (self.folder / "load.json").write_text(json.dumps(measured_file([found])), encoding="utf-8")
        flow: dict[str, Any] = {"measured": "load.json", "per_host_per_s": None, "duration_s": None}
        described = self.estate({"flows": {"talk": flow}, "destinations": {"partner": {"port": 443}}}, NO_TIMERS)
        demand = evaluate(described).demand
        return float(np.max(demand.load(demand.at_exit["gate"]).concurrent))

    def test_the_concurrency_of_the_file_is_that_of_the_records(self) -> None:
        for name, law in LAWS.items():
            dice = np.random.default_rng(3)
            start = np.sort(DAY + np.round(dice.random(100_000) * 86_400, 3))
            end = start + np.round(np.minimum(law(dice, start.size), 20_000.0), 3)
            mean, most = swept(start, end)
            found = self.load(start, end)
            with self.subTest(name):
                self.assertEqual(found.concurrent_peak, most)
                self.assertAlmostEqual(found.concurrent_by_law / found.concurrent, 1, delta=0.02)
                held = Empirical(found.law.values, found.law.shares)
                self.assertAlmostEqual(held.mean_s / float(np.mean(end - start)), 1, places=9)
                self.assertAlmostEqual(max(found.law.values) / float(np.max(end - start)), 1, delta=0.02)
                self.assertAlmostEqual(self.predicted(found) / mean, 1, delta=0.02)

    def test_how_much_of_it_is_held_how_long(self) -> None:
        """Survival and its integral, which all sizing is made of, against those of the durations themselves."""
        dice = np.random.default_rng(5)
        for name, law in LAWS.items():
            lasts = np.round(np.minimum(law(dice, 50_000), 20_000.0), 3)
            start = np.sort(DAY + dice.random(lasts.size) * 86_400)
            found = self.load(start, start + lasts)
            held = Empirical(found.law.values, found.law.shares)
            times = np.array([0.5, 2.0, 10.0, 100.0, 1000.0, 10_000.0])
            truth = np.array([np.mean(np.minimum(lasts, t)) for t in times])
            with self.subTest(name):
                self.assertLess(float(np.max(np.abs(held.integrated_survival(times) / truth - 1))), 0.02)

    def test_laws_of_several_subnets_together(self) -> None:
        dice = random.Random(1)
        some = [sorted(dice.expovariate(0.1) for _ in range(5)) for _ in range(2)]
        shares = [[0.5, 0.2, 0.1, 0.1, 0.1], [0.2] * 5]
        law = [{"shape": "measured", "values": one, "shares": part} for one, part in zip(some, shares, strict=True)]
        file = json.loads(json.dumps(measured_file([self.load(np.array([DAY + 1.0]), np.array([DAY + 2.0]))])))
        [entry] = file["pairs"]["app"].values()
        entries = [
            {**entry, "connections": n, "durations": one, "duration_s": one}
            for n, one in zip((300, 100), law, strict=True)
        ]
        file["pairs"] = {"app": {"partner": entries[0]}, "app-b": {"partner": entries[1]}}
        (self.folder / "load.json").write_text(json.dumps(file), encoding="utf-8")
        two = {"subnets": {"app-b": {"network": "net", "zone": "a", "prefix": "10.0.2.0/24", "routes": "private"}}}
        flow: dict[str, Any] = {"measured": "load.json", "per_host_per_s": None, "duration_s": None}
        patch = {**two, "workloads": {"work": {"subnets": ["app", "app-b"]}}, "flows": {"talk": flow}}
        mean = sum(
            n / 400 * sum(map(float.__mul__, one, part)) for n, one, part in zip((300, 100), some, shares, strict=True)
        )
        self.assertAlmostEqual(self.estate(patch).estate.flows["talk"].duration_mean_s, mean, places=9)

    def test_hours_without_a_record_are_silent(self) -> None:
        """An office from 9 to 17, in one file or in one a day: nothing comes by night, a third of the day counts."""
        dice = np.random.default_rng(7)
        days = [poisson(dice, DAY + (24 * day + 9) * 3600, DAY + (24 * day + 17) * 3600, 0.5) for day in range(4)]
        for name, files in (("one file", [joined(*days)]), ("a file a day", days)):
            found = self.load(*files[0], *files[1:])
            with self.subTest(name):
                self.assertEqual([round(one, 1) for one in found.days.by_hour[8:18]], [0.0, *[0.5] * 8, 0.0])
                self.assertEqual((self.summary.silent_hours, self.summary.gaps), (3 * 16, []))
                self.assertAlmostEqual(found.new_per_s, 0.5 / 3, delta=0.005)

    def test_days_on_which_nobody_looked_are_told_and_do_not_count(self) -> None:
        dice = np.random.default_rng(8)
        monday, thursday = (poisson(dice, DAY + day * 86_400, DAY + (day + 1) * 86_400 - 1, 0.2) for day in (0, 3))
        found = self.load(*monday, thursday)
        self.assertEqual(self.summary.gaps, [(DAY + 86_400, DAY + 3 * 86_400)])
        self.assertAlmostEqual(found.new_per_s, 0.2, delta=0.005)
        self.assertEqual(found.days.number, 2)
        # Within one file they were silent.
        found = self.load(*joined(monday, thursday))
        self.assertEqual((self.summary.gaps, self.summary.silent_hours), ([], 48))
        self.assertAlmostEqual(found.new_per_s, 0.1, delta=0.005)

    def test_a_window_begins_at_any_minute(self) -> None:
        """Independent connections show no batch and no variation, whenever somebody began to look."""
        for minute, hours in ((0, 2.0), (7, 1.1), (30, 1.0), (41, 3.5), (59, 1.5)):
            dice = np.random.default_rng(minute)
            begin = DAY + 14 * 3600 + minute * 60
            found = self.load(*poisson(dice, begin, begin + hours * 3600 + 1, 40.0))
            with self.subTest(minute=minute, hours=hours):
                self.assertEqual((found.dispersion.burstiness, found.dispersion.rate_cv), (1.0, 0.0))
                self.assertAlmostEqual(found.new_per_s, 40, delta=0.6)
                # Batches are found as well.
                batches = poisson(dice, begin, begin + hours * 3600 + 1, 4.0)
                tens = self.load(*(np.repeat(one, 10) for one in batches))
                self.assertAlmostEqual(tens.dispersion.burstiness, 10, delta=1.0)
