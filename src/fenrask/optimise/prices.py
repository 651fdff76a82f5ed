"""What is paid by volume, as the meters of `charges` say; graduated rates exactly, and least sums.

A graduated rate is pieces that are filled in order: where a later one is cheaper, a binary says that the one
before is full.
"""

from collections.abc import Hashable, Iterator
from dataclasses import dataclass, field

from fenrask.charges import LEAST_OF
from fenrask.estate import Rate, Tiers
from fenrask.optimise.programme import Model
from fenrask.optimise.trials import Metering, identity

__all__ = ["add_metered"]


@dataclass
class _Pool:
    """Volumes that one rate is summed over, by the variable that brings them; and whose item of the bill they are."""

    rate: Rate
    item: str
    offer: str
    at: Hashable
    volumes: dict[int, float] = field(default_factory=dict)
    units: dict[int, int] = field(default_factory=dict)
    """The group of flows of each variable; -1 for what comes in whatever is chosen."""


def add_metered(model: Model) -> None:
    """What is charged by volume; and least sums."""
    pools: dict[Hashable, _Pool] = {}
    # Steps over all of an estate are shared by exits, each of which may have a least sum of its own.
    shared: dict[str, set[Hashable]] = {}
    for unit, variable, metering in _metered(model):
        # What has no steps is paid by whoever brings it: commitments tell offers apart.
        key = (metering.pool, "" if isinstance(metering.charge.rate, Tiers) else metering.offer)
        pool = pools.setdefault(key, _Pool(metering.charge.rate, metering.charge.item, metering.offer, metering.at))
        pool.volumes[variable] = pool.volumes.get(variable, 0.0) + metering.volume
        pool.units[variable] = unit
        if metering.at != metering.by and metering.charge.item in LEAST_OF:
            shared.setdefault(metering.offer, set()).add(metering.by)
    charged: dict[Hashable, dict[int, float]] = {}
    for pool in pools.values():
        spent = _charge(model, pool)
        if pool.item in LEAST_OF:
            own = charged.setdefault(pool.at, {})
            for variable, month in spent.items():
                own[variable] = own.get(variable, 0.0) + month
    for site, opened in model.opened.items():
        placed = model.placed.get(site)
        least = float(placed.least_month) if placed else 0.0
        if placed is None or not least:
            continue
        if identity(site) in shared.get(site.offer, ()):
            model.not_counted[f"the month's minimum of {site.offer}"] = None
            continue
        standing = sum(float(one.amount) for item, one in placed.standing.items() if item in LEAST_OF)
        lacking = model.program.variable(1.0, least, integral=False)
        row = charged.get(identity(site), {}) | {lacking: 1.0}
        model.program.row(row | {opened: standing - least}, low=0)


def _metered(model: Model) -> Iterator[tuple[int, int, Metering]]:
    """What each option of a group of flows brings to meters, by group and variable.

    Beside these, under -1, what comes in whatever is chosen, since the exits on its paths stay.
    """
    for key, variable in model.taken.items():
        for metering in model.tried(key).metered:
            yield key[0], variable, metering
    inward = model.grounds.metered_inward
    if inward:
        always = model.program.variable()
        model.program.row({always: 1.0}, low=1)
        for metering in inward:
            yield -1, always, metering


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
    most = _most_together(pool)
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


def _most_together(pool: _Pool) -> float:
    """The most that a pool may come to: each group of flows takes one of its options."""
    most = dict[int, float]()
    for variable, volume in pool.volumes.items():
        unit = pool.units[variable]
        most[unit] = max(most.get(unit, 0.0), volume)
    return sum(most.values())
