"""The program: commands loaded when they are called, errors told as sentences, exit statuses.

0 done and all well; 1 done, and the estate or the answer is not well; 2 the input or the call cannot be
used; 3 Fenrask's own fault.
"""

import errno
import os
import sys
from dataclasses import dataclass
from importlib import import_module
from typing import Any, TextIO

import typer
from typer.core import TyperCommand, TyperGroup

from fenrask import __version__
from fenrask.cli.streams import speak_plainly
from fenrask.errors import FenraskError, NoAnswer, UnusableInput
from fenrask.units import counted
from fenrask.views.quoting import visible

__all__ = ["COMMANDS", "app", "run"]


@dataclass(frozen=True)
class Told:
    """What help says of a command: its group, its sentence, and examples that run on the sample."""

    group: str
    sentence: str
    examples: tuple[str, ...]


_BEGIN, _DESCRIBE, _SIZE, _PRICE, _BUILD = (
    "Begin", "Describe the network", "Size it", "Price and decide", "Build and verify",
)  # fmt: skip

COMMANDS = {
    "demo": Told(_BEGIN, "Run the whole work on a sample estate. Start here.", ("demo", "demo ferries --full")),
    "start": Told(
        _BEGIN,
        "Write an estate and a catalogue to begin from: small, or drafted from inventories, routes, records, a bill.",
        (
            "start mine",
            "start mine --from subnets.csv routes.yang.json records.csv.gz bill.csv",
            "start --update mine/estate.yaml --from subnets.csv",
            "start second --from estate.yaml --names names.yaml",
        ),
    ),
    "check": Told(
        _DESCRIBE,
        "Find mistakes: black holes, loops, missing return paths, needs not met, exhausted ports, idle exits.",
        (
            "check",
            "check --save fixes",
            "check --rules",
            "check --fail-on warning",
            "check --format sarif --out check.sarif",
            "check --without spare-host",
        ),
    ),
    "path": Told(
        _DESCRIBE,
        "Show the path of every flow: its exits, the source address seen, the verdict; or one path hop by hop.",
        (
            "path",
            "path telemetry-a",
            "path telemetry-a package-mirrors",
            "path --lose-zone a",
            "path --inward",
            "path --lines",
        ),
    ),
    "resolve": Told(
        _DESCRIBE,
        "Look up destinations' names by DNS and compare with the prefixes in the estate.",
        ("resolve --server 192.0.2.53 --save resolved.json", "resolve --server 192.0.2.53 --history names.csv"),
    ),
    "merged": Told(
        _DESCRIBE,
        "Print the estate with patches, settings and companion tables merged in.",
        ("merged --set exits.gate-a.addresses=4 --out larger.yaml", "merged --month 12 --out then.yaml"),
    ),
    "schema": Told(
        _DESCRIBE,
        "Print the JSON Schema of the estate file, the catalogue, or the JSON that commands print.",
        ("schema", "schema catalogue", "schema results"),
    ),
    "measure": Told(
        _SIZE,
        "Measure load from connection records: rates, durations, endings, volumes, concurrency of each subnet.",
        ("measure records.csv --save measured.json", "measure records.csv --propose missing.json"),
    ),
    "demand": Told(
        _SIZE,
        "Show the concurrent connections through the day, by exit, destination and flow.",
        ("demand", "demand --explain", "demand --figure load.png"),
    ),
    "capacity": Told(
        _SIZE,
        "Show whether translated ports and every other limit suffice at the peak, and the addresses needed.",
        (
            "capacity",
            "capacity --set exits.gate-a.addresses=4",
            "capacity --timeout idle=180..5400",
            "capacity --figure ports.png",
        ),
    ),
    "addresses": Told(
        _SIZE,
        "Show the public addresses to buy, and what each partner must put on its allow-list.",
        ("addresses", "addresses --add gate-a=2"),
    ),
    "stress": Told(
        _SIZE,
        "Lose a zone, an exit or a node, or raise the load: who is cut off, which exits are overloaded, what helps.",
        ("stress", 'stress --case "zone a lost"', "stress --load-up 0.3", "stress --months 24 --growth 0.03"),
    ),
    "simulate": Told(
        _SIZE,
        "Replay the day connection by connection: the share that finds no free port, beside the formula.",
        (
            "simulate --exit gate-a --around 1",
            "simulate --records records.csv.gz",
            'simulate --exit gate-a --case "zone b lost" --outage 20 --around 1',
        ),
    ),
    "relieve": Told(
        _SIZE,
        "Ports are running out now: show who takes them, in what state, and the quickest relief with its cost.",
        ("relieve table.txt --exit gate-a", "relieve /proc/net/nf_conntrack --exit gate-a --follow 5"),
    ),
    "charges": Told(
        _PRICE,
        "Show the month's bill, by exit, flow and cost centre, and every line of it.",
        ("charges", "charges --explain", "charges --months 12", "charges --break-even pictures"),
    ),
    "compare": Told(
        _PRICE,
        "Compare whole designs side by side: cost, needs, addresses, what the loss of a zone does.",
        ("compare", "compare --save designs", "compare --break-even rosters", "compare --figure designs.png"),
    ),
    "choose": Told(
        _PRICE,
        "Find the cheapest mix of exits that meets every need, with proof, and the changes to make.",
        ("choose", "choose --keep tides", "choose --save chosen.json", "choose --frontier"),
    ),
    "schedule": Told(
        _PRICE,
        "Show what to buy when as load grows: addresses by month, by when to order them, and what that costs.",
        ("schedule", "schedule --months 12 --begin 2026-12-01", "schedule --figure schedule.png"),
    ),
    "report": Told(
        _BUILD,
        "Write the whole plan as one page to open, print and send: answer, figures, tables, proof, assumptions.",
        ("report plan.html", "report plan.md --leave-out designs", "report after.html --base before.yaml"),
    ),
    "handover": Told(
        _BUILD,
        "Write what others need: allow-lists, routes, NAT, filters, build steps with checks, alerts, a workbook.",
        ("handover", "handover --save plan", "handover after.yaml --base before.yaml --save change"),
    ),
    "source": Told(
        _BUILD,
        "Show which source address a destination sees, now and after the loss of a zone or an exit.",
        (
            "source fare-acquirer",
            "source fare-acquirer --lose-zone a",
            "source events.txt --used 203.0.113.200:40001 --at 2026-11-20T17:04:10Z",
        ),
    ),
    "rehearse": Told(
        _BUILD,
        "Build the estate in network namespaces of this machine and send real packets through it: plan against kernel.",
        ("rehearse", "rehearse --base before.yaml", "rehearse --base before.yaml --step 3"),
    ),
    "confirm": Told(
        _BUILD,
        "Compare what is observed (sources, metrics, routes, names, the bill) with the plan: what differs and why.",
        ("confirm observed.csv", "confirm --bill bill.csv", "confirm --template --out seen.csv"),
    ),
}
"""Every command; each is the function `command` of the module of its name."""

