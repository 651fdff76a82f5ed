"""`fenrask confirm`."""

import json
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.asking import seen_by
from fenrask.cli.completion import names
from fenrask.cli.options import Call, shared_options, split_words
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described
from fenrask.estate.suggestions import unknown
from fenrask.evaluation import Evaluation, evaluate
from fenrask.inputs import at, file_bytes, file_text
from fenrask.records.bills import confirm_bill, read_bill
from fenrask.records.compared import Compared
from fenrask.records.confirming import Confirmed, confirm
from fenrask.records.in_force import (
    NameAnswer,
    RouteSeen,
    compare_names,
    compare_routes,
    knows_names,
    knows_routes,
    read_names,
    read_routes,
)
from fenrask.records.metrics import Sample, compare_metrics, corrected_loads, knows_metrics, read_metrics
from fenrask.records.observations import Observation, read_observations
from fenrask.views.pages.confirm import confirm_page, observations_to_make

__all__ = ["command"]


@dataclass
class _Seen:
    """What all files hold, by kind; and what could not be read."""

    observations: list[Observation] = field(default_factory=list)
    samples: list[Sample] = field(default_factory=list)
    routes: list[RouteSeen] = field(default_factory=list)
    answers: list[NameAnswer] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    others: list[str] = field(default_factory=list)
    """What was read and is about something else."""


@shared_options
def command(
    call: Call,
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[ESTATE] [FILE]...",
            help="The estate file; and files of what was observed, each known by its first line: sources seen (CSV or "
            "JSON lines of when, from, destination, seen_as), a remote end's web log, a translator's connection table, "
            "gateway metrics (CSV or OpenMetrics), routes in force (CSV, or `ip -j route`), names as answered (CSV).",
        ),
    ] = None,
    destination: Annotated[
        str,
        typer.Option(
            metavar="NAME",
            autocompletion=names("destinations"),
            help="Destination that wrote the log (or that --ask queries).",
        ),
    ] = "",
    ask: Annotated[
        str, typer.Option(metavar="URL", help="Ask a service that answers with the caller's address, now.")
    ] = "",
    sender: Annotated[
        str,
        typer.Option(
            "--subnet",
            metavar="SUBNET",
            autocompletion=names("subnets"),
            help="Subnet of this host (with --ask), or of `ip -j route`.",
        ),
    ] = "",
    bill: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Also compare the provider's bill of a month (FOCUS; CSV or Parquet)."),
    ] = None,
    resource: Annotated[
        list[str] | None,
        typer.Option(metavar="RESOURCE=EXIT", help="With --bill: whose this resource is; may be repeated."),
    ] = None,
    propose: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write loads corrected by the metrics as a JSON Merge Patch.")
    ] = None,
    template: Annotated[
        bool,
        typer.Option("--template", help="Show instead the observations to make, as CSV to fill in, with commands."),
    ] = False,
) -> int:
    estate, files = split_words(words or [], 0)
    described = replace(call, estate=estate or call.estate).read()
    evaluation = evaluate(described)
    if template:
        text = observations_to_make(evaluation)
        typer.echo(text, nl=False) if call.out is None else call.write(call.out, text.encode())
        return 0
    seen = _Seen()
    for file in files:
        _read(file, destination, sender, described, seen)
    if ask and not (destination and sender):
        raise UnusableInput([Problem(Place(path="--ask"), "no --destination or no --subnet", "both of them")])
    if ask:
        seen.observations.append(Observation(seen_by(ask), destination, sender, place=Place(path="--ask")))
    compared = [*_billed(bill, resource or [], evaluation, seen)] if bill else []
    if not (files or ask or bill):
        raise UnusableInput([Problem(Place(path="FILE"), "no file, no --ask and no --bill", "what was observed")])
    confirmed = _readable(described, seen, only_seen=bool(ask) and not files)
    compared += [
        *compare_metrics(evaluation, seen.samples),
        *compare_routes(described, seen.routes),
        *compare_names(described, seen.answers),
    ]
    if not compared and not any(one.times for one in confirmed):
        raise UnusableInput(seen.problems or [Problem(Place(path="FILE"), "no observation", "what was observed")])
    problems = sorted(seen.problems, key=lambda problem: (problem.place.file, problem.place.line))
    call.show(confirm_page(described.estate.estate, confirmed, compared, [*map(str, problems)], seen.others))
    if propose:
        patch = corrected_loads(evaluation, seen.samples)
        call.write(propose, (json.dumps(patch, indent=2) + "\n").encode())
    not_well = any(not one.well for one in confirmed) or any(not one.well for one in compared)
    return int(bool(problems) or not_well)


def _readable(described: Described, seen: _Seen, only_seen: bool) -> list[Confirmed]:
    """The observations against the plan; those that the estate does not know go to the problems, the rest stays."""
    try:
        return confirm(described, seen.observations, only_seen)
    except UnusableInput as error:
        seen.problems += error.problems
        unfit = {one.place for one in error.problems}
        return confirm(described, [one for one in seen.observations if one.place not in unfit], only_seen)


def _read(file: str, destination: str, sender: str, described: Described, seen: _Seen) -> None:
    """One file into what it is by its first line."""
    try:
        text = file_text(file, at(Place(file), "a file of observations"))
    except UnusableInput as error:
        seen.problems += error.problems
        return
    first = next((line for line in text.splitlines() if line.strip()), "")
    if knows_metrics(first):
        seen.samples += read_metrics(text, file, described, seen.problems)
    elif knows_routes(first):
        seen.routes += read_routes(text, file, sender, described, seen.problems)
    elif knows_names(first):
        seen.answers += read_names(text, file, described, seen.problems)
    else:
        seen.observations += read_observations(text, file, destination, seen.problems)


def _billed(file: Path, pairs: Sequence[str], evaluation: Evaluation, seen: _Seen) -> list[Compared]:
    stated = dict(one.partition("=")[::2] for one in pairs)
    if wrong := unknown("--resource", stated.values(), evaluation.described.estate.exits, "an exit"):
        raise UnusableInput(wrong)
    content = file_bytes(file, at(Place(path="--bill"), "a bill", before=f"{file}: "))
    billed = read_bill(content, str(file), evaluation.bill.currency, seen.problems)
    compared, others = confirm_bill(evaluation, billed, stated)
    seen.others += [f"{file.name}: {others}: not compared"] if others else []
    return compared
