"""The quantities that an estate states as ranges, and samples of all of them.

Each range {low, likely, high} is drawn from a two-piece lognormal law with `likely` as its median and `low` and `high`
as its 5th and 95th percentile (Wallis 2014, "The two-piece normal, binormal, or double Gaussian distribution", on the
logarithm); a number of hosts, which may be below 0 where it is added to others, from the two-piece normal law itself.
Ranges of one key that share a workload or a destination, or a name of what binds them, move together: what makes one
flow of them heavy makes the others so.
"""

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, TypeGuard

import numpy as np
from numpy.typing import NDArray

from fenrask.capacity import host_label
from fenrask.demand import Part
from fenrask.estate import Described, HostGrowth, LoadGrowth, number_of_month

__all__ = ["Floats", "Input", "Samples", "ranges", "sampled"]

Floats = NDArray[np.float64]
_SEED = 1
_Z95 = 1.6448536269514722
_RATES = ("per_host_per_s", "requests_per_host_per_s", "users", "connections_per_user", "persistent_per_host")
_GROWTH = "growth_per_month"
_SHARES = (_GROWTH, "growth.load_per_month")
_TIMES = ("growth.load", "growth.season")
_HOSTS = ("growth.hosts_per_month", "growth.steps")
_VOLUMES = ("out_kib_per_connection", "in_kib_per_connection", "out_gib_per_month", "in_gib_per_month")


@dataclass(frozen=True)
class Input:
    """One quantity that is stated as a range: of a flow, or of a workload for all its flows."""

    flow: str
    """Empty for the number of a workload's hosts."""
    key: str
    low: float
    likely: float
    high: float
    together: str = ""
    """What it moves together with, by name; empty for what its flow says."""
    workload: str = ""
    """Of a number of hosts: whose."""
    times: int = 1
    """In how many months it multiplies a load by then."""

    @property
    def name(self) -> str:
        """How it is told."""
        return f"{self.key} of {self.flow or self.workload}"

    @property
    def is_of_hosts(self) -> bool:
        """Whether it is a number of hosts, which is added to those that there are."""
        return self.key.startswith(_HOSTS)


def ranges(described: Described, month: int = 0) -> list[Input]:
    """Every quantity that is stated, or was measured, as a range; after so many months growth, too."""
    found, estate = [], described.estate
    for flow, stated in (described.data.get("flows") or {}).items():
        for key, value in stated.items() if isinstance(stated, Mapping) else ():
            if _is_range(value) and (month or key != _GROWTH):
                found.append(_input(flow, key, value, times=month if key == _GROWTH else 1))
        if month and isinstance(stated, Mapping):
            found += _growing(described, flow, _Stated(stated.get("growth"), estate.flows[flow].growth), month)
            workload = estate.flows[flow].workload
            of_hosts = (described.data.get("workloads") or {}).get(workload) or {}
            own = _Stated(of_hosts.get("growth"), estate.workloads[workload].growth, workload)
            found += _growing(described, flow, own, month)
    for name, stated_workload in (described.data.get("workloads") or {}).items() if month else ():
        if estate.workloads[name].growth is not None and isinstance(stated_workload, Mapping):
            found += _added(described, name, stated_workload.get("growth") or {}, estate.workloads[name].growth, month)
    return found


def _is_range(value: Any) -> TypeGuard[Mapping[str, Any]]:
    return isinstance(value, Mapping) and "likely" in value


class _Stated(NamedTuple):
    """Growth as it is written, and as it is meant; by: the workload that says so for all its flows, or empty."""

    written: Mapping[str, Any] | None
    growth: LoadGrowth | None
    by: str = ""


def _growing(described: Described, flow: str, own: _Stated, month: int) -> Iterator[Input]:
    """What multiplies the load of a flow by a month."""
    stated, growth, by = own
    if not stated or growth is None:
        return

    def told(key: str, value: Mapping[str, Any], times: int = 1) -> Input:
        together = value.get("together") or (f"{key} of {by}" if by else "")
        return _input(flow, f"{key} of its hosts" if by else key, {**value, "together": together}, times)

    if _is_range(value := stated.get("load_per_month")):
        yield told("growth.load_per_month", value, growth.months_of(month))
    table = _by_number(described, stated.get("load"))
    begun = [at for at in table if at <= month]
    if begun and _is_range(value := table[max(begun)]):
        yield told("growth.load", value)
    season = stated.get("season") or ()
    if season and month % len(season) and _is_range(value := season[month % len(season)]):
        yield told("growth.season", value)


def _added(
    described: Described, workload: str, stated: Mapping[str, Any], growth: HostGrowth | None, month: int
) -> Iterator[Input]:
    """The hosts that a workload has by a month beside those of today, where they are a range."""
    assert growth is not None
    if _is_range(value := stated.get("hosts_per_month")) and (months := growth.months_of(month)):
        low, likely, high = (float(value[one]) * months for one in ("low", "likely", "high"))
        yield Input("", _HOSTS[0], low, likely, high, str(value.get("together", "")), workload)
    for at, value in _by_number(described, stated.get("steps")).items():
        if _is_range(value) and at <= month:
            low, likely, high = (float(value[one]) for one in ("low", "likely", "high"))
            yield Input("", f"{_HOSTS[1]} in month {at}", low, likely, high, str(value.get("together", "")), workload)


def _by_number(described: Described, table: Mapping[Any, Any] | None) -> dict[int, Any]:
    """A table by month, as the estate writes it, by the number of months from now."""
    return {number_of_month(month, described.estate.first_month): value for month, value in (table or {}).items()}


