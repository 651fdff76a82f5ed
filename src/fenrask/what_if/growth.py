"""Growth month by month, of load and of hosts: what each month costs, and when each limit is exceeded.

More hosts have what each host has: blocks of ports, connections that are always open, a rate, limits of their own, and
volumes where these are stated for all of them together.
"""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction
from math import ceil
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity import ExitLimits
from fenrask.charges import set_up, take_down
from fenrask.estate import Case, Described, ExitModel, PublicAddress, Workload
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation.faults import case_patch, scaled, scaled_flows
from fenrask.prefixes import usable
from fenrask.progress import gone_through
from fenrask.units import figure

__all__ = [
    "BUDGET",
    "HOST_ADDRESSES",
    "PORTS",
    "Crossing",
    "Growth",
    "Month",
    "absent",
    "after",
    "crossings_of",
    "crowded_in",
    "grow",
    "grown",
    "grows",
    "load_after",
    "month",
    "months_ahead",
    "once_in",
    "only",
]


PORTS, HOST_ADDRESSES, BUDGET = "ports", "host addresses", "budget"
"""Limits that are no limits of offers, as `Crossing.limit` has them."""


@dataclass(frozen=True)
class Month:
    """One month from now: its cost, its addresses, and how much of the tightest limit of each exit is used."""

    number: int
    amount: Fraction
    addresses: int
    used: dict[str, float]
    """By exit, the use of the limit that load fills first, as a share of it."""


@dataclass(frozen=True)
class Crossing:
    """A limit, and the first month in which it is exceeded: 0 where it is now. `about` names the exit or the subnet."""

    about: str
    limit: str
    month: int
    detail: str

    def act_by(self, lead_months: float) -> float:
        """The month in which more has to be ordered; below 0 where that is over."""
        return self.month - lead_months


@dataclass(frozen=True)
class Growth:
    """Every month up to the horizon; limits exceeded in it, the first first."""

    months: tuple[Month, ...]
    crossings: tuple[Crossing, ...]


def grow(described: Described, months: int, share: float = 0.0, budget: Fraction | None = None) -> Growth:
    """Each flow and workload by its own growth, and all flows by `share` a month on top, compounded.

    budget: money a month.
    """
    ahead = months_ahead(described, months + 1, share)
    return grown((_month(number, one), tuple(crossings_of(number, one, budget))) for number, one in enumerate(ahead))


def month(
    described: Described, number: int, share: float, budget: Fraction | None
) -> tuple[Month, tuple[Crossing, ...]]:
    """One month from now, and the limits that are exceeded in it."""
    evaluation = evaluate(after(described, number, share))
    return _month(number, evaluation), tuple(crossings_of(number, evaluation, budget))


def after(described: Described, number: int, share: float = 0.0) -> Described:
    """The estate with the load, the hosts and the exits of a month from now; share: see `grow`."""
    gone = [name for name, one in described.estate.exits.items() if not _is_there(one, number)]
    if gone:
        patch = case_patch(described, Case(lose_exits=tuple(gone)))
        return after(described.without(gone, patch, f"exits of month {number}"), number, share)
    held = {name: None for name, one in described.estate.public_addresses.items() if not _is_there(one, number)}
    if not number and not held and not any(one.in_use for one in described.estate.workloads.values()):
        return described
    times = {name: load_after(described, name, number) * (1 + share) ** number for name in described.estate.flows}
    patch = _with_hosts(described, scaled_flows(described, times), _hosts(described, number))
    return described.patched(patch | ({"public_addresses": held} if held else {}), f"month {number}")


def _is_there(stated: Workload | ExitModel | PublicAddress, number: int) -> bool:
    return stated.in_use is None or stated.in_use.is_in(number)


def once_in(described: Described, number: int) -> Fraction:
    """What exits cost once that come with a month, and those that go with it."""
    total = Fraction(0)
    for name, exit_ in described.estate.exits.items() if number else ():
        if exit_.in_use is not None and _is_there(exit_, number) != _is_there(exit_, number - 1):
            total += set_up(described, name) if _is_there(exit_, number) else take_down(described, name)
    return total


