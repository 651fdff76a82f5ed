"""Standard designs made from the estate alone, each sized, priced and judged; and their comparison."""

from fenrask.designs.compare import Candidate, Comparison, compare
from fenrask.designs.contract import Design
from fenrask.designs.judge import Judged, judge
from fenrask.designs.standard import STANDARD

__all__ = ["STANDARD", "Candidate", "Comparison", "Design", "Judged", "compare", "judge"]
