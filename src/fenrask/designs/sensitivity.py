"""One input at a time a little higher: which of them moves the month's cost, and the tightest limit, most."""

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any

from fenrask.designs.faults import case_patch, scaled_flows
from fenrask.designs.judge import Judged, judge
from fenrask.estate import Case, Described

__all__ = ["Effect", "sensitivity"]


@dataclass(frozen=True)
class Effect:
    """What one input does when it is higher by a share: to the month's cost, and to the least headroom."""

    about: str
    month_change: Fraction
    headroom_change: float


def sensitivity(described: Described, share: float = 0.1) -> list[Effect]:
    """Every flow's load and life, every time that ports stay taken, every rate; the greatest change of cost first."""
    now = judge(described)
    found = [_effect(now, about, changed) for about, changed in _changed(described, share)]
    return sorted(found, key=lambda one: (abs(one.month_change), abs(one.headroom_change)), reverse=True)


def _changed(described: Described, share: float) -> Iterator[tuple[str, Described]]:
    estate, times = described.estate, 1 + share
    for name in estate.flows:
        yield f"load of {name}", described.patched(scaled_flows(described, {name: times}), name)
    for name in estate.destinations:
        patch = case_patch(described, Case(slow={name: times}))
        if patch:
            yield f"life toward {name}", described.patched(patch, name)
    used = {one.offer_name for one in estate.exits.values() if one.offer_name}
    for name, offer in described.catalogue.offers.items():
        if name in used:
            release = {key: value * times for key, value in offer.release_s.model_dump().items() if value}
            if release and offer.ports:
                yield f"release times of {name}", _with_offer(described, name, {"release_s": release})
            if offer.rates.hour:
                yield (
                    f"hourly rate of {name}",
                    _with_offer(described, name, {"rates": {"hour": _more(offer.rates.hour, times)}}),
                )
            if isinstance(offer.rates.processed_per_gb, Decimal) and offer.rates.processed_per_gb:
                rate = _more(offer.rates.processed_per_gb, times)
                yield f"volume rate of {name}", _with_offer(described, name, {"rates": {"processed_per_gb": rate}})
    yield from _transfer(described, times)


def _transfer(described: Described, times: float) -> Iterator[tuple[str, Described]]:
    catalogue = described.catalogue
    if catalogue.addresses.hour:
        patch: dict[str, Any] = {"addresses": {"hour": _more(catalogue.addresses.hour, times)}}
        yield "rate of an address", described.with_catalogue(patch)
    for key in ("internet_out_per_gb", "service_out_per_gb", "cross_zone_per_gb", "cross_network_per_gb"):
        rate = getattr(catalogue.transfer, key)
        if isinstance(rate, Decimal) and rate:
            yield (
                f"rate of {key[:-7].replace('_', ' ')}",
                described.with_catalogue({"transfer": {key: _more(rate, times)}}),
            )
        elif rate and not isinstance(rate, Decimal):
            steps = [
                {"rate": _more(tier.rate, times)}
                | ({} if tier.up_to_gb is None else {"up_to_gb": float(tier.up_to_gb)})
                for tier in rate.tiers
            ]
            yield (
                f"rate of {key[:-7].replace('_', ' ')}",
                described.with_catalogue({"transfer": {key: {"tiers": steps}}}),
            )


def _with_offer(described: Described, name: str, patch: dict[str, Any]) -> Described:
    return described.with_catalogue({"offers": {name: patch}})


def _more(rate: Decimal, times: float) -> float:
    return float(rate) * times


def _effect(now: Judged, about: str, changed: Described) -> Effect:
    then = judge(changed)
    return Effect(about, then.bill.total - now.bill.total, _headroom(then) - _headroom(now))


def _headroom(judged: Judged) -> float:
    return judged.binding[1].headroom if judged.binding else 1.0
