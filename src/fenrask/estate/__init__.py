"""What the engineer wrote: models, YAML with line numbers, patches, schema."""

from fenrask.estate.catalogue import Catalogue, Offer, Rate, Tiers
from fenrask.estate.exits import KINDS, ExitModel, Onward, Passing
from fenrask.estate.models import Destination, Estate, Flow, Needs, Origin, Subnet, Workload, exits_of
from fenrask.estate.reading import Described, read_estate

__all__ = [
    "KINDS",
    "Catalogue",
    "Described",
    "Destination",
    "Estate",
    "ExitModel",
    "Flow",
    "Needs",
    "Offer",
    "Onward",
    "Origin",
    "Passing",
    "Rate",
    "Subnet",
    "Tiers",
    "Workload",
    "exits_of",
    "read_estate",
]
