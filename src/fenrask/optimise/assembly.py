"""The whole programme of a choice."""

from fenrask.estate import ChangeCost
from fenrask.evaluation import Evaluation
from fenrask.optimise.changing import counted_in
from fenrask.optimise.limits import add_losses, add_partners, add_rooms
from fenrask.optimise.prices import add_metered
from fenrask.optimise.problem import Unit, Wanted
from fenrask.optimise.programme import Model
from fenrask.optimise.trials import Grounds

__all__ = ["assembled"]


def assembled(
    grounds: Grounds, units: list[Unit], asked: Wanted, margin: float = 0.0, current: Evaluation | None = None
) -> Model:
    """Lanes, sites, what they hold and cost, partners, what is asked for; a `margin` of ports stays free.

    With the estate as it is, what a mix changes of it is counted, and costs what the estate says.
    """
    # What no choice takes down is paid in any case: hubs and lines that have an offer.
    exits = grounds.described.estate.exits
    lasting = [name for name, one in exits.items() if one.offer_name and not one.needs_offer]
    lasting += grounds.current.paths.inward_exits
    model = Model(grounds, units, frozenset([*(one for one in asked.keep if one in exits), *lasting]))
    model.stand()
    model.add_held()
    model.add_idle()
    add_rooms(model, margin)
    add_metered(model)
    model.add_commitments()
    add_partners(model)
    if asked.zone_headroom is not None:
        add_losses(model, asked.zone_headroom)
    _constrain(model, asked)
    if current is not None:
        model.counted = counted_in(model, current)
        targets = grounds.described.estate.targets
        cost, months = targets.change_cost or ChangeCost(), targets.horizon_months
        entry, exit_, route, whole = (
            float(one) / months for one in (cost.allow_list_entry, cost.exit, cost.route, cost.allow_list)
        )
        model.add_change(*model.counted.weighed((entry, exit_, route, whole, 1 / months)))
    return model


def _constrain(model: Model, asked: Wanted) -> None:
    """Rows for all of it."""
    translating = {site: variable for site, variable in model.opened.items() if site.translates}
    if asked.max_gateways is not None:
        model.program.row(dict.fromkeys(translating.values(), 1.0), high=asked.max_gateways)
    if asked.max_addresses is not None:
        numbers = {variable: float(one.number) for held in model.purchases_of.values() for one, variable in held}
        numbers |= {variable: float(model.hosts(name)) for name, variable in model.public.items()}
        model.program.row(numbers, high=asked.max_addresses)
    target = model.described.estate.targets.upkeep_hours_per_month
    limits = [one for one in (asked.max_upkeep, target) if one is not None]
    if limits:
        work = {model.opened[site]: one.upkeep_hours for site, one in model.placed.items() if one.upkeep_hours}
        model.program.row(work, high=min(limits))
    if asked.budget is not None:
        model.program.row({number: cost for number, cost in enumerate(model.program.cost) if cost}, high=asked.budget)
