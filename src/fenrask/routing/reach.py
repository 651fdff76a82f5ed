"""Which exits a route may name: those of its own network, or hub, or of a peer that lets them be used."""

from fenrask.estate import Estate

__all__ = ["reached"]


def reached(estate: Estate, place: str, network: str | None, name: str) -> tuple[str, str]:
    """The peering crossed on the path to an exit, if any; and why the exit is out of reach, empty if it is not.

    network: in which the route is; None at a hub, which is then the place.
    """
    exit_ = estate.exits[name]
    target = estate.network_of(exit_)
    if target == network and target is not None:
        return "", ""
    if network is None:
        near = exit_.attached_to == place or target in estate.exits[place].joins
        return "", "" if near else f"{name} is not attached to {place}"
    if network in exit_.joins:
        return "", ""
    for peering, other in estate.peers_of(network):
        if other == target:
            if not exit_.is_machine and not estate.exits[peering].lets_use_exits(network):
                return peering, f"{peering} does not let the other side's exits be used"
            return peering, ""
    where = target or exit_.attached_to or "no network"
    return "", f"{name} belongs to {where}, not to {network} nor to a peer of it"
