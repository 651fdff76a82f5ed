"""The simulation against formulas, against slow programmes of the same rules, and against itself."""

import heapq
import math
import random
import unittest
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np

from fenrask.errors import UnusableInput
from fenrask.teletraffic import capped_hosts_b, concurrent, erlang_b, hayward_b, limited_search_b
from fenrask.teletraffic.holding import Delayed, Empirical, Exponential, Fixed, HoldingTime, Lognormal, hyperexponential
from fenrask.teletraffic.simulation import (
    Blocks,
    Calls,
    Ending,
    Growing,
    Hashed,
    Hosts,
    Pool,
    Searched,
    Setting,
    Stop,
    drawn,
    interval,
    refused_of,
    replicated,
)
from fenrask.teletraffic.simulation.replications import Found, students

LAWS: tuple[HoldingTime, ...] = (
    Exponential(1.0),
    Fixed(1.0),
    Lognormal(1.0, 0.9),
    hyperexponential((0.9, 0.1), (0.5, 5.5)),
)


def level(rate: float, law: HoldingTime, seconds: float) -> Calls:
    """Calls at one rate, in a hundred steps."""
    return Calls(drawn([(np.array([rate]), [Ending(1.0, law)])]), 100, seconds / 100)


def ran(setting: Setting, runs: int = 16, seed: int = 1) -> Found:
    with ThreadPoolExecutor(2) as executor:
        return replicated(setting, executor, Stop(0.0, most_runs=runs), seed)


def near(found: Found, exact: float) -> bool:
    """Within the 99.9 % interval, since many are looked at: Student's quantile of 15 is 4.07 there, 2.13 at 95 %."""
    return abs(found.share - exact) <= 4.07 / 2.13 * (found.high - found.low) / 2


