"""What is lost: the same options in every command that can look at an estate after it."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import typer

from fenrask.cli.completion import cases, names
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Case, Described
from fenrask.estate.suggestions import unknown

__all__ = ["CaseName", "Failure", "LoseExit", "LoseZone", "asked_failure", "check_case", "check_one_way", "named_case"]

LoseZone = Annotated[list[str] | None, typer.Option("--lose-zone", metavar="ZONE", help="Lose this zone.")]
LoseExit = Annotated[
    list[str] | None,
    typer.Option("--lose-exit", metavar="EXIT", autocompletion=names("exits"), help="Lose this exit."),
]
CaseName = Annotated[
    str | None,
    typer.Option(
        "--case", metavar="NAME", autocompletion=cases, help="Strike with this case of `stress`, such as 'zone a lost'."
    ),
]


@dataclass(frozen=True)
class Failure:
    """A case that was asked for, and its name in sentences."""

    name: str
    case: Case

    def struck(self, described: Described) -> Described:
        """The estate after it, its exits as they were sized before."""
        from fenrask.evaluation import evaluate
        from fenrask.what_if import as_sized, case_patch

        before = as_sized(evaluate(described)).described
        return before.struck(case_patch(before, self.case), self.name)


def asked_failure(
    described: Described, lose_zone: Sequence[str] | None, lose_exit: Sequence[str] | None, case: str | None
) -> Failure | None:
    """The failure that the options state; None for none. UnusableInput for a name of nothing, or both ways at once."""
    zones, exits = tuple(lose_zone or ()), tuple(lose_exit or ())
    check_one_way(bool(zones or exits), case is not None)
    if case is not None:
        return Failure(case, named_case(described, case))
    if not zones and not exits:
        return None
    name = ", ".join([*(f"zone {one} lost" for one in zones), *(f"{one} lost" for one in exits)])
    return Failure(name, check_case(described, Case(lose_zones=zones, lose_exits=exits)))


def check_one_way(is_stated: bool, is_named: bool) -> None:
    """UnusableInput where a case is named and put together as well: one of the two would count for nothing."""
    if is_stated and is_named:
        raise UnusableInput([Problem(Place(path="--case"), "another loss beside it", "one of the two")])


def named_case(described: Described, name: str) -> Case:
    """A case of `stress` by its name."""
    from fenrask.what_if import all_cases

    known = all_cases(described)
    if problems := unknown("--case", [name], known, "a case of `stress`"):
        raise UnusableInput(problems)
    return known[name]


def check_case(described: Described, case: Case) -> Case:
    """The case, if all that it names is there."""
    estate = described.estate
    zones = [one.zone for one in estate.subnets.values() if one.zone]
    problems = []
    for option, stated, known in (
        ("--lose-zone", case.lose_zones, zones),
        ("--lose-exit", case.lose_exits, [*estate.exits]),
        ("--lose-node", case.lose_nodes, [*estate.exits]),
        ("--session-down", [estate.session(one)[0] for one in case.sessions_down], [*estate.exits]),
        ("--slow", case.slow, [*estate.destinations]),
        ("--silent", case.silent, [*estate.destinations]),
        ("--rejecting", case.rejecting, [*estate.destinations]),
        ("--resolver-down", case.resolver_down, [*estate.destinations]),
    ):
        problems += unknown(option, stated, known, "a name of this estate")
    problems += [
        Problem(Place(path="--session-down"), repr(name), "an exit or EXIT/ROUTER with a routing session")
        for name in case.sessions_down
        if estate.session(name)[0] in estate.exits and not estate.has_session(name)
    ]
    if problems:
        raise UnusableInput(problems)
    return case
