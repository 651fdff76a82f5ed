"""One input at a time a little higher: which of them moves the month's cost, and the tightest limit, most."""

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any

from fenrask.estate import Case, Described, Rate
from fenrask.evaluation import Evaluation, evaluate
from fenrask.evaluation.faults import case_patch, scaled_flows
from fenrask.progress import gone_through

__all__ = ["Effect", "sensitivity"]


@dataclass(frozen=True)
class Effect:
    """What one input does when it is higher by a share: to the month's cost, and to the least headroom."""

    about: str
    month_change: Fraction
    headroom_change: float


def sensitivity(described: Described, share: float = 0.1) -> list[Effect]:
    """Every flow's load and life, every time that ports stay taken, every rate; the greatest change of cost first."""
    now = evaluate(described)
    found = [_effect(now, about, changed) for about, changed in gone_through([*_changed(described, share)], "input")]
    return sorted(found, key=lambda effect: (abs(effect.month_change), abs(effect.headroom_change)), reverse=True)


_Places = dict[tuple[str, ...], object]
"""What is stated where in the catalogue."""


def _changed(described: Described, share: float) -> Iterator[tuple[str, Described]]:
    estate, times = described.estate, 1 + share
    for name in estate.flows:
        yield f"load of {name}", described.patched(scaled_flows(described, {name: times}), name)
    for name in estate.destinations:
        patch = case_patch(described, Case(slow={name: times}))
        if patch:
            yield f"duration toward {name}", described.patched(patch, name)
    used = {one.offer_name for one in estate.exits.values() if one.offer_name}
    for name, offer in described.catalogue.offers.items():
        if name in used:
            mapping_timeout = offer.mapping_timeout_s.scaled(times)
            if mapping_timeout and offer.ports:
                yield (
                    f"mapping timeouts of {name}",
                    described.with_catalogue({"offers": {name: {"mapping_timeout_s": mapping_timeout}}}),
                )
            places: _Places = {("offers", name, "rates"): offer.rates} | {
                ("offers", name, "rates_by_region", region): rates for region, rates in offer.rates_by_region.items()
            }
            yield from _dearer(described, f"hourly rate of {name}", places, "hour", times)
            yield from _dearer(described, f"volume rate of {name}", places, "processed_per_gb", times)
    catalogue = described.catalogue
    sold: _Places = {("addresses",): catalogue.addresses} | {
        ("addresses_by_region", region): one for region, one in catalogue.addresses_by_region.items()
    }
    yield from _dearer(described, "rate of an address", sold, "hour", times)
    moved: _Places = {("transfer",): catalogue.transfer} | {
        ("transfer_by_region", region): one for region, one in catalogue.transfer_by_region.items()
    }
    for key in _MOVING:
        yield from _dearer(described, f"rate of {key[:-7].replace('_', ' ')}", moved, key, times)


_MOVING = ("internet_out_per_gb", "service_out_per_gb", "cross_zone_per_gb", "cross_network_per_gb")


def _dearer(
    described: Described, about: str, places: _Places, key: str, times: float
) -> Iterator[tuple[str, Described]]:
    """One rate changed in the catalogue wherever it stands there, in all regions together; nothing where it is free."""
    patch: dict[str, Any] = {}
    for place, stated in places.items():
        rate = getattr(stated, key)
        if rate:
            inner = patch
            for step in place:
                inner = inner.setdefault(step, {})
            inner[key] = _scaled(rate, times)
    if patch:
        yield about, described.with_catalogue(patch)


def _scaled(rate: Rate, times: float) -> Any:
    if isinstance(rate, Decimal):
        return float(rate) * times
    ends = [{} if tier.up_to_gb is None else {"up_to_gb": float(tier.up_to_gb)} for tier in rate.tiers]
    return {"tiers": [{"rate": float(tier.rate) * times} | end for tier, end in zip(rate.tiers, ends, strict=True)]}


def _effect(now: Evaluation, about: str, changed: Described) -> Effect:
    then = evaluate(changed)
    return Effect(about, then.bill.total - now.bill.total, _headroom(then) - _headroom(now))


def _headroom(evaluation: Evaluation) -> float:
    return evaluation.binding[1].headroom if evaluation.binding else 1.0
