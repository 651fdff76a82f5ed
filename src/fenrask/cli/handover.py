"""`fenrask handover`."""

import json
from datetime import date
from hashlib import sha256
from pathlib import Path
from typing import Annotated

import typer

from fenrask import __version__
from fenrask.checks.today import today
from fenrask.cli.options import Call, estate_command
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.inputs import at, file_bytes, json_values
from fenrask.views.handover import FOLDER, Handover, HandoverFile, Told
from fenrask.views.pages.handover import handover_page
from fenrask.views.today import with_today

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    save: Annotated[
        Path | None, typer.Option(metavar="FOLDER", help="Write the files into this folder; else they are only told.")
    ] = None,
    base: Annotated[
        Path | None,
        typer.Option(metavar="ESTATE", help="What is built today: hand over only what differs, and the steps from it."),
    ] = None,
    since: Annotated[
        Path | None,
        typer.Option(metavar="FOLDER", help="An earlier handover: allow-lists say what changes since then."),
    ] = None,
    valid_from: Annotated[
        str, typer.Option(metavar="DATE", help="From when allow-lists hold, such as 2026-12-01.")
    ] = "",
    lead: Annotated[
        float | None,
        typer.Option(
            metavar="MONTHS",
            min=0,
            max=60,
            help="Warn this long before a limit is reached (default: by targets.lead_days, a month at least).",
        ),
    ] = None,
    outward: Annotated[
        str, typer.Option(metavar="INTERFACE", help="The translator hosts' interface toward the internet.")
    ] = "eth0",
) -> int:
    if not outward or len(outward) > 15 or not all(sign.isalnum() or sign in "-_." for sign in outward):
        raise UnusableInput([Problem(Place(path="--outward"), repr(outward), "an interface, such as eth0")])
    evaluation = evaluate(call.read())
    before = evaluate(read_estate(base)) if base else None
    lead_months = max(1.0, evaluation.described.estate.targets.lead_days.order_months) if lead is None else lead
    told = Told(_day(valid_from), lead_months, outward, _known(since) if since else {})
    plan = Handover(evaluation, before, told)
    files = plan.files
    state = today(evaluation)
    page = handover_page(evaluation.described.estate.estate, files, plan.tasks, plan.hosts)
    if before is not None and (known := today(before)) != state:
        # What is built is today's, and what is planned is judged beside it.
        page = with_today(with_today(page, state, of="after the last step"), known)
    else:
        page = with_today(page, state)
    call.show(page)
    if save and files:
        index = _index(call.estate, files)
        call.write_all(save, {one.name: one.content for one in (*files, index)})
    return int(not state.is_well)


def _day(text: str) -> str:
    if not text:
        return ""
    try:
        return date.fromisoformat(text).isoformat()
    except ValueError:
        raise UnusableInput([Problem(Place(path="--valid-from"), repr(text), "a day, such as 2026-12-01")]) from None


def _known(folder: Path) -> dict[str, list[str]]:
    """The prefixes that each destination was told in an earlier handover."""
    found: dict[str, list[str]] = {}
    problems = []
    for file in sorted((folder / FOLDER).glob("*.json")):
        try:
            said = json_values(file_bytes(file, at(Place(str(file)), "a file of an earlier handover")))
            found[str(said["destination"])] = [str(one) for one in said["prefixes"]]
        except (ValueError, KeyError, TypeError):
            problems.append(Problem(Place(str(file)), "no allow-list", "a file of an earlier handover"))
    if not found and not problems:
        problems.append(Problem(Place(str(folder)), f"no {FOLDER} in it", "the folder of an earlier handover"))
    if problems:
        raise UnusableInput(problems)
    return found


def _index(estate: Path, files: list[HandoverFile]) -> HandoverFile:
    """What was written, from which estate, by which version."""
    whole = {
        "estate": estate.name,
        "estate_sha256": sha256(estate.read_bytes()).hexdigest() if estate.is_file() else None,
        "version": __version__,
        "files": [
            {"name": one.name, "about": one.about, "bytes": len(one.content), "sha256": sha256(one.content).hexdigest()}
            for one in files
        ],
    }
    return HandoverFile("index.json", "what was written", (json.dumps(whole, indent=2) + "\n").encode("utf-8"))
