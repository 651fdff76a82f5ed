"""Findings as a page."""

from collections.abc import Mapping, Sequence
from typing import Any

from fenrask.checks import RULES
from fenrask.findings import Finding, Severity
from fenrask.units import counted
from fenrask.views.page import MACHINES, Column, Page, Table
from fenrask.views.patch_words import patch_words, remedy_names

__all__ = ["findings_page", "rules_page"]

_LINES = 20
"""Lines of findings told whole, the worst; of others the first line stands there, and all of them with `--all`."""
_COLUMNS = (
    Column("severity", "severity", "severity"),
    Column("rule", "rule"),
    Column("place", "place"),
    Column("path", "path"),
    Column("file", "file", least_width=MACHINES),
    Column("line", "line", "count", least_width=MACHINES),
    Column("column", "column", "count", least_width=MACHINES),
    Column("level", "level", least_width=MACHINES),
    Column("cause", "cause", below=" "),
    Column("remedy", "remedy", below="→ "),
    Column("changes", "what the patch changes", "list", below="patch: "),
    Column("patch", "patch", below="try it: "),
    Column("accepted", "accepted because", below="accepted: "),
    Column("fix", "fix", least_width=MACHINES),
)


def findings_page(
    estate: str, findings: Sequence[Finding], before: Mapping[str, Any], tries: Mapping[str, str] | None = None
) -> Page:
    """All findings, the worst first, each with place, cause and remedy.

    before: the values of the estate. tries: by a remedy's file name, the call that tries it.
    """
    files = remedy_names(findings)
    first: dict[str, Finding] = {}
    for name, finding in zip(files, findings, strict=True):
        first.setdefault(name, finding)
    open_ones = [one for one in findings if not one.accepted]
    tally = {one: sum(f.severity is one for f in open_ones) for one in reversed(Severity)}
    words = ", ".join(counted(number, severity.word) for severity, number in tally.items())
    taken = len(findings) - len(open_ones)
    if taken:
        words += f"; {taken} more accepted"
    rows = [
        (
            "accepted" if f.accepted else f.severity.word,
            f.rule,
            f"{f.place.file}:{f.place.line}:{f.place.column}",
            f.place.path,
            f.place.file,
            f.place.line,
            f.place.column,
            f.severity.word,
            f.cause,
            f.remedy if not name or _is_alike(first[name], f) else _as_with(first[name]),
            patch_words(f.fix, before) if name and f.fix is not None and _is_alike(first[name], f) else [],
            (tries or {}).get(name) if name and _is_alike(first[name], f) else None,
            f.accepted or None,
            f.fix,
        )
        for name, f in zip(files, findings, strict=True)
    ]
    table = Table(
        "findings", "Findings", _COLUMNS, rows, "nothing found", as_blocks=True, shown=_LINES,
        joined=("place", "path", "cause"),
    )  # fmt: skip
    facts = {f"{severity.word}s": number for severity, number in tally.items()} | {"accepted": taken}
    lines = [f"{estate}: {words}"]
    if (remedies := len({*files} - {""})) and not tries:
        lines.append(f"{counted(remedies, 'remedy is a patch', 'remedies are patches')}: --save FOLDER writes them.")
    return Page("check", estate, tuple(lines), (table,), facts)


def _is_alike(finding: Finding, other: Finding) -> bool:
    """Whether two findings with the same patch are told as one."""
    return (finding.rule, finding.severity, finding.remedy) == (other.rule, other.severity, other.remedy)


def _as_with(other: Finding) -> str:
    """The remedy of a finding whose patch is that of another one."""
    return f"The patch of {other.rule} at {other.place.path} cures this, too."


def rules_page() -> Page:
    """Every rule of `check`, with an entry that it finds."""
    columns = (
        Column("severity", "severity", "severity"),
        Column("rule", "rule"),
        Column("about", "what it finds", below=" "),
        Column("example", "for example", below="for example: "),
    )
    rows = [(rule.severity.word, rule.name, rule.about, rule.example) for rule in RULES]
    return Page("rules", "", (), (Table("rules", "Rules", columns, rows, as_blocks=True, is_whole=True),))
