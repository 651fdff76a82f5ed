"""Who may use a private endpoint, and what a service takes: policies at the end of a path, which choose no path."""

from fenrask.estate import Estate, Onward
from fenrask.estate.suggestions import some
from fenrask.prefixes import unmapped
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
        name = trace.hops[-1].exit
        exit_ = self.estate.exits.get(name)
        if exit_ is None:
            return ""
        listed = exit_.lets_in if trace.onward is Onward.SERVICE else None
        if listed is not None and workload is not None and workload not in listed:
            return f"the policy of {name} lets in {some(listed) or 'no workload'} only"
        return next(filter(None, (self._refused(to, trace, name) for to in self._guarded(trace))), "")

    def _guarded(self, trace: Trace) -> list[str]:
        """The services that what got there is for, and that do not take everything."""
        address = unmapped(trace.packet.address) or trace.packet.address
        named = [trace.packet.destination or "", *sorted(self.estate.named_addresses.at(address))]
        every = self.estate.destinations
        return [to for to in dict.fromkeys(named) if to in every and every[to].is_guarded]

    def _refused(self, to: str, trace: Trace, name: str) -> str:
        """Why a service does not take what came through an exit; empty where it does."""
        stated = self.estate.destinations[to]
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
