"""Single prefixes and sets of them (RFC 4632)."""

from collections.abc import Iterable, Iterator, Sequence
from ipaddress import (
    IPv4Address,
    IPv4Network,
    IPv6Address,
    IPv6Network,
    collapse_addresses,
    ip_address,
    ip_network,
)
from typing import TypeVar

__all__ = [
    "PRIVATE",
    "Address",
    "Prefix",
    "covers",
    "fewest_prefixes",
    "first_free",
    "is_public",
    "mapped_prefix",
    "mapped_to_ipv6",
    "overlap",
    "overlaps",
    "parse_address",
    "parse_prefix",
    "unmapped",
]

Prefix = IPv4Network | IPv6Network
Address = IPv4Address | IPv6Address
Label = TypeVar("Label")

_WELL_KNOWN = 0x64FF9B << 96
"""64:ff9b::/96, under which IPv6 hosts ask for IPv4 addresses."""

PRIVATE = tuple(
    ip_network(text)
    for text in (
        "10.0.0.0/8",
        "172.16.0.0/12",
        "192.168.0.0/16",
        "100.64.0.0/10",
        "169.254.0.0/16",
        "127.0.0.0/8",
        "fc00::/7",
        "fe80::/10",
        "::1/128",
    )
)
"""Ranges that are not reachable over the internet: RFC 1918, 6598, 3927, 1122, 4193, 4291."""
_PRIVATE_RANGES = {
    version: [(int(one[0]), int(one[-1])) for one in PRIVATE if one.version == version] for version in (4, 6)
}


def parse_prefix(text: str) -> Prefix:
    """An IPv4 or IPv6 prefix; an address alone means itself. ValueError with the nearest valid prefix."""
    try:
        return ip_network(text)
    except ValueError:
        pass
    try:
        meant = ip_network(text, strict=False)
    except ValueError:
        raise ValueError("a prefix such as 10.40.1.0/24 or 2001:db8:1::/48") from None
    raise ValueError(f"a prefix without host bits, such as {meant}")


def parse_address(text: str) -> Address:
    """An IPv4 or IPv6 address; ValueError says what was expected."""
    try:
        return ip_address(text)
    except ValueError:
        raise ValueError("an address such as 203.0.113.7 or 2001:db8::7") from None


def is_public(what: Prefix | Address) -> bool:
    """Whether a prefix or address lies outside the private ranges; documentation ranges stand for public ones."""
    if isinstance(what, IPv4Network | IPv6Network):
        first, last = int(what.network_address), int(what.broadcast_address)
    else:
        first = last = int(what)
    return not any(low <= first and last <= high for low, high in _PRIVATE_RANGES[what.version])


def mapped_to_ipv6(address: IPv4Address) -> IPv6Address:
    """The address under which an IPv6 host asks for an IPv4 one (RFC 6052, the well-known prefix).

    >>> str(mapped_to_ipv6(IPv4Address("203.0.113.7")))
    '64:ff9b::cb00:7107'
    """
    return IPv6Address(_WELL_KNOWN | int(address))


def mapped_prefix(prefix: Prefix) -> IPv6Network:
    """The prefix under which IPv6 hosts ask for the addresses of an IPv4 one (RFC 6052, the well-known prefix).

    >>> str(mapped_prefix(IPv4Network("203.0.113.0/24")))
    '64:ff9b::cb00:7100/120'
    """
    return IPv6Network((_WELL_KNOWN | int(prefix.network_address), 96 + prefix.prefixlen))


def unmapped(address: Address) -> IPv4Address | None:
    """The IPv4 address inside a mapped one (RFC 6052, the well-known prefix); None for any other.

    >>> str(unmapped(mapped_to_ipv6(IPv4Address("203.0.113.7"))))
    '203.0.113.7'
    """
    if isinstance(address, IPv6Address) and int(address) >> 32 == _WELL_KNOWN >> 32:
        return IPv4Address(int(address) & 0xFFFFFFFF)
    return None


def overlaps(
    labelled: Iterable[tuple[Prefix, Label]],
) -> Iterator[tuple[tuple[Prefix, Label], tuple[Prefix, Label]]]:
    """Every overlapping pair among labelled prefixes, the containing one first.

    Prefixes nest or are disjoint, so one pass in order of first address with a stack of the open
    ones finds all pairs: O(n log n + pairs).
    """
    items = sorted(labelled, key=lambda item: (item[0].version, int(item[0].network_address), item[0].prefixlen))
    open_ones: list[tuple[Prefix, Label]] = []
    for item in items:
        while open_ones and not covers(open_ones[-1][0], item[0]):
            open_ones.pop()
        for outer in open_ones:
            yield outer, item
        open_ones.append(item)


def fewest_prefixes(addresses: Iterable[Address | Prefix]) -> tuple[Prefix, ...]:
    """The fewest prefixes that hold exactly these addresses and prefixes, IPv4 before IPv6.

    >>> [str(one) for one in fewest_prefixes(map(parse_address, ["192.0.2.5", "192.0.2.4", "192.0.2.6"]))]
    ['192.0.2.4/31', '192.0.2.6/32']
    """
    every = list(addresses)
    v4 = collapse_addresses(IPv4Network(one) for one in every if one.version == 4)
    v6 = collapse_addresses(IPv6Network(one) for one in every if one.version == 6)
    return (*v4, *v6)


def first_free(within: Sequence[Prefix], taken: Iterable[Prefix], length: int) -> Prefix | None:
    """The lowest IPv4 prefix of `length` inside `within` that touches nothing in `taken`, or None."""
    used = sorted((int(p.network_address), int(p.broadcast_address)) for p in taken if isinstance(p, IPv4Network))
    size = 2 ** (32 - length)
    for pool in within:
        if not isinstance(pool, IPv4Network) or pool.prefixlen > length:
            continue
        start, end = int(pool.network_address), int(pool.broadcast_address)
        for first, last in used:
            if first - start >= size:
                break
            if last >= start:
                start = -(-(last + 1) // size) * size
        if start + size - 1 <= end:
            return IPv4Network((start, length))
    return None


def covers(outer: Prefix, inner: Prefix) -> bool:
    """Whether a prefix holds all of another; never one of the other IP version."""
    if outer.version != inner.version:
        return False
    return outer.prefixlen <= inner.prefixlen and inner.network_address in outer


def overlap(prefix: Prefix, other: Prefix) -> bool:
    """Whether two prefixes have an address in common."""
    return covers(prefix, other) or covers(other, prefix)
