"""Which addresses stand for whom: those that exits show, endpoints are entered at, and public hosts have."""

from collections.abc import Iterable, Iterator
from functools import cached_property
from ipaddress import ip_address

from fenrask.estate import Estate, ExitModel
from fenrask.prefixes import Address, Prefix, usable
from fenrask.rehearsal.attempts import Try

__all__ = ["Shown"]

_UNLISTED = int(ip_address("198.18.0.1"))
"""Addresses that are yet to be bought, in a range for tests (RFC 2544)."""


class Shown:
    """The addresses of one estate; those that it does not list are made up, each once."""

    def __init__(self, estate: Estate, tries: Iterable[Try]) -> None:
        self.estate = estate
        self.owner: dict[Address, str] = {}
        """The exit that an address is one of."""
        self.public_of: dict[Address, Address] = {}
        """The public address of a host that has one."""
        self.pools = {exit_.pool: name for name, exit_ in estate.exits.items() if exit_.pool is not None}
        """The exit that rewrites to a private pool."""
        self.aims: dict[tuple[str, str], Address] = {}
        """The address of a published port, by exit and name."""
        self._used = {one for each in tries for one in (each.sender, each.target)} | self.entries.keys()
        self._next = _UNLISTED
        self.toward = {name: self._toward(exit_, name) for name, exit_ in estate.exits.items()}
        """By exit: its public addresses by the destination that sees them, empty for the rest."""
        for name, exit_ in estate.exits.items():
            for as_, published in exit_.published.items():
                first = exit_.pool[0] if exit_.pool is not None else self.toward[name][""][0]
                self.aims[name, as_] = published.address or first

    @cached_property
    def entries(self) -> dict[Address, str]:
        """The endpoints that are entered at addresses in subnets, by address."""
        exits = self.estate.exits.items()
        return {entry: name for name, exit_ in exits for entry in self.estate.entries_of(exit_)}

    def entries_in(self, name: str, subnet: str) -> list[Address]:
        """The addresses at which an endpoint is entered in one of its subnets."""
        entries = self.estate.entries_of(self.estate.exits[name])
        return [entry for entry, place in entries.items() if place == subnet]

    def _toward(self, exit_: ExitModel, name: str) -> dict[str, list[Address]]:
        if exit_.pool is not None or not (exit_.translates or exit_.published):
            return {}
        found: dict[str, list[Address]] = {}
        for toward in ("", *exit_.own_addresses):
            listed: list[Address] = [one for one in exit_.listed_toward(toward) if one.version == 4]
            found[toward] = listed or [self._unlisted() for _ in range(exit_.stated_toward(toward) or 1)]
            self.owner |= dict.fromkeys(found[toward], name)
        return found

    def _unlisted(self) -> Address:
        listed = {one for exit_ in self.estate.exits.values() for one in exit_.every_listed}
        while (address := ip_address(self._next)) in listed:
            self._next += 1
        self._next += 1
        return address

    def of(self, name: str) -> list[Address]:
        """All public addresses of an exit."""
        return [one for some in self.toward[name].values() for one in some]

    def owned_in(self, network: str) -> Iterator[Address]:
        """The public addresses of the exits in a network's subnets."""
        for name, exit_ in self.estate.exits.items():
            if exit_.in_subnets and self.estate.network_of(exit_) == network:
                yield from self.of(name)

    def pools_in(self, network: str) -> list[Prefix]:
        """The private pools of the exits of a network."""
        return [pool for pool, name in self.pools.items() if self.estate.network_of(self.estate.exits[name]) == network]

    def public(self, host: Address) -> Address:
        """The public address of a host."""
        if host not in self.public_of:
            self.public_of[host] = self._unlisted()
        return self.public_of[host]

    def private(self, name: str) -> Address:
        """An address of an exit's own in its subnet: the last free one."""
        prefix = self.estate.subnets[self.estate.exits[name].in_subnets[0]].prefix
        number = usable(prefix).last
        while ip_address(number) in self._used or ip_address(number) in self.owner:
            number -= 1
        own = ip_address(number)
        self.owner[own] = name
        return own

    def whose(self, address: Address) -> str:
        """The exit that an address is one of; empty for none."""
        return self.owner.get(address) or next((name for pool, name in self.pools.items() if address in pool), "")

    def aim(self, try_: Try) -> Address:
        """The address that a try is sent to: a published one, a host's public one, or the target's own."""
        if try_.asked is not None:
            return try_.asked
        if try_.publisher:
            return self.aims[try_.publisher, try_.published]
        if try_.space == "internet":
            return self.public_of.get(try_.target, try_.target)
        return try_.target
