"""The order of building and of taking down, with what to look at after each step, and a patch for each."""

from collections.abc import Iterator, Sequence

from fenrask.designs import BuildStep, Entry, Harm, Look, Notice, Task, Word
from fenrask.estate.suggestions import some
from fenrask.evaluation import Evaluation
from fenrask.units import cents, counted
from fenrask.views.handover.contract import HandoverFile, csv_text, json_text
from fenrask.views.quoting import markdown

__all__ = ["breaks_text", "harm_text", "look_text", "notice_look", "notice_text", "order_files", "step_files"]

_SHOWN = 12


def order_files(name: str, title: str, about: str, tasks: Sequence[Task], end: Evaluation) -> list[HandoverFile]:
    """The steps for people (Markdown, with boxes to tick) and as CSV, a row for each look; and what is paid then."""
    rows = [row for number, task in enumerate(tasks, 1) for row in _rows(number, task)]
    heading = ("step", "earliest_day", "what", "flow", "from", "to", "path", "verdict", "source_seen", "fails")
    return [
        HandoverFile(f"{name}.md", about, "\n".join([*_text(title, tasks), "", *_paid(end)]).encode("utf-8") + b"\n"),
        HandoverFile(f"{name}.csv", f"{about}, as a table", csv_text(heading, rows)),
    ]


def step_files(tasks: Sequence[Task]) -> Iterator[HandoverFile]:
    """For each step a patch of the estate before it, and one that leads back: both have been tried."""
    width = max(2, len(str(len(tasks))))
    for number, task in enumerate(tasks, 1):
        if task.step is None:
            continue
        for ending, patch, about in (
            ("", task.step.patch, "a patch for each step, on the estate before it"),
            (".undo", task.step.undo, "a patch that takes back each step"),
        ):
            yield HandoverFile(f"steps/{number:0{width}d}{ending}.json", about, json_text(patch))


def _rows(number: int, task: Task) -> Iterator[tuple[object, ...]]:
    if task.notice is not None:
        looks = [task.notice.look] if task.notice.look is not None else []
        what, fails = notice_text(task.notice), ""
    else:
        assert task.step is not None
        looks, what = list(task.step.looks), task.step.what
        fails = "; ".join(map(harm_text, task.step.harm))
    if not looks:
        yield number, task.day, what, "", "", "", "", "", "", fails
    for look in looks:
        path = " > ".join(look.exits)
        yield number, task.day, what, look.flow, look.subnet, look.destination, path, look.verdict, look.source, fails


def _paid(end: Evaluation) -> Iterator[str]:
    """What is still paid a month after the last step: line by line, where no exit is left."""
    bill, estate = end.bill, end.described.estate
    yield f"After the last step: {cents(bill.total):,} {bill.currency} a month."
    for line in bill.lines if not estate.exits else ():
        of = f" of {markdown(line.about)}" if line.about else ""
        yield f"- {line.item}{of}: {cents(line.amount):,} ({line.reason})"
    if estate.public_addresses and not estate.exits:
        yield f"- still held: {markdown(', '.join(estate.public_addresses))}"


def _text(title: str, tasks: Sequence[Task]) -> list[str]:
    lines = [f"# {markdown(title)}", ""]
    if not tasks:
        lines.append("Nothing to do.")
    for number, task in enumerate(tasks, 1):
        what = notice_text(task.notice) if task.notice is not None else task.step.what if task.step else ""
        day = f" Day {task.day} at the earliest." if any(one.day for one in tasks) else ""
        lines.append(f"{number}. [ ] **{markdown(what)}**{day}")
        said = _told(task.notice) if task.notice is not None else _said(task.step) if task.step else []
        lines += [f"   - {line}" for line in said]
    return lines


_NOTICES = {
    Word.SEND: "send {partner} its allow-list: add {entries}",
    Word.GATE: "wait until {partner} allows {entries}",
    Word.DROP: "tell {partner} that it may remove {entries}",
}


def notice_text(notice: Notice) -> str:
    """What a partner is told, or asked."""
    entries = some(map(_entry_text, notice.entries))
    return _NOTICES[notice.word].format(partner=notice.partner, entries=entries)


def _entry_text(entry: Entry) -> str:
    exit_, block = entry
    return f"{block} of {exit_} (not assigned yet)" if exit_ else block


def notice_look(notice: Notice) -> str:
    """How to see that a partner has done what it was asked; empty where nothing is to be seen."""
    if notice.look is None:
        return ""
    through = f" through {' > '.join(notice.look.exits)}" if notice.look.exits else ""
    where = f"a test from a host in {notice.look.subnet}{through} reaches {notice.partner}"
    return f"{where} and is seen as {notice.look.source}; it may fail until then"


def _told(notice: Notice) -> Iterator[str]:
    if look := notice_look(notice):
        yield f"Look: {markdown(look)}."


def harm_text(harm: Harm) -> str:
    """What fails, and until when."""
    what = f"{harm.rule} at {harm.at}" if harm.rule else f"{harm.at} from {harm.subnet}"
    later = f", {counted(harm.days, 'day')} later at the earliest" if harm.days else ""
    return f"{what} until step {harm.until}{later}"


def breaks_text(build_step: BuildStep) -> str:
    """What fails with a step, in short; empty where nothing does."""
    return some(map(harm_text, build_step.harm), 3)


def _said(build_step: BuildStep) -> list[str]:
    why = "no order of single steps avoids it" if build_step.in_every_order else "no order that was looked at avoids it"
    lines = [f"Fails: {markdown(harm_text(harm))}; {why}." for harm in build_step.harm]
    if not build_step.looks and build_step.kind == "add":
        lines.append(f"Look: {markdown(', '.join(build_step.names))} is in service and healthy; nothing uses it yet.")
    elif not build_step.looks and build_step.kind == "remove":
        lines.append(
            f"Look: {markdown(', '.join(build_step.names))} is gone, from the bill too; every path is as before."
        )
    elif not build_step.looks:
        lines.append("Look: every path is as before.")
    lines += [f"Look: {markdown(look_text(look))}." for look in build_step.looks[:_SHOWN]]
    if len(build_step.looks) > _SHOWN:
        lines.append(f"and {len(build_step.looks) - _SHOWN} more paths: see the table beside this file")
    for flow in build_step.moved:
        if flow.waits_s:
            lines.append(f"Wait: {flow.waits_s:,.6g} s, until open connections of {markdown(flow.flow)} have ended.")
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
