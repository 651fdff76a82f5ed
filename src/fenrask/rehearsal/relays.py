"""Exits that connect on their hosts' behalf: proxies that hosts ask, and gateways from IPv6 to IPv4 (RFC 6146).

The kernel has neither: a program in the exit's place takes a connection, and opens another one to what it is for.
"""

from ipaddress import ip_address
from typing import NamedTuple

from fenrask.prefixes import Address, unmapped
from fenrask.rehearsal.places import DELIVER, Places
from fenrask.rehearsal.ways import OUT

__all__ = ["NO_ADDRESS", "Relay", "Relays"]

NO_ADDRESS = ip_address("192.0.0.8")
"""The source, before it is translated, of those who have no IPv4 address (RFC 7600)."""


class Relay(NamedTuple):
    """Where an exit takes connections, and from which of its addresses it opens another one for each."""

    space: str
    protocol: str
    address: Address
    port: int
    source: Address


class Relays:
    """All of them, in an estate's places."""

    def __init__(self, places: Places) -> None:
        self.places, self.relays = places, list[Relay]()
        for name, exit_ in places.estate.exits.items():
            if exit_.asked_at is not None:
                self._stand_proxy(name, exit_.asked_at)
            elif exit_.maps_ipv6:
                self._stand_gateway(name)

    def _stand_proxy(self, name: str, port: int) -> None:
        space, exit_ = self.places.exit(name), self.places.estate.exits[name]
        for entry, subnet in self.places.estate.entries_of(exit_).items():
            space.local[entry] = None
            self.places.subnet(subnet).route(DELIVER, entry, self.places.at_exit[name, subnet])
            self.relays.append(Relay(space.name, "tcp", entry, port, entry))

    def _stand_gateway(self, name: str) -> None:
        space = self.places.exit(name)
        space.local[NO_ADDRESS] = None
        space.rules.append(f"from {NO_ADDRESS} lookup {OUT} priority 300")
        asked = ((one.protocol, one.asked, one.port) for one in self.places.tries if one.asked is not None)
        for protocol, address, port in dict.fromkeys(asked):
            if unmapped(address) is not None:
                space.local[address] = None
                self.relays.append(Relay(space.name, protocol, address, port, NO_ADDRESS))
