"""The estate in network namespaces of this machine: real packets, translators and filters beside what is planned."""

from fenrask.rehearsal.kernel import missing
from fenrask.rehearsal.rehearsing import Rehearsal, Rehearsed, rehearse

__all__ = ["Rehearsal", "Rehearsed", "missing", "rehearse"]
