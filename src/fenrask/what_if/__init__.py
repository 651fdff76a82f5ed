"""What happens if: faults and stated cases, growth, inputs that change, and the day replayed by simulation."""

from fenrask.evaluation.faults import all_cases, case_patch, scaled_flows, single_faults
from fenrask.what_if.alerts import Alert, alerts
from fenrask.what_if.apart import confident_apart, grow_apart, stress_apart, zone_losses_apart
from fenrask.what_if.confidence import Confident, ExitConfidence, confident, with_confidence
from fenrask.what_if.growth import Growth, absent, grow, grows, months_ahead, once_in, only
from fenrask.what_if.kept import LimitConfidence
from fenrask.what_if.outcomes import Help, Outcome, as_sized, zone_losses
from fenrask.what_if.ranges import ranges
from fenrask.what_if.sensitivity import Effect, sensitivity
from fenrask.what_if.simulated import Asked, Outage, Simulated, simulated
from fenrask.what_if.sources import Shown
from fenrask.what_if.stress import pairs_of, stress
from fenrask.what_if.teardown import StillPaid, Teardown, teardown
from fenrask.what_if.timeouts import AtTimeout, adjustable, sweep
from fenrask.what_if.watches import METRICS, Watch, watches

__all__ = [
    "METRICS",
    "Watch",
    "watches",
    "Alert",
    "alerts",
    "Asked",
    "Effect",
    "Growth",
    "LimitConfidence",
    "Help",
    "Outage",
    "Outcome",
    "AtTimeout",
    "Confident",
    "ExitConfidence",
    "confident",
    "confident_apart",
    "ranges",
    "adjustable",
    "sweep",
    "StillPaid",
    "Teardown",
    "teardown",
    "Shown",
    "Simulated",
    "absent",
    "all_cases",
    "as_sized",
    "case_patch",
    "grow",
    "grows",
    "months_ahead",
    "once_in",
    "only",
    "grow_apart",
    "pairs_of",
    "scaled_flows",
    "sensitivity",
    "simulated",
    "single_faults",
    "stress",
    "stress_apart",
    "with_confidence",
    "zone_losses",
    "zone_losses_apart",
]
