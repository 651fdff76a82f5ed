"""`fenrask check`."""

import json
import shlex
from pathlib import Path
from typing import Annotated

import typer

from fenrask.checks import RULES, check
from fenrask.cli.completion import names
from fenrask.cli.completion import rules as known_rules
from fenrask.cli.options import Call, filtered_command
from fenrask.errors import Place, Problem, UnusableInput
from fenrask.estate.suggestions import nearest, unknown
from fenrask.evaluation import Evaluation, evaluate
from fenrask.findings import Severity
from fenrask.progress import tell
from fenrask.views.pages.check import findings_page, rules_page
from fenrask.views.patch_words import remedy_files

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
    without: Annotated[
        list[str] | None,
        typer.Option(
            metavar="EXIT",
            autocompletion=names("exits"),
            help="Show instead what is left over if this exit is removed for good; may be repeated.",
        ),
    ] = None,
    save: Annotated[
        Path | None,
        typer.Option(
            metavar="FOLDER|FILE",
            help="Write the remedies into this folder, each as a JSON Merge Patch, and all of them as one; with "
            "--without: the removal, to this file.",
        ),
    ] = None,
    second: Annotated[
        bool,
        typer.Option("--audit", help="Show instead each result by a second method, and what disagrees."),
    ] = False,
    rules: Annotated[
        bool, typer.Option("--rules", help="Show instead the list of rules, with an example of each.")
    ] = False,
) -> int:
    if rules:
        call.show(rules_page())
        return 0
    described = call.read()
    evaluation = evaluate(described)
    if second:
        return _audit(call, evaluation)
    if without:
        return _without(call, evaluation, without, save)
    findings, tries = check(evaluation, only or (), skip or ()), dict[str, str]()
    if save and (files := remedy_files(findings)):
        call.write_all(save, files)
        tries = {name: _try(call, save / name) for name in files}
    elif save:
        call.say(f"no remedy is a patch: nothing is written into {save}")
    call.show(findings_page(described.estate.estate, findings, described.data, tries), evaluation.paths)
    return int(any(one.severity >= _WORDS[fail_on] and not one.accepted for one in findings))


def _try(call: Call, patch: Path) -> str:
    """The line that checks the estate, as it was read, with one more patch; settings come last and stay."""
    known = [] if call.estate == Call.estate else [str(call.estate)]
    patches = [word for file in (*call.patch, patch) for word in ("--patch", str(file))]
    settings = [word for one in call.set for word in ("--set", one)]
    settings += [word for one in call.merge for word in ("--merge", one)]
    return shlex.join(["fenrask", "check", *known, *patches, *settings])


def _audit(call: Call, evaluation: Evaluation) -> int:
    from fenrask.views.pages.audit import audit_page
    from fenrask.what_if.second_methods import Audited, NotLookedAt, audit

    found = list[Audited | NotLookedAt]()
    for compared in audit(evaluation):
        found.append(compared)
        tell("results by a second method:", len(found))
    call.show(audit_page(evaluation.described.estate.estate, found))
    return int(not all(isinstance(one, NotLookedAt) or one.agrees for one in found))


def _without(call: Call, evaluation: Evaluation, exits: list[str], save: Path | None) -> int:
    from fenrask.views.pages.teardown import teardown_page
    from fenrask.what_if import teardown

    if problems := unknown("--without", exits, evaluation.described.estate.exits, "an exit"):
        raise UnusableInput(problems)
    if left := evaluation.described.estate.left_without(exits):
        asked = " ".join(f"--without {name}" for name in left)
        raise UnusableInput(
            [
                Problem(
                    Place(path=f"--without {required}"), f"{name}, which requires it", "that exit removed, too",
                    f"Add `{asked}`, or give it another first: a provider refuses it so."
                )
                for name, required in left.items()
            ]
        )  # fmt: skip
    found = teardown(evaluation, exits)
    call.show(teardown_page(found))
    if save:
        call.write(save, (json.dumps(found.patch, indent=2) + "\n").encode())
    return int(bool(found.lost))
