"""`fenrask confirm`."""

from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.asking import seen_by
from fenrask.cli.options import Call, shared_options, split_words
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described
from fenrask.records import Confirmed, Observation, confirm, read_observations
from fenrask.views.pages.confirm import confirm_page

__all__ = ["command"]


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ESTATE] [OBSERVATIONS]...",
            help="The estate file; and files of what was seen: CSV or JSON lines of when, from, destination, "
            "seen_as; or a far side's web log (Common Log Format, W3C Extended).",
        ),
    ] = None,
    destination: Annotated[str, typer.Option(metavar="NAME", help="Whose log it is, or who is asked.")] = "",
    ask: Annotated[
        str, typer.Option(metavar="URL", help="Ask a service that answers with the caller's address, now.")
    ] = "",
    sender: Annotated[str, typer.Option("--from", metavar="SUBNET", help="Subnet of this host, with --ask.")] = "",
) -> int:
    estate, files = split_words(words or [], 0)
    described = replace(call, estate=estate or call.estate).read()
    problems: list[Problem] = []
    observations: list[Observation] = []
    for file in files:
        observations += _read(file, destination, problems)
    if ask and not (destination and sender):
        raise UnusableInput([Problem(Place(path="--ask"), "no --destination or no --from", "both of them")])
    if ask:
        observations.append(Observation(seen_by(ask), destination, sender, place=Place(path="--ask")))
    if not observations and not problems:
        found = "no observation" if files else "no file and no --ask"
        raise UnusableInput([Problem(Place(path="OBSERVATIONS"), found, "what was seen")])
    confirmed = _readable(described, observations, problems)
    if not any(one.times for one in confirmed):
        raise UnusableInput(problems)
    problems.sort(key=lambda one: (one.place.file, one.place.line))
    call.show(confirm_page(described.estate.estate, confirmed, list(map(str, problems))))
    return int(bool(problems) or not all(one.well for one in confirmed))


def _readable(described: Described, observations: list[Observation], problems: list[Problem]) -> list[Confirmed]:
    """The observations against the plan; those that the estate does not know go to the problems, the rest stays."""
    try:
        return confirm(described, observations)
    except UnusableInput as error:
        problems += error.problems
        unfit = {one.place for one in error.problems}
        return confirm(described, [one for one in observations if one.place not in unfit])


def _read(file: str, destination: str, problems: list[Problem]) -> list[Observation]:
    try:
        text = Path(file).read_text(encoding="utf-8-sig", errors="replace")
    except OSError as error:
        found = (error.strerror or type(error).__name__).lower()
        problems.append(Problem(Place(file), found, "a file of observations"))
        return []
    return read_observations(text, file, destination, problems)
