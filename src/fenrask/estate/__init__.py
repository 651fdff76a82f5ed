"""What the engineer wrote: models, YAML with line numbers, patches, schema."""

from fenrask.estate.behaviour import Behaviour
from fenrask.estate.cases import Case
from fenrask.estate.catalogue import (
    Addresses,
    Catalogue,
    Commitment,
    Offer,
    OnChange,
    Rate,
    Rates,
    Tiers,
    Transfer,
)
from fenrask.estate.destinations import BY_NAME, Destination, Fault, Needs
from fenrask.estate.durations import DurationLaw, DurationPart
from fenrask.estate.exits import (
    KINDS,
    Counted,
    ExitModel,
    Inspecting,
    Onward,
    Passing,
    PassingRule,
    PrivateEndpoint,
    PrivateLine,
    Published,
    Publishing,
    Translating,
)
from fenrask.estate.filters import ANY_PORT, EPHEMERAL, Filter, Filtered, PortSpan
from fenrask.estate.flows import LOADS, Ending, Flow
from fenrask.estate.growth import HostGrowth, LoadGrowth, month_of_number, number_of_month
from fenrask.estate.models import (
    MONTH_DAYS,
    ChangeCost,
    Estate,
    LeadDays,
    Network,
    Origin,
    PublicAddress,
    Subnet,
    Workload,
    exits_of,
)
from fenrask.estate.patches import merge, merge_patches
from fenrask.estate.ports import PORTS, GrowingBlock, HostBlock, NodeShare, Ports
from fenrask.estate.reading import Described, read_estate, read_patch
from fenrask.estate.remotes import Remote
from fenrask.estate.throughput import Throughput
from fenrask.estate.values import LAST_PORT

__all__ = [
    "LAST_PORT",
    "LOADS",
    "ANY_PORT",
    "BY_NAME",
    "EPHEMERAL",
    "Filter",
    "Filtered",
    "KINDS",
    "PORTS",
    "GrowingBlock",
    "HostBlock",
    "Inspecting",
    "NodeShare",
    "Addresses",
    "Case",
    "Behaviour",
    "Catalogue",
    "Commitment",
    "Described",
    "Destination",
    "Ending",
    "Estate",
    "ExitModel",
    "Flow",
    "DurationLaw",
    "DurationPart",
    "Fault",
    "HostGrowth",
    "LoadGrowth",
    "Needs",
    "Network",
    "Offer",
    "OnChange",
    "Onward",
    "Origin",
    "Passing",
    "PassingRule",
    "PortSpan",
    "Ports",
    "PrivateEndpoint",
    "PrivateLine",
    "Published",
    "Publishing",
    "Rate",
    "Rates",
    "Remote",
    "Subnet",
    "Throughput",
    "Tiers",
    "Transfer",
    "Translating",
    "Counted",
    "MONTH_DAYS",
    "ChangeCost",
    "LeadDays",
    "PublicAddress",
    "Workload",
    "exits_of",
    "merge",
    "merge_patches",
    "month_of_number",
    "number_of_month",
    "read_estate",
    "read_patch",
]
