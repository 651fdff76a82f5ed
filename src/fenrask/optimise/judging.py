"""Which needs each option breaks, as the engine finds on an estate in which it is taken.

An option is a patch, its path is what the tracer finds in the patched estate, and its needs are judged there as those
of any estate. So that this takes few estates, each unit takes one of its options in each: options of the same name
together, and of networks that share nothing what comes next of each. What each option does there is kept: the rows of
the programme are made of it.
"""

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

from fenrask.errors import NoAnswer, UnusableInput
from fenrask.evaluation import Evaluation, by_size, evaluate
from fenrask.optimise.patch import Chosen, patch_and_exits
from fenrask.optimise.problem import CURRENT, Group, Option, Unit
from fenrask.optimise.trials import Tried, tried_in

__all__ = ["UNCARRIED", "Judge", "breaks"]

_UNMADE = "made"
"""What an option fails of which no patch can be made, or none that holds together."""
UNCARRIED = {"arrives": "does not arrive", _UNMADE: "cannot be made"}
"""What an option fails that carries nothing, whatever is needed; in words."""

Wave = dict[int, Option]
"""An option for each of some units, by number."""


@dataclass
class Judge:
    """Tries options on an estate, and keeps what each did there; exits that are `standing` stay whatever is taken."""

    current: Evaluation
    standing: tuple[str, ...] = ()
    tried: dict[tuple[int, Option], Tried] = field(default_factory=dict)
    """What every option that could be made does, by the number of its unit."""

    def judged(self, units: list[Unit]) -> list[Unit]:
        """The same units, with the needs that each option breaks."""
        self._as_it_is(units)
        broken: dict[tuple[int, Option], frozenset[str]] = {}
        for wave in _waves(units):
            broken |= self._broken_by(units, wave)
        found = []
        for number, unit in enumerate(units):
            options = (_failing(one, broken.get((number, one), frozenset())) for one in unit.options)
            found.append(Unit(unit.group, tuple(options)))
        return found

    def _as_it_is(self, units: list[Unit]) -> None:
        """What the paths do that units have."""
        taken = {number: one for number, unit in enumerate(units) for one in unit.options if one.name == CURRENT}
        sites = {site.existing: site for one in taken.values() for site in one.distinct if site.existing}
        self.tried |= tried_in(self.current, sites, taken, units)

    def _broken_by(self, units: list[Unit], wave: Wave) -> dict[tuple[int, Option], frozenset[str]]:
        """What the options of a wave break; where they cannot be made together, half by half."""
        described = self.current.described
        try:
            patch, sites = patch_and_exits(described, Chosen(wave, units), keep=self.standing)
            flows = tuple(dict.fromkeys(name for number in wave for name in units[number].flows))
            evaluation = evaluate(described.patched(patch, "options"), self.current, flows=flows)
        except (NoAnswer, UnusableInput):
            if len(wave) < 2:
                return {pair: frozenset([_UNMADE]) for pair in wave.items()}
            numbers = list(wave)
            half = len(numbers) // 2
            parts: list[Wave] = [{number: wave[number] for number in some} for some in (numbers[:half], numbers[half:])]
            return {key: one for some in parts for key, one in self._broken_by(units, some).items()}
        self.tried |= tried_in(evaluation, sites, wave, units)
        return {(number, option): breaks(evaluation, units[number]) for number, option in wave.items()}


def _failing(option: Option, broken: frozenset[str]) -> Option:
    """An option that fails these needs, too: itself where it is known to."""
    if broken <= {*option.fails}:
        return option
    return replace(option, fails=tuple(sorted({*option.fails, *broken})))


def breaks(evaluation: Evaluation, unit: Unit | Group) -> frozenset[str]:
    """The needs that a unit's flows break on their own paths, but for those that hang on what exits are given."""
    subnets = frozenset(unit.subnets)
    found = (need for name in unit.examples for need in evaluation.breaks(name, subnets))
    return frozenset(need for need in found if not by_size(need))


def _waves(units: list[Unit]) -> Iterator[Wave]:
    """Every option but the current paths, in as few estates as may be."""
    by_name: dict[str, Wave] = {}
    apart: dict[str, dict[str, Wave]] = {}
    for number, unit in enumerate(units):
        for option in unit.options:
            if option.name == CURRENT:
                continue
            within = {site.network for site in (*option.distinct, *option.before)} <= {unit.network}
            known = apart.setdefault(unit.network, {}) if within else by_name
            known.setdefault(option.name, {})[number] = option
    yield from by_name.values()
    queues = [list(some.values()) for some in apart.values()]
    for place in range(max(map(len, queues), default=0)):
        yield {number: option for some in queues if place < len(some) for number, option in some[place].items()}
