"""The whole programme of a choice."""

from fenrask.designs.choice.amounts import Amounts
from fenrask.designs.choice.metered import add_metered
from fenrask.designs.choice.model import Model
from fenrask.designs.choice.partners import add_partners
from fenrask.designs.choice.rooms import add_losses, add_rooms
from fenrask.designs.choice.units import Unit
from fenrask.designs.choice.wanted import Wanted, constrain

__all__ = ["assembled"]


def assembled(amounts: Amounts, units: list[Unit], asked: Wanted, margin: float = 0.0) -> Model:
    """Lanes, sites, what they hold and cost, partners, what is asked for; a `margin` of ports stays free."""
    model = Model(amounts, units)
    # What no choice takes down is paid in any case: hubs and lines that an offer stands behind.
    exits = amounts.described.estate.exits
    model.stand([*asked.keep, *(name for name, one in exits.items() if one.offer_name and not one.needs_offer)])
    add_rooms(model, margin)
    add_metered(model)
    model.add_commitments()
    add_partners(model)
    if asked.zone_headroom is not None:
        add_losses(model, asked.zone_headroom)
    constrain(model, asked)
    return model
