"""Flows of requests: the connections that hosts' clients keep for them, as rates, lives and a profile of their own."""

from collections.abc import Sequence
from dataclasses import dataclass

from fenrask.estate.flows import Flow
from fenrask.teletraffic.client_pools import PoolUse, pool_use
from fenrask.units import SECONDS_PER_HOUR

__all__ = ["PooledLoad"]


@dataclass(frozen=True)
class PooledLoad:
    """A flow's connections, not its requests: what a profile, a rate and a life that does not vary say of them.

    Connections do not grow as requests do, so that their profile is another. Where one is kept for longer than an hour,
    an hour counts: at the end of the busiest as many are open as there are, and a few more are opened than truly are.

    new_per_s: of each host, where multipliers are 1; life_s: mean life, s; multipliers: by hour; busiest: what a host's
    client has in the busiest hour.
    """

    new_per_s: float
    life_s: float
    multipliers: tuple[float, ...]
    busiest: PoolUse

    @classmethod
    def of(cls, flow: Flow, profile: Sequence[float]) -> "PooledLoad":
        """That of a flow whose requests have this profile."""
        uses = {times: _use(flow, times) for times in {*profile, 1.0}}
        busiest = uses[max(profile)]
        life_s = busiest.open / busiest.opened_per_s if busiest.opened_per_s else float(SECONDS_PER_HOUR)
        life_s = min(life_s, float(SECONDS_PER_HOUR))
        usual = uses[1.0].open
        multipliers = tuple(uses[times].open / usual if usual else 0.0 for times in profile)
        return cls(usual / life_s, life_s, multipliers, busiest)


def _use(flow: Flow, times: float) -> PoolUse:
    requests = (flow.requests_per_host_per_s or 0.0) * times
    return pool_use(requests, flow.duration_mean_s, flow.pool_idle_s or 0.0, flow.pool_max, flow.requests_at_once)
