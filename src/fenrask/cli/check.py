"""`fenrask check`."""

from typing import Annotated

import typer

from fenrask.checks import RULES, check
from fenrask.cli.completion import rules as known_rules
from fenrask.cli.options import Call, filtered_command
from fenrask.estate.suggestions import nearest
from fenrask.evaluation import evaluate
from fenrask.findings import Severity
from fenrask.views.pages.check import findings_page, rules_page

__all__ = ["command"]

_WORDS = {severity.word: severity for severity in reversed(Severity)}


def _severity(word: str) -> str:
    if word not in _WORDS:
        raise typer.BadParameter(f"{word!r} is none of {', '.join(_WORDS)}")
    return word


def _rules(names: list[str] | None) -> list[str]:
    known = [rule.name for rule in RULES]
    for name in names or ():
        if name not in known:
            raise typer.BadParameter(f"{name!r} is no rule. {nearest(name, known)}")
    return names or []


@filtered_command
def command(
    call: Call,
    fail_on: Annotated[
        str,
        typer.Option(
            metavar=f"[{'|'.join(_WORDS)}]",
            callback=_severity,
            help="Exit with status 1 if any finding is at least this severe.",
        ),
    ] = "error",
    only: Annotated[
        list[str] | None,
        typer.Option(
            metavar="RULE", callback=_rules, autocompletion=known_rules, help="Run only this rule; may be repeated."
        ),
    ] = None,
    skip: Annotated[
        list[str] | None,
        typer.Option(
            metavar="RULE", callback=_rules, autocompletion=known_rules, help="Skip this rule; may be repeated."
        ),
    ] = None,
    rules: Annotated[
        bool, typer.Option("--rules", help="Show instead the list of rules, with an example of each.")
    ] = False,
) -> int:
    if rules:
        call.show(rules_page())
        return 0
    described = call.read()
    evaluation = evaluate(described)
    findings = check(evaluation, only or (), skip or ())
    call.show(findings_page(described.estate.estate, findings), evaluation.paths)
    return int(any(one.severity >= _WORDS[fail_on] and not one.accepted for one in findings))
