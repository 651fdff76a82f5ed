"""The simulation against a plain heap, callbacks, a compiled heap, and the drawing of random numbers itself.

Processor time for a connection, medians of interleaved runs on one core; all on the same model, and shown equal.
"""

import heapq
import random
import statistics
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from time import perf_counter, process_time

import numpy as np
from numba import njit

from fenrask.teletraffic import erlang_b
from fenrask.teletraffic.holding import Exponential
from fenrask.teletraffic.simulation import Blocks, Calls, Ending, Pool, drawn
from fenrask.teletraffic.simulation.kernels.heap import pop, push
from fenrask.teletraffic.simulation.kernels.random_numbers import seeded, standard_exponential, uniform

_PORTS, _ROUNDS = 64_512, 5


@njit(nogil=True)
def _numbers(s, n):
    total = 0.0
    for _ in range(n):
        total += uniform(s) + standard_exponential(s)
    return total


@njit(nogil=True)
def _heap(s, ports, load, n):
    """Refused of n arrivals at a pool that begins full of what is held in the mean."""
    keys, items, size = np.empty(ports + 1), np.empty(ports + 1, dtype=np.int32), 0
    for _ in range(min(ports, int(load))):
        push(keys, items, size, standard_exponential(s), np.int32(0))
        size += 1
    now, blocked = 0.0, 0
    for _ in range(n):
        now += standard_exponential(s) / load
        while size > 0 and keys[0] <= now:
            pop(keys, items, size)
            size -= 1
        if size < ports:
            push(keys, items, size, now + standard_exponential(s), np.int32(0))
            size += 1
        else:
            blocked += 1
    return blocked


@njit(nogil=True)
def _heaps(s, hosts, ports, load, n):
    """The same for each of so many hosts, n arrivals in all, each host's own heap."""
    blocked = 0
    for _ in range(hosts):
        blocked += _heap(s, ports, load, n // hosts)
    return blocked


def _plain_heap(load: float, n: int) -> float:
    dice = random.Random(1)
    ends = [dice.expovariate(1.0) for _ in range(min(_PORTS, int(load)))]
    heapq.heapify(ends)
    now, blocked = 0.0, 0
    for _ in range(n):
        now += dice.expovariate(load)
        while ends and ends[0] <= now:
            heapq.heappop(ends)
        if len(ends) < _PORTS:
            heapq.heappush(ends, now + dice.expovariate(1.0))
        else:
            blocked += 1
    return blocked / n


def _callbacks(load: float, n: int) -> float:
    """Events of a library that calls back."""
    import simpy

    dice, world = random.Random(1), simpy.Environment()
    counts = {"held": min(_PORTS, int(load)), "refused": 0, "left": n}
    ended = world.event()

    def ends(_: object) -> None:
        counts["held"] -= 1

    def arrives(_: object) -> None:
        counts["left"] -= 1
        if counts["held"] < _PORTS:
            counts["held"] += 1
            world.timeout(dice.expovariate(1.0)).callbacks.append(ends)
        else:
            counts["refused"] += 1
        if counts["left"]:
            world.timeout(dice.expovariate(load)).callbacks.append(arrives)
        else:
            ended.succeed()

    for _ in range(counts["held"]):
        world.timeout(dice.expovariate(1.0)).callbacks.append(ends)
    world.timeout(dice.expovariate(load)).callbacks.append(arrives)
    world.run(until=ended)
    return counts["refused"] / n


def _calls(rate: float, seconds: float) -> Calls:
    return Calls(drawn([(np.array([rate]), [Ending(1.0, Exponential(1.0))])]), max(1, int(seconds)), 1.0)


def _ours(load: float, seconds: float) -> tuple[float, int]:
    setting = Pool(_calls(load, seconds), _PORTS)
    run = setting.run(1, 1)
    # The steps before those that are counted are run too.
    return run.blocked.sum() / run.attempts.sum(), int(load * (seconds + setting.calls.warm))


def _each(action: Callable[[], int]) -> float:
    """Processor time, ns, for each connection."""
    began = process_time()
    number = action()
    return (process_time() - began) / number * 1e9


def _compared(actions: dict[str, Callable[[], int]]) -> dict[str, float]:
    for one in actions.values():
        one()
    times: dict[str, list[float]] = {name: [] for name in actions}
    for _ in range(_ROUNDS):
        for name, action in actions.items():
            times[name].append(_each(action))
    return {name: statistics.median(some) for name, some in times.items()}


def measure() -> Iterator[str]:
    """Times for a connection, and how many times ours each is."""
    state = seeded(1, 2)
    for share in (0.98, 1.02):
        load = share * _PORTS

        def ours(load: float = load) -> int:
            return _ours(load, 60)[1]

        def heap(load: float = load) -> int:
            _heap(state, _PORTS, load, 1_000_000)
            return 1_000_000

        actions: dict[str, Callable[[], int]] = {"ours": ours, "compiled heap": heap}
        if share < 1:
            actions["two random numbers"] = lambda: (_numbers(state, 5_000_000), 5_000_000)[1]
            actions["plain heap"] = lambda load=load: (_plain_heap(load, 100_000), 100_000)[1]  # type: ignore[misc]
            actions["callbacks"] = lambda load=load: (_callbacks(load, 50_000), 50_000)[1]  # type: ignore[misc]
        found = _compared(actions)
        words = ", ".join(f"{name} {ns:,.0f} ns ({ns / found['ours']:.2f}x)" for name, ns in found.items())
        blocked = _ours(load, 400)[0]
        slow = _heap(seeded(3, 4), _PORTS, load, 20_000_000) / 20_000_000
        yield f"{share:.0%} load: {words}; refused {blocked:.5f}, heap {slow:.5f}, Erlang {erlang_b(_PORTS, load):.5f}"
    hosts, block, load = 10_000, 64, 50.0

    def blocks() -> int:
        setting = Blocks(_calls(hosts * load, 20), hosts, block)
        run = setting.run(1, 1)
        return int(run.attempts.sum() * (20 + setting.calls.warm) / 20)

    def heaps() -> int:
        _heaps(state, hosts, block, load, hosts * 1000)
        return hosts * 1000

    found = _compared({"ours": blocks, "compiled heap each": heaps})
    words = ", ".join(f"{name} {ns:,.0f} ns ({ns / found['ours']:.2f}x)" for name, ns in found.items())
    blocked = Blocks(_calls(hosts * load, 60), hosts, block).run(1, 1)
    share = blocked.blocked.sum() / blocked.attempts.sum()
    yield f"{hosts:,} hosts of {block}: {words}; refused {share:.5f}, Erlang {erlang_b(block, load):.5f}"
    yield from _workers()


def _workers() -> Iterator[str]:
    """Two runs at once, beside what the machine gives two that do nothing but draw random numbers."""
    setting = Pool(_calls(0.98 * _PORTS, 60), _PORTS)
    for name, action in (("runs", partial(setting.run, 1)), ("random numbers alone", _drawn)):
        times = []
        for workers in (1, 2):
            with ThreadPoolExecutor(workers) as executor:
                began = perf_counter()
                list(executor.map(action, range(8)))
                times.append(perf_counter() - began)
        yield f"8 {name}: {times[0]:.2f} s, two at once {times[1]:.2f} s, {times[0] / times[1]:.2f} times as quick"


def _drawn(number: int) -> float:
    total: float = _numbers(seeded(1, number), 8_000_000)
    return total
