"""What partners' allow-lists take: the entries of all sites that one sees."""

from fenrask.designs.choice.lanes import Site
from fenrask.designs.choice.model import Model

__all__ = ["add_partners"]


def add_partners(model: Model) -> None:
    """The entries of all sites that a partner sees stay within what its list takes."""
    by_partner: dict[str, list[int]] = {}
    for number, unit in enumerate(model.units):
        by_partner.setdefault(unit.to, []).append(number)
    for numbers in by_partner.values():
        limits = [most for number in numbers if (most := model.units[number].needs.max_source_addresses) is not None]
        if not limits:
            continue
        seen: dict[Site, int] = {}
        for number in numbers:
            for lane in model.units[number].open_lanes:
                for site in lane.distinct:
                    if site.translates:
                        used = seen.setdefault(site, model.program.variable())
                        model.program.row({model.taken[number, lane]: 1.0, used: -1.0}, high=0)
        counted: dict[int, float] = {}
        for site, used in seen.items():
            most = max(one.entries for one, _ in model.holdings[site])
            entries = model.program.variable(upper=float(most), integral=False)
            factors = {variable: float(one.entries) for one, variable in model.holdings[site]}
            model.program.row(
                {entries: 1.0, used: -float(most), **{v: -f for v, f in factors.items()}}, low=-float(most)
            )
            counted[entries] = 1.0
        model.program.row(counted, high=min(limits))
