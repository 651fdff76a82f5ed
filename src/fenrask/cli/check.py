"""`fenrask check`."""

from typing import Annotated

import typer

from fenrask.cli.options import Call, estate_command
from fenrask.findings import Severity
from fenrask.routing.rules import check
from fenrask.views.pages.check import findings_page, rules_page

__all__ = ["command"]

_WORDS = {severity.word: severity for severity in reversed(Severity)}


def _severity(word: str) -> str:
    if word not in _WORDS:
        raise typer.BadParameter(f"{word!r} is none of {', '.join(_WORDS)}")
    return word


@estate_command
def command(
    call: Call,
    fail_on: Annotated[
        str,
        typer.Option(
            metavar=f"[{'|'.join(_WORDS)}]",
            callback=_severity,
            help="Leave with status 1 from this severity on.",
        ),
    ] = "error",
    rules: Annotated[bool, typer.Option("--rules", help="List the rules instead.")] = False,
) -> int:
    if rules:
        call.show(rules_page())
        return 0
    described = call.read()
    findings = check(described)
    call.show(findings_page(described.estate.estate, findings))
    return int(any(finding.severity >= _WORDS[fail_on] for finding in findings))
