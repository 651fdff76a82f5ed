"""What the kernel is asked, and what Fenrask predicts of it."""

import random
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from time import monotonic

import numpy as np
import yaml

from fenrask import demo
from fenrask.capacity import Forwarded, Translator
from fenrask.estate import Ending as HowItEnds
from fenrask.estate import Offer
from fenrask.rehearsal import rehearse
from fenrask.teletraffic import erlang_b
from fenrask.teletraffic.holding import Exponential
from fenrask.teletraffic.simulation import Calls, Ending, Searched, Stop, drawn, interval, replicated
from fenrask.teletraffic.simulation.kernels.random_numbers import seeded
from fenrask.teletraffic.simulation.kernels.search import filled
from fenrask.views.handover import rules_file
from tests.rehearsal.asking import asking
from tests.routing.test_every_packet import described, estate
from truth.lab import CLIENTS, OUTSIDE, SERVER, Connection, Lab

__all__ = ["CASES", "Result"]


def _shipped() -> Offer:
    """The offer `linux-translator` of the sample catalogue."""
    text = (Path(demo.__file__).parent / "vellmouth" / "ostrel.yaml").read_text(encoding="utf-8")
    return Offer.model_validate(yaml.safe_load(text)["offers"]["linux-translator"])


OFFER = _shipped()
PORTS = OFFER.ports
assert PORTS is not None
ROUNDS = np.array(PORTS.rounds, dtype=np.int64)
LATE, CHANCE = (PORTS.ended_reuse.last_tries, PORTS.ended_reuse.chance) if PORTS.ended_reuse else (0, 0.0)
FIRST = 40_000


@dataclass(frozen=True)
class Result:
    """One question: what was measured, with an interval where it is a sample, and what was predicted."""

    case: str
    measured: float
    predicted: float
    low: float | None = None
    high: float | None = None
    about: str = ""

    @property
    def agrees(self) -> bool:
        """Exactly, or within the interval."""
        if self.low is None or self.high is None:
            return self.measured == self.predicted
        return self.low <= self.predicted <= self.high


def _rules(
    ports: int,
    addresses: int = 1,
    choice: str = "any-free",
    timers_s: dict[str, float] | None = None,
    blocks: dict[str, tuple[int, int, int]] | None = None,
    forwarded: tuple[Forwarded, ...] = (),
) -> str:
    """The file that is handed over for a translator host, on the lab's interface."""
    one = Translator(
        exit="lab",
        addresses=tuple(OUTSIDE[:addresses]),
        number=addresses,
        first_port=FIRST,
        last_port=FIRST + ports - 1,
        choice=choice,
        sources=(),
        timers_s=timers_s or {"established": 300},
        udp_timers_s={"unreplied": 30, "replied": 30},
        table=65_536,
        blocks=blocks or {},
        forwarded=forwarded,
    )
    return rules_file(one, "out0")


def most_at_once(short: bool) -> Iterator[Result]:
    """Connections held at once: toward one destination, two, with UDP beside, and two addresses."""
    with Lab() as lab:
        lab.listen(7001, 7002, 7003)
        lab.load(_rules(100))
        yield Result("toward one destination, 100 ports", sum(lab.fill(150, 7001)), 100)
        yield Result("and toward a second at once", sum(lab.fill(150, 7002)), 100)
        yield Result("and UDP toward the first", lab.send(150, 7001), 100)
    with Lab() as lab:
        lab.listen(7001)
        lab.load(_rules(60, addresses=2))
        yield Result("two addresses of 60 ports, one client", sum(lab.fill(150, 7001, CLIENTS[0])), 60)
        yield from _tied(lab, CLIENTS[1:], "")
    if short:
        return
    for choice in ("by-host", "by-host-and-destination"):
        with Lab() as lab:
            lab.listen(7001)
            lab.load(_rules(60, addresses=2, choice=choice))
            yield from _tied(lab, CLIENTS, f", {choice}")


def published(short: bool) -> Iterator[Result]:
    """A port at the translator's address that it forwards: to each host in turn, and whose address these see."""
    hosts = tuple(CLIENTS[:2])
    for rewrites, words in ((False, "source kept"), (True, "source rewritten")):
        port = Forwarded("web", 0, 443, "tcp", "web", 8443, hosts, True, rewrites)
        with Lab() as lab:
            for host in hosts:
                lab.serve(host, 8443)
            lab.load(_rules(100, forwarded=(port,)))
            tried = [lab.call(OUTSIDE[0], 443) for _ in range(10)]
            lab.run()
            lab.kept += tried
            yield Result(f"published, {words}: there", sum(bool(one.established) for one in tried), 10)
            seen = Counter(address for address, _, _ in lab.seen)
            expected = "192.0.2.1" if rewrites else SERVER
            yield Result(f"published, {words}: seen from {expected}", seen[expected], 10)
            lab.without_default()
            late = lab.call(OUTSIDE[0], 443)
            lab.run()
            lab.kept.append(late)
            about = "replies without a route back"
            yield Result(f"published, {words}, {about}", float(late.established is True), float(rewrites))


