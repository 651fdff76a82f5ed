"""The whole handover of a plan, or of what differs from what is built."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property

from fenrask.capacity import Translator, translators
from fenrask.designs import Comparison, Task, build_steps, compare, nothing_built, tasks_of
from fenrask.evaluation import Evaluation
from fenrask.views.handover.access_lists import filter_files
from fenrask.views.handover.alarms import alert_files
from fenrask.views.handover.allow_lists import allow_list_files, order_file, prefixes_told
from fenrask.views.handover.contract import HandoverFile
from fenrask.views.handover.hosts import translator_files
from fenrask.views.handover.models import nat_file, published_files
from fenrask.views.handover.names import endpoint_files
from fenrask.views.handover.order import order_files, step_files
from fenrask.views.handover.routes import route_files
from fenrask.views.handover.sheet import sheet_files
from fenrask.views.handover.topology import topology_file
from fenrask.views.handover.workbook import workbook_file
from fenrask.what_if import alerts, watches

__all__ = ["STATE_FILES", "Handover", "Told"]


_BUILD, _UNDO = "the order of building, with checks", "the order of taking down, with checks"


@dataclass(frozen=True)
class Told:
    """What the caller says beside the estate."""

    valid_from: str = ""
    lead_months: float = 1.0
    outward: str = "eth0"
    since: Mapping[str, list[str]] = field(default_factory=dict)
    """The prefixes of earlier allow-lists, by destination."""


def _lists(now: Evaluation, told: Told) -> Iterator[HandoverFile]:
    return allow_list_files(now.described.estate.estate, now.plan, told.valid_from, told.since)


def _hosts(now: Evaluation, told: Told) -> Iterator[HandoverFile]:
    return translator_files(now.described.estate.estate, list(translators(now.capacity)), told.outward)


STATE_FILES: list[Callable[[Evaluation, Told], Iterable[HandoverFile]]] = [
    _lists,
    lambda now, _: [order_file(now.plan)],
    lambda now, _: sheet_files(now),
    lambda now, _: route_files(now.paths),
    lambda now, _: [topology_file(now.described, now.plan)],
    lambda now, _: [nat_file(now.capacity, now.plan)],
    lambda now, _: published_files(now.described),
    lambda now, _: filter_files(now.described),
    lambda now, _: endpoint_files(now.described),
    _hosts,
]
"""What describes a network as it is to be, in the order of the handover."""


@dataclass(frozen=True)
class Handover:
    """What is handed over: the whole plan, or what differs from what is built."""

    now: Evaluation
    before: Evaluation | None = None
    told: Told = field(default_factory=Told)
    comparison: Comparison | None = None
    """The standard designs, where they were evaluated already."""

    @cached_property
    def hosts(self) -> list[Translator]:
        return list(translators(self.now.capacity))

    @cached_property
    def tasks(self) -> list[Task]:
        """The steps of the change, with what partners are told."""
        return _tasks(self._start, self.now)

    @property
    def _start(self) -> Evaluation:
        return self.before or nothing_built(self.now)

    @cached_property
    def files(self) -> list[HandoverFile]:
        """All files; with a base only those that say something else than they would of the base, and the steps."""
        told = self.told
        if self.before is not None and not told.since:
            # What is built is what partners were told, where no earlier handover says otherwise.
            told = replace(told, since=prefixes_told(self.before.plan))
        whole = _state_files(self.now, told)
        if self.before is None:
            kept = whole
        else:
            known = {one.name: one.content for one in _state_files(self.before, told)}
            kept = [one for one in whole if known.get(one.name) != one.content]
            if not kept and not self.tasks:
                return []
        undo = _tasks(self.now, self._start)
        name = self.now.described.estate.estate
        return [
            *order_files("build", f"{name}: the order of building", _BUILD, self.tasks, self.now),
            *order_files("undo", f"{name}: the order of taking down", _UNDO, undo, self._start),
            *step_files(self.tasks),
            *kept,
            *alert_files(name, list(alerts(self.now, self.told.lead_months)), list(watches(self.now))),
            workbook_file(self.now, self.comparison or compare(self.now.described)),
        ]


def _tasks(start: Evaluation, end: Evaluation) -> list[Task]:
    return tasks_of(start, build_steps(start, end), end)


def _state_files(evaluation: Evaluation, told: Told) -> list[HandoverFile]:
    """What describes the network as it is to be."""
    return [file for files in STATE_FILES for file in files(evaluation, told)]
