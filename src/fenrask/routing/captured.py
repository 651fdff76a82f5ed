"""Destinations of the internet that a third party draws to itself by what it announces."""

from fenrask.estate import Estate, Onward, Origin
from fenrask.prefixes import is_public
from fenrask.routing.packets import Hop
from fenrask.routing.paths import FlowPath

__all__ = ["capturing_hop"]


def capturing_hop(estate: Estate, path: FlowPath) -> Hop | None:
    """The step by which a path to a destination of the internet goes to a third party that announces it.

    None where nobody meant otherwise: the destination is the third party's own, private, or a service; or a route that
    is written for it, no default, sends it there.
    """
    trace = path.example
    line = estate.exits.get(trace.hops[-1].exit) if trace.hops else None
    if line is None or line.onward is not Onward.THIRD_PARTY:
        return None
    # What gets there is captured, be it that its reply is lost.
    if trace.inward is not None or not trace.verdict.gets_there:
        return None
    destination = estate.destinations[path.to]
    own = destination.third_party and destination.third_party == line.party
    if own or destination.service or not is_public(path.example.packet.address):
        return None
    # The table of its own subnet, not of the one that the example is from.
    hops = path.trace.hops
    if any(hop.route and hop.route.origin is Origin.STATIC and hop.route.prefix.prefixlen for hop in hops):
        return None
    learned = (hop for hop in hops if hop.route and hop.route.origin in (Origin.LEARNED, Origin.INJECTED))
    return next(learned, None)
