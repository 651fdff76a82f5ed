"""How the addresses that are bought come about, and the entries of an allow-list."""

from collections.abc import Iterator

from fenrask.addresses.blocks import purchases
from fenrask.addresses.plan import AddressPlan, ExitAddresses, prices_of
from fenrask.derivation import Step
from fenrask.estate import Described

__all__ = ["explain_addresses"]


def explain_addresses(described: Described, plan: AddressPlan) -> Iterator[Step]:
    """For each exit the purchases that were weighed; for each destination the entries that add up."""
    for exit_ in plan.exits:
        yield _bought(described, exit_)
    for partner in plan.partners:
        terms = [f"{part.entries} of {part.exit}{' for it alone' if part.toward else ''}" for part in partner.parts]
        terms += [f"{len(partner.host_prefixes)} for hosts' own IPv6 addresses"] if partner.host_prefixes else []
        yield Step(
            partner.destination, "entries", str(partner.entries), " + ".join(terms) or "none that stays the same"
        )


def _bought(described: Described, exit_addresses: ExitAddresses) -> Step:
    if exit_addresses.purchase is None:
        return Step(
            exit_addresses.name,
            "entries",
            str(exit_addresses.entries),
            f"{exit_addresses.in_use} listed addresses in the fewest prefixes",
        )
    currency = described.catalogue.currency
    weighed = [
        f"{', '.join(other.blocks)}: {float(other.hour):.6g} {currency}/h, {other.entries} to allow"
        for other in purchases(exit_addresses.in_use, prices_of(described, exit_addresses.exit, blocks=True))
    ]
    return Step(
        exit_addresses.name,
        "bought",
        ", ".join(exit_addresses.blocks),
        f"the cheapest within all allow-lists, of: {'; '.join(weighed)}",
    )
