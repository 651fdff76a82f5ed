"""Names looked up by DNS (RFC 1034, 1035): addresses of both families, aliases followed, times to live."""

from dataclasses import dataclass

import dns.exception
import dns.rdatatype
import dns.resolver

from fenrask.prefixes import Address, parse_address

__all__ = ["Looked", "look_up"]


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


def look_up(name: str, server: str, port: int = 53, within_s: float = 3.0) -> Looked:
    """Ask one server for a name's A and AAAA records. Goes to the network, to that server alone."""
    resolver = dns.resolver.Resolver(configure=False)
    resolver.nameservers, resolver.port, resolver.lifetime = [server], port, within_s
    addresses: list[Address] = []
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
        for records in answer.response.answer:
            ttls.append(records.ttl)
            for record in records:
                if records.rdtype == dns.rdatatype.CNAME:
                    aliases[record.target.to_text(omit_final_dot=True)] = None
                elif records.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
                    addresses.append(parse_address(record.address))
    in_order = sorted(set(addresses), key=lambda one: (one.version, int(one)))
    return Looked(name, tuple(in_order), tuple(aliases), min(ttls, default=0))
