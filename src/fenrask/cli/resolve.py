"""`fenrask resolve`."""

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

from fenrask.cli.files import write_whole
from fenrask.cli.options import Call, estate_command
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate.history import Answered, history_text, read_history
from fenrask.inputs import at, file_text
from fenrask.prefixes import parse_address
from fenrask.records.drift import drift_patch, drifts
from fenrask.records.names import Looked, look_up
from fenrask.records.rotation import rotations
from fenrask.views.pages.resolve import resolve_page

__all__ = ["command"]


@estate_command
def command(
    call: Call,
    server: Annotated[
        str, typer.Option("--server", metavar="ADDRESS[#PORT]", help="The DNS server to ask; nothing else is asked.")
    ],
    history: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE", help="Add what is answered to this table of all answers, and plan with all of them."
        ),
    ] = None,
    save: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write the patch that brings the estate up to date.")
    ] = None,
) -> int:
    address, port = _server(server)
    described = call.read()
    answers = _known(history) if history else []
    looked: list[Looked] = []

    def ask(name: str) -> Looked:
        looked.append(look_up(name, address, port))
        return looked[-1]

    found = drifts(described, ask, answers)
    if history:
        now = datetime.now(UTC).isoformat(timespec="seconds")
        answers += [Answered(now, one.name, each) for one in looked for each in one.addresses]
    names = [name for one in described.estate.destinations.values() for name in one.names]
    call.show(resolve_page(described.estate.estate, found, server, rotations(answers, names)))
    if history:
        write_whole(history, history_text(answers).encode(), force=True)
        call.say(f"wrote {history}")
    if save:
        call.write(save, (json.dumps(drift_patch(found), indent=2) + "\n").encode())
    return int(any(one.drifted or one.faults for one in found))


def _known(history: Path) -> list[Answered]:
    """What the history holds so far; nothing where it is yet to be begun."""
    if not history.exists():
        return []
    problems: list[Problem] = []
    text = file_text(history, at(Place(str(history)), "a history of names"))
    answers = read_history(text, str(history), problems)
    if problems:
        raise UnusableInput(problems)
    return answers


def _server(stated: str) -> tuple[str, int]:
    address, _, port = stated.partition("#")
    try:
        if not 1 <= (number := int(port or 53)) < 2**16:
            raise ValueError
        return str(parse_address(address)), number
    except ValueError:
        expected = "an address, and a port behind # if it is not 53"
        raise UnusableInput([Problem(Place(path="--server"), repr(stated), expected)]) from None
