"""At which volume, number of hosts, or of zones, exits that could carry a flow, or whole designs, change places."""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction
from functools import partial
from itertools import combinations

from fenrask.charges import bill
from fenrask.charges.curves import Crossing, Curve, crossings
from fenrask.demand import flow_volume, month_volume
from fenrask.designs.compare import Comparison
from fenrask.errors import NoAnswer, Place, Problem, UnusableInput
from fenrask.estate import KINDS, Catalogue, Described, Offer, Tiers
from fenrask.estate.suggestions import nearest
from fenrask.evaluation.stages import Evaluation
from fenrask.routing import flow_paths
from fenrask.units import BYTES_PER_UNIT

__all__ = ["BreakEven", "DesignsBreakEven", "Meeting", "Option", "Rival", "break_even", "designs_break_even"]


@dataclass(frozen=True)
class Option:
    """One offer that could carry a flow: its month's cost against the volume both ways, in the catalogue's unit."""

    offer: str
    kind: str
    places: int
    """How many of it: one for each zone that sends, or one for the region."""
    fixed: Fraction
    per_zone: Fraction
    """What one more zone costs a month."""
    curve: Curve


@dataclass(frozen=True)
class Meeting:
    """Where two offers, or designs, cost the same."""

    one: str
    other: str
    at: Crossing
    hosts: Fraction | None
    """The number of hosts that send so much; None where the flow sends nothing."""


@dataclass(frozen=True)
class BreakEven:
    """The offers for a flow, the cheapest at its volume first, and where they change places."""

    flow: str
    unit: str
    currency: str
    volume: Fraction
    options: tuple[Option, ...]
    meetings: tuple[Meeting, ...]
    zones: tuple[tuple[str, str, Fraction], ...]
    """Two offers and the number of zones at which they cost the same, at the flow's volume."""

    @property
    def curves(self) -> Mapping[str, Curve]:
        return {one.offer: one.curve for one in self.options}


@dataclass(frozen=True)
class Rival:
    """A whole design: its month's cost against the volume of one flow, all else staying as it is."""

    design: str
    fails: tuple[str, ...]
    curve: Curve


@dataclass(frozen=True)
class DesignsBreakEven:
    """The designs at a flow's volume, the cheapest that meets every need first, and where they change places."""

    flow: str
    unit: str
    currency: str
    volume: Fraction
    rivals: tuple[Rival, ...]
    meetings: tuple[Meeting, ...]

    @property
    def curves(self) -> Mapping[str, Curve]:
        return {one.design: one.curve for one in self.rivals}


def break_even(described: Described, flow: str) -> BreakEven:
    """For one flow; UnusableInput for one that is not known. One address is counted for each place that translates."""
    estate = described.estate
    _check_flow(described, flow)
    unit = BYTES_PER_UNIT[described.catalogue.volume_unit]
    volumes = [month_volume(described, path) for path in flow_paths(described).by_flow[flow]]
    volume = sum((one.both_bytes for one in volumes), Fraction(0)) / unit
    out = sum((one.out_bytes for one in volumes), Fraction(0)) / unit
    out_share = out / volume if volume else Fraction(1)
    options = sorted(_options(described, flow, out_share), key=lambda one: one.curve.at(volume))
    hosts = estate.workloads[estate.flows[flow].from_].hosts
    each = volume / hosts if hosts else Fraction(0)
    meetings = tuple(_meetings({one.offer: one.curve for one in options}, each))
    zones = tuple(_by_zones(options, volume))
    catalogue = described.catalogue
    return BreakEven(flow, catalogue.volume_unit, catalogue.currency, volume, tuple(options), meetings, zones)


def designs_break_even(comparison: Comparison, flow: str) -> DesignsBreakEven:
    """For whole designs, at the volume of one flow: more or fewer bytes over as many connections as today.

    UnusableInput for a flow that is not known, NoAnswer for one that carries nothing.
    """
    described = comparison.candidates[0].evaluation.described
    _check_flow(described, flow)
    catalogue, estate = described.catalogue, described.estate
    unit = BYTES_PER_UNIT[catalogue.volume_unit]
    whole = flow_volume(described, flow)
    volume = (whole.out_bytes + whole.in_bytes) / unit
    if not volume:
        raise NoAnswer(f"{flow} carries no bytes", "Say out_kib_per_connection and in_kib_per_connection of it.")
    end = _SIGHT * max(volume, *(_last_edge(one.evaluation.described.catalogue) for one in comparison.candidates))
    rivals = tuple(
        Rival(
            one.design.name,
            (
                *dict.fromkeys(broken.need for broken in one.evaluation.broken),
                *(["load"] if one.evaluation.short else []),
            ),
            Curve.traced(partial(_month, one.evaluation, flow, volume), end),
        )
        for one in comparison.ranked
    )
    hosts = estate.workloads[estate.flows[flow].from_].hosts
    each = volume / hosts if hosts else Fraction(0)
    meetings = tuple(_meetings({one.design: one.curve for one in rivals}, each))
    return DesignsBreakEven(flow, catalogue.volume_unit, catalogue.currency, volume, rivals, meetings)


