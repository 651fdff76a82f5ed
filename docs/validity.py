"""Writes validity.md: what the formulas assume, and what it costs where that is not so, in figures.

Each row is simulated event by event in plain Python (`tests/capacity/events.py`), beside the formula that assumes it
and the one that does not. Run from the repository's folder: `python docs/validity.py > docs/validity.md`.
"""

import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from fenrask.teletraffic import batches_b, concurrent, erlang_b, hayward_b
from fenrask.teletraffic.backoff import Full, tried_again
from fenrask.teletraffic.client_pools import pool_use
from fenrask.teletraffic.holding import Delayed, Exponential, Lognormal
from fenrask.teletraffic.simulation import Calls, Ending, Searched, Stop, drawn, refused_of, replicated, tries_of
from fenrask.teletraffic.spreading import busiest_part
from fenrask.teletraffic.variation import day_level, held_cv, overlap, varying
from tests.capacity import events

HEAD = """# Limits of validity

The assumptions of the formulas, the error where one does not hold, how your records show it, and what to do.

Shares are of new connections that find no free port. The simulation goes event by event, in plain Python, through the
case in the first column (100,000 connections at least), so its last digit is chance. The replay is `simulate
--records` of the same connections. The kernel's figures were measured by `make truth` on Linux 6.18, with a 95 %
interval; they are not measured again where there is no kernel to ask. `docs/validity.py` writes this page, and a test
runs it again.

| case | assumed | formula assuming it | simulation | replay | kernel | formula without | seen in records | what to do |
|---|---|---|---|---|---|---|---|---|
"""
TAIL = """
Tests compare the formulas with published figures: Erlang's table at 1 % (5 servers 1.361 Erlang, 10: 4.461, 20:
12.031, 50: 37.901, 100: 84.064); Engset's formula (hosts of one connection each) in exact fractions; Hayward's with its
own recursion and with a simulation.
"""


@dataclass(frozen=True)
class Row:
    """One assumption: shares, or None where a column says nothing."""

    case: str
    assumed: str
    plain: float
    simulated: float
    better: float | None
    seen: str
    remedy: str
    replay: float | None = None
    unit: str = ""
    """Of what the columns are where they are no shares."""
    kernel: str = ""

    def __str__(self) -> str:
        plain, simulated, replay, better = map(self._said, (self.plain, self.simulated, self.replay, self.better))
        shares = [plain, simulated, replay, self.kernel, better]
        return f"| {' | '.join([self.case, self.assumed, *shares, self.seen, self.remedy])} |"

    def _said(self, value: float | None) -> str:
        if value is None:
            return ""
        if not self.unit:
            return _share(value)
        return f"{value:,.0f} {self.unit}" if value >= 1000 else f"{value:.3g} {self.unit}"


def _share(value: float) -> str:
    return f"{100 * value:.2g} %" if value >= 1e-4 else "< 0.01 %"


def _erlang(ports: float, load: float) -> float:
    return float(erlang_b(float(ports), float(load)))


def _seen(times: events.Floats, holds: events.Floats, ports: int, settled_s: float = 2000.0) -> tuple[float, float]:
    """Refused by plain events, and by the replay."""
    some = times > settled_s
    return float(np.mean(events.refused(times, holds, ports)[some])), float(
        np.mean(refused_of(times, holds, ports)[some])
    )


