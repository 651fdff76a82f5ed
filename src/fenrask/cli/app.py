"""The program: commands loaded when they are called, errors told as sentences, exit statuses.

0 done and all well; 1 done and something is wrong with the estate; 2 the input or the call cannot be
used; 3 Fenrask's own fault.
"""

import os
import sys
from importlib import import_module
from typing import Any

import typer
from typer.core import TyperCommand, TyperGroup

from fenrask import __version__
from fenrask.errors import FenraskError, NoAnswer, UnusableInput

__all__ = ["COMMANDS", "app", "run"]

COMMANDS = {
    "demo": "Write the sample estate into a folder and run every step on it. Start here.",
    "start": "Write a small commented estate into a folder, to begin from.",
    "check": "Find the mistakes everyone makes: black holes, loops, missing routes, idle exits.",
    "path": "Show every flow's way out; or one subnet's, hop by hop.",
    "demand": "Show connections held by hour, exit, destination and flow.",
    "capacity": "Show ports and every other limit: use, headroom, refusals, addresses needed.",
    "addresses": "Show which addresses to buy, and what each partner must allow-list.",
    "charges": "Show the month's bill, line by line, and by exit, flow and cost centre.",
    "compare": "Size, price and judge whole designs side by side.",
    "choose": "Choose the cheapest mix that meets every need, prove it, and say why the others lost.",
    "stress": "Lose a zone, an exit, a node; slow destinations, storms: who is cut off, what is overloaded.",
    "simulate": "Replay the day connection by connection: what is refused, with intervals, beside the formulas.",
    "resolve": "Look destinations' names up by DNS, and compare with their prefixes on record.",
    "source": "Show which address a destination sees, now and after the loss of a zone or an exit.",
    "handover": "Write what the plan means for those who build: a translator host's rules for the kernel.",
    "confirm": "Compare what was observed with what was planned, and say what differs and why.",
    "schema": "Print the JSON Schema of the estate file or the catalogue file.",
}
"""Every command with its one sentence; each is the function `command` of the module of its name."""

ALL_WELL, WRONG_ESTATE, UNUSABLE, OWN_FAULT = 0, 1, 2, 3


class _Commands(TyperGroup):
    """Commands known by name and sentence; a module is imported when its command is called."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        self.commands = {name: TyperCommand(name, help=text) for name, text in COMMANDS.items()}

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        name, command, rest = super().resolve_command(ctx, args)
        return name, _loaded(name) if command and name else None, rest


def _loaded(name: str) -> Any:
    one = typer.Typer(add_completion=False)
    one.command(name, help=COMMANDS[name])(import_module(f"fenrask.cli.{name}").command)
    return typer.main.get_command(one)


app = typer.Typer(
    cls=_Commands,
    name="fenrask",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["--help", "-h"]},
)


def _print_version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"fenrask {__version__}")
        raise typer.Exit


@app.callback()
def _main(
    version: bool = typer.Option(
        False, "--version", callback=_print_version, is_eager=True, help="Print the version and leave."
    ),
) -> None:
    """Plan how private subnets reach the outside: ports, addresses, charges, needs, proof."""


def run() -> int:
    """Run the command line; returns the exit status."""
    try:
        app()
    except SystemExit as leave:
        return leave.code if isinstance(leave.code, int) else ALL_WELL if leave.code is None else UNUSABLE
    except UnusableInput as error:
        _complain(*map(str, error.problems), f"{len(error.problems)} found; nothing was computed")
        return UNUSABLE
    except NoAnswer as error:
        _complain(str(error))
        return WRONG_ESTATE
    except FenraskError as error:
        _complain(f"Fenrask's own fault: {error}")
        return OWN_FAULT
    except Exception as error:  # noqa: BLE001 - the last resort: whatever went wrong is told in one line
        _complain(_own_fault(error))
        return OWN_FAULT
    return ALL_WELL


def _own_fault(error: Exception) -> str:
    """An unforeseen error in one line, with the place in our code; FENRASK_TRACE=1 shows all of it."""
    if os.environ.get("FENRASK_TRACE"):
        raise error
    trace = error.__traceback__
    while trace and trace.tb_next:
        trace = trace.tb_next
    place = f" ({trace.tb_frame.f_globals.get('__name__')}:{trace.tb_lineno})" if trace else ""
    return (
        f"Fenrask's own fault: {type(error).__name__}: {error}{place}\n"
        "  Please report it with the estate file; FENRASK_TRACE=1 shows where it happened."
    )


def _complain(*lines: str) -> None:
    for line in lines:
        print(line, file=sys.stderr)
