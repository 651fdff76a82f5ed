"""Which needs each option breaks, as the engine finds on an estate in which it is taken.

An option is a patch, its path is what the tracer finds in the patched estate, and its needs are judged there as those
of any estate. So that this takes few estates, each unit takes one of its options in each: options of the same name
together, and of networks that share nothing what comes next of each.
"""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace

from fenrask.errors import NoAnswer, UnusableInput
from fenrask.evaluation import BY_SIZE, Evaluation, evaluate
from fenrask.optimise.patch import patch_of
from fenrask.optimise.problem import CURRENT, Group, Option, Unit

__all__ = ["UNCARRIED", "breaks", "judged"]

_UNMADE = "made"
"""What an option fails of which no patch can be made, or none that holds together."""
UNCARRIED = {"arrives": "does not arrive", _UNMADE: "cannot be made"}
"""What an option fails that carries nothing, whatever is needed; in words."""

Wave = dict[int, Option]
"""An option for each of some units, by number."""


def judged(current: Evaluation, units: list[Unit], standing: Iterable[str] = ()) -> list[Unit]:
    """The same units, with the needs that each option breaks; exits that are `standing` stay whatever is taken."""
    broken: dict[tuple[int, Option], frozenset[str]] = {}
    for wave in _waves(units):
        broken |= _tried(current, units, wave, tuple(standing))
    found = []
    for number, unit in enumerate(units):
        options = (
            replace(one, fails=tuple(sorted({*one.fails, *broken.get((number, one), ())}))) for one in unit.options
        )
        found.append(Unit(unit.group, tuple(options)))
    return found


def breaks(evaluation: Evaluation, unit: Unit | Group) -> frozenset[str]:
    """The needs that a unit's flows break on their own paths, but for those that hang on what exits are given."""
    flows, subnets = evaluation.described.estate.flows, frozenset(unit.subnets)
    # Flows of one workload have the same paths, and the same is demanded of them.
    each = {flows[name].workload: name for name in unit.flows}
    return frozenset(need for name in each.values() for need in evaluation.breaks(name, subnets)) - {*BY_SIZE}


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


def _tried(
    current: Evaluation, units: list[Unit], wave: Wave, standing: tuple[str, ...]
) -> dict[tuple[int, Option], frozenset[str]]:
    """What the options of a wave break; where they cannot be made together, half by half."""
    try:
        patch = patch_of(current.described, wave, units, {}, keep=standing)
        flows = tuple(dict.fromkeys(name for number in wave for name in units[number].flows))
        evaluation = evaluate(current.described.patched(patch, "options"), current, flows=flows)
    except (NoAnswer, UnusableInput):
        if len(wave) < 2:
            return {pair: frozenset([_UNMADE]) for pair in wave.items()}
        numbers = list(wave)
        half = len(numbers) // 2
        parts: list[Mapping[int, Option]] = [
            {number: wave[number] for number in some} for some in (numbers[:half], numbers[half:])
        ]
        return {key: one for some in parts for key, one in _tried(current, units, dict(some), standing).items()}
    return {(number, option): breaks(evaluation, units[number]) for number, option in wave.items()}
