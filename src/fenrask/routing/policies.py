"""Who may use a private endpoint, and what a service takes: policies at the end of a path, which choose no path."""

from fenrask.estate import Estate, Onward
from fenrask.estate.suggestions import some
from fenrask.routing.packets import Trace

__all__ = ["Policies"]


class Policies:
    """Holds paths that got there against the policies of endpoints and services."""

    def __init__(self, estate: Estate) -> None:
        self.estate = estate
        self._some = any(one.lets_in is not None for one in estate.exits.values()) or any(
            one.is_guarded for one in estate.destinations.values()
        )

    def denial(self, trace: Trace, workload: str | None) -> str:
        """Why a packet is denied at its end; empty where it is not. Of no workload, no endpoint's list is looked at."""
        if not self._some or not trace.hops:
            return ""
        name, to = trace.hops[-1].exit, trace.packet.destination
        exit_, stated = self.estate.exits.get(name), self.estate.destinations.get(to or "")
        if exit_ is None:
            return ""
        listed = exit_.lets_in if trace.onward is Onward.SERVICE else None
        if listed is not None and workload is not None and workload not in listed:
            return f"the policy of {name} lets in {some(listed) or 'no workload'} only"
        if stated is None or not stated.is_guarded:
            return ""
        if trace.onward is Onward.SERVICE and stated.only_through is not None and name not in stated.only_through:
            return f"{to} takes only what comes through {some(stated.only_through)}"
        if trace.onward is not Onward.INTERNET or stated.public_access == "open":
            return ""
        if stated.public_access == "closed":
            return f"{to} takes nothing from the internet (public_access: closed)"
        seen = trace.source.address
        if seen is not None and not any(seen in prefix for prefix in stated.allowed):
            return f"{to} does not list {seen}"
        return ""
