"""`fenrask demo`."""

import sys
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.files import write_whole
from fenrask.cli.screen import rendering, say
from fenrask.demo import STEPS, VELLMOUTH, Run
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.views.figures.blocking import draw_blocking
from fenrask.views.figures.heat import draw_heat
from fenrask.views.figures.paths import draw_paths
from fenrask.views.figures.ports import draw_ports
from fenrask.views.formats import FORMATS

__all__ = ["command"]


def command(
    folder: Annotated[Path, typer.Argument(help="Where the sample estate is written.")] = Path("vellmouth"),
    force: Annotated[bool, typer.Option("--force", help="Write over files that exist.")] = False,
) -> None:
    for name, content in VELLMOUTH.contents().items():
        write_whole(folder / name, content, force)
    estate = folder / "estate.yaml"
    print(f"Vellmouth Ferries, a made-up ferry operator: {estate}. Some of it is wrong on purpose.")
    evaluation = evaluate(read_estate(estate))
    run = Run(evaluation)
    where = rendering(to_file=False)
    for number, step in enumerate(STEPS, 1):
        heading = f"{number}. {step.command}"
        print(f"\n\n{heading}\n{'=' * len(heading)}\n{step.look_at}\n")
        sys.stdout.write(FORMATS["table"](step.page(run), where))
        sys.stdout.flush()
    print("\n\nFigures")
    for file, what, drawn in (
        (
            "ways.png",
            "every way out, its width by volume, lost ones crossed",
            draw_paths(evaluation.paths, evaluation.broken, ".png"),
        ),
        ("held.png", "connections held by exit and hour", draw_heat(evaluation.demand, ".png")),
        ("ports.png", "ports in use over the day against capacity", draw_ports(evaluation.capacity, ".png")),
        ("refusals.png", "the share refused by number of addresses", draw_blocking(evaluation.capacity, ".png")),
    ):
        write_whole(folder / file, drawn, force)
        print(f"  {folder / file}: {what}")
    say(f"Now yours: cd {folder}, change estate.yaml, and run any command above; or `fenrask start FOLDER`.")
