"""Standard designs made from the estate alone, each sized, priced and judged; and their comparison."""

from fenrask.designs.compare import Candidate, Comparison, compare
from fenrask.designs.contract import Design
from fenrask.designs.faults import case_patch, scaled_flows, single_faults
from fenrask.designs.growth import Growth, grow
from fenrask.designs.judge import Judged, judge
from fenrask.designs.sensitivity import Effect, sensitivity
from fenrask.designs.standard import STANDARD
from fenrask.designs.stress import Help, Outcome, pairs_of, stress

__all__ = [
    "STANDARD",
    "Candidate",
    "Comparison",
    "Design",
    "Effect",
    "Growth",
    "Help",
    "Judged",
    "Outcome",
    "case_patch",
    "compare",
    "grow",
    "judge",
    "pairs_of",
    "scaled_flows",
    "sensitivity",
    "single_faults",
    "stress",
]
