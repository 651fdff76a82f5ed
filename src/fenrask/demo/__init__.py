"""The sample estate, a small one to begin from, and the steps of the demonstration."""

from fenrask.demo.samples import BEGINNING, VELLMOUTH, Sample
from fenrask.demo.steps import RECORDS, STEPS, Run, Step

__all__ = ["BEGINNING", "RECORDS", "STEPS", "VELLMOUTH", "Run", "Sample", "Step"]