def rows() -> Iterator[Row]:
    """Every row, in the order of the document."""
    dice = np.random.default_rng(21)
    law = Delayed(Exponential(2.0), 60.0)

    def holds(size: int) -> events.Floats:
        return 60 + dice.exponential(2.0, size)

    even = np.cumsum(dice.exponential(1 / 5, 300_000))
    share, replay = _seen(even, holds(even.size), 330)
    yield Row(
        "310 concurrent on average, 330 ports, each for itself",
        "nothing",
        _erlang(330, 310),
        share,
        None,
        "variance of counts = mean, at every window",
        "nothing",
        replay,
    )
    share, replay = _seen(even, np.full(even.size, 62.0), 330)
    other, _ = _seen(even, dice.lognormal(np.log(62) - 0.5, 1.0, even.size), 330, 20_000)
    yield Row(
        "the same, all of one duration",
        "exponential durations (none is assumed)",
        _erlang(330, 310),
        share,
        None,
        "",
        f"nothing: lognormal durations with a deviation of 1.3 means give {_share(other)}",
        replay,
    )
    instants = np.cumsum(dice.exponential(5 / 5, 80_000))
    times = np.repeat(instants, dice.geometric(1 / 5, instants.size))
    better = float(batches_b(400.0, 310.0, 1 + 2 * 4 * overlap(law), overlap(law)))
    share, replay = _seen(times, holds(times.size), 400)
    yield Row(
        "five at one instant on average, 400 ports",
        "each for itself",
        _erlang(400, 310),
        share,
        better,
        "variance of counts = 9 means, at every window",
        "`batch`",
        replay,
    )
    instants = np.cumsum(dice.exponential(5 / 0.1, 60_000))
    times = np.repeat(instants, dice.geometric(1 / 5, instants.size))
    better = float(batches_b(20.0, 6.2, 1 + 2 * 4 * overlap(law), overlap(law)))
    share, replay = _seen(times, holds(times.size), 20, 20_000)
    yield Row(
        "the same with 6.2 concurrent and 20 ports",
        "each for itself (Hayward's formula: " + _share(float(hayward_b(20.0, 6.2, 1 + 2 * 4 * overlap(law)))) + ")",
        _erlang(20, 6.2),
        share,
        better,
        "few connections, in batches",
        "`batch`",
        replay,
    )
    times = events.at_levels(dice, 1.0, events.lognormal(dice, 0.3, 3000), 300.0)
    slow, fast = held_cv(law, 0.3, 300.0)
    better = float(
        varying(lambda held: np.asarray(hayward_b(75.0, held, 1 + held * fast**2)), np.array([62.0]), slow)[0]
    )
    share, replay = _seen(times, holds(times.size), 75)
    yield Row(
        "62 concurrent, 75 ports; the rate has another level every 5 minutes, by 30 %",
        "a steady rate in the hour",
        _erlang(75, 62),
        share,
        better,
        "variance / mean of counts grows with the window",
        "`rate_cv`, or `measure --save`",
        replay,
    )
    days = np.array([_erlang(360, 310 * level) for level in events.lognormal(dice, 0.3, 2000)])
    level = day_level(0.3, 0.95)
    yield Row(
        "310 concurrent on the mean day, 360 ports, days differ by 30 %: share of days above 1 %",
        "days that do not differ",
        float(_erlang(360, 310) > 0.01),
        float(np.mean(days > 0.01)),
        None,
        "spread of daily totals about the week's",
        f"`day_cv`: the ports for {level:.2f} times the load carry 95 % of days",
    )
    yield _ramp(dice)
    lives = holds(even.size)
    for ports in (290, 305):
        served, _ = events.tried_again(even, lives, ports, 6)
        tries = tries_of(even, lives, ports, 6, 1.0)
        first, _ = tried_again(np.array([310.0]), Full(float(ports), partial(erlang_b, float(ports))), 62.0, 6)
        yield Row(
            f"310 wanted, {ports} ports, SYNs sent again up to 6 times",
            "who finds no port goes away",
            _erlang(ports, 310),
            1 - served[0] / even.size,
            float(first[0]),
            "SYNs of one source port again after 1, 3, 7 s",
            "`retries`",
            float(np.mean(tries != 0)),
        )
    refused, not_opened, _ = events.behind_hosts(dice, 20, 4.0, 10, 2.0, 60.0, 4000)
    yield Row(
        "20 hosts, 4 a second each, 10 open at most, 4,000 ports",
        "hosts open all they want",
        _erlang(4000, 4960),
        refused,
        0.1266,
        "concurrent of a host never above a number",
        f"`max_per_host`; hosts hold back {_share(not_opened)}",
    )
    starts = np.repeat(np.arange(400) * 300.0, 600)
    lives = holds(starts.size)
    lost, again = events.refused(starts, lives, 560), refused_of(starts, lives, 560)
    yield Row(
        "600 connections at one time, every 5 minutes, 560 ports",
        "a rate of 2 a second",
        _erlang(560, 124),
        float(np.mean(lost[6000:])),
        40 / 600,
        "counts of one second, again after the same time",
        "`every_s`, `spread_s`",
        float(np.mean(again[6000:])),
    )
    yield from _by_a_kernel(dice)
    yield from _beside_ports(dice)


