"""The manual page, docs/fenrask.1, from the program's own help (man-pages(7), roff with the man macros)."""

import sys
from typing import Any

import typer.main

from fenrask.cli.app import COMMANDS, app

__all__ = ["manual"]

_HEAD = r""".\" Written by docs/man.py from the program's help; do not edit.
.TH FENRASK 1 "" "" "User commands"
.SH NAME
fenrask \- plan NAT and egress for private subnets
.SH SYNOPSIS
.B fenrask
.I COMMAND
[\fIESTATE\fR] [\fIOPTION\fR ...]
.SH DESCRIPTION
From one YAML file that describes networks, route tables, exits, destinations and load, fenrask says which path each
flow takes, whether translated ports run out at the peak or after a failure, how many public addresses and gateways it
takes, what partners must allow-list and what it costs a month; it compares designs, chooses the cheapest that meets
every need, and checks the built network against the plan.
It goes to no network unless it is asked to (\fBresolve\fR, a cluster by \fB\-\-workers\fR).
.PP
.B fenrask demo
writes a sample estate and runs every command on it;
.B fenrask start
writes a small one to begin from.
.SH COMMANDS
"""
_TAIL = r""".SH EXIT STATUS
.TP
.B 0
All is well.
.TP
.B 1
Something is wrong with the estate, or needs are not met.
.TP
.B 2
The call or a file cannot be used.
.TP
.B 3
A fault of fenrask itself.
.SH ENVIRONMENT
.TP
.B COLUMNS
How wide tables are.
.TP
.B NO_COLOR
Where it is set, nothing is coloured.
.TP
.B FENRASK_TRACE
Where it is set, a fault of fenrask itself is shown whole.
.SH FILES
.TP
.I estate.yaml
The estate that commands read where none is named; the catalogue and tables that it names lie beside it.
"""


def manual() -> str:
    """The page as it should be."""
    group: Any = typer.main.get_command(app)
    context = typer.Context(group, info_name="fenrask")
    return _HEAD + "".join(_command(group, context, name) for name in COMMANDS) + _TAIL


def _command(group: Any, context: Any, name: str) -> str:
    told, command = COMMANDS[name], group.resolve_command(context, [name])[1]
    lines = [f".SS {name}", _quoted(told.sentence)]
    for one in command.params:
        if one.name == "help" or getattr(one, "hidden", False):
            continue
        is_option = one.param_type_name == "option"
        names = ", ".join((*one.opts, *one.secondary_opts)) if is_option else ""
        wants = "" if getattr(one, "is_flag", False) else one.metavar or str(one.name).upper()
        lines += [".TP", " ".join(filter(None, (f"\\fB{_quoted(names)}\\fR" if names else "", _italic(wants))))]
        lines.append(_quoted(" ".join((getattr(one, "help", "") or "").split())))
    lines += [".PP", "Examples:", ".PP", ".nf", *(f"fenrask {_quoted(one)}" for one in told.examples), ".fi"]
    return "\n".join(lines) + "\n"


def _italic(text: str) -> str:
    return f"\\fI{_quoted(text)}\\fR" if text else ""


def _quoted(text: str) -> str:
    """Text in which roff finds nothing to do: backslashes, hyphens that are to be copied, dots and quotes in front."""
    plain = text.replace("\\", "\\e").replace("-", "\\-").replace("`", "")
    return f"\\&{plain}" if plain[:1] in (".", "'") else plain


if __name__ == "__main__":
    sys.stdout.write(manual())
