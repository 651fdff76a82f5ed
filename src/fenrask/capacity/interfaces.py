"""Hosts' own interfaces: what each host of a workload sends and receives, against what its interface takes."""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np

from fenrask.capacity.limits import LimitUse
from fenrask.demand import Demand
from fenrask.units import clock_text, figure

__all__ = ["HostLimits", "host_limits"]

_LIMITS = {
    "connections": ("connections", "connections"),
    "new_per_s": ("new per second", "new connections per s"),
    "gbit_per_s": ("bits per second", "Gbit/s"),
    "out_gbit_per_s": ("bits sent per second", "Gbit/s"),
    "in_gbit_per_s": ("bits received per second", "Gbit/s"),
    "packets_per_s": ("packets per second", "packets per s"),
}


@dataclass(frozen=True)
class HostLimits:
    """One host of a workload against the limits of its interface, at its busiest hour."""

    workload: str
    limits: tuple[LimitUse, ...]

    @property
    def exceeded(self) -> tuple[LimitUse, ...]:
        return tuple(one for one in self.limits if one.use > one.capacity)

    def __str__(self) -> str:
        """One sentence: what is too much."""
        told = (f"{figure(one.use)} of {figure(one.capacity)} {one.unit} {one.detail}".strip() for one in self.exceeded)
        return f"Each host of {self.workload} exceeds its interface: {', '.join(told)}"


def host_limits(demand: Demand) -> Iterator[HostLimits]:
    """Those of all workloads that state an interface; flows that do not arrive count too, since hosts send them."""
    workloads = demand.paths.described.estate.workloads
    if all(one.interface is None for one in workloads.values()):
        return
    traffic, levels = demand.laid.traffic, demand.busy_levels
    wire = traffic.on_wire
    gbit = 8 / 1e9
    amounts = {
        "gbit_per_s": wire.bytes_per_s * gbit,
        "out_gbit_per_s": wire.out_per_s * gbit,
        "in_gbit_per_s": wire.in_per_s * gbit,
        "packets_per_s": wire.packets_per_s,
    }
    for number, name in enumerate(traffic.workloads):
        stated, hosts = workloads[name].interface, workloads[name].hosts
        rows = np.flatnonzero(traffic.workload == number) if stated is not None and hosts else np.zeros(0, np.intp)
        if stated is None or not rows.size:
            continue
        level = levels[rows][:, None]
        shape, asked = (
            np.stack([demand.multipliers(traffic.profiles[one]) for one in which[rows]])
            for which in (traffic.profile, traffic.asked_profile)
        )
        new = traffic.rate_per_s[rows][:, None] * shape * level
        series = {"new_per_s": new, "connections": new * traffic.duration_s[rows][:, None]}
        series["connections"] = series["connections"] + traffic.persistent[rows][:, None]
        means = np.maximum(asked.mean(axis=1, keepdims=True), 1e-300)
        for key, amount in amounts.items():
            moving = np.where(traffic.is_standing[rows][:, None], 1.0, asked / means * level)
            series[key] = amount[rows][:, None] * moving
        found = []
        for key, (what, unit) in _LIMITS.items():
            capacity = getattr(stated, key)
            if capacity is not None:
                each = series[key].sum(axis=0) / hosts
                when = f"at {clock_text(int(np.argmax(each)) * demand.step_s)}" if np.ptp(each) > 0 else ""
                use = float(each.max())
                found.append(LimitUse(what, unit, use, capacity, when, grow=partial(_growth, use, capacity)))
        yield HostLimits(name, tuple(sorted(found, key=lambda limit: limit.headroom)))


def _growth(use: float, capacity: float) -> float | None:
    return capacity / use - 1 if use else None
