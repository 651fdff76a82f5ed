"""Standard designs made from the estate alone, each sized, priced and judged; and their comparison."""

from fenrask.designs.break_even import BreakEven, DesignsBreakEven, break_even, designs_break_even
from fenrask.designs.changes import FlowChange, changes
from fenrask.designs.compare import MEASURES, Candidate, Comparison, beside, compare
from fenrask.designs.contract import Design
from fenrask.designs.faults import case_patch, scaled_flows, single_faults
from fenrask.designs.growth import Growth, grow
from fenrask.designs.judge import Judged, judge
from fenrask.designs.outcomes import Help, Outcome, as_sized
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
    "DesignsBreakEven",
    "Effect",
    "FlowChange",
    "Growth",
    "Help",
    "Judged",
    "Outcome",
    "as_sized",
    "beside",
    "break_even",
    "case_patch",
    "changes",
    "compare",
    "designs_break_even",
    "grow",
    "judge",
    "pairs_of",
    "scaled_flows",
    "sensitivity",
    "single_faults",
    "stress",
]
