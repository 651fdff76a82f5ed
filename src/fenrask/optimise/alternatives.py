"""One flow through each exit that could carry it, all else as it is: whole estates, evaluated like any other."""

from fenrask.designs import Candidate, Comparison, Design
from fenrask.designs.compare import NotCounted
from fenrask.errors import NoAnswer, UnusableInput
from fenrask.estate import Described
from fenrask.evaluation import Evaluation, evaluate
from fenrask.optimise.options import units_of
from fenrask.optimise.patch import Chosen, patch_and_exits
from fenrask.optimise.problem import CURRENT, Option, Unit, Wanted

__all__ = ["alternatives"]


def alternatives(described: Described, flow: str) -> Comparison:
    """The current estate, and one in which a flow takes each other option; with what cannot be made, and why.

    An exit that only this flow uses goes with it.
    """
    current = evaluate(described)
    design = Design("current path", "the estate as it is", lambda _: {})
    candidates, not_counted = [Candidate(design, {}, current)], []
    units = [unit for unit in units_of(current, Wanted(public_hosts=True)) if flow in unit.flows]
    keep = _kept(current, flow)
    for name in dict.fromkeys(option.name for unit in units for option in unit.options if option.name != CURRENT):
        chosen = Chosen(_taken(units, name), units)
        design = Design(name, f"{flow} through {name}", lambda _: {})
        try:
            patch, _ = patch_and_exits(described, chosen, keep=keep)
            evaluation = evaluate(described.patched(patch, name), like=current)
        except NoAnswer as error:
            not_counted.append(NotCounted(design, error.cause))
            continue
        except UnusableInput as error:
            not_counted.append(NotCounted(design, str(error.problems[0].expected)))
            continue
        candidates.append(Candidate(design, patch, evaluation))
    return Comparison(tuple(candidates), tuple(not_counted))


def _kept(current: Evaluation, flow: str) -> list[str]:
    """The exits that stay whatever this flow does: all but those that are paid for and that it alone uses."""
    mine = {name for path in current.paths.by_flow[flow] for name in path.trace.exits}
    others = {name for path in current.paths.paths if path.flow != flow for name in path.trace.exits}
    return [
        name for name, one in current.described.estate.exits.items() if name not in mine - others or not one.offer_name
    ]


def _taken(units: list[Unit], name: str) -> dict[int, Option]:
    """The options of that name; a unit that has none of it stays as it is."""
    found = {}
    for number, unit in enumerate(units):
        option = next((one for one in unit.options if one.name == name), None)
        if option is not None:
            found[number] = option
    return found
