"""What a choice has to keep to beside the needs."""

from dataclasses import dataclass

from fenrask.designs.choice.model import Model

__all__ = ["Wanted", "constrain"]


@dataclass(frozen=True)
class Wanted:
    """What the choice must keep to beside the needs."""

    keep: tuple[str, ...] = ()
    """Exits and flows that stay as they are."""
    budget: float | None = None
    max_addresses: int | None = None
    at_most: int | None = None
    """Translating exits at most."""
    private_hosts: bool = False
    """Whether no host may get a public address of its own."""
    zone_headroom: float | None = None
    """The share of ports that is to be left free when any one zone is lost; None where that is not asked."""
    seconds: float = 60.0
    explain: bool = True
    """Whether to look for what comes next, and why each other lane lost."""


def constrain(model: Model, asked: Wanted) -> None:
    """Rows for all of it."""
    translating = {site: variable for site, variable in model.opened.items() if site.translates}
    if asked.private_hosts:
        model.program.row(dict.fromkeys(model.public.values(), 1.0), high=0)
    if asked.at_most is not None:
        model.program.row(dict.fromkeys(translating.values(), 1.0), high=asked.at_most)
    if asked.max_addresses is not None:
        numbers = {variable: float(one.number) for held in model.holdings.values() for one, variable in held}
        numbers |= {variable: float(model.hosts(name)) for name, variable in model.public.items()}
        model.program.row(numbers, high=asked.max_addresses)
    if asked.budget is not None:
        model.program.row({number: cost for number, cost in enumerate(model.program.cost) if cost}, high=asked.budget)
