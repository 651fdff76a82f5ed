"""Cases of stress, each with what would have helped: what is said to help is applied, and the case tried again."""

from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import combinations

from fenrask.capacity import ExitCapacity, ExitLimits
from fenrask.designs import Comparison, compare
from fenrask.estate import Case, Described
from fenrask.evaluation import Evaluation, evaluate, tried
from fenrask.progress import gone_through
from fenrask.units import counted
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
    current = evaluate(described)
    helpers = _Helpers(current, as_sized(current), comparison)
    for name, case in gone_through(cases.items(), "case"):
        found = outcome(helpers.before, name, case)
        helps = [
            help_ for one in (*found.overloaded, *found.worse) if (help_ := helpers.more_addresses(name, case, one))
        ]
        if found.cut_off and not helps:
            helps += helpers.other_designs(name, case, found)
        yield replace(found, helps=tuple(helps))


class _Helpers:
    """What could have helped, each thing evaluated once."""

    def __init__(self, current: Evaluation, before: Evaluation, comparison: Comparison | None) -> None:
        self.current = current
        self.before = before
        self._comparison = comparison
        self._known: dict[tuple[str, int], list[tuple[Evaluation, Evaluation]]] = {}
        self._sized: dict[str, Evaluation] = {}

    def more_addresses(self, name: str, case: Case, exit_limits: ExitLimits) -> Help | None:
        """The addresses that would have done, at what they add to the bill; None where none would, or do harm.

        They are given, and the case is tried again.
        """
        if not isinstance(exit_limits, ExitCapacity) or exit_limits.exceeded or exit_limits.needed_now is None:
            return None
        most, wanted = exit_limits.most_addresses, exit_limits.needed_now
        if wanted <= exit_limits.addresses or (most is not None and wanted > most):
            return None
        what = f"{counted(wanted - exit_limits.addresses, 'more address', 'more addresses')} at {exit_limits.name}"
        key = (exit_limits.name, wanted)
        if key not in self._known:
            # As single addresses; else in blocks, which take fewer entries of partners' allow-lists.
            stated = (exit_limits.with_addresses(wanted), exit_limits.with_addresses("auto", wanted))
            each = (tried(self.current, {"exits": {exit_limits.exit: keys}}, what) for keys in stated)
            self._known[key] = [(then, as_sized(then)) for then in each if then is not None]
        for given, sized in self._known[key]:
            then = outcome(sized, name, case)
            if exit_limits.name not in {each.name for each in (*then.overloaded, *then.worse)}:
                return Help(what, given.bill.total - self.current.bill.total)
        return None

    def other_designs(self, name: str, case: Case, found: Outcome) -> Iterator[Help]:
        """The cheapest standard design that meets every need, and in which the case cuts nothing of this off."""
        if self._comparison is None:
            self._comparison = compare(self.before.described)
        for candidate in self._comparison.ranked:
            exits = candidate.evaluation.described.estate.exits
            if not candidate.passes or not {*case.lose_exits, *case.lose_nodes} <= {*exits}:
                continue
            if candidate.design.name not in self._sized:
                self._sized[candidate.design.name] = as_sized(candidate.evaluation)
            then = outcome(self._sized[candidate.design.name], name, case)
            if then.cut_off or then.overloaded or then.too_fast or then.evaluation is None:
                continue
            paths = then.evaluation.paths.by_flow
            if all(path.trace.verdict.arrives for flow in found.cut_off for path in paths[flow]):
                yield Help(
                    f'the design "{candidate.design.name}"', candidate.evaluation.bill.total - self.current.bill.total
                )
                return
