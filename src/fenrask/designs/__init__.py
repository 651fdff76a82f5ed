"""Standard designs made from the estate alone, each evaluated; their comparison and break-evens."""

from fenrask.designs.break_even import BreakEven, break_even
from fenrask.designs.building import BuildStep, Harm, Look, build_steps, nothing_built, whole_step
from fenrask.designs.changes import FlowChange, changes, moves
from fenrask.designs.compare import MEASURES, Candidate, Comparison, beside, compare
from fenrask.designs.contract import Design
from fenrask.designs.effort import Effort, effort
from fenrask.designs.standard import STANDARD
from fenrask.designs.tasks import Entry, Notice, Task, Word, tasks_of

__all__ = [
    "MEASURES",
    "STANDARD",
    "BreakEven",
    "BuildStep",
    "Entry",
    "Harm",
    "Look",
    "Notice",
    "Task",
    "Word",
    "tasks_of",
    "build_steps",
    "nothing_built",
    "whole_step",
    "Candidate",
    "Comparison",
    "Design",
    "Effort",
    "effort",
    "FlowChange",
    "beside",
    "break_even",
    "changes",
    "moves",
    "compare",
]
