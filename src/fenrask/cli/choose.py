"""`fenrask choose`."""

import json
from functools import cache
from pathlib import Path
from typing import Annotated

import typer

from fenrask.checks.today import Today, today
from fenrask.cli.completion import names
from fenrask.cli.options import Call, Explain, filtered_command
from fenrask.designs import compare
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import Described
from fenrask.evaluation import evaluate
from fenrask.evaluation import explain as explained
from fenrask.optimise import Wanted, by_headroom, choose, frontier
from fenrask.views.pages.choose import choose_page, frontier_page, headrooms_page
from fenrask.views.pages.explained import with_steps
from fenrask.views.today import with_today

__all__ = ["command"]


@filtered_command
def command(
    call: Call,
    keep: Annotated[
        list[str] | None,
        typer.Option(
            metavar="NAME",
            autocompletion=names("exits", "flows"),
            help="Keep this exit or flow as it is; may be repeated.",
        ),
    ] = None,
    budget: Annotated[float | None, typer.Option(metavar="MONEY", min=0, help="Maximum cost per month.")] = None,
    max_addresses: Annotated[
        int | None, typer.Option(metavar="N", min=0, help="Maximum number of public addresses.")
    ] = None,
    max_gateways: Annotated[
        int | None,
        typer.Option(metavar="N", min=0, help="Maximum number of NAT gateways, translator hosts and firewalls."),
    ] = None,
    max_upkeep: Annotated[
        float | None,
        typer.Option(metavar="HOURS", min=0, help="Maximum hours of work a month on self-run machines."),
    ] = None,
    public_hosts: Annotated[
        bool,
        typer.Option("--public-hosts", help="Allow a public address on each host (default: hosts stay private)."),
    ] = False,
    tolerance: Annotated[
        float,
        typer.Option(
            metavar="SHARE",
            min=0,
            max=1,
            help="Show the mix with the fewest changes that costs at most this share more.",
        ),
    ] = 0.02,
    fewest_changes: Annotated[
        bool, typer.Option("--fewest-changes", help="Take that mix instead of the cheapest one.")
    ] = False,
    seconds: Annotated[
        float | None,
        typer.Option(
            metavar="SECONDS",
            min=0.1,
            help="Solver time limit in all (default: a number of nodes of the search, the same on every machine); "
            "if it is reached, the optimality gap is reported.",
        ),
    ] = None,
    zone_headroom: Annotated[
        float | None,
        typer.Option(metavar="SHARE", min=0, max=0.99, help="Share of ports to leave free when any one zone is lost."),
    ] = None,
    headrooms: Annotated[
        bool, typer.Option("--headrooms", help="Show instead the least cost for each headroom after a zone loss.")
    ] = False,
    by_addresses: Annotated[
        bool, typer.Option("--frontier", help="Show instead the least cost for each number of addresses.")
    ] = False,
    explain: Explain = False,
    figure: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Draw --frontier or --headrooms to a .png, .svg or .pdf."),
    ] = None,
    save: Annotated[Path | None, typer.Option(metavar="FILE", help="Write the choice as a JSON Merge Patch.")] = None,
) -> int:
    described = call.read()
    state = today(evaluate(described))
    every_option = call.all or call.format != "table"
    wanted = Wanted(
        tuple(keep or ()),
        budget,
        max_addresses,
        max_gateways,
        max_upkeep,
        public_hosts,
        zone_headroom,
        tolerance,
        fewest_changes,
        seconds,
        every_option=every_option,
    )
    if headrooms:
        return _headrooms(call, described, wanted, figure, state)
    if by_addresses:
        mixes = frontier(described, wanted)
        estate, currency = described.estate.estate, described.catalogue.currency
        call.show(with_today(frontier_page(estate, currency, mixes), state, ("covered",)))
        if figure:
            from fenrask.views.figures.frontier import draw_frontier

            call.write(figure, draw_frontier(estate, currency, mixes, figure.suffix))
        return int(not mixes or not state.is_well)
    if figure:
        found = "no --frontier and no --headrooms"
        raise UnusableInput([Problem(Place(path="--figure"), found, "one of them")])
    compared = cache(lambda: compare(described, public_hosts=public_hosts))
    choice = choose(described, wanted, compared)
    page = with_today(choose_page(choice, compared()), state, ("covered",))
    call.show(with_steps(page, explained(choice.evaluation)) if explain else page, choice.evaluation.paths)
    if save:
        call.write(save, (json.dumps(choice.patch, indent=2) + "\n").encode())
    return int(not choice.evaluation.meets_all or not state.is_well)


def _headrooms(call: Call, described: Described, wanted: Wanted, figure: Path | None, state: Today) -> int:
    found = by_headroom(described, wanted)
    estate, currency = described.estate.estate, described.catalogue.currency
    call.show(with_today(headrooms_page(estate, currency, found), state, ("covered",)))
    if figure:
        from fenrask.views.figures.frontier import draw_headrooms

        call.write(figure, draw_headrooms(estate, currency, found, figure.suffix))
    return int(not found or not state.is_well)
