"""Random numbers of the simulation's kernels: uniform, exponential, normal, Poisson, and lives after a law.

xoshiro256++ (Blackman & Vigna 2021), seeded by splitmix64, one stream a run; exponential and normal numbers by the
ziggurat (Marsaglia & Tsang 2000), Poisson numbers by transformed rejection (Hoermann 1993). The same seed gives the
same run wherever it is run.
"""

import math

import numpy as np

from fenrask.compiling import compiled
from fenrask.teletraffic.holding import Draw

__all__ = [
    "drawn_holds",
    "duration",
    "exponentials",
    "part_of",
    "poisson",
    "seeded",
    "standard_exponential",
    "uniform",
]

_EXPONENTIAL, _FIXED, _LOGNORMAL = (int(draw) for draw in (Draw.EXPONENTIAL, Draw.FIXED, Draw.LOGNORMAL))
_STEP = 1.0 / 9007199254740992.0


def _ziggurat(tail, area, height, edge):
    """Edges and heights of 256 layers of one area under a falling density; the lowest holds the tail."""
    edges = np.empty(257)
    edges[0], edges[1] = area / height(tail), tail
    for i in range(2, 256):
        edges[i] = edge(height(edges[i - 1]) + area / edges[i - 1])
    edges[256] = 0.0
    heights = np.array([height(one) for one in edges])
    heights[0] = 0.0
    return edges, heights


_EDGES, _HEIGHTS = _ziggurat(
    7.69711747013104972, 0.0039496598225815571993, lambda x: math.exp(-x), lambda y: -math.log(y)
)
_NORMAL_EDGES, _NORMAL_HEIGHTS = _ziggurat(
    3.6541528853610088, 0.00492867323399, lambda x: math.exp(-0.5 * x * x), lambda y: math.sqrt(-2.0 * math.log(y))
)


_EDGES, _HEIGHTS = _ziggurat(
    7.69711747013104972, 0.0039496598225815571993, lambda x: math.exp(-x), lambda y: -math.log(y)
)
_NORMAL_EDGES, _NORMAL_HEIGHTS = _ziggurat(
    3.6541528853610088, 0.00492867323399, lambda x: math.exp(-0.5 * x * x), lambda y: math.sqrt(-2.0 * math.log(y))
)


@compiled
def seeded(seed, run):
    """The state of a generator, uint64 of shape (4,), for one run of a seed."""
    state = np.empty(4, dtype=np.uint64)
    z = np.uint64(seed) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(run) * np.uint64(0xD1342543DE82EF95)
    for i in range(4):
        z += np.uint64(0x9E3779B97F4A7C15)
        x = z
        x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        state[i] = x ^ (x >> np.uint64(31))
    return state


@compiled
def _bits(s):
    """64 of them."""
    total = s[0] + s[3]
    result = ((total << np.uint64(23)) | (total >> np.uint64(41))) + s[0]
    t = s[1] << np.uint64(17)
    s[2] ^= s[0]
    s[3] ^= s[1]
    s[1] ^= s[2]
    s[0] ^= s[3]
    s[2] ^= t
    s[3] = (s[3] << np.uint64(45)) | (s[3] >> np.uint64(19))
    return result


@compiled
def uniform(s):
    """In [0, 1), of 53 bits."""
    return float(_bits(s) >> np.uint64(11)) * _STEP


@compiled
def standard_exponential(s):
    """By the ziggurat of 256 layers (Marsaglia & Tsang 2000)."""
    while True:
        # The lowest bits choose the layer, the others the place in it.
        bits = _bits(s)
        layer = int(bits & np.uint64(255))
        x = float(bits >> np.uint64(11)) * _STEP * _EDGES[layer]
        if x < _EDGES[layer + 1]:
            return x
        x = _at_the_edge(s, layer, x)
        if x >= 0.0:
            return x


@compiled
def _at_the_edge(s, layer, x):
    """What a place outside a layer's inner part comes to; negative where it is under no density."""
    if layer == 0:
        return _EDGES[1] - math.log(1.0 - uniform(s))
    if _HEIGHTS[layer] + uniform(s) * (_HEIGHTS[layer + 1] - _HEIGHTS[layer]) < math.exp(-x):
        return x
    return -1.0


