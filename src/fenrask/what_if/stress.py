"""Cases of stress, each with what would have helped."""

from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import combinations

from fenrask.capacity import ExitCapacity
from fenrask.designs.compare import Comparison, compare
from fenrask.estate import Case, Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.units import counted, exact
from fenrask.what_if.outcomes import Help, Outcome, as_sized, outcome

__all__ = ["pairs_of", "stress"]


def pairs_of(cases: Mapping[str, Case]) -> dict[str, Case]:
    """Each two cases at once."""
    return {
        f"{one}, {other}": cases[one].joined(cases[other])
        for one, other in combinations(cases, 2)
        if cases[one] != cases[other]
    }


def stress(described: Described, cases: Mapping[str, Case], comparison: Comparison | None = None) -> Iterator[Outcome]:
    """The outcome of each case, on the addresses that the estate has or is given when nothing is wrong.

    `comparison` of the standard designs is made when it is needed, unless one is given.
    """
    before = as_sized(evaluate(described))
    designs = [comparison] if comparison else []
    for name, case in cases.items():
        found = outcome(before, name, case)
        helps = [help_ for one in found.overloaded if (help_ := _more_addresses(described, one))]
        if found.cut_off:
            helps += _other_designs(before, name, case, designs)
        yield replace(found, helps=tuple(helps))


def _more_addresses(described: Described, one: ExitCapacity) -> Help | None:
    """The addresses that would have done, at their price."""
    if one.needed_now is None or one.needed_now <= one.addresses or one.exceeded:
        return None
    if one.most_addresses is not None and one.needed_now > one.most_addresses:
        return None
    more = one.needed_now - one.addresses
    region = described.estate.region_of(described.estate.exits[one.exit])
    rate, month = described.catalogue.addresses_in(region).hour, described.catalogue.hours_per_month
    what = f"{counted(more, 'more address', 'more addresses')} at {one.exit}"
    return Help(what, more * exact(rate) * exact(month))


def _other_designs(before: Evaluation, name: str, case: Case, designs: list[Comparison]) -> Iterator[Help]:
    """The cheapest standard design in which the case cuts nobody off."""
    if not designs:
        designs.append(compare(before.described))
    ordered = sorted(
        designs[0].candidates[1:], key=lambda one: (not one.evaluation.meets_all, one.evaluation.bill.total)
    )
    for one in ordered:
        estate = one.evaluation.described.estate
        if not {*case.lose_exits, *case.lose_nodes} <= {*estate.exits}:
            continue
        if not outcome(one.evaluation, name, case).cut_off:
            yield Help(f"the design {one.design.name}", one.evaluation.bill.total - before.bill.total)
            return
