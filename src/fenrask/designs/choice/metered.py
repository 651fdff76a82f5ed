"""What is paid by volume: carried by sites, sent to the internet and to services; graduated rates exactly.

A graduated rate is pieces that are filled in order: where a later one is cheaper, a binary says that the one
before is full.
"""

from collections.abc import Iterator
from fractions import Fraction

from fenrask.designs.choice.lanes import Lane, Site, Unit
from fenrask.designs.choice.model import Model
from fenrask.estate import Rate, Tiers

__all__ = ["add_metered"]


def add_metered(model: Model) -> None:
    """What is charged by volume: carried by sites, sent to the internet and to services."""
    catalogue = model.amounts.described.catalogue
    carried: dict[str, tuple[Rate, float, dict[int, float]]] = {}
    sent: dict[tuple[str, str], dict[int, float]] = {}
    for key, variable in model.taken.items():
        unit, lane = model.units[key[0]], key[1]
        for site, laid in model.laid[key].items():
            rate = model.offer(site).rates_in(model.region(site)).processed_per_gb
            pool = f"{site.offer} {model.region(site)}" if _estate_wide(rate) else str(site)
            volumes = carried.setdefault(pool, (rate, model.paid("processed", site.offer), {}))[2]
            volumes[variable] = volumes.get(variable, 0.0) + float(laid.volume)
        for scope, item, volume in _sent(model, unit, lane):
            volumes = sent.setdefault((scope, item), {})
            volumes[variable] = volumes.get(variable, 0.0) + float(volume)
    for rate, paid, volumes in carried.values():
        _charge(model, rate, volumes, paid)
    _minimums(model)
    for (_, item), volumes in sent.items():
        out = catalogue.transfer.internet_out_per_gb
        service = catalogue.transfer.service_out_per_gb
        rate = out if item == "internet" or service is None else service
        _charge(model, rate, volumes, model.paid("internet out", "") if item == "internet" else 1.0)


def _sent(model: Model, unit: Unit, lane: Lane) -> Iterator[tuple[str, str, Fraction]]:
    """Volumes that leave to the internet, or by a door to a service: over what they are summed, and which."""
    transfer = model.amounts.described.catalogue.transfer
    estate = model.amounts.described.estate
    wide = _estate_wide(transfer.internet_out_per_gb) or not isinstance(transfer.internet_out_per_gb, Tiers)
    item = "internet"
    if estate.destinations[unit.to].service and transfer.service_out_per_gb is not None:
        item = "service"
    if not lane.sites:
        volume = model.amounts.as_it_is(unit)[1]
        if volume:
            yield ("" if wide or item == "service" else unit.network), item, volume
        return
    out = model.amounts.volume(unit)[0] / len(unit.subnets)
    for site in lane.sites:
        if site.translates:
            yield ("" if wide or item == "service" else _last(site)), item, out


def _last(site: Site) -> str:
    """The exit at which a site's traffic leaves: its network's door, or itself where it stands in none."""
    return str(site) if site.zone is None else site.network


def _minimums(model: Model) -> None:
    """What an open site lacks to its least sum a month, where what it carries has a flat rate."""
    month = float(model.amounts.described.catalogue.hours_per_month)
    for site, opened in model.opened.items():
        rates = model.offer(site).rates_in(model.region(site))
        if not rates.month_minimum or isinstance(rates.processed_per_gb, Tiers):
            continue
        places = model.places(site)
        least = places * float(rates.month_minimum)
        lacking = model.program.variable(1.0, least, integral=False)
        row = {lacking: 1.0, opened: places * month * float(rates.hour) - least}
        for key in model.using[site]:
            row[model.taken[key]] = float(model.laid[key][site].volume) * float(rates.processed_per_gb)
        model.program.row(row, low=0)


def _charge(model: Model, rate: Rate, volumes: dict[int, float], paid: float) -> None:
    if not isinstance(rate, Tiers):
        for variable, volume in volumes.items():
            model.program.cost[variable] += float(rate) * paid * volume
        return
    most = sum(volumes.values())
    steps, begins = [], 0.0
    for tier in rate.tiers:
        ends = most if tier.up_to_gb is None else min(most, float(tier.up_to_gb))
        if ends > begins:
            steps.append((ends - begins, float(tier.rate) * paid))
            begins = ends
    filled = [model.program.variable(cost, width, integral=False) for width, cost in steps]
    model.program.row({**dict.fromkeys(filled, 1.0), **{one: -volume for one, volume in volumes.items()}}, 0, 0)
    for number in range(1, len(steps)):
        if steps[number][1] < steps[number - 1][1]:
            # A cheaper step may be used only where the one before is full.
            full = model.program.variable()
            model.program.row({filled[number]: 1.0, full: -steps[number][0]}, high=0)
            model.program.row({filled[number - 1]: 1.0, full: -steps[number - 1][0]}, low=0)


def _estate_wide(rate: Rate) -> bool:
    return isinstance(rate, Tiers) and rate.sum_over == "estate"