_STATUSES = (
    "Exit status: 0 all well; 1 the estate has errors as it is, or the answer is a bad one (docs/guide.md); "
    "2 the call or a file cannot be used; 3 a fault of Fenrask itself."
)

ALL_WELL, WRONG_ESTATE, UNUSABLE, OWN_FAULT, STOPPED = 0, 1, 2, 3, 130


def _without_types(params: list[Any]) -> list[Any]:
    """Parameters of which help tells no class of values where there are none to give, or the metavar says all."""
    for param in params:
        if param.param_type_name == "argument" or getattr(param, "is_flag", False):
            param.display_type_rich = _no_type
    return params


def _no_type(ctx: Any) -> None:
    """Nothing, as the library asks for it."""


class _Command(TyperCommand):
    def get_params(self, ctx: Any) -> list[Any]:
        return _without_types(super().get_params(ctx))


class _Commands(TyperGroup):
    """Commands known by name and sentence; a module is imported when its command is called."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings)
        self.commands = {
            name: TyperCommand(name, help=one.sentence, rich_help_panel=one.group) for name, one in COMMANDS.items()
        }

    def get_params(self, ctx: Any) -> list[Any]:
        return _without_types(super().get_params(ctx))

    def list_commands(self, ctx: Any) -> list[str]:
        return list(COMMANDS)

    def resolve_command(self, ctx: Any, args: list[str]) -> Any:
        name, command, rest = super().resolve_command(ctx, args)
        return name, _loaded(name) if command and name else None, rest


def _loaded(name: str) -> Any:
    wrapper, told = typer.Typer(add_completion=False), COMMANDS[name]
    examples = "\n\n".join(["Examples:", *(f"  fenrask {example}" for example in told.examples), _STATUSES])
    function = import_module(f"fenrask.cli.{name}").command
    wrapper.command(name, cls=_Command, help=told.sentence, epilog=examples)(function)
    return typer.main.get_command(wrapper)


app = typer.Typer(
    cls=_Commands,
    name="fenrask",
    invoke_without_command=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["--help", "-h"]},
)


def _print_version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"fenrask {__version__}")
        raise typer.Exit


_ABOUT = (
    "Plan NAT and egress: how private subnets reach the internet, partners and services, and what it takes.",
    "Its words: an estate is your network, as a file. An exit is a next hop to the outside (a NAT device, a firewall, "
    "a private endpoint, a peering, a line). A need is a requirement of a flow. Headroom is spare capacity.",
)


@app.callback(help="\n\n".join(_ABOUT))
def _main(
    context: typer.Context,
    version: bool = typer.Option(
        False, "--version", callback=_print_version, is_eager=True, help="Print the version and leave."
    ),
) -> None:
    if context.invoked_subcommand is None:
        typer.echo(context.get_help())


def run() -> int:
    """Run the command line; returns the exit status."""
    is_heard = sys.stdout is not None
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:
            # It was closed before we began: nothing can be said there.
            setattr(sys, name, _nowhere())
    speak_plainly(sys.stdout, sys.stderr)
    status = _run()
    if not is_heard:
        _complain("the result could not be written: stdout is closed")
        return UNUSABLE
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        # Whoever reads has enough; nothing is left to be flushed at the end.
        sys.stdout = _nowhere()
    except OSError as error:
        _complain(_not_written(error))
        sys.stdout = _nowhere()
        return UNUSABLE
    return status


def _nowhere() -> TextIO:
    return open(os.devnull, "w", encoding="utf-8")  # noqa: PTH123, SIM115 - a stream of its own, to the end


_OUT_OF_REACH = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG, errno.EIO)


def _not_written(error: OSError) -> str:
    return f"the result could not be written whole: {(error.strerror or str(error)).lower()}"


def _run() -> int:
    try:
        app(prog_name="fenrask")
    except SystemExit as leave:
        return leave.code if isinstance(leave.code, int) else ALL_WELL if leave.code is None else UNUSABLE
    except UnusableInput as error:
        _complain(*map(str, error.problems), f"{counted(len(error.problems), 'problem')}; nothing computed")
        return UNUSABLE
    except NoAnswer as error:
        _complain(str(error))
        return WRONG_ESTATE
    except FenraskError as error:
        _complain(f"Fenrask's own fault: {error}")
        return OWN_FAULT
    except BrokenPipeError:
        return ALL_WELL
    except OSError as error:
        if error.errno not in _OUT_OF_REACH:
            _complain(_own_fault(error))
            return OWN_FAULT
        _complain(_not_written(error))
        return UNUSABLE
    except KeyboardInterrupt:
        _complain("stopped")
        return STOPPED
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
        try:
            print(visible(line), file=sys.stderr)
        except OSError:
            return