_SIGHT = 4
"""Curves are followed so many times beyond the last edge of a step, or the flow's volume."""


def _month(evaluation: Evaluation, flow: str, now: Fraction, volume: Fraction) -> Fraction:
    return bill(evaluation.paths, evaluation.plan, {flow: volume / now}).total


def _last_edge(catalogue: Catalogue) -> Fraction:
    """The greatest volume at which any rate changes."""
    transfers = (catalogue.transfer, *catalogue.transfer_by_region.values())
    rates = [one for each in transfers for one in (each.internet_out_per_gb, each.service_out_per_gb)]
    rates += [
        one.processed_per_gb
        for offer in catalogue.offers.values()
        for one in (offer.rates, *offer.rates_by_region.values())
    ]
    edges = [tier.up_to_gb for rate in rates if isinstance(rate, Tiers) for tier in rate.tiers if tier.up_to_gb]
    return Fraction(max(edges, default=0))


def _check_flow(described: Described, flow: str) -> None:
    if flow not in described.estate.flows:
        remedy = nearest(flow, described.estate.flows)
        raise UnusableInput([Problem(Place(path="--break-even"), repr(flow), "a flow", remedy)])


def _meetings(curves: Mapping[str, Curve], each: Fraction) -> Iterator[Meeting]:
    """Where any two curves meet; `each` is the volume of one host."""
    for one, other in combinations(curves, 2):
        for at in crossings(curves[one], curves[other]):
            yield Meeting(one, other, at, at.volume / each if each else None)


def _by_zones(options: list[Option], volume: Fraction) -> Iterator[tuple[str, str, Fraction]]:
    for one, other in combinations(options, 2):
        dearer_by = (one.curve.at(volume) - one.places * one.per_zone) - (
            other.curve.at(volume) - other.places * other.per_zone
        )
        steeper_by = other.per_zone - one.per_zone
        if steeper_by and dearer_by / steeper_by >= 1:
            yield one.offer, other.offer, dearer_by / steeper_by


def _options(described: Described, flow: str, out_share: Fraction) -> Iterator[Option]:
    estate = described.estate
    stated = estate.flows[flow]
    subnets = [estate.subnets[name] for name in estate.workloads[stated.from_].subnets]
    zones = max(1, len({one.zone for one in subnets}))
    region = estate.networks[subnets[0].network].region
    service = estate.destinations[stated.to].service
    for name, offer in described.catalogue.offers.items():
        kind = KINDS[offer.kind]
        private = offer.kind.endswith("-endpoint")
        if private and not (service and offer.leads_to(stated.to)):
            continue
        if not private and not kind.model_fields.get("addresses"):
            continue
        yield _option(described, name, offer, (zones, region, service and not private), out_share)


def _option(described: Described, name: str, offer: Offer, where: tuple[int, str, bool], out_share: Fraction) -> Option:
    zones, region, to_service = where
    catalogue, rates = described.catalogue, offer.rates_in(region)
    month = Fraction(catalogue.hours_per_month)
    address = 0 if offer.kind.endswith("-endpoint") else Fraction(catalogue.addresses_in(region).hour)
    each = month * (Fraction(rates.hour) + address)
    places = zones if offer.scope == "zone" else 1
    curve = Curve(places * each, ((Fraction(0), Fraction(0)),)) + Curve.of_rate(rates.processed_per_gb)
    if address or not offer.kind.endswith("-endpoint"):
        transfer = catalogue.transfer_in(region)
        rate = transfer.internet_out_per_gb
        if to_service and transfer.service_out_per_gb is not None:
            rate = transfer.service_out_per_gb
        curve += Curve.of_rate(rate, out_share)
    return Option(name, offer.kind, places, places * each, each if offer.scope == "zone" else Fraction(0), curve)
