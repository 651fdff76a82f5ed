"""Erlang's loss formula for many servers, by Temme's uniform expansion of the incomplete gamma function.

With c servers, a Erlang and x = (a - c) / c let eta = sign(x) sqrt(2 (x - log(1 + x))). Then

    1 / B = 1 + G(c) (sqrt(pi c / 2) erfcx(eta sqrt(c / 2)) + sum_k C_k(eta) c^-k)

with G(c) = Gamma(c + 1) / (sqrt(2 pi c) (c / e)^c), since 1 / B = 1 + Q(c, a) / p(c; a) (Temme, "The asymptotic
expansion of the incomplete gamma functions", SIAM J. Math. Anal. 10, 1979; NIST DLMF 8.12). Near load and servers
alike, below and above, all terms of weight are positive. The power series of C_k converge for |eta| below
2 sqrt(pi); their coefficients are worked out in fractions, by DLMF 8.12.10 to 8.12.13.
"""

from fractions import Fraction
from functools import cache

import numpy as np

from fenrask.teletraffic.arguments import Floats
from fenrask.teletraffic.elementary import log1pmx, stirling_error

__all__ = ["MANY", "inverse_blocking"]

MANY = 120.0
"""From so many servers on, and for eta up to 1.2, the terms below leave an error near 1e-14."""
_TERMS, _POWERS = 10, 26
_LEAST = 1e-17


def inverse_blocking(c: Floats, a: Floats) -> Floats:
    """1 / B for arrays of shape (n,): c servers, at least `MANY`, and a Erlang, at most 2.7 c (eta up to 1.2).

    Relative error below 3e-14 down to B = 1e-25; below that it grows as the logarithm of B does. A lower eta than
    -1.2 does no harm: what the sum then loses is nothing beside the first term.
    """
    x = (a - c) / c
    eta = np.copysign(np.sqrt(-2 * log1pmx(x)), x)
    # The greatest of each tells how many terms are above the last digit for all of them.
    table = _coefficients()[: _enough(1 / float(np.min(c)), _TERMS), : _powers(float(np.max(np.abs(eta))))]
    powers = np.empty((table.shape[1], c.size))
    powers[0] = 1.0
    for n in range(1, table.shape[1]):
        np.multiply(powers[n - 1], eta, out=powers[n])
    series = table @ powers
    total = series[-1]
    for row in series[-2::-1]:
        total = total / c + row
    root = np.sqrt(c / 2)
    inverse: Floats = 1 + np.exp(stirling_error(c)) * (np.sqrt(np.pi) * root * _erfcx(eta * root) + total)
    return inverse


def _enough(ratio: float, most: int) -> int:
    """How many powers of a ratio below 1 are above the last digit."""
    return most if ratio <= 0 else min(most, max(1, int(np.ceil(np.log(_LEAST) / np.log(ratio))) + 1))


def _powers(eta: float) -> int:
    return _enough(eta / (2 * np.sqrt(np.pi)), _POWERS)


@cache
def _coefficients() -> Floats:
    """Those of eta^n in C_k, shape (k, n)."""
    alphas = [Fraction(0), Fraction(1)]
    for n in range(2, 2 * _TERMS + _POWERS + 3):
        products = (j * alphas[j] * alphas[n - j + 1] for j in range(2, n))
        alphas.append((alphas[n - 1] - sum(products, Fraction(0))) / (n + 1))
    first = [Fraction(-1, 3), *((n + 2) * alphas[n + 2] for n in range(1, 2 * _TERMS + _POWERS))]
    rows, odd = [first], 1
    for k in range(1, _TERMS):
        odd *= 2 * k + 1
        stirling = (-1) ** k * odd * alphas[2 * k + 1]
        before = rows[-1]
        rows.append([stirling * first[n] + (n + 2) * before[n + 2] for n in range(len(before) - 2)])
    return np.array([[float(value) for value in row[:_POWERS]] for row in rows])


_NODES = 40


@cache
def _weideman() -> tuple[float, Floats]:
    """The scale and the coefficients, highest power first, of a rational approximation of `erfcx`."""
    scale = np.sqrt(_NODES / np.sqrt(2.0))
    t = scale * np.tan(np.arange(1 - 2 * _NODES, 2 * _NODES) * np.pi / (4 * _NODES))
    values = np.concatenate([[0.0], np.exp(-t * t) * (scale**2 + t * t)])
    found = np.real(np.fft.fft(np.fft.fftshift(values))) / (4 * _NODES)
    return float(scale), found[1 : _NODES + 1][::-1]


def _erfcx(x: Floats) -> Floats:
    """e^(x^2) erfc(x), by a rational function of 40 terms (Weideman 1994); error below 1e-15."""
    scale, coefficients = _weideman()
    size = np.abs(x)
    over = 1 / (scale + size)
    place = (scale - size) * over
    total = np.full(x.shape, coefficients[0])
    for coefficient in coefficients[1:]:
        total *= place
        total += coefficient
    total = over * (2 * total * over + 1 / np.sqrt(np.pi))
    below: Floats = np.where(x < 0, 2 * np.exp(np.minimum(x, 0.0) ** 2) - total, total)
    return below
