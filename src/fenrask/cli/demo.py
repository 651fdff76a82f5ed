"""`fenrask demo`."""

import sys
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.files import write_whole
from fenrask.cli.screen import rendering, say
from fenrask.demo import STEPS, VELLMOUTH
from fenrask.designs import judge
from fenrask.estate import read_estate
from fenrask.views.figures.ports import draw_ports
from fenrask.views.figures.ways import draw_ways
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
    judged = judge(read_estate(estate))
    where = rendering(to_file=False)
    for number, step in enumerate(STEPS, 1):
        heading = f"{number}. {step.command}"
        print(f"\n\n{heading}\n{'=' * len(heading)}\n{step.look_at}\n")
        sys.stdout.write(FORMATS["table"](step.page(judged), where))
        sys.stdout.flush()
    write_whole(folder / "ports.png", draw_ports(judged.capacity, ".png"), force)
    write_whole(folder / "ways.png", draw_ways(judged.ways, judged.broken, ".png"), force)
    print(f"\n\nFigures: ports in use over the day against capacity, an exit a panel: {folder / 'ports.png'}")
    print(f"and every way out, its width by volume, lost ones crossed: {folder / 'ways.png'}")
    say(f"Now yours: cd {folder}, change estate.yaml, and run any command above; or `fenrask start FOLDER`.")
