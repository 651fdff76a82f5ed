"""Where no choice is possible: what contradicts what."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace

from fenrask.errors import NoAnswer
from fenrask.estate.suggestions import some
from fenrask.optimise.assembly import assembled
from fenrask.optimise.judging import UNCARRIED
from fenrask.optimise.problem import PRIVATE, Unit, Wanted
from fenrask.optimise.programme import Model
from fenrask.optimise.trials import Grounds

__all__ = ["conflict", "contradictions", "smallest"]

_LOOSEN = "Loosen one of them."
_NODES = 500
"""Nodes of the search for one question: a mix that is not found in them counts as none, and that is said."""


def contradictions(units: Iterable[Unit], keep: Iterable[str]) -> str:
    """Why each of these has no option that meets its needs; several for one reason together."""
    told = dict[tuple[str, str], list[str]]()
    for unit in units:
        told.setdefault(_contradiction(unit, not {*keep}.isdisjoint(unit.flows)), []).append(
            f"{unit.name} from {unit.network}"
        )
    return "; ".join(
        (several if len(names) > 1 else alone).format(some(names)) for (alone, several), names in told.items()
    )


def _contradiction(unit: Unit, kept: bool) -> tuple[str, str]:
    """The fewest needs of a unit that no option meets together; of one that is kept, what its own path breaks.

    As a sentence about one, and about several; the braces are for their names.
    """
    if kept and not unit.options:
        why = "does not arrive, or is several at once"
        return f"{{}} cannot be kept: its current path {why}", f"{{}} cannot be kept: each path {why}"
    if kept:
        broken = ", ".join(unit.options[0].fails)
        return (
            f"{{}} cannot be kept: its current path breaks {broken}",
            f"{{}} cannot be kept: each now breaks {broken}",
        )
    if not unit.options:
        why = "not arrive, and no offer leads there (`fenrask check` says why)"
        return f"{{}} does {why}", f"{{}} do {why}"
    if all(UNCARRIED.keys() & {*option.fails} for option in unit.options):
        return ("nothing that is offered carries {}",) * 2
    failing = sorted({fails for option in unit.options for fails in option.fails})
    needed = set(failing)
    for need in failing:
        rest = needed - {need}
        if not any(not rest & set(option.fails) for option in unit.options):
            needed = rest
    together = " together" if len(needed) > 1 else ""
    return (f"{{}}: no offer meets {' and '.join(sorted(needed))}{together}",) * 2


def conflict(grounds: Grounds, units: list[Unit], asked: Wanted) -> NoAnswer:
    """The smallest set of what was asked and needed that cannot be kept together, or was not found together.

    Where nothing of it is at fault: flows without which a mix may carry the rest, as far as the programme knows.
    """
    parts, unsure = _limits(asked), list[list[str]]()
    needs = sorted(
        {(unit.name, need) for unit in units for need in unit.needs.model_fields_set if getattr(unit.needs, need)}
    )
    all_parts = [*parts, *(f"{need} of {flow}" for flow, need in needs)]

    def holds(kept: list[str]) -> bool:
        answer = _feasible(grounds, units, parts, kept)
        if answer is None:
            unsure.append(kept)
        return bool(answer)

    found = smallest(holds, all_parts[::-1])
    kept = [part for part in all_parts if part in found]
    if kept and kept[0] in parts and "budget" in parts[kept[0]] and len(kept) == 1:
        free = assembled(grounds, units, replace(asked, budget=None)).program.solve(nodes=_NODES)
        cheapest = f"; the cheapest costs {free.objective:,.2f}" if free else ""
        return NoAnswer(f"no mix costs {asked.budget:,.2f} a month or less{cheapest}", _LOOSEN)
    if len(kept) == 1:
        return NoAnswer(f"no mix {'was found that keeps' if unsure else 'keeps'} to this: {kept[0]}", _LOOSEN)
    together = "no mix was found that keeps these together" if unsure else "these cannot be kept together"
    if kept:
        return NoAnswer(f"{together}: {', '.join(kept)}", _LOOSEN)
    rest = _left_out(_loosened(grounds, units, parts, []))
    without = f"; without {some(rest)} one may" if rest else ""
    return NoAnswer(f"no mix of the offers carries the load{without}", "Add an offer that carries more.")


def _left_out(model: Model | None) -> list[str]:
    """The fewest flows without which a mix was found for the rest, not judged by the engine; none where none was."""
    if model is None:
        return []
    program, out = model.program, dict[int, Unit]()
    program.cost = [0.0] * len(program.cost)
    for unit, place in zip(model.units, model.one_option, strict=True):
        factors, low, high = program.rows[place]
        variable = program.variable(float(len(unit.flows)))
        program.rows[place] = ({**factors, variable: 1.0}, low, high)
        out[variable] = unit
    solved = program.solve(nodes=_NODES)
    left = [] if solved is None else [unit for variable, unit in out.items() if solved.values[variable] > 0.5]
    return list(dict.fromkeys(flow for unit in left for flow in unit.flows))


def smallest(holds: Callable[[list[str]], bool], parts: list[str]) -> list[str]:
    """Of parts that do not hold together, as few as do not, of which none can go (QuickXplain, Junker 2004).

    Those that come first are kept where others can go. It takes few questions where few are at fault.
    """

    def within(known: list[str], added: bool, some: list[str]) -> list[str]:
        if added and not holds(known):
            return []
        if len(some) == 1:
            return some
        first, second = some[: len(some) // 2], some[len(some) // 2 :]
        of_second = within([*known, *first], True, second)
        return [*within([*known, *of_second], bool(of_second), first), *of_second]

    return within([], True, parts) if parts else []


def _limits(asked: Wanted) -> dict[str, Mapping[str, object]]:
    """What was asked for beside the needs: in words, and as settings of a `Wanted`."""
    parts: dict[str, Mapping[str, object]] = {}
    for key, words in (
        ("budget", "a budget of {:,.2f} a month"),
        ("max_addresses", "at most {} addresses"),
        ("max_gateways", "at most {} gateways"),
        ("max_upkeep", "at most {:g} hours of work a month"),
        ("zone_headroom", "{:.0%} of ports free when a zone is lost"),
    ):
        if (value := getattr(asked, key)) is not None:
            words = words.removesuffix("es") if value == 1 and words.endswith("addresses") else words
            words = words.removesuffix("s") if value == 1 and words.endswith("gateways") else words
            parts[words.format(value)] = {key: value}
    for name in asked.keep:
        parts[f"keeping {name}"] = {"keep": name}
    return parts


def _feasible(
    grounds: Grounds, units: list[Unit], parts: Mapping[str, Mapping[str, object]], kept: list[str]
) -> bool | None:
    """Whether a mix keeps to these parts alone; None where none was found, and it is not certain that there is none."""
    model = _loosened(grounds, units, parts, kept)
    if model is None:
        return False
    found, is_certain = model.program.decide(nodes=_NODES)
    return found is not None or (False if is_certain else None)


def _loosened(
    grounds: Grounds, units: list[Unit], parts: Mapping[str, Mapping[str, object]], kept: list[str]
) -> Model | None:
    """The programme in which these parts alone are kept to; None where a unit has no option then."""
    loose, these = [], frozenset(kept)
    for unit in units:
        wanted = {need for need in type(unit.needs).model_fields if f"{need} of {unit.name}" in these}
        dropped = {
            name: type(unit.needs).model_fields[name].default
            for name in type(unit.needs).model_fields
            if name not in wanted
        }
        options = tuple(
            replace(
                one,
                fails=tuple(name for name in one.fails if name in wanted or name in {PRIVATE, *UNCARRIED}),
            )
            for one in unit.options
        )
        loose.append(Unit(replace(unit.group, needs=unit.needs.model_copy(update=dropped)), options))
    if not all(unit.open_options for unit in loose):
        return None
    stated: dict[str, object] = {}
    keep = []
    for part in kept:
        for key, value in parts.get(part, {}).items():
            if key == "keep":
                keep.append(str(value))
            else:
                stated[key] = value
    loosened = Wanted(keep=tuple(keep), **stated)  # type: ignore[arg-type]
    return assembled(grounds, loose, loosened)
