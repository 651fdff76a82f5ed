"""`fenrask demo`."""

import sys
from pathlib import Path
from textwrap import fill, indent
from typing import Annotated

import typer

from fenrask.cli.files import write_whole
from fenrask.cli.report import Contents, made_report
from fenrask.cli.screen import rendering, say
from fenrask.demo import INVENTORY, RECORDS, STEPS, VELLMOUTH, Run, inventory_of
from fenrask.demo.records import day_of_records
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.views.formats import FORMATS
from fenrask.views.page import Page
from fenrask.views.report import as_page

__all__ = ["command"]

REPORT = "report.html"


def command(
    folder: Annotated[Path, typer.Argument(help="Where the sample estate is written.")] = Path("vellmouth"),
    force: Annotated[bool, typer.Option("--force", help="Overwrite existing files.")] = False,
    full: Annotated[bool, typer.Option("--full", help="Print the whole report of every step.")] = False,
) -> None:
    for name, content in VELLMOUTH.contents().items():
        write_whole(folder / name, content, force)
    estate = folder / "estate.yaml"
    write_whole(folder / RECORDS, day_of_records(read_estate(estate)), force)
    print(f"Vellmouth Ferries, a made-up ferry operator: {estate}. Some of it is wrong on purpose.")
    evaluation = evaluate(read_estate(estate))
    for name, content in inventory_of(evaluation).items():
        write_whole(folder / INVENTORY / name, content, force)
    pages: dict[str, Page] = {}
    run, where = Run(evaluation, folder), rendering(to_file=False)
    for number, step in enumerate(STEPS, 1):
        if not (full or step.brief):
            print(f"{number:2}. {step.command}\n    Takes a while: run it, or `fenrask demo --full`.")
            continue
        page = pages[step.command] = step.page(run)
        heading = f"{number:2}. {step.command}"
        if full:
            print(f"\n\n{heading}\n{'=' * len(heading)}\n{step.look_at}\n")
            sys.stdout.write(FORMATS["table"](page, where))
        else:
            print(heading)
            print(indent(fill(page.summary[0], where.width - 4), "    "))
        sys.stdout.flush()
    report = made_report(evaluation, estate, Contents(comparison=run.comparison, made=pages))
    write_whole(folder / REPORT, as_page(report), force)
    print(f"\nThe whole plan as one page: {folder / REPORT}\nIts figures")
    for figure in (figure for section in report.sections for figure in section.figures):
        file = folder / f"{figure.name}.svg"
        write_whole(file, figure.svg, force)
        print(f"  {file}: {figure.text.split('. ')[0].rstrip('.')}")
    say(f"Now: cd {folder}, and run any command above to see it whole; your own: `fenrask start FOLDER --from FILE...`")
