"""Which commitments on offer to take, and from which month on: what each saves while it binds, by the months' bills."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from fenrask.charges import Bill, bill
from fenrask.evaluation import Evaluation

__all__ = ["Taken", "taken", "terms_of"]

_ROUNDS = 8
"""How often each is looked at again, as the others are taken."""
Saving = Callable[[int], Fraction]
"""What one saves in a month, with the others as they are taken; below 0 where it costs more than it takes off."""


@dataclass(frozen=True)
class Taken:
    """A commitment that is taken for its term."""

    name: str
    begin: int
    until: int
    """The last month."""
    saved: Fraction
    """What it saves in all, its fee paid, beside the others that are taken."""
    worst: Fraction
    """What it saves in the month in which it does least."""

    def binds(self, month: int) -> bool:
        """Whether it is in force in a month."""
        return self.begin <= month <= self.until


def taken(ahead: Sequence[Evaluation]) -> tuple[tuple[Taken, ...], list[Bill]]:
    """The terms that save most, one commitment after another until none changes; those that end within the months.

    And the bill of each month with them. ahead: the estate of each month.
    """
    offered = {name: one.months or 0 for name, one in ahead[0].described.catalogue.commitments.items() if one.on_offer}
    bills, chosen = _Bills(ahead), dict[str, list[int]]()
    for _ in range(_ROUNDS):
        before = dict(chosen)
        for name, term in offered.items():
            chosen[name] = terms_of(len(ahead), term, bills.saving(name, _others(chosen, offered, name)))
        if chosen == before:
            break
    found = []
    for name, begins in chosen.items():
        saving = bills.saving(name, _others(chosen, offered, name))
        for begin in begins:
            months = [saving(month) for month in range(begin, begin + offered[name])]
            found.append(Taken(name, begin, begin + offered[name] - 1, sum(months, Fraction(0)), min(months)))
    found.sort(key=lambda commitment: (commitment.begin, commitment.name))
    in_force = [frozenset(one.name for one in found if one.binds(month)) for month in range(len(ahead))]
    return tuple(found), [bills.of(month, names) for month, names in enumerate(in_force)]


class _Bills:
    """The bill of each month by the commitments on offer that are taken."""

    def __init__(self, ahead: Sequence[Evaluation]) -> None:
        self._ahead = ahead
        self._known: dict[tuple[int, frozenset[str]], Bill] = {}

    def of(self, month: int, names: frozenset[str]) -> Bill:
        known = self._known.get((month, names))
        if known is None:
            now = self._ahead[month]
            described = replace(now.described, catalogue=now.described.catalogue.taking(names))
            known = bill(replace(now.paths, described=described), now.plan) if names else now.bill
            self._known[month, names] = known
        return known

    def saving(self, name: str, others: Mapping[str, Sequence[range]]) -> Saving:
        def in_month(month: int) -> Fraction:
            beside = frozenset(one for one, terms in others.items() if any(month in term for term in terms))
            return self.of(month, beside).total - self.of(month, beside | {name}).total

        return in_month


def _others(chosen: Mapping[str, Sequence[int]], offered: Mapping[str, int], name: str) -> dict[str, list[range]]:
    return {
        one: [range(begin, begin + offered[one]) for begin in begins] for one, begins in chosen.items() if one != name
    }


def terms_of(months: int, term: int, saving: Saving) -> list[int]:
    """The months in which terms begin that save most together, none before another has ended; all end within these."""
    best: list[tuple[Fraction, list[int]]] = [(Fraction(0), [])] * (months + 1)
    for begin in range(months - term, -1, -1):
        rest = best[begin + term]
        with_it = (sum(map(saving, range(begin, begin + term)), Fraction(0)) + rest[0], [begin, *rest[1]])
        # Where it saves as much, later: it binds for less of what nobody knows.
        best[begin] = with_it if with_it[0] > best[begin + 1][0] else best[begin + 1]
    return best[0][1]
