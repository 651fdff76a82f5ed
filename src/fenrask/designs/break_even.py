"""At which volume, number of hosts, or of zones, the exits that could carry a flow change places in cost."""

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from itertools import combinations

from fenrask.charges.curves import Crossing, Curve, crossings
from fenrask.demand import month_volume
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import KINDS, Described, Offer
from fenrask.estate.suggestions import nearest
from fenrask.routing import flow_ways
from fenrask.units import BYTES_PER_UNIT

__all__ = ["BreakEven", "Meeting", "Option", "break_even"]


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
    """Where two offers cost the same."""

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


def break_even(described: Described, flow: str) -> BreakEven:
    """For one flow; UnusableInput for one that is not known. One address is counted for each place that translates."""
    estate = described.estate
    if flow not in estate.flows:
        remedy = nearest(flow, estate.flows)
        raise UnusableInput([Problem(Place(path="--break-even"), repr(flow), "a flow", remedy)])
    unit = BYTES_PER_UNIT[described.catalogue.volume_unit]
    volumes = [month_volume(described, way) for way in flow_ways(described).by_flow[flow]]
    volume = sum((one.both_bytes for one in volumes), Fraction(0)) / unit
    out = sum((one.out_bytes for one in volumes), Fraction(0)) / unit
    out_share = out / volume if volume else Fraction(1)
    options = sorted(_options(described, flow, out_share), key=lambda one: one.curve.at(volume))
    hosts = estate.workloads[estate.flows[flow].from_].hosts
    each = volume / hosts if hosts else Fraction(0)
    meetings = tuple(
        Meeting(one.offer, other.offer, at, at.volume / each if each else None)
        for one, other in combinations(options, 2)
        for at in crossings(one.curve, other.curve)
    )
    zones = tuple(_by_zones(options, volume))
    catalogue = described.catalogue
    return BreakEven(flow, catalogue.volume_unit, catalogue.currency, volume, tuple(options), meetings, zones)


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
    address = 0 if offer.kind.endswith("-endpoint") else Fraction(catalogue.addresses.hour)
    each = month * (Fraction(rates.hour) + address)
    places = zones if offer.scope == "zone" else 1
    curve = Curve(places * each, ((Fraction(0), Fraction(0)),)) + Curve.of_rate(rates.processed_per_gb)
    if address or not offer.kind.endswith("-endpoint"):
        transfer = catalogue.transfer
        rate = transfer.internet_out_per_gb
        if to_service and transfer.service_out_per_gb is not None:
            rate = transfer.service_out_per_gb
        curve += Curve.of_rate(rate, out_share)
    return Option(name, offer.kind, places, places * each, each if offer.scope == "zone" else Fraction(0), curve)
