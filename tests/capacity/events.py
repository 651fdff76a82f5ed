"""A simulation of a pool of ports, event by event, in plain Python: nothing of the program's own."""

import heapq
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def refused(times: Floats, holds: Floats, ports: int) -> NDArray[np.bool_]:
    """Connections as they come, in order, each with its hold: whether so many ports refuse each."""
    ends: list[float] = []
    found = np.zeros(times.size, dtype=bool)
    for place, (time, hold) in enumerate(zip(times.tolist(), holds.tolist(), strict=True)):
        while ends and ends[0] <= time:
            heapq.heappop(ends)
        if len(ends) < ports:
            heapq.heappush(ends, time + hold)
        else:
            found[place] = True
    return found


def at_levels(dice: np.random.Generator, rate: float, levels: Sequence[float] | Floats, each_s: float) -> Floats:
    """Arrival times of a rate that is so many times its mean in one stretch of `each_s` seconds after the other."""
    numbers = dice.poisson(rate * each_s * np.asarray(levels))
    begins = np.repeat(np.arange(numbers.size) * each_s, numbers)
    return np.sort(begins + dice.uniform(0.0, each_s, begins.size))


def lognormal(dice: np.random.Generator, cv: float, size: int) -> Floats:
    """Levels of a mean of 1."""
    sigma = np.sqrt(np.log1p(cv * cv))
    return dice.lognormal(-sigma * sigma / 2, sigma, size)


def behind_hosts(
    dice: np.random.Generator, hosts: int, rate: float, most: int, life_s: float, delay_s: float, ports: int
) -> tuple[float, float, float]:
    """Hosts that open so many connections each, to a pool of ports that stay taken for a time after these.

    Returns the share of the opened ones that find no port, the share that hosts do not open, and the mean held.
    """
    lives: list[tuple[float, int]] = []
    taken: list[float] = []
    open_ = [0] * hosts
    size, opened, refused, not_opened, area, before = 500_000, 0, 0, 0, 0.0, 0.0
    times = np.cumsum(dice.exponential(1 / (hosts * rate), size)).tolist()
    where, holds = dice.integers(0, hosts, size).tolist(), dice.exponential(life_s, size).tolist()
    warm = 20 * (life_s + delay_s)
    for time, host, hold in zip(times, where, holds, strict=True):
        while lives and lives[0][0] <= time:
            open_[heapq.heappop(lives)[1]] -= 1
        while taken and taken[0] <= time:
            heapq.heappop(taken)
        counted = time > warm
        area += counted * len(taken) * (time - before)
        before = time
        if open_[host] >= most:
            not_opened += counted
            continue
        opened += counted
        if len(taken) >= ports:
            refused += counted
            continue
        open_[host] += 1
        heapq.heappush(lives, (time + hold, host))
        heapq.heappush(taken, time + hold + delay_s)
    return refused / opened, not_opened / (opened + not_opened), area / (times[-1] - warm)


def tried_again(times: Floats, holds: Floats, ports: int, retries: int) -> tuple[list[int], int]:
    """Connections that are tried again after 1, 2, 4 ... s: how many came about at each try, at last those that never
    did; and how many attempts there were."""
    ends: list[float] = []
    due = [(time, 0, hold) for time, hold in zip(times.tolist(), holds.tolist(), strict=True)]
    heapq.heapify(due)
    served, attempts = [0] * (retries + 2), 0
    while due:
        time, tries, hold = heapq.heappop(due)
        attempts += 1
        while ends and ends[0] <= time:
            heapq.heappop(ends)
        if len(ends) < ports:
            heapq.heappush(ends, time + hold)
            served[tries] += 1
            continue
        if tries < retries:
            heapq.heappush(due, (time + 2.0**tries, tries + 1, hold))
        else:
            served[-1] += 1
    return served, attempts


def client(
    dice: np.random.Generator,
    per_s: float,
    lasts: Sequence[float],
    idle_s: float,
    most: int = 10**9,
    at_once: int = 1,
) -> tuple[list[tuple[float, float]], float]:
    """One client's requests, one for each of `lasts`, over connections that it keeps: from when to when each connection
    was open, and how long a request waited in the mean. The connection used last that has room takes the next."""
    begun: dict[int, float] = {}
    used: dict[int, list[float]] = {}
    stack: list[int] = []
    ends: list[tuple[float, int]] = []
    queue: list[tuple[float, float]] = []
    spans: list[tuple[float, float]] = []
    waited, time = 0.0, 0.0

    def finished(until: float) -> None:
        while ends and ends[0][0] <= until:
            at, number = heapq.heappop(ends)
            if queue:
                nonlocal waited
                came, last = queue.pop(0)
                waited += at - came
                heapq.heappush(ends, (at + last, number))
                continue
            used[number][0] -= 1
            used[number][1] = at
            stack.remove(number)
            stack.append(number)

    for last in lasts:
        time += float(dice.exponential(1 / per_s))
        finished(time)
        for number in [one for one in stack if not used[one][0] and used[one][1] + idle_s <= time]:
            spans.append((begun.pop(number), used.pop(number)[1] + idle_s))
            stack.remove(number)
        free = next((one for one in reversed(stack) if used[one][0] < at_once), None)
        if free is None and len(stack) >= most:
            queue.append((time, last))
            continue
        if free is None:
            free = len(spans) + len(begun)
            begun[free], used[free] = time, [0, time]
            stack.append(free)
        used[free][0] += 1
        heapq.heappush(ends, (time + last, free))
    spans += [(one, time) for one in begun.values()]
    return spans, waited / len(lasts)


def by_search(
    dice: np.random.Generator,
    per_s: float,
    life_s: float,
    timer_s: float,
    ports: int,
    late: int,
    chance: float,
    size: int,
) -> float:
    """The share refused of a translator that looks for a port from a random one on, once round all: ended ports stay
    taken for a timer, but in the last `late` tries one of them is given out with a chance."""
    busy_until, taken_until = np.zeros(ports), np.zeros(ports)
    times = np.cumsum(dice.exponential(1 / per_s, size)).tolist()
    lives, places = dice.exponential(life_s, size).tolist(), dice.integers(0, ports, size).tolist()
    refused = 0
    for time, life, place in zip(times, lives, places, strict=True):
        for left in range(ports, 0, -1):
            is_free = taken_until[place] <= time
            if is_free or (left <= late and busy_until[place] <= time and dice.random() < chance):
                busy_until[place], taken_until[place] = time + life, time + life + timer_s
                break
            place = (place + 1) % ports
        else:
            refused += 1
    return refused / size