def only(described: Described, number: int, share: float = 0.0) -> Described:
    """The estate of a month from now alone, which says no more how it grows; share: see `grow`."""
    then = after(described, number, share)
    sections = {
        "flows": ("growth", "growth_per_month"),
        "workloads": ("growth", "in_use"),
        "exits": ("in_use",),
        "public_addresses": ("in_use",),
    }
    patch: dict[str, Any] = {}
    for section, keys in sections.items():
        for name, stated in (then.data.get(section) or {}).items():
            said = [key for key in keys if isinstance(stated, Mapping) and key in stated]
            if said:
                patch.setdefault(section, {})[name] = dict.fromkeys(said)
    return then.patched(patch, f"month {number} alone")


def grows(described: Described) -> bool:
    """Whether any load, any number of hosts or what is there is said to change."""
    estate = described.estate
    workloads = any(one.growth or one.in_use for one in estate.workloads.values())
    flows = any(one.growth_per_month or one.growth for one in estate.flows.values())
    held = any(one.in_use for one in estate.public_addresses.values())
    return workloads or flows or held or any(one.in_use for one in estate.exits.values())


def absent(described: Described, number: int = 0) -> list[str]:
    """What is not there in a month, this one by default, though `evaluate` counts it: workloads, exits, addresses."""
    estate = described.estate
    sections = (estate.workloads, estate.exits, estate.public_addresses)
    return [name for section in sections for name, one in section.items() if not _is_there(one, number)]


def months_ahead(described: Described, months: int, share: float = 0.0) -> list[Evaluation]:
    """The estate of each month from now, evaluated with the addresses that it has today; share: see `grow`."""
    found = list[Evaluation]()
    for number in gone_through(range(months), "month"):
        found.append(evaluate(after(described, number, share), found[-1] if found else None))
    return found


def load_after(described: Described, name: str, number: int) -> float:
    """The load of a flow after so many months, as a multiple of that of now, but for what more hosts bring."""
    flow = described.estate.flows[name]
    hosts = described.estate.workloads[flow.workload]
    if not _is_there(hosts, number):
        # Whoever works there has gone, too.
        return 0.0
    own, workload = flow.growth, hosts.growth
    times = (1 + flow.growth_per_month) ** number
    times *= own.times(number) if own else 1.0
    return times * (workload.times(number) if workload else 1.0)


def _hosts(described: Described, number: int) -> dict[str, int]:
    """The hosts of each workload that grows, or is not always there, after this many months."""
    found = {}
    for name, workload in described.estate.workloads.items():
        if not _is_there(workload, number):
            found[name] = 0
        elif workload.growth:
            found[name] = max(0, workload.hosts + workload.growth.added(number))
    return found


def _with_hosts(described: Described, patch: dict[str, Any], hosts: Mapping[str, int]) -> dict[str, Any]:
    """The patch with the hosts of a month, and with the volumes that are stated for all hosts of a flow together."""
    flows = dict(patch["flows"])
    for name, flow in described.estate.flows.items():
        before = described.estate.workloads[flow.workload].hosts if flow.workload in hosts else 0
        if before and flow.users is None:
            more = hosts[flow.workload] / before
            volumes = {
                key: scaled(value, getattr(flow, key), more) if isinstance(value, Mapping) else value * more
                for key in _VOLUMES
                if (value := flows[name].get(key)) is not None
            }
            flows[name] = {**flows[name], **volumes}
    return {"flows": flows, "workloads": {name: {"hosts": number} for name, number in hosts.items()}}


_VOLUMES = ("out_gib_per_month", "in_gib_per_month")


