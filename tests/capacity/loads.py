"""Streams made by hand for the tests of port assignments."""

from typing import Any

import numpy as np

from fenrask.capacity import Stream
from fenrask.demand import POINTS_PER_HOUR, ConcurrencyCurve, Load
from fenrask.estate import PORTS, Ports
from fenrask.teletraffic import concurrent_each
from fenrask.teletraffic.holding import Exponential

__all__ = ["day_stream", "level_stream", "ports"]

LEVEL = np.ones(24)
DAY = np.array([0.3] * 17 + [1.0] + [0.5] * 6)
GRID = np.arange(24.0 * POINTS_PER_HOUR) * (3600 / POINTS_PER_HOUR)


def _curve(profile: Any, mean_s: float) -> ConcurrencyCurve:
    law = Exponential(mean_s)
    return ConcurrencyCurve(0, profile, law, concurrent_each(GRID, profile, 3600.0, [law])[0])


_LEVEL, _DAY = _curve(LEVEL, 60.0), _curve(DAY, 60.0)


def level_stream(concurrent: float, label: str = "one", **more: Any) -> Stream:
    """So many connections held all day."""
    return Stream(label, "tcp", Load((_LEVEL,), np.array([concurrent / 60.0]), 0.0), **more)


def day_stream(concurrent: float, label: str = "one", **more: Any) -> Stream:
    """So many held at the end of one busy hour, from 17:00; three tenths of it through the night."""
    return Stream(label, "tcp", Load((_DAY,), np.array([concurrent / 60.0]), 0.0), **more)


def ports(assignment: str = "shared-per-destination", per_address: int = 1000, **more: Any) -> Ports:
    return PORTS[assignment].model_validate({"assignment": assignment, "per_address": per_address, **more})
