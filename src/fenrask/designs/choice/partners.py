"""What partners' allow-lists take: the entries of all sites that one sees."""

from fenrask.designs.choice.model import Model
from fenrask.designs.choice.units import Lane, Site
from fenrask.prefixes import fewest_prefixes

__all__ = ["add_partners"]


def add_partners(model: Model) -> None:
    """The entries of all sites that a partner sees stay within what its list takes; hosts one by one are not on it."""
    by_partner: dict[str, list[int]] = {}
    for number, unit in enumerate(model.units):
        by_partner.setdefault(unit.to, []).append(number)
    for numbers in by_partner.values():
        limits = [most for number in numbers if (most := model.units[number].needs.max_source_addresses) is not None]
        if not limits:
            continue
        seen, counted = dict[Site, int](), dict[int, float]()
        for number in numbers:
            for lane in model.units[number].open_lanes:
                _shown(model, number, lane, seen, counted)
        for site, used in seen.items():
            most = max(one.entries for one, _ in model.holdings[site])
            entries = model.program.variable(upper=float(most), integral=False)
            factors = {variable: float(one.entries) for one, variable in model.holdings[site]}
            model.program.row(
                {entries: 1.0, used: -float(most), **{v: -f for v, f in factors.items()}}, low=-float(most)
            )
            counted[entries] = 1.0
        model.program.row(counted, high=min(limits))


def _shown(model: Model, number: int, lane: Lane, seen: dict[Site, int], counted: dict[int, float]) -> None:
    """What a lane shows to a partner: sites by whether they are used, and entries of its own by its variable."""
    taken = model.taken[number, lane]
    if lane.own_addresses:
        model.program.row({taken: 1.0}, high=0)
    for site in lane.distinct:
        if site.translates:
            used = seen.setdefault(site, model.program.variable())
            model.program.row({taken: 1.0, used: -1.0}, high=0)
        elif site.kind == "ipv6-outbound":
            counted[taken] = float(_host_prefixes(model, number))


def _host_prefixes(model: Model, number: int) -> int:
    """The entries that a unit's own IPv6 prefixes take; those of several units count one by one."""
    subnets = model.amounts.described.estate.subnets
    stated = [one for name in model.units[number].subnets for one in subnets[name].prefixes]
    return len(fewest_prefixes([one for one in stated if one.version == 6]))