class AgainstFormulas(unittest.TestCase):
    # Servers and load as a share of them; each law of holds in turn.
    SETTINGS = (
        (1, 0.5), (1, 1.2), (2, 0.8), (3, 1.0), (5, 0.6), (8, 1.1), (12, 0.9), (20, 0.8), (30, 1.2), (50, 0.9),
        (80, 1.0), (120, 0.95), (200, 1.05), (500, 0.98), (1_000, 1.1), (3_000, 1.0), (10_000, 1.02),
        (20_000, 0.995), (64_512, 1.01), (64_512, 1.2),
    )  # fmt: skip

    def test_erlangs_formula_whatever_the_law_of_holds(self) -> None:
        for number, (servers, share) in enumerate(self.SETTINGS):
            law, load = LAWS[number % 4], servers * share
            with self.subTest(servers=servers, share=share, law=law):
                seconds = max(3.0, min(2000.0, 60_000 / load))
                setting = Pool(level(load, law, seconds), servers)
                runs = [setting.run(5, run) for run in range(7)]
                attempts = np.array([run.attempts.sum() for run in runs], dtype=float)
                blocked = np.array([run.blocked.sum() for run in runs], dtype=float)
                low, _, high = interval(attempts, blocked, 0.99)
                self.assertLessEqual(low, float(erlang_b(servers, load)))
                self.assertGreaterEqual(high, float(erlang_b(servers, load)))

    def test_connections_held_through_the_day_hour_by_hour(self) -> None:
        rates = np.array([1.0, 1, 2, 5, 9, 14, 20, 22, 15, 8, 3, 1] * 2)
        law = Delayed(Lognormal(2000.0, 1.1), 600.0)
        setting = Pool(Calls(drawn([(rates, [Ending(1.0, law)])]), 24, 3600.0), 200_000)
        found = ran(setting, 16)
        mean = concurrent(np.arange(1, 25) * 3600.0, rates, 3600.0, law)
        # Poisson at each moment, so that the mean over runs has this deviation; 24 hours, one in 1e4 each.
        deviation = np.sqrt(mean / found.runs)
        self.assertLess(float(np.max(np.abs(found.held_mean - mean) / deviation)), 3.9)
        self.assertEqual(found.blocked, 0)

    def test_few_sources_are_engsets_case(self) -> None:
        for sources, servers, each in ((8, 4, 0.7), (30, 10, 0.4), (5, 1, 0.2)):
            with self.subTest(sources=sources, servers=servers):
                calls = level(sources * each, Exponential(1.0), 20_000 / sources)
                found = ran(Hosts(calls, servers, sources, 1))
                self.assertTrue(near(found, float(capped_hosts_b(servers, sources, 1, each))), found.share)

    def test_batches_have_the_peakedness_of_their_size(self) -> None:
        # Geometric batches on exponential holds: variance / mean of what is held is the mean of a batch (Whitt 1983).
        calls = replace(level(200.0, Exponential(1.0), 400.0), batch=5.0)
        at_ends = np.concatenate([Pool(calls, 10_000).run(3, run).concurrent for run in range(20)])
        self.assertAlmostEqual(float(np.mean(at_ends)) / 200, 1.0, delta=0.03)
        self.assertAlmostEqual(float(np.var(at_ends) / np.mean(at_ends)), 5.0, delta=0.8)
        # Hayward's approximation is too hopeful, less so the larger load / peakedness is.
        over = [
            ran(Pool(replace(level(load, Exponential(1.0), 400.0), batch=5.0), servers)).share
            / float(hayward_b(servers, load, 5.0))
            for servers, load in ((60.0, 40.0), (1100.0, 1000.0))
        ]
        self.assertGreater(over[0], over[1])
        self.assertGreater(over[1], 1.0)
        self.assertLess(over[1], 1.4)

    def test_silent_times_keep_the_mean_rate(self) -> None:
        calls = replace(level(50.0, Exponential(1.0), 2000.0), on_off_s=(2.0, 6.0))
        found = ran(Pool(calls, 10_000))
        self.assertAlmostEqual(found.attempts / (50.0 * 2000 * found.runs), 1.0, delta=0.03)
        # Variance / mean of an interrupted Poisson stream on exponential holds: 1 + rate while on x ... (Kuczura 1973).
        on, off, rate, end = 1 / 2.0, 1 / 6.0, 200.0, 1.0
        peakedness = 1 + rate * on / ((on + off) * (end + on + off))
        at_ends = np.concatenate([Pool(calls, 10_000).run(4, run).concurrent for run in range(30)])
        self.assertAlmostEqual(float(np.var(at_ends) / np.mean(at_ends)) / peakedness, 1.0, delta=0.15)

    def test_owners_of_a_block_each_have_a_pool_of_their_own(self) -> None:
        for law in LAWS:
            calls = level(200 * 6.0, law, 40.0)
            for setting in (Blocks(calls, 200, 8), Growing(calls, 200, 8, 8, 200 * 8)):
                with self.subTest(setting=type(setting).__name__, law=law):
                    found = ran(setting)
                    self.assertTrue(near(found, float(erlang_b(8, 6.0))), found.share)
                    carried = 200 * 6.0 * (1 - float(erlang_b(8, 6.0)))
                    self.assertAlmostEqual(float(np.mean(found.held_mean)) / carried, 1.0, delta=0.01)

    def test_a_search_of_all_is_erlangs_case_and_one_of_a_single_try_is_exact(self) -> None:
        for law in LAWS:
            found = ran(Searched(level(22.0, law, 2000.0), 25, (25,)))
            self.assertTrue(near(found, float(erlang_b(25, 22.0))), found.share)
        # With one try those that are taken lie anywhere, as the formula has it.
        found = ran(Searched(level(22.0, LAWS[0], 2000.0), 25, (1,)))
        exact = float(limited_search_b(25, 22.0, 1))
        self.assertTrue(near(found, exact), found.share)

    def test_cells_of_a_hash(self) -> None:
        # One owner: one cell takes all, the others nothing.
        found = ran(Hashed(level(9.0, LAWS[0], 4000.0), 8, 4, 1))
        self.assertTrue(near(found, float(erlang_b(8, 9.0))), found.share)


