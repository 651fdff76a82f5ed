"""The plan of a change: its steps, what partners are told and asked before and after, and the earliest day of each.

A list goes out at the beginning where its addresses are known, so that who takes long is asked early; lists with
addresses that are still to be ordered go out together. Before the first step that shows a partner something new is
a gate; after the last that shows what is old, its end.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from enum import Enum

from fenrask.designs.building import BuildStep, Look
from fenrask.designs.effort import partner_lists
from fenrask.estate import LeadDays
from fenrask.evaluation import Evaluation

__all__ = ["Entry", "Notice", "Task", "Word", "tasks_of"]

Entry = tuple[str, str]
"""The exit whose addresses are not known yet, or empty; and a prefix of an allow-list, or how many addresses."""


class Word(Enum):
    """What a partner is told, or asked."""

    SEND = "send"
    GATE = "gate"
    DROP = "drop"


@dataclass(frozen=True)
class Notice:
    """What a partner is told of its list: entries to add, to have added by now, or to remove.

    look: for a gate, what is seen once they are allowed; None where nothing goes there yet.
    """

    word: Word
    partner: str
    entries: tuple[Entry, ...]
    look: Look | None = None

    @property
    def is_to_be_ordered(self) -> bool:
        """Whether some of the addresses are not known yet."""
        return any(exit_ for exit_, _ in self.entries)


_AT_ONE_TIME = (Word.DROP, Word.SEND, Word.GATE)


@dataclass(frozen=True)
class Task:
    """One line of the plan: a step, or a notice; day: the earliest, from the day on which the plan starts."""

    day: int
    step: BuildStep | None = None
    notice: Notice | None = None


def tasks_of(base: Evaluation, steps: Sequence[BuildStep], now: Evaluation) -> list[Task]:
    """The steps in their order, with what partners are told and asked between them."""
    notices = sorted(_notices(base, steps), key=lambda each: (each[0], _AT_ONE_TIME.index(each[1].word)))
    lead, day, sent = now.described.estate.targets.lead_days, 0, dict[str, int]()
    tasks = list[Task]()
    for place in range(len(steps) + 1):
        for _, notice in (one for one in notices if one[0] == place):
            if notice.word is Word.SEND:
                day = max(day, lead.addresses if notice.is_to_be_ordered else 0)
                sent[notice.partner] = day
            elif notice.word is Word.GATE:
                day = max(day, sent[notice.partner] + lead.of_partner(notice.partner))
            tasks.append(Task(day, notice=notice))
        if place < len(steps):
            before = steps[place - 1].after if place else base
            day = max(day, _ordered_days(before, steps[place], lead))
            tasks.append(Task(day, steps[place]))
    return _numbered(tasks)


def _numbered(tasks: Sequence[Task]) -> list[Task]:
    """The same, in which what fails fails until a task by its number here, notices counted; and for how many days."""
    numbers = [number for number, one in enumerate(tasks, 1) if one.step is not None]
    found = list[Task]()
    for task in tasks:
        step = task.step
        if step is not None and step.harm:
            until = [(each, numbers[each.until - 1]) for each in step.harm]
            step = replace(
                step,
                harm=tuple(each._replace(until=end, days=tasks[end - 1].day - task.day) for each, end in until),
            )
        found.append(replace(task, step=step))
    return found


def _ordered_days(before: Evaluation, step: BuildStep, lead: LeadDays) -> int:
    """When what is ordered at the beginning is there: exits of kinds that take long, and public addresses."""
    was, is_ = before.described.estate.exits, step.after.described.estate.exits
    days = [lead.exits.get(is_[name].kind, 0) for name in is_ if name not in was]
    if sum(one.in_use for one in step.after.plan.exits) > sum(one.in_use for one in before.plan.exits):
        days.append(lead.addresses)
    return max(days, default=0)


def _notices(base: Evaluation, steps: Sequence[BuildStep]) -> Iterator[tuple[int, Notice]]:
    """Each notice with the number of steps that are done before it."""
    each = [{name: {*entries} for name, entries in partner_lists(one)} for one in (base, *(s.after for s in steps))]
    asked = list[tuple[int, Notice]]()
    for partner in dict.fromkeys(name for lists in each for name in lists):
        seen = [lists.get(partner, set()) for lists in each]
        new = tuple(sorted(set().union(*seen) - seen[0]))
        if new:
            before = next(number for number, entries in enumerate(seen) if not entries <= seen[0]) - 1
            look = next((one for one in steps[before].looks if one.destination == partner and one.source), None)
            asked.append((before, Notice(Word.GATE, partner, new, look)))
        if old := tuple(sorted(seen[0] - seen[-1])):
            last = max(number for number, entries in enumerate(seen) if not entries.isdisjoint(old))
            yield last + 1, Notice(Word.DROP, partner, old)
    ordered = min((before for before, gate in asked if gate.is_to_be_ordered), default=0)
    for before, gate in asked:
        yield ordered if gate.is_to_be_ordered else 0, Notice(Word.SEND, gate.partner, gate.entries)
        yield before, gate
