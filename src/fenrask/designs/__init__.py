"""Standard designs made from the estate alone, each sized, priced and judged; and their comparison."""

from fenrask.designs.break_even import BreakEven, break_even
from fenrask.designs.changes import FlowChange, changes
from fenrask.designs.compare import MEASURES, Candidate, Comparison, beside, compare
from fenrask.designs.contract import Design
from fenrask.designs.faults import case_patch, scaled_flows, single_faults
from fenrask.designs.growth import Growth, grow
from fenrask.designs.judge import Judged, judge
from fenrask.designs.outcomes import Help, Outcome
from fenrask.designs.sensitivity import Effect, sensitivity
from fenrask.designs.standard import STANDARD
from fenrask.designs.stress import pairs_of, stress

__all__ = [
    "MEASURES",
    "STANDARD",
    "BreakEven",
    "Candidate",
    "Comparison",
    "Design",
    "Effect",
    "FlowChange",
    "Growth",
    "Help",
    "Judged",
    "Outcome",
    "beside",
    "break_even",
    "case_patch",
    "changes",
    "compare",
    "grow",
    "judge",
    "pairs_of",
    "scaled_flows",
    "sensitivity",
    "single_faults",
    "stress",
]
