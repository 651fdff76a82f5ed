"""Erlang's formula for many (ports, load) pairs against the recursion, and against SciPy's incomplete gamma."""

from collections.abc import Iterator
from decimal import Decimal, localcontext
from typing import Any

import numpy as np
from scipy import special

from bench.clock import best_s
from fenrask.teletraffic import erlang_b, ports_for

_PAIRS = 100_000
_SAMPLE = 20


def measure() -> Iterator[str]:
    """The recursion is timed on a sample of the same pairs and scaled up: all would take hours."""
    dice = np.random.default_rng(5)
    ports = np.floor(10 ** dice.uniform(0, 6, _PAIRS))
    load = ports * dice.uniform(0.5, 1.2, _PAIRS)
    ours = best_s(lambda: erlang_b(ports, load))
    plain = best_s(lambda: [_recursion(int(c), a) for c, a in zip(ports[:_SAMPLE], load[:_SAMPLE], strict=True)], 1)
    ratio = plain * _PAIRS / _SAMPLE / ours
    yield f"{_PAIRS:,} pairs up to 10^6 ports in {ours:.2f} s"
    yield f"{ratio:,.0f} times faster than the recursion (1,000 asked for)"
    gamma = best_s(lambda: _by_gamma(ports, load))
    yield f"{ours / gamma:.2f} times the time of SciPy's incomplete gamma, which takes {gamma:.2f} s (1 asked for)"
    one = best_s(lambda: [erlang_b(1000.0, 950.0) for _ in range(1000)]) / 1000
    yield f"one pair of numbers in {one * 1e6:.0f} us (10 asked for)"
    solved = best_s(lambda: ports_for(load, _TARGET))
    halved = best_s(lambda: _halved(load, _TARGET), 1)
    yield f"{_PAIRS:,} numbers of ports for a target in {solved:.2f} s"
    yield f"{halved / solved:.1f} times faster than halving by SciPy's incomplete gamma (3.5 asked for)"
    small = ports <= _MOST_EXACT
    some = slice(0, _EXACT)
    c, a = ports[small][some], load[small][some]
    exact = [_exactly(int(one), float(other)) for one, other in zip(c, a, strict=True)]
    errors = [
        max(_error(found, truth) for found, truth in zip(by(c, a), exact, strict=True)) for by in (erlang_b, _by_gamma)
    ]
    yield f"worst relative error {errors[0]:.1e}, SciPy's {errors[1]:.1e} (a hundredth of it asked for)"


_TARGET = 1e-4


def _halved(load: Any, target: float) -> Any:
    """The least ports that refuse at most the target, by halving, for all loads at once."""
    low, high = np.zeros(load.size), np.ceil(load + 10 * np.sqrt(load) + 50)
    while np.max(high - low) > 1:
        middle = np.floor((low + high) / 2)
        with np.errstate(all="ignore"):
            enough = _by_gamma(middle, load) <= target
        low, high = np.where(enough, low, middle), np.where(enough, middle, high)
    return high


_EXACT = 200
_MOST_EXACT = 2000


def _by_gamma(ports: Any, load: Any) -> Any:
    """B = p(c; a) / P(X <= c), X Poisson with mean a."""
    log_p = ports * np.log(load) - load - special.gammaln(ports + 1)
    return np.exp(log_p) / special.gammaincc(ports + 1, load)


def _exactly(ports: int, load: float) -> Decimal:
    with localcontext() as context:
        context.prec = 40
        a, blocking = Decimal(load), Decimal(1)
        for k in range(1, ports + 1):
            blocking = a * blocking / (k + a * blocking)
        return blocking


def _error(found: Any, exact: Decimal) -> float:
    return abs(float(Decimal(float(found)) / exact - 1)) if exact > Decimal("1e-290") else 0.0


def _recursion(ports: int, load: float) -> float:
    blocking = 1.0
    for k in range(1, ports + 1):
        blocking = load * blocking / (k + load * blocking)
    return blocking
