"""Names looked up by DNS (RFC 1034, 1035): addresses of both families, aliases followed, times to live.

Of an answer counts what the asked name's own chain of aliases ends at: other records of it may be anybody's. Addresses
that no route goes to are told and left aside; private ones are told.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import IPv4Network, IPv6Network

import dns.exception
import dns.message
import dns.rdatatype
import dns.resolver

from fenrask.prefixes import Address, Prefix, parse_address

__all__ = ["Looked", "look_up"]

_PRIVATE: tuple[Prefix, ...] = (
    *map(IPv4Network, ("10.0.0.0/8", "100.64.0.0/10", "172.16.0.0/12", "192.168.0.0/16")),
    IPv6Network("fc00::/7"),
)
"""Private use (RFC 1918, RFC 4193) and shared address space (RFC 6598)."""


@dataclass(frozen=True)
class Looked:
    """What a resolver says of one name; `fault` where it says nothing."""

    name: str
    addresses: tuple[Address, ...] = ()
    aliases: tuple[str, ...] = ()
    """The names that it is an alias of, in order."""
    ttl_s: int = 0
    """The least time to live of the answer, s."""
    fault: str = ""
    special: tuple[str, ...] = ()
    """Answered addresses of special use (RFC 6890), each with what it is."""


def look_up(name: str, server: str, port: int = 53, within_s: float = 3.0) -> Looked:
    """Ask one server for a name's A and AAAA records. Goes to the network, to that server alone."""
    resolver = dns.resolver.Resolver(configure=False)
    resolver.nameservers, resolver.port, resolver.lifetime = [server], port, within_s
    answered: list[Address] = []
    aliases: dict[str, None] = {}
    ttls: list[int] = []
    for kind in ("A", "AAAA"):
        try:
            answer = resolver.resolve(name, kind, raise_on_no_answer=False, search=False)
        except dns.resolver.NXDOMAIN:
            return Looked(name, fault="no such name")
        except dns.exception.Timeout:
            return Looked(name, fault=f"no answer from {server} within {within_s:g} s")
        except dns.exception.DNSException as error:
            return Looked(name, fault=f"{server} answers: {str(error).splitlines()[0].rstrip('.').lower()}")
        chain = answer.chaining_result
        for alias in chain.cnames:
            ttls.append(alias.ttl)
            aliases[alias[0].target.to_text(omit_final_dot=True)] = None
        if chain.answer is not None:
            ttls.append(chain.answer.ttl)
            answered += [parse_address(record.address) for record in chain.answer]
    in_order = sorted(set(answered), key=lambda address: (address.version, int(address)))
    taken = tuple(one for one in in_order if not _unreachable(one))
    fault = "" if taken else "no address" if not in_order else "no address that a route goes to"
    return Looked(name, taken, tuple(aliases), min(ttls, default=0), fault, tuple(_special(in_order)))


def _unreachable(address: Address) -> str:
    """What an address is that no route goes to; empty for any other."""
    if address.is_unspecified:
        return "unspecified"
    if address.is_loopback:
        return "loopback"
    if address.is_link_local:
        return "link-local"
    return "multicast" if address.is_multicast else ""


def _special(addresses: list[Address]) -> Iterator[str]:
    for address in addresses:
        if what := _unreachable(address):
            yield f"{address} ({what}, not taken)"
        elif any(address in block for block in _PRIVATE if block.version == address.version):
            yield f"{address} (private)"