def sent_again(short: bool) -> Iterator[Result]:
    """A refused first packet is dropped in silence; sent again it is a new attempt, which finds what is free then."""
    with Lab() as lab:
        lab.listen(7001)
        lab.load(_rules(5, timers_s={"close": 1.0, "established": 300.0}))
        lab.fill(5, 7001)
        known: list[float] = []
        late = lab.open(7001, then=lambda one: known.append(monotonic() - one.began), wait_s=4.5)
        lab.later(0.2, partial(lab.end, lab.kept[0], "reset by the client"))
        lab.kept.append(late)
        lab.run(0.9)
        yield Result("a sixth at five ports: there in its first second", float(late.established is True), 0.0)
        lab.run()
        # After one second half of them meet a port that has ended; later the port is free.
        about = f"after {known[0]:.1f} s"
        yield Result("and when its first packet was sent again", float(late.established is True), 1.0, about=about)


_TIMERS: dict[HowItEnds, str] = {
    "closed": "tcp_timeout_time_wait",
    "reset": "tcp_timeout_close",
    "half_closed": "tcp_timeout_close_wait",
    "idle": "tcp_timeout_established",
    "unanswered": "tcp_timeout_syn_sent",
    "udp_one_way": "udp_timeout",
    "udp_streaming": "udp_timeout_stream",
}


def own_timers(short: bool) -> Iterator[Result]:
    """The times that the kernel has of its own, against those of the offer."""
    with Lab() as lab:
        lab.load(_rules(5))
        for ending, key in _TIMERS.items():
            known = float(lab.read(f"net/netfilter/nf_conntrack_{key}"))
            yield Result(f"{key} of its own, s", known, OFFER.mapping_timeout_s.after(ending))


def _tied(lab: Lab, clients: list[str], words: str) -> Iterator[Result]:
    """Every client keeps to one address, and each address fills for itself; one that was full before is full."""
    lab.listen(7009)
    met: dict[str, set[str]] = {}
    for client in clients:
        first = len(lab.seen)
        lab.fill(3, 7009, client)
        met[client] = {address for address, _, port in lab.seen[first:] if port == 7009}
    yield Result(f"addresses that one client shows{words}", max(len(one) for one in met.values()), 1)
    by_address = Counter(next(iter(one)) for one in met.values() if one)
    expected = sum(min(60, 3 * number + 4 * number) for number in by_address.values())
    total = 3 * len(clients) + sum(sum(lab.fill(4, 7009, client)) for client in clients)
    hosts = " + ".join(str(number) for number in by_address.values())
    yield Result(
        f"{7 * len(clients)} connections of {len(clients)} clients, 2 x 60 ports{words}",
        total,
        expected,
        about=f"{hosts} clients",
    )


def blocks_of_hosts(short: bool) -> Iterator[Result]:
    """Every host has its own block."""
    with Lab() as lab:
        lab.listen(7001)
        blocks = {client: (0, FIRST + 32 * n, FIRST + 32 * n + 31) for n, client in enumerate(CLIENTS[:4])}
        lab.load(_rules(128, blocks=blocks))
        concurrent = [sum(lab.fill(50, 7001, client)) for client in CLIENTS[:4]]
        yield Result("four hosts of 32 ports each, the least", min(concurrent), 32)
        yield Result("four hosts of 32 ports each, the most", max(concurrent), 32)


_ENDINGS = {
    "closed by the client": "time_wait",
    "closed by the server": "time_wait",
    "reset by the client": "close",
    "reset by the server": "close",
    "idle": "established",
}