@compiled
def exponentials(s, out, count):
    """So many at once, the same as one by one: the generator's state stays in registers meanwhile."""
    r0, r1, r2, r3 = s[0], s[1], s[2], s[3]
    i = 0
    while i < count:
        total = r0 + r3
        bits = ((total << np.uint64(23)) | (total >> np.uint64(41))) + r0
        t = r1 << np.uint64(17)
        r2 ^= r0
        r3 ^= r1
        r1 ^= r2
        r0 ^= r3
        r2 ^= t
        r3 = (r3 << np.uint64(45)) | (r3 >> np.uint64(19))
        layer = int(bits & np.uint64(255))
        x = float(bits >> np.uint64(11)) * _STEP * _EDGES[layer]
        if x >= _EDGES[layer + 1]:
            s[0], s[1], s[2], s[3] = r0, r1, r2, r3
            x = _at_the_edge(s, layer, x)
            r0, r1, r2, r3 = s[0], s[1], s[2], s[3]
            if x < 0.0:
                continue
        out[i] = x
        i += 1
    s[0], s[1], s[2], s[3] = r0, r1, r2, r3


@compiled
def _normal(s):
    """By the ziggurat too, its tail by Marsaglia's method (1964)."""
    while True:
        bits = _bits(s)
        u = 2.0 * float(bits >> np.uint64(11)) * _STEP - 1.0
        layer = int(bits & np.uint64(255))
        x = u * _NORMAL_EDGES[layer]
        if abs(x) < _NORMAL_EDGES[layer + 1]:
            return x
        if layer == 0:
            while True:
                x = -math.log(1.0 - uniform(s)) / _NORMAL_EDGES[1]
                if -2.0 * math.log(1.0 - uniform(s)) > x * x:
                    return _NORMAL_EDGES[1] + x if u > 0.0 else -_NORMAL_EDGES[1] - x
        low, high = _NORMAL_HEIGHTS[layer], _NORMAL_HEIGHTS[layer + 1]
        if low + uniform(s) * (high - low) < math.exp(-0.5 * x * x):
            return x


@compiled
def poisson(s, mean):
    if mean < 12.0:
        limit, product, count = math.exp(-mean), uniform(s), 0
        while product > limit:
            product *= uniform(s)
            count += 1
        return count
    root = math.sqrt(mean)
    b = 0.931 + 2.53 * root
    a = -0.059 + 0.02483 * b
    inverse = 1.1239 + 1.1328 / (b - 3.4)
    squeeze = 0.9277 - 3.6224 / (b - 2.0)
    while True:
        u, v = uniform(s) - 0.5, uniform(s)
        us = 0.5 - abs(u)
        k = math.floor((2.0 * a / us + b) * u + mean + 0.43)
        if us >= 0.07 and v <= squeeze:
            return int(k)
        if k < 0.0 or (us < 0.013 and v > us):
            continue
        if math.log(v) + math.log(inverse) - math.log(a / (us * us) + b) <= k * math.log(mean) - mean - math.lgamma(
            k + 1.0
        ):
            return int(k)


@compiled
def part_of(s, shares):
    """Which part of a law a hold follows, by its cumulated shares."""
    if shares.size == 1:
        return 0
    u, i = uniform(s), 0
    while u >= shares[i] and i < shares.size - 1:
        i += 1
    return i


@compiled
def duration(s, i, kinds, scale, spread, table):
    """A life of part i, s, without the delay after it."""
    kind = kinds[i]
    if kind == _EXPONENTIAL:
        return scale[i] * standard_exponential(s)
    if kind == _FIXED:
        return scale[i]
    if kind == _LOGNORMAL:
        return math.exp(scale[i] + spread[i] * _normal(s))
    return table[int(scale[i]) + int(uniform(s) * spread[i])]


@compiled
def drawn_holds(s, shares, kinds, scale, spread, delays, table, holds, count):
    """So many holds, s, at once."""
    if shares.size == 1 and kinds[0] == _EXPONENTIAL:
        mean, delay = scale[0], delays[0]
        exponentials(s, holds, count)
        for j in range(count):
            holds[j] = mean * holds[j] + delay
        return
    for j in range(count):
        i = part_of(s, shares)
        holds[j] = duration(s, i, kinds, scale, spread, table) + delays[i]
