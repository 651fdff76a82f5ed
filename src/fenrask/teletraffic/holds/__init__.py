"""How long a server stays taken: hold laws. A new one is one file and a name here."""

from fenrask.teletraffic.holds.contract import Hold, Parameter
from fenrask.teletraffic.holds.delayed import Delayed
from fenrask.teletraffic.holds.empirical import Empirical
from fenrask.teletraffic.holds.exponential import Exponential
from fenrask.teletraffic.holds.fixed import Fixed
from fenrask.teletraffic.holds.lognormal import Lognormal
from fenrask.teletraffic.holds.mixture import Mixture, balanced, hyperexponential
from fenrask.teletraffic.holds.stacking import stacked

__all__ = [
    "Delayed",
    "Empirical",
    "Exponential",
    "Fixed",
    "Hold",
    "Lognormal",
    "Mixture",
    "Parameter",
    "balanced",
    "hyperexponential",
    "stacked",
]