def free_again(short: bool) -> Iterator[Result]:
    """One port for each destination: how long after its end it is taken, and whether it is given out early."""
    timers = {"time_wait": 4.0, "close": 3.0, "established": 5.0}
    each = 24 if short else 160
    with Lab() as lab:
        ports = iter(range(8000, 8000 + each * len(_ENDINGS)))
        lab.listen(*range(8000, 8000 + each * len(_ENDINGS)))
        lab.load(_rules(1, timers_s=timers))
        # Half of them are tried shortly before the time is over, half shortly after.
        before: dict[str, list[bool]] = {how: [] for how in _ENDINGS}
        after: dict[str, list[bool]] = {how: [] for how in _ENDINGS}
        for how, state in _ENDINGS.items():
            for number in range(each):
                known, shift = (before, -0.8) if number % 2 else (after, 0.8)
                _ended_and_tried(lab, next(ports), how, timers[state] + shift, known[how])
        lab.run()
        for how, state in _ENDINGS.items():
            yield Result(f"{how}: its port is free after {timers[state]:g} s", _share(after[how]), 1.0)
        yield Result("idle: its port is free before", _share(before["idle"]), 0.0)
        early = {how: known for how, known in before.items() if how != "idle"}
        low, share, high = _binomial([one for known in early.values() for one in known])
        about = ", ".join(f"{how} {_share(known):.2f}" for how, known in early.items())
        yield Result("closed or reset: its only port is given out before", share, CHANCE, low, high, about)


def _ended_and_tried(lab: Lab, port: int, how: str, seconds: float, known: list[bool]) -> None:
    """A connection that ends in some way; another so many seconds after its end, and whether it came about."""

    def tried(one: Connection) -> None:
        known.append(bool(one.established))
        if one.established:
            lab.end(one, "reset by the client")

    def established(one: Connection) -> None:
        # Kept, or the socket would be closed.
        lab.kept.append(one)
        connects = 0.0 if how == "idle" else 0.3
        lab.later(connects, partial(lab.end, one, how))
        lab.later(connects + seconds, partial(lab.open, port, "", tried))

    lab.open(port, "", established)


def entries(short: bool) -> Iterator[Result]:
    """What the table holds: ended connections stay in it until their timer ends, or until their port is given out."""
    with Lab() as lab:

        def counted() -> float:
            return float(lab.read("net/netfilter/nf_conntrack_count"))

        lab.listen(7001)
        lab.load(_rules(100, timers_s={"time_wait": 60.0, "established": 300.0}))
        before = counted()
        lab.fill(60, 7001)
        yield Result("entries of 60 open connections", counted() - before, 60)
        ended, lab.kept = lab.kept, []
        for one in ended:
            lab.end(one, "closed by the client")
        lab.run(1.5)
        yield Result("and when all have ended, their timers not", counted() - before, 60)
        lab.fill(40, 7001)
        yield Result("and 40 open ones beside them", counted() - before, 100)
        # Ports are full: who is served now is served by one that has ended, whose entry makes way for its own.
        served = sum(lab.fill(20, 7001))
        yield Result(
            "and more, who get the ports of ended ones", counted() - before, 100, about=f"{served} of 20 served"
        )


def _share(known: list[bool]) -> float:
    return sum(known) / len(known) if known else float("nan")


def _binomial(known: list[bool]) -> tuple[float, float, float]:
    """The share with its 95 % interval (Wilson 1927)."""
    n, z = len(known), 1.96
    p = _share(known)
    middle, half = (
        (p + z * z / 2 / n) / (1 + z * z / n),
        z / (1 + z * z / n) * (p * (1 - p) / n + z * z / 4 / n / n) ** 0.5,
    )
    return middle - half, p, middle + half


def filling(short: bool) -> Iterator[Result]:
    """A range that fills: the search gives up before all is taken."""
    ports, tried = (1000, 1040) if short else (4000, 4150)
    with Lab() as lab:
        lab.listen(7001)
        lab.load(_rules(ports))
        blocked = np.array([not one for one in lab.fill(tried, 7001, at_once=25)])
    runs = np.array([filled(seeded(3, run), ports, 0, ROUNDS, LATE, CHANCE, tried) for run in range(400)])
    yield from _bands(blocked, runs, ports, "of a range")
    with Lab() as lab:
        lab.listen(7001)
        lab.load(_rules(50, timers_s={"time_wait": 60.0, "established": 300.0}))
        opened: list[Connection] = []
        for _ in range(50):
            lab.open(7001, "", opened.append)
            lab.run()
        for one in opened:
            lab.end(one, "closed by the client")
        lab.run(0.5)
        taken = sum(lab.fill(70, 7001, at_once=1))
    runs = np.array([filled(seeded(4, run), 50, 50, ROUNDS, LATE, CHANCE, 70) for run in range(400)])
    counts = 70 - runs.sum(axis=1)
    low, high = np.percentile(counts, [2.5, 97.5])
    yield Result(
        "of 50 ended ports, given out again early",
        taken,
        _between(taken, low, high),
        taken,
        taken,
        f"{low:g} to {high:g} predicted",
    )


