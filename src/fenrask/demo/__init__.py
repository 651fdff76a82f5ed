"""The sample estate, a small one to begin from, and the steps of the demonstration."""

from fenrask.demo.inventory import INVENTORY, inventory_of
from fenrask.demo.samples import BEGINNING, VELLMOUTH, Sample
from fenrask.demo.steps import RECORDS, STEPS, Run, Step

__all__ = ["BEGINNING", "INVENTORY", "RECORDS", "STEPS", "VELLMOUTH", "Run", "Sample", "Step", "inventory_of"]
