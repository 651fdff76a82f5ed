"""Streams made by hand for the tests of port assignments."""

from typing import Any

import numpy as np

from fenrask.capacity import Stream
from fenrask.demand import Curves, Family, Load
from fenrask.demand.curves import Rows
from fenrask.estate import PORTS, Ports
from fenrask.teletraffic.holding import Exponential

__all__ = ["day_stream", "level_stream", "ports"]

LEVEL = np.ones(24)
DAY = np.array([0.3] * 17 + [1.0] + [0.5] * 6)


_NUMBERS = np.array([0, 1])
_CURVES, _ = Curves.of(
    np.stack([LEVEL, DAY]), [Family((), Exponential(60.0))], Rows(_NUMBERS, _NUMBERS * 0, np.zeros(2))
)


def _load(profile: int, concurrent: float) -> Load:
    return Load(_CURVES, np.array([profile]), np.array([concurrent / 60.0]), 0.0)


def level_stream(concurrent: float, label: str = "one", **more: Any) -> Stream:
    """So many connections held all day."""
    return Stream(label, "tcp", _load(0, concurrent), **more)


def day_stream(concurrent: float, label: str = "one", **more: Any) -> Stream:
    """So many held at the end of one busy hour, from 17:00; three tenths of it through the night."""
    return Stream(label, "tcp", _load(1, concurrent), **more)


def ports(assignment: str = "shared-per-destination", per_address: int = 1000, **more: Any) -> Ports:
    return PORTS[assignment].model_validate({"assignment": assignment, "per_address": per_address, **more})