_WIDER = 1.25
"""By how much the kernel's own spread is wider than that of the simulated fillings: 1.13 and 1.20 times in the last two
bands of 50 fillings, whose means were 11.1 and 141.0 (standard errors 0.6 and 0.7) where 9.8 and 142.5 were predicted.
Of what makes it wider (connections begun together, sent again) the simulation knows nothing."""


def _bands(blocked: np.ndarray, runs: np.ndarray, ports: int, words: str) -> Iterator[Result]:
    """Refusals while the range is up to nine tenths full, to 97 %, and beyond; the prediction with its own spread."""
    edges = (0, round(0.9 * ports), round(0.97 * ports), blocked.size)
    for low_edge, high_edge in zip(edges, edges[1:], strict=False):
        some = slice(low_edge, high_edge)
        measured = int(blocked[some].sum())
        counts = runs[:, some].sum(axis=1)
        mean = float(counts.mean())
        low, high = mean + _WIDER * (np.percentile(counts, [2.5, 97.5]) - mean)
        name = f"refused {words} of {ports} ports, attempts {low_edge + 1} to {high_edge}"
        yield Result(
            name,
            measured,
            _between(measured, low, high, mean),
            measured,
            measured,
            f"{mean:.3g} predicted, {max(0.0, low):.3g} to {high:.3g}",
        )


def _between(measured: float, low: float, high: float, mean: float | None = None) -> float:
    """The measured one where it lies in the spread of the prediction, so that it agrees; else the prediction's mean."""
    return measured if low <= measured <= high else (low + high) / 2 if mean is None else mean


def poisson(short: bool) -> Iterator[Result]:
    """Connections that come at random, live, are reset and keep their port for a second unless a search takes it."""
    ports, seconds = 60, 20 if short else 150
    duration, timer = 1.5, 1.0
    loads = (0.7, 0.95, 1.2)
    dice = random.Random(8)
    parts = 10
    attempts = {share: np.zeros(parts) for share in loads}
    blocked = {share: np.zeros(parts) for share in loads}
    with Lab() as lab:
        lab.listen(*(7000 + number for number in range(len(loads))))
        lab.load(_rules(ports, timers_s={"close": timer, "established": 300.0}))

        def begin(share: float, port: int, at: float) -> None:
            part = int((at - _SETTLING_S) / seconds * parts) if at >= _SETTLING_S else -1

            def known(one: Connection) -> None:
                if part >= 0:
                    attempts[share][part] += 1
                    blocked[share][part] += not one.established
                if one.established:
                    lab.later(dice.expovariate(1 / duration), partial(lab.end, one, "reset by the client"))

            lab.open(port, "", known)

        for number, share in enumerate(loads):
            at = 0.0
            while (at := at + dice.expovariate(share * ports / duration)) < seconds + _SETTLING_S:
                lab.later(at, partial(begin, share, 7000 + number, at))
        lab.run()
    for share in loads:
        low, measured, high = interval(attempts[share], blocked[share])
        predicted = _simulated(ports, share * ports / duration, duration, timer)
        early, late = (float(erlang_b(ports, share * ports * (1 + rest / duration))) for rest in (0.0, timer))
        words = (
            f"{attempts[share].sum():.0f} connections; Erlang {early:.3f} were all reused at once, {late:.3f} were none"
        )
        yield Result(f"refused at {share:.0%} of {ports} ports", measured, predicted, low, high, words)


_SETTLING_S = 5.0


def _simulated(ports: int, rate: float, duration: float, timer: float) -> float:
    calls = Calls(drawn([(np.array([rate]), [Ending(1.0, Exponential(duration), timer, reusable=True)])]), 200, 10.0)
    with ThreadPoolExecutor(2) as executor:
        return replicated(Searched(calls, ports, PORTS.rounds, LATE, CHANCE), executor, Stop(0.01, most_runs=64)).share


def rehearsed(short: bool) -> Iterator[Result]:
    """Random estates in the kernel: of all classes of packets, how many do otherwise than is planned."""
    many = 5 if short else 60
    classes = differing = 0
    for seed in range(many):
        found = rehearse(asking(seed) if seed % 3 == 1 else described(estate(seed), seed))
        classes += sum(bool(one.observed) for one in found.rows)
        differing += len(found.differing)
    yield Result(f"{classes} classes of packets in {many} random estates, other than planned", differing, 0)


CASES: dict[str, Callable[[bool], Iterator[Result]]] = {
    "most at once": most_at_once,
    "own timers": own_timers,
    "sent again": sent_again,
    "published": published,
    "blocks of hosts": blocks_of_hosts,
    "free again": free_again,
    "entries": entries,
    "filling": filling,
    "poisson": poisson,
    "rehearsed": rehearsed,
}
"""Every question by name; each takes whether it is to be brief."""
