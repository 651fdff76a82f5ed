"""What was observed: who was seen from where, and how that agrees with the plan; names and their addresses."""

from fenrask.records.compared import Compared
from fenrask.records.confirming import Confirmed, confirm
from fenrask.records.drift import Drift, drift_patch, drifts
from fenrask.records.observations import Observation, read_observations

__all__ = ["Compared", "Confirmed", "Drift", "Observation", "confirm", "drift_patch", "drifts", "read_observations"]
