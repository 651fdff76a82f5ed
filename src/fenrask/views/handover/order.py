"""The order of building and of taking down, with what to look at after each step."""

from collections.abc import Sequence

from fenrask.designs import BuildStep, Look
from fenrask.units import counted
from fenrask.views.handover.contract import HandoverFile, csv_text
from fenrask.views.quoting import markdown

__all__ = ["look_text", "order_files"]

_SHOWN = 12


def order_files(name: str, title: str, about: str, steps: Sequence[BuildStep]) -> list[HandoverFile]:
    """The steps for people (Markdown, with boxes to tick) and as CSV, a row for each look."""
    rows = [
        (number, one.what, look.flow, look.subnet, look.destination, " > ".join(look.exits), look.verdict, look.source)
        for number, one in enumerate(steps, 1)
        for look in one.looks or (Look("", "", "", (), "", ""),)
    ]
    heading = ("step", "what", "flow", "from", "to", "path", "verdict", "source_seen")
    return [
        HandoverFile(f"{name}.md", about, _text(title, steps).encode("utf-8")),
        HandoverFile(f"{name}.csv", f"{about}, as a table", csv_text(heading, rows)),
    ]


def _text(title: str, steps: Sequence[BuildStep]) -> str:
    lines = [f"# {markdown(title)}", ""]
    if not steps:
        lines.append("Nothing to do.")
    for number, one in enumerate(steps, 1):
        lines.append(f"{number}. [ ] **{markdown(one.what)}**")
        lines += [f"   - {line}" for line in _said(one)]
    return "\n".join(lines) + "\n"


def _said(one: BuildStep) -> list[str]:
    lines = []
    if not one.looks and one.kind == "add":
        lines.append(f"Look: {markdown(', '.join(one.names))} is in service and healthy; nothing uses it yet.")
    elif not one.looks and one.kind == "remove":
        lines.append(f"Look: {markdown(', '.join(one.names))} is gone, from the bill too; every path is as before.")
    elif not one.looks:
        lines.append("Look: every path is as before.")
    lines += [f"Look: {markdown(look_text(look))}." for look in one.looks[:_SHOWN]]
    if len(one.looks) > _SHOWN:
        lines.append(f"and {len(one.looks) - _SHOWN} more paths: see the table beside this file")
    for flow in one.moved:
        if flow.breaks >= 1:
            lasting = (
                f" (they last {flow.breaks_for_s:,.3g} s in the mean)" if flow.breaks_for_s else " (kept open for long)"
            )
            number = counted(round(flow.breaks), "connection")
            lines.append(f"Breaks: {number} of {markdown(flow.flow)} at the peak{lasting}.")
    return lines


def look_text(look: Look) -> str:
    """What must be seen: from which subnet, by which exits, with which source."""
    if look.comes_in and look.source:
        through = f" through {' > '.join(look.exits)}" if look.exits else ""
        return f"from {look.subnet}, {look.destination} is reached{through} and sees {look.source}"
    if look.comes_in:
        return f"from {look.subnet}, {look.destination} is not reached ({look.verdict})"
    if not look.source:
        return f"from {look.subnet}, {look.destination} does not answer ({look.verdict})"
    through = f" through {' > '.join(look.exits)}" if look.exits else ""
    return f"from {look.subnet}, {look.destination} answers{through} and sees {look.source}"