def _input(flow: str, key: str, value: Mapping[str, Any], times: int = 1) -> Input:
    """One range; of a share that is added each month the law is that of what it multiplies a load by."""
    more = 1.0 if key.startswith(_SHARES) else 0.0
    low, likely, high = (float(value[one]) + more for one in ("low", "likely", "high"))
    return Input(flow, key, low, likely, high, str(value.get("together", "")), times=times)


@dataclass(frozen=True)
class Samples:
    """What samples of all inputs make of the loads; each factor has shape (n_samples,) and stands to what is likely."""

    rates: Mapping[str, Floats]
    """By flow: of its rate, but for what more hosts bring."""
    durations: Mapping[str, Floats]
    volumes: Mapping[str, Floats]
    hosts: Mapping[str, Floats]
    """By workload: of the number of its hosts."""
    of_hosts: Mapping[str, Floats]
    """By flow: of its rate, by what more hosts bring."""
    places: Mapping[str, Floats]
    """By input that is no single number: what its samples go with, on the logarithm or by number."""
    moves_apart: bool
    """Whether each input moves for itself."""
    size: int
    """How many samples there are."""

    def rate(self, flow: str) -> Floats:
        """Of the rate of a flow, all in all."""
        return self.rates[flow] * self.of_hosts[flow]

    def held(self, part: Part, by_host: bool = False) -> Floats:
        """Of the connections that a part holds: its rate, and its duration within the holding time.

        by_host: of those of each host.
        """
        rate, duration = self.rates[part.flow] if by_host else self.rate(part.flow), self.durations[part.flow]
        if part.holding_s is None or part.duration_s is None or not part.holding_s:
            return rate
        longer: Floats = rate * (1.0 + (duration - 1.0) * part.duration_s / part.holding_s)
        return longer

    def copies(self, described: Described, label: str) -> Floats | None:
        """Of the hosts of a workload in a subnet, by what these are called; None where their number is certain."""
        for name, factor in self.hosts.items():
            if any(label == host_label(name, subnet) for subnet in described.estate.workloads[name].subnets):
                return factor
        return None


def sampled(described: Described, inputs: Sequence[Input], samples: int, is_apart: bool = False) -> Samples:
    """Samples of the inputs of an estate; is_apart: as if each moved for itself."""
    causes = range(len(inputs)) if is_apart else causes_of(described, inputs)
    ones, flows = np.ones(samples), described.estate.flows
    rates, durations, volumes = dict.fromkeys(flows, ones), dict.fromkeys(flows, ones), dict.fromkeys(flows, ones)
    added, places = dict[str, Floats](), dict[str, Floats]()
    for each, drawn in zip(inputs, _drawn(inputs, causes, samples), strict=True):
        if each.high > each.low:
            places[each.name] = drawn
        if each.is_of_hosts:
            added[each.workload] = added.get(each.workload, np.zeros(samples)) + drawn
            continue
        factor = np.exp(drawn)
        if each.key in _RATES or each.key.startswith((*_SHARES, *_TIMES)):
            rates[each.flow] = rates[each.flow] * factor
        elif each.key == "duration_s":
            durations[each.flow] = durations[each.flow] * factor
            if flows[each.flow].users is not None:
                # Users hold as many at once whatever they last: they open fewer.
                rates[each.flow] = rates[each.flow] / factor
        elif each.key in _VOLUMES:
            volumes[each.flow] = volumes[each.flow] * factor
    hosts = dict[str, Floats]()
    for name, more in added.items():
        likely = described.estate.workloads[name].hosts
        if likely:
            hosts[name] = np.maximum(0.0, np.round(likely + more)) / likely
    of_hosts = {
        name: hosts[flow.workload] if flow.workload in hosts and flow.users is None else ones
        for name, flow in flows.items()
    }
    moves_apart = len({*causes}) == len(inputs)
    return Samples(rates, durations, volumes, hosts, of_hosts, places, moves_apart, samples)


def causes_of(described: Described, inputs: Sequence[Input]) -> list[int]:
    """A number for each input, the same for those that move together: of one name, or of one key and one end."""
    flows, groups = described.estate.flows, list(range(len(inputs)))
    known: dict[tuple[str, ...], int] = {}

    def first(number: int) -> int:
        while groups[number] != number:
            number = groups[number]
        return number

    for number, input_ in enumerate(inputs):
        ends: list[tuple[str, ...]]
        if input_.together:
            ends = [("name", input_.together)]
        elif input_.workload:
            ends = [("hosts", input_.key.partition(" ")[0], input_.workload)]
        else:
            flow = flows[input_.flow]
            ends = [("from", input_.key, flow.workload), ("to", input_.key, flow.other_end)]
        for end in ends:
            other = first(known.setdefault(end, number))
            groups[max(other, first(number))] = min(other, first(number))
    return [first(number) for number in range(len(inputs))]


def _drawn(inputs: Sequence[Input], causes: Sequence[int], samples: int) -> Iterator[Floats]:
    """How far each input is from what is likely, shape (n_samples,): on the logarithm, or by number of hosts.

    Those of one cause are at one place of their laws.
    """
    dice = np.random.default_rng(_SEED)
    places: dict[int, Floats] = {}
    for input_, cause in zip(inputs, causes, strict=True):
        if cause not in places:
            places[cause] = dice.standard_normal(samples)
        z = places[cause]
        if input_.is_of_hosts:
            down, up = input_.likely - input_.low, input_.high - input_.likely
        else:
            down = input_.times * math.log(input_.likely / input_.low)
            up = input_.times * math.log(input_.high / input_.likely)
        yield np.where(z < 0, z * down, z * up) / _Z95