def _rooms(described: Described) -> Iterator[tuple[str, dict[str, Fraction], int, str]]:
    """What has room for hosts of workloads that grow: its name, what share of whose hosts it has, for how many.

    Subnets, by the IPv4 addresses of their prefixes, of all workloads together; and what `hosts_in` has of workloads.
    """
    estate = described.estate
    growing = [name for name, one in estate.workloads.items() if one.growth]
    for name in growing:
        blocks = estate.workloads[name].hosts_in and [
            block for one in estate.workloads[name].subnets for block in estate.host_blocks(name, one, 4)
        ]
        if blocks:
            yield name, {name: Fraction(1)}, sum(block.size for block in blocks), " in hosts_in"
    shares: dict[str, dict[str, Fraction]] = {}
    for name in estate.workloads:
        for subnet, part in estate.host_shares(name).items():
            shares.setdefault(subnet, {})[name] = part
    for subnet in dict.fromkeys(one for name in growing for one in estate.workloads[name].subnets):
        room = sum(usable(prefix).size for prefix in estate.subnets[subnet].prefixes if prefix.version == 4)
        if room:
            yield subnet, shares.get(subnet, {}), room, ""


def _crowded(number: int, described: Described) -> Iterator[Crossing]:
    """What has fewer IPv4 addresses than hosts. described: the estate of that month."""
    hosts = {name: one.hosts for name, one in described.estate.workloads.items()}
    for about, shares, room, where in _rooms(described):
        needed = ceil(sum((hosts[name] * part for name, part in shares.items()), Fraction(0)))
        if needed > room:
            yield Crossing(about, HOST_ADDRESSES, number, f"{needed:,} hosts of {room:,}{where}")


def crowded_in(
    number: int, described: Described, samples: Mapping[str, NDArray[np.float64]], level: float
) -> Iterator[Crossing]:
    """What has fewer than hosts in more samples than the confidence leaves, though not for the likely number.

    samples: by workload, the number of its hosts as multiples of the likely one, shape (n_samples,).
    """
    hosts = {name: one.hosts for name, one in described.estate.workloads.items()}
    already = {one.about for one in _crowded(number, described)}
    for about, shares, room, where in _rooms(described) if samples else ():
        needed = sum(float(hosts[name] * part) * samples.get(name, 1.0) for name, part in shares.items())
        most = ceil(float(np.quantile(needed, level)) - 1e-9)
        if most > room and about not in already:
            yield Crossing(
                about, HOST_ADDRESSES, number, f"{most:,} hosts of {room:,}{where}, with the confidence asked for"
            )


def grown(months: Iterable[tuple[Month, tuple[Crossing, ...]]]) -> Growth:
    """Months in their order; each limit in the first in which it is exceeded."""
    found: dict[tuple[str, str], Crossing] = {}
    seen = []
    for each, crossings in months:
        seen.append(each)
        for crossing in crossings:
            found.setdefault((crossing.about, crossing.limit), crossing)
    return Growth(tuple(seen), tuple(sorted(found.values(), key=lambda crossing: crossing.month)))


def _month(number: int, evaluation: Evaluation) -> Month:
    used = {one.name: _fullest(one) for one in evaluation.capacity.every if any(limit.grows for limit in one.limits)}
    return Month(number, evaluation.bill.total, evaluation.addresses, used)


def _fullest(exit_limits: ExitLimits) -> float:
    return max(1 - limit.headroom for limit in exit_limits.limits if limit.grows)


def crossings_of(number: int, evaluation: Evaluation, budget: Fraction | None = None) -> Iterator[Crossing]:
    """The limits that are exceeded in the estate of a month."""
    for exit_limits in evaluation.capacity.every:
        if not exit_limits.enough_addresses:
            yield Crossing(exit_limits.name, PORTS, number, exit_limits.verdict)
        for limit in exit_limits.exceeded:
            yield Crossing(
                exit_limits.name, limit.limit, number, f"{figure(limit.use)} {limit.unit} of {figure(limit.capacity)}"
            )
    for partner in evaluation.plan.partners:
        if partner.most is not None and partner.entries > partner.most:
            detail = f"{partner.entries} entries of {partner.most}"
            yield Crossing(partner.destination, "allow-list", number, detail)
        elif not partner.fits and not number:
            # No load makes it otherwise.
            yield Crossing(partner.destination, "allow-list", number, partner.cannot)
    if budget is not None and evaluation.bill.total > budget:
        yield Crossing("", BUDGET, number, f"{float(evaluation.bill.total):,.2f} of {float(budget):,.2f} a month")
    yield from _crowded(number, evaluation.described)
