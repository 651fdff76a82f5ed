"""What is paid by volume: carried by sites, sent to the internet and to services; graduated rates exactly.

A graduated rate is pieces that are filled in order: where a later one is cheaper, a binary says that the one
before is full.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from fractions import Fraction

from fenrask.charges import estate_wide
from fenrask.estate import Estate, Onward, Rate, Tiers
from fenrask.optimise.problem import Option, Role, Site, Unit
from fenrask.optimise.programme import Model

__all__ = ["add_metered"]


@dataclass(frozen=True)
class _Pool:
    """Volumes that one rate is summed over, by the variable that brings them; and whose item of the bill they are."""

    rate: Rate
    item: str
    offer: str
    volumes: dict[int, float] = field(default_factory=dict)

    def add(self, variable: int, volume: Fraction) -> None:
        self.volumes[variable] = self.volumes.get(variable, 0.0) + float(volume)


def add_metered(model: Model) -> None:
    """What is charged by volume: carried by sites, sent to the internet and to services; and least sums."""
    carried: dict[str, _Pool] = {}
    sent: dict[tuple[str, str], _Pool] = {}
    for key, variable in model.taken.items():
        unit, option = model.units[key[0]], key[1]
        for site, laid in model.laid[key].items():
            if not site.offer:
                continue
            rate = model.offer(site.offer).rates_in(model.region(site)).processed_per_gb
            scope = f"{site.offer} {model.region(site)}" if estate_wide(rate) else f"{site.offer} {site}"
            carried.setdefault(scope, _Pool(rate, "processed", site.offer)).add(variable, laid.volume)
        for one in _sent(model, unit, option):
            pool = _Pool(one.rate, one.item, "")
            sent.setdefault((one.summed_over, one.item), pool).add(variable, one.volume)
    _add_inward(model, carried, sent)
    charged = {scope: _charge(model, pool) for scope, pool in (*carried.items(), *sent.items())}
    for site, opened in model.opened.items():
        if not site.offer:
            continue
        rates = model.offer(site.offer).rates_in(model.region(site))
        if rates.month_minimum and not estate_wide(rates.processed_per_gb):
            least = model.places(site) * float(rates.month_minimum)
            lacking = model.program.variable(1.0, least, integral=False)
            row = charged.get(f"{site.offer} {site}", {}) | {lacking: 1.0}
            model.program.row(row | {opened: model.hours_month(site) - least}, low=0)


def _add_inward(model: Model, carried: dict[str, _Pool], sent: dict[tuple[str, str], _Pool]) -> None:
    """What flows that come in are charged whatever is chosen, since the exits on their paths stay."""
    described = model.amounts.described
    paths = model.amounts.coming_in
    if not paths:
        return
    always = model.program.variable()
    model.program.row({always: 1.0}, low=1)
    opened = {site.existing: site for site in model.opened if site.existing}
    for path in paths:
        out, both = model.amounts.volume_of(path)
        for name in path.example.exits:
            site = opened.get(name)
            if site is not None and site.offer:
                rate = model.offer(site.offer).rates_in(model.region(site)).processed_per_gb
                scope = f"{site.offer} {model.region(site)}" if estate_wide(rate) else f"{site.offer} {site}"
                carried.setdefault(scope, _Pool(rate, "processed", site.offer)).add(always, both)
        model.program.cost[always] += float(model.amounts.crossed(path, both))
        if path.example.onward is Onward.INTERNET:
            name = path.example.boundary
            region = described.estate.region_of(described.estate.exits[name])
            one = _leaving(model, _internet_exit(described.estate, name), region, out, service=False)
            sent.setdefault((one.summed_over, one.item), _Pool(one.rate, one.item, "")).add(always, one.volume)


@dataclass(frozen=True)
class _Sent:
    """A volume that leaves to the internet, or by a door to a service, and over what its rate's steps are summed."""

    summed_over: str
    item: str
    rate: Rate
    volume: Fraction


def _sent(model: Model, unit: Unit, option: Option) -> Iterator[_Sent]:
    if not option.exists:
        out = model.amounts.volume(unit)[0]
        shares = zip(option.sites, unit.group.weights, strict=False)
        leaving = [(_last(site), model.region(site), out * weight) for site, weight in shares if site.leaves]
    else:
        estate = model.amounts.described.estate
        leaving = [
            (_internet_exit(estate, name), estate.region_of(estate.exits[name]), volume)
            for name, volume in model.amounts.sent_along(unit, option).items()
        ]
    service = model.amounts.described.estate.destinations[unit.to].service
    for internet_exit, region, volume in leaving:
        yield _leaving(model, internet_exit, region, volume, service)


def _leaving(model: Model, internet_exit: str, region: str, volume: Fraction, service: bool) -> _Sent:
    """A volume that leaves by an internet exit of a region."""
    catalogue = model.amounts.described.catalogue
    transfer, tariff = catalogue.transfer_in(region), catalogue.tariff_of(region)
    if service and transfer.service_out_per_gb is not None:
        return _Sent(tariff, "service out", transfer.service_out_per_gb, volume)
    rate = transfer.internet_out_per_gb
    each = isinstance(rate, Tiers) and rate.sum_over == "exit"
    return _Sent(f"{tariff} {internet_exit}" if each else tariff, "internet out", rate, volume)


def _last(site: Site) -> str:
    """The exit at which a site's traffic leaves: its network's door, or itself where it stands in none."""
    if site.existing and site.whole_network:
        return site.existing
    return str(site) if site.whole_network or site.role is Role.IPV6_OUT else site.network


def _internet_exit(estate: Estate, name: str) -> str:
    """The same of an exit that stands already."""
    one = estate.exits[name]
    return (estate.network_of(one) or name) if one.needs_public_source else name


def _charge(model: Model, pool: _Pool) -> dict[int, float]:
    """Let a pool's volume cost what it does; the money by variable, before discounts."""
    if not isinstance(pool.rate, Tiers):
        spent = {variable: float(pool.rate) * volume for variable, volume in pool.volumes.items()}
    else:
        spent = _steps(model, pool, pool.rate)
    for variable, month in spent.items():
        model.spend(pool.item, pool.offer, variable, month)
    return spent


def _steps(model: Model, pool: _Pool, rate: Tiers) -> dict[int, float]:
    """A graduated rate: a variable for what fills each step, with its money."""
    most = sum(pool.volumes.values())
    steps, begins = [], 0.0
    for tier in rate.tiers:
        ends = most if tier.up_to_gb is None else min(most, float(tier.up_to_gb))
        if ends > begins:
            steps.append((ends - begins, float(tier.rate)))
            begins = ends
    # In units of the step's width, so that factors stay near 1.
    filled = [model.program.variable(integral=False) for _ in steps]
    whole = {variable: width for variable, (width, _) in zip(filled, steps, strict=True)}
    model.program.row(whole | {one: -volume for one, volume in pool.volumes.items()}, 0, 0)
    for number in range(1, len(steps)):
        if steps[number][1] < steps[number - 1][1]:
            # A cheaper step may be used only where the one before is full.
            full = model.program.variable()
            model.program.row({filled[number]: 1.0, full: -1.0}, high=0)
            model.program.row({filled[number - 1]: 1.0, full: -1.0}, low=0)
    return {variable: width * cost for variable, (width, cost) in zip(filled, steps, strict=True)}
