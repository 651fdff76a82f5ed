"""How long a server stays taken: hold laws. A new one is one file and a name here."""

from fenrask.teletraffic.holding.contract import Draw, HoldingTime, Parameter, Simple
from fenrask.teletraffic.holding.delayed import Delayed
from fenrask.teletraffic.holding.empirical import Empirical
from fenrask.teletraffic.holding.exponential import Exponential
from fenrask.teletraffic.holding.fixed import Fixed
from fenrask.teletraffic.holding.lognormal import Lognormal
from fenrask.teletraffic.holding.mixture import Mixture, balanced, hyperexponential
from fenrask.teletraffic.holding.shapes import SHAPES, Shape, law_of
from fenrask.teletraffic.holding.stacking import Stacks, make_of, stacked

__all__ = [
    "Delayed",
    "Draw",
    "Empirical",
    "Exponential",
    "Fixed",
    "HoldingTime",
    "Lognormal",
    "Mixture",
    "Parameter",
    "SHAPES",
    "Shape",
    "Simple",
    "balanced",
    "hyperexponential",
    "Stacks",
    "law_of",
    "make_of",
    "stacked",
]
