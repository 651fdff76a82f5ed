"""Whole designs side by side."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from itertools import product

from fenrask.designs.contract import Design, Patch
from fenrask.designs.draft import running_hours
from fenrask.designs.drafted import drafted, drafts_kept
from fenrask.designs.effort import routes_to_change
from fenrask.designs.held import with_held
from fenrask.designs.placing import centres
from fenrask.designs.standard import STANDARD
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate, every_broken_need
from fenrask.progress import gone_through
from fenrask.units import exact

__all__ = ["MEASURES", "Candidate", "Comparison", "NotCounted", "beside", "compare"]


@dataclass(frozen=True)
class Candidate:
    """A design that could be made, with its patch and its judgement."""

    design: Design
    patch: Patch
    evaluation: Evaluation
    public_hosts: bool = False
    """Whether hosts may be given public addresses, whatever the estate says of them."""

    @property
    def made_public(self) -> tuple[str, ...]:
        """Workloads whose hosts this gives public addresses, which the estate does not allow."""
        changed = self.patch.get("workloads") or {}
        estate = self.evaluation.described.estate
        return tuple(
            name
            for name, keys in changed.items()
            if isinstance(keys, Mapping)
            and keys.get("public_address")
            and name in estate.workloads
            and not estate.workloads[name].may_be_public
        )

    @property
    def passes(self) -> bool:
        """Whether it meets every need, carries every load, and makes no host public that is to stay private."""
        return self.evaluation.meets_all and (self.public_hosts or not self.made_public)

    @property
    def fails(self) -> tuple[str, ...]:
        """What keeps it from passing: the needs that it breaks, `capacity`, `private hosts`; empty where it passes."""
        needs = dict.fromkeys(one.need for one in self.evaluation.broken)
        public = ["private hosts"] if self.made_public and not self.public_hosts else []
        work = ["upkeep"] if self.evaluation.too_much_work else []
        return (*needs, *(["capacity"] if self.evaluation.short else []), *work, *public)

    @property
    def routes_to_change(self) -> int:
        """Routes that are set or removed, and subnets that get another table."""
        return routes_to_change(self.patch)


MEASURES: dict[str, Callable[[Candidate], float]] = {
    "month": lambda candidate: float(candidate.evaluation.bill.total),
    "addresses": lambda candidate: float(candidate.evaluation.addresses),
    "entries": lambda candidate: float(candidate.evaluation.most_entries),
    "public_hosts": lambda candidate: float(candidate.evaluation.hosts_with_public),
    "upkeep_hours": lambda candidate: candidate.evaluation.upkeep_hours,
    "routes": lambda candidate: float(candidate.routes_to_change),
}
"""What may be weighed, where a user asks for it: less is better of each."""


@dataclass(frozen=True)
class NotCounted:
    """A design that could not be made, and why."""

    design: Design
    why: str


@dataclass(frozen=True)
class Comparison:
    """All designs in the order of the registry; amounts are money a month."""

    candidates: tuple[Candidate, ...]
    not_counted: tuple[NotCounted, ...]

    def difference(self, candidate: Candidate) -> Fraction:
        """What a design costs more than the first."""
        return candidate.evaluation.bill.total - self.candidates[0].evaluation.bill.total

    @property
    def ranked(self) -> tuple[Candidate, ...]:
        """The cheapest first of those that meet every need and carry every load; then the others, likewise."""
        return tuple(
            sorted(self.candidates, key=lambda candidate: (not candidate.passes, candidate.evaluation.bill.total))
        )

    def scored(self, weights: Mapping[str, float]) -> tuple[tuple[Candidate, float], ...]:
        """By the sum of weight x measure, the least first; those that do not meet every need after all that do."""
        scores = [
            (one, sum(weight * MEASURES[name](one) for name, weight in weights.items())) for one in self.candidates
        ]
        return tuple(sorted(scores, key=lambda pair: (not pair[0].passes, pair[1])))

    @property
    def cheapest(self) -> Candidate | None:
        """The cheapest of those that meet every need and carry every load."""
        passing = [one for one in self.candidates if one.passes]
        return min(passing, key=lambda candidate: candidate.evaluation.bill.total, default=None)


def compare(described: Described, designs: Iterable[Design] = STANDARD, public_hosts: bool = False) -> Comparison:
    """Make and evaluate each design; one that gives hosts public addresses passes only where that is allowed.

    Each is tried with every offer of the kinds that it takes, and one with a common exit in each network that may be
    best for it. The cheapest that meets every need is the candidate; where none does, the first that was made.
    """
    with drafts_kept(described):
        return _compared(described, designs, public_hosts)


def _compared(described: Described, designs: Iterable[Design], public_hosts: bool) -> Comparison:
    candidates, not_counted = list[Candidate](), list[NotCounted]()
    current = evaluate(described)
    for design in gone_through([*designs], "design"):
        tried: list[Candidate] = []
        why = ""
        for offers, centre in product(_offers(design, described), _centres(design, described)):
            costs = [one.evaluation.bill.total for one in tried if one.passes] if offers else []
            if costs and _hours(described, offers) >= min(costs):
                continue
            try:
                patch = design.patch(replace(described, preferred=offers, centre=centre))
                if any(patch == one.patch for one in tried):
                    continue
                evaluation = drafted(described, patch, f"design {design.name}", current) if patch else current
            except NoAnswer as error:
                why = why or error.cause
                continue
            except UnusableInput as error:
                if design not in STANDARD:
                    raise
                why = why or f"it cannot be made from this estate: {error.problems[0].expected}"
                continue
            # What its paths alone rule out need not be sized.
            if tried and any(every_broken_need(evaluation.paths)):
                continue
            tried.append(Candidate(design, *with_held(described, patch, evaluation), public_hosts))
        if tried:
            passing = [one for one in tried if one.passes] if len(tried) > 1 else []
            candidates.append(min(passing, key=lambda candidate: candidate.evaluation.bill.total, default=tried[0]))
        else:
            not_counted.append(NotCounted(design, why))
    return Comparison(tuple(candidates), tuple(not_counted))


def _offers(design: Design, described: Described) -> Iterator[dict[str, str]]:
    """Which offers a design is tried with: what it takes by itself first, then the others by their hourly rates."""
    sold = described.catalogue.offers
    by_kind = [
        sorted((name for name, one in sold.items() if one.kind == kind), key=lambda name: sold[name].rates.hour)
        for kind in design.kinds
    ]
    yield {}
    if any(len(some) > 1 for some in by_kind):
        yield from (dict(zip(design.kinds, some, strict=True)) for some in product(*by_kind))


def _centres(design: Design, described: Described) -> list[str]:
    """Where a design is tried to have its common exit; one empty name where it has none, or none is known."""
    return (centres(described) if design.has_centre else []) or [""]


def _hours(described: Described, offers: Mapping[str, str]) -> Fraction:
    """What one exit of each of these offers costs a month by the hour: no estate with them costs less."""
    rates = (described.catalogue.offers[name].rates.hour for name in offers.values())
    month = Fraction(described.catalogue.hours_per_month)
    shorter = (running_hours(described.estate, network) for network in described.estate.networks)
    hours = min((exact(one) for one in shorter if one is not None), default=month)
    return Fraction(sum(rates, Decimal(0))) * min(month, hours)


def beside(comparison: Comparison, others: Mapping[str, Comparison]) -> Comparison:
    """Comparisons of other providers beside one, their designs named after them; the currencies have to be the same."""
    candidates, not_counted = [*comparison.candidates], [*comparison.not_counted]
    currency = comparison.candidates[0].evaluation.bill.currency
    for provider, other in others.items():
        theirs = other.candidates[0].evaluation.bill.currency
        if theirs != currency:
            raise NoAnswer(f"{provider} bills in {theirs}, not in {currency}", "Give its rates in one currency.")
        candidates += [replace(one, design=_named(one.design, provider)) for one in other.candidates]
        not_counted += [replace(one, design=_named(one.design, provider)) for one in other.not_counted]
    return Comparison(tuple(candidates), tuple(not_counted))


def _named(design: Design, provider: str) -> Design:
    return replace(design, name=f"{provider}: {design.name}")