class AgainstSlowProgrammes(unittest.TestCase):
    def test_calls_as_they_were(self) -> None:
        dice = random.Random(2)
        times = np.cumsum([dice.expovariate(5.0) for _ in range(4000)])
        holds = np.array([dice.expovariate(1.0) for _ in range(4000)])
        ends: list[float] = []
        expected = []
        for time, holding_time in zip(times, holds, strict=True):
            while ends and ends[0] <= time:
                heapq.heappop(ends)
            expected.append(len(ends) >= 5)
            if not expected[-1]:
                heapq.heappush(ends, time + holding_time)
        self.assertEqual(refused_of(times, holds, 5).tolist(), expected)
        with self.assertRaises(UnusableInput):
            refused_of(times[::-1], holds, 5)

    def test_a_limited_search_with_early_reuse(self) -> None:
        for servers, rounds, late, chance in ((12, (4, 2), 0, 0.0), (12, (6, 3), 2, 0.5), (20, (20,), 5, 1.0)):
            endings = [Ending(0.6, Exponential(1.0), 1.5, True), Ending(0.4, Exponential(0.5), 0.7)]
            calls = Calls(drawn([(np.array([8.0]), endings)]), 100, 60.0)
            with self.subTest(servers=servers, rounds=rounds):
                found = ran(Searched(calls, servers, rounds, late, chance), 24)
                slow = np.array([_slow_search(servers, rounds, late, chance, 40 + run) for run in range(12)])
                share = slow[:, 1].sum() / slow[:, 0].sum()
                deviation = float(np.std(slow[:, 1] / slow[:, 0], ddof=1)) / math.sqrt(12)
                both = math.hypot((found.high - found.low) / 2 / 2.07, deviation)
                self.assertLess(abs(found.share - share) / both, 3.5)

    def test_blocks_that_grow_within_what_there_is(self) -> None:
        calls = level(30 * 3.0, Exponential(1.0), 800.0)
        found = ran(Growing(calls, 30, 2, 16, 150), 24)
        slow = np.array([_slow_growth(30, 3.0, 2, 16, 150, 900 + run) for run in range(12)])
        share = slow[:, 1].sum() / slow[:, 0].sum()
        deviation = float(np.std(slow[:, 1] / slow[:, 0], ddof=1)) / math.sqrt(12)
        both = math.hypot((found.high - found.low) / 2 / 2.07, deviation)
        self.assertLess(abs(found.share - share) / both, 3.5)


def _slow_search(servers: int, rounds: Sequence[int], late: int, chance: float, seed: int) -> tuple[int, int]:
    """The same rules with a heap and a list; attempts and refused after a while."""
    dice = random.Random(seed)
    state, version, reusable = [0] * servers, [0] * servers, [False] * servers
    events: list[tuple[float, int, int, float]] = []
    now, attempts, blocked = 0.0, 0, 0
    while now < 1500:
        now += dice.expovariate(8.0)
        while events and events[0][0] <= now:
            time, server, known, delay = heapq.heappop(events)
            if known == version[server]:
                state[server] = 2 if delay else 0
                if delay:
                    heapq.heappush(events, (time + delay, server, known, 0.0))
        places = [
            ((begins + i) % servers, tries - i)
            for tries, begins in [(tries, dice.randrange(servers)) for tries in rounds]
            for i in range(tries)
        ]
        found = -1
        for server, left in places:
            early = state[server] == 2 and reusable[server] and left <= late
            if state[server] == 0 or (early and dice.random() < chance):
                found = server
                break
        if now > 20:
            attempts, blocked = attempts + 1, blocked + (found < 0)
        if found >= 0:
            first = dice.random() < 0.6
            version[found] += 1
            state[found], reusable[found] = 1, first
            duration = dice.expovariate(1.0) if first else dice.expovariate(2.0)
            heapq.heappush(events, (now + duration, found, version[found], 1.5 if first else 0.7))
    return attempts, blocked


def _slow_growth(owners: int, each: float, first: int, last: int, total: int, seed: int) -> tuple[int, int]:
    dice = random.Random(seed)
    used, block = [0] * owners, [0] * owners
    ends: list[tuple[float, int]] = []
    now, attempts, blocked = 0.0, 0, 0
    while now < 500:
        now += dice.expovariate(owners * each)
        while ends and ends[0][0] <= now:
            _, one = heapq.heappop(ends)
            used[one] -= 1
            if not used[one]:
                block[one] = 0
            elif block[one] > first and 4 * used[one] <= block[one]:
                block[one] //= 2
        one = dice.randrange(owners)
        more = 0
        if used[one] == block[one]:
            more = first if not block[one] else block[one]
        lost = more > 0 and (block[one] + more > last or sum(block) + more > total)
        if now > 20:
            attempts, blocked = attempts + 1, blocked + lost
        if not lost:
            block[one] += more
            used[one] += 1
            heapq.heappush(ends, (now + dice.expovariate(1.0), one))
    return attempts, blocked