def _by_a_kernel(dice: np.random.Generator) -> Iterator[Row]:
    """A translator that gives ended ports out again, as the sample's: 60 ports, lives of 1.5 s, a timer of 1 s."""
    for share, measured in ((0.7, "2.0 % (1.0 to 3.1)"), (0.95, "13 % (11 to 15)"), (1.2, "25 % (22 to 28)")):
        load = share * 60
        seen = events.by_search(dice, load / 1.5, 1.5, 1.0, 60, 32, 0.5, 180_000 if share < 0.8 else 60_000)
        settled = Ending(1.0, Exponential(1.5), 1.0, reusable=True)
        calls = Calls(drawn([(np.array([load / 1.5]), [settled])]), 200, 10.0)
        with ThreadPoolExecutor(1) as executor:
            found = replicated(Searched(calls, 60, (128,), 32, 0.5), executor, Stop(0.02, most_runs=24)).share
        yield Row(
            f"60 ports of a translator that gives ended ones out when it must, {load:.0f} open on average",
            "ended ports are free at once (not at all: " + _share(_erlang(60, load * (1 + 1 / 1.5))) + ")",
            _erlang(60, load),
            seen,
            found,
            "ports of resets seen again before their timer",
            "`ended_reuse` of the offer, with `simulate`",
            kernel=measured,
        )


def _beside_ports(dice: np.random.Generator) -> Iterator[Row]:
    """What is assumed of packets, places, clients and causes."""
    # Eight packets that open, close and acknowledge, and two that carry something: 52 bytes of headers each.
    wire = sum(52 + carried for carried in [0] * 8 + [512] * 2)
    yield Row(
        "half a KiB each way in a connection: bytes",
        "headers: payload is what passes",
        1024.0,
        float(wire),
        1024.0 + 10 * 52,
        "bytes of records / bytes of interfaces",
        "nothing: limits count the wire; bills do with `meters: wire`",
        unit="bytes",
    )
    most = [np.bincount(dice.integers(0, 4, 8), minlength=4).max() / 2 for _ in range(40_000)]
    yield Row(
        "eight equal connections on four nodes: the busiest, in even parts",
        "even parts",
        1.0,
        float(np.mean(most)),
        busiest_part(8, 4),
        "bytes by node or path",
        "nothing: limits of nodes and equal routes count it",
        unit="times",
    )
    spans, _ = events.client(dice, 50.0, dice.exponential(0.2, 120_000).tolist(), 60.0)
    end = 120_000 / 50.0
    yield Row(
        "50 requests a second of 0.2 s in one client that keeps connections for 60 s: ports",
        "a connection for each request, its port for 60 s more",
        50 * 60.2,
        sum(close - begin for begin, close in spans) / end,
        pool_use(50.0, 0.2, 60.0).open,
        "connections far longer than requests, few new ones",
        "`requests_per_host_per_s`, `pool_idle_s`",
        unit="ports",
    )
    levels = events.lognormal(dice, 0.3, 20_000)
    apart = np.mean([events.lognormal(dice, 0.3, 20_000) for _ in range(20)], axis=0)
    yield Row(
        "20 flows whose load is known to 30 %: what the 95th percentile of their sum is, in means",
        "each for itself: chance evens them out",
        float(np.quantile(apart, 0.95)),
        float(np.quantile(levels, 0.95)),
        day_level(0.3, 0.95),
        "flows of one workload rise and fall together",
        "nothing: ranges of one workload or destination move together; `together` binds others",
        unit="times",
    )


def _ramp(dice: np.random.Generator) -> Row:
    """A load that is three times as much from one hour to the next: the mean follows late, by the law of holds."""
    law, ports, later_s = Lognormal.of_percentile(600.0, 2000.0), 150, 600.0
    profile = np.array([1.0] * 12 + [3.0] * 12) / 9
    mean = float(concurrent(np.array([12 * 3600 + later_s]), profile, 3600.0, law)[0])
    refused = attempts = 0
    for _ in range(150):
        times = events.at_levels(dice, 1 / 9, np.concatenate([np.full(240, 1.0), np.full(15, 3.0)]), 60.0)
        lives = law.mean_s * np.exp(law.sigma * dice.standard_normal(times.size) - law.sigma**2 / 2)
        lost = events.refused(times, lives, ports)
        then = np.abs(times - 240 * 60 - later_s) < 60
        refused, attempts = refused + int(lost[then].sum()), attempts + int(then.sum())
    return Row(
        "67 concurrent, three times the rate from one hour to the next; 150 ports, ten minutes later",
        "blocking follows the mean of that moment (modified offered load)",
        _erlang(ports, mean),
        refused / attempts,
        None,
        "rates that double within one duration",
        "a profile that rises in steps; `simulate`",
    )


if __name__ == "__main__":
    sys.stdout.write(HEAD + "".join(f"{row}\n" for row in rows()) + TAIL)
