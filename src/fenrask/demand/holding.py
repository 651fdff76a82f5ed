"""How long a connection keeps its translated port: its life and the release after its ending."""

from fenrask.estate import Flow, Offer

__all__ = ["hold_mean_s", "release_mean_s"]


def release_mean_s(flow: Flow, protocol: str, offer: Offer | None) -> float:
    """Mean time, in s, that a port stays taken after the connection, at an exit of this offer.

    A mixture by ending: closed in order, reset, or left to the idle timeout. UDP has no ending but
    its idle timeout. An exit that holds no port adds nothing.
    """
    if offer is None or offer.ports is None:
        return 0.0
    release = offer.release_s
    if protocol == "udp":
        return release.udp_idle
    closed, reset, idle = flow.ending_shares
    return closed * release.closed + reset * release.reset + idle * release.idle


def hold_mean_s(flow: Flow, protocol: str, offer: Offer | None) -> float:
    """Mean hold, in s: life plus release."""
    return flow.life_mean_s + release_mean_s(flow, protocol, offer)