class Itself(unittest.TestCase):
    def test_the_same_seed_gives_the_same_whatever_the_workers(self) -> None:
        setting = Pool(level(20.0, LAWS[2], 200.0), 20)
        found = []
        for workers in (1, 3):
            with ThreadPoolExecutor(workers) as executor:
                found.append(replicated(setting, executor, Stop(0.05, most_runs=24), 9))
        self.assertEqual(found[0].blocked, found[1].blocked)
        self.assertEqual(found[0].held_mean.tolist(), found[1].held_mean.tolist())
        self.assertNotEqual(found[0].blocked, ran(setting, found[0].runs, 10).blocked)

    def test_the_width_of_slices_changes_nothing_that_counts(self) -> None:
        # Holds that end in their own slice, and ones many rounds of the wheel later.
        law = hyperexponential((0.9, 0.1), (0.002, 9.0))
        for steps in (10, 100, 2000):
            calls = replace(level(50.0, law, 400.0), steps=steps, step_s=400.0 / steps)
            load = 50 * float(law.mean_s)
            found = ran(Pool(calls, 45), 24)
            self.assertTrue(near(found, float(erlang_b(45, load))), found.share)
        long = Calls(drawn([(np.array([2.0]), [Ending(1.0, Fixed(30_000.0))])]), 100_000, 1.0)
        run = Pool(long, 100_000).run(1, 1)
        # Each holds for longer than the wheel turns: as many are held as came in the last 30,000 s.
        self.assertAlmostEqual(run.concurrent[-1] / 60_000, 1.0, delta=0.02)
        self.assertAlmostEqual(int(run.attempts[-30_000:].sum()), run.concurrent[-1], delta=5)

    def test_refused_calls_that_come_again_raise_the_attempts(self) -> None:
        calls = replace(level(24.0, Exponential(1.0), 1000.0), retry_share=0.8, retry_s=5.0)
        found = ran(Pool(calls, 20))
        plain = ran(Pool(level(24.0, Exponential(1.0), 1000.0), 20))
        self.assertGreater(found.share, plain.share)
        # Each refusal leads to 0.8 further attempts: attempts (1 - 0.8 refused share) = first attempts.
        self.assertAlmostEqual(found.attempts * (1 - 0.8 * found.share) / plain.attempts, 1.0, delta=0.01)
        self.assertEqual(found.let_go, 0)

    def test_an_outage_loses_what_is_held_and_refuses_until_it_is_over(self) -> None:
        servers = [50] * 100
        servers[40:45] = [0] * 5
        run = Pool(level(20.0, Exponential(10.0), 1000.0), servers, cleared=(40,)).run(1, 1)
        self.assertGreater(run.concurrent[39], 30)
        self.assertEqual(run.concurrent[40:45].tolist(), [0] * 5)
        self.assertEqual(run.blocked[40:45].tolist(), run.attempts[40:45].tolist())
        self.assertGreater(run.concurrent[47], 30)

    def test_streams_with_rhythms_of_their_own_are_mixed_hour_by_hour(self) -> None:
        day, night = np.array([10.0, 0.0]), np.array([0.0, 10.0])
        calls = Calls(drawn([(day, [Ending(1.0, Fixed(1.0))]), (night, [Ending(1.0, Fixed(3.0))])]), 200, 1.0)
        found = ran(Pool(calls, 1000))
        self.assertAlmostEqual(float(np.mean(found.held_mean[10:100])), 10.0, delta=0.3)
        self.assertAlmostEqual(float(np.mean(found.held_mean[110:])), 30.0, delta=0.6)

    def test_laws_have_their_means(self) -> None:
        laws = (*LAWS, Delayed(Exponential(2.0), 3.0), Empirical((1.0, 2.0, 6.0)))
        one = drawn([(np.ones(1), [Ending(0.5, law, 1.0), Ending(0.5, Fixed(0.0), 2.0)]) for law in laws])
        means = [0.5 * (float(law.mean_s) + 1.0) + 1.0 for law in laws]
        self.assertAlmostEqual(float(one.mean_s[0]), float(np.mean(means)))

    def test_students_quantile(self) -> None:
        # Of any printed table, 97.5 %.
        for freedom, quantile in ((1, 12.706), (2, 4.303), (7, 2.365), (15, 2.131), (120, 1.980)):
            self.assertAlmostEqual(students(0.975, freedom), quantile, delta=0.002)
