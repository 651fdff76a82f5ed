"""Streams made by hand for the tests of port assignments."""

from typing import Any

import numpy as np

from fenrask.capacity import Stream
from fenrask.demand import POINTS_PER_HOUR, Load, Profile
from fenrask.estate import Ports
from fenrask.teletraffic import held_each
from fenrask.teletraffic.holds import Exponential

__all__ = ["day_stream", "level_stream", "ports"]

LEVEL = np.ones(24)
DAY = np.array([0.3] * 17 + [1.0] + [0.5] * 6)
GRID = np.arange(24.0 * POINTS_PER_HOUR) * (3600 / POINTS_PER_HOUR)


def _profile(rhythm: Any, mean_s: float) -> Profile:
    law = Exponential(mean_s)
    return Profile(0, rhythm, law, held_each(GRID, rhythm, 3600.0, [law])[0])


_LEVEL, _DAY = _profile(LEVEL, 60.0), _profile(DAY, 60.0)


def level_stream(held: float, label: str = "one", **more: Any) -> Stream:
    """So many connections held all day."""
    return Stream(label, "tcp", Load((_LEVEL,), np.array([held / 60.0]), 0.0), **more)


def day_stream(held: float, label: str = "one", **more: Any) -> Stream:
    """So many held at the end of one busy hour, from 17:00; three tenths of it through the night."""
    return Stream(label, "tcp", Load((_DAY,), np.array([held / 60.0]), 0.0), **more)


def ports(assignment: str = "shared-per-destination", per_address: int = 1000, **more: Any) -> Ports:
    return Ports(assignment=assignment, per_address=per_address, **more)  # type: ignore[arg-type]
