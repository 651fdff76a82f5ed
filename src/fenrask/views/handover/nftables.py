"""A translator host's rules for the Linux kernel, as `nft -f` reads them; and the size of its table."""

from collections.abc import Iterator, Mapping, Sequence
from ipaddress import ip_address
from itertools import count, islice

from fenrask.capacity import Forwarded, OwnSource, Translator
from fenrask.views.quoting import comment, label

__all__ = ["rules_file", "sysctl_file"]

_PLACEHOLDERS = "203.0.113."
"""Stands for addresses that are not known yet (RFC 5737)."""
_LONGEST_S = 2**31 - 1
_TIED = {
    "any-free": "jhash ip saddr . ip daddr",
    "by-host": "jhash ip saddr",
    "by-host-and-destination": "jhash ip saddr . ip daddr",
    "in-turn": "numgen inc",
}


def rules_file(translator: Translator, outward: str = "eth0", estate: str = "") -> str:
    """Translation with its addresses and ports, and the timers, in a table of its own: loading it anew replaces it.

    `outward` is the interface toward the internet.
    """
    return "\n".join(_lines(translator, outward, estate)) + "\n"


def sysctl_file(translator: Translator) -> str:
    """The size of the connection table, with a bucket for each entry."""
    return (
        f"# {comment(translator.exit)}: connections that the table holds, and its buckets.\n"
        f"net.netfilter.nf_conntrack_max = {translator.table}\n"
        f"net.netfilter.nf_conntrack_buckets = {translator.table}\n"
        "net.ipv4.ip_forward = 1\n"
    )


def _lines(translator: Translator, outward: str, estate: str) -> Iterator[str]:
    addresses, own = _addresses(translator)
    table = f"translation_{label(translator.exit)}"
    name = f"{comment(translator.exit)} of {comment(estate)}" if estate else comment(translator.exit)
    yield f"# {name}: source translation on a Linux host. Load with nft -f."
    yield f"# The table of connections needs {translator.table:,} entries (the .sysctl.conf beside this file)."
    if not translator.addresses or not all(each.addresses for each in translator.own):
        yield "# The addresses are not known yet: put them here."
    for words in translator.not_counted:
        yield f"# Not as planned: {comment(words)}."
    for to in dict.fromkeys(port.to for port in translator.forwarded if not port.are_known):
        yield f"# Which addresses hosts of {comment(to)} have is not known: put them in for the first ones."
    yield ""
    yield f'define outward = "{outward}"'
    for number, address in enumerate([*addresses, *(each for some in own for each in some)]):
        yield f"define source_{number} = {address}"
    yield ""
    # A table that is not there cannot be deleted: it is made first.
    yield f"table ip {table} {{}}"
    yield f"delete table ip {table}"
    yield f"table ip {table} {{"
    timed = {"tcp": translator.timers_s, "udp": translator.udp_timers_s}
    # A protocol for which the offer tells no time keeps the kernel's own.
    timed = {protocol: seconds for protocol, seconds in timed.items() if any(seconds.values())}
    for protocol, seconds in timed.items():
        yield from _timers(f"{protocol}_timers", protocol, seconds)
    yield "  chain timers {"
    yield "    type filter hook prerouting priority mangle; policy accept;"
    for protocol in timed:
        yield f'    ip protocol {protocol} ct timeout set "{protocol}_timers"'
    yield "  }"
    if translator.forwarded:
        yield "  chain inward {"
        yield "    type nat hook prerouting priority dstnat; policy accept;"
        yield from map(_forwarding, translator.forwarded)
        yield "  }"
    yield "  chain outward {"
    yield "    type nat hook postrouting priority srcnat; policy accept;"
    yield from _sources_of_forwarded(translator)
    served = f"ip saddr {{ {', '.join(map(str, translator.sources))} }} " if translator.sources else ""
    place = len(addresses)
    for each, its in zip(translator.own, own, strict=True):
        if each.prefixes:
            reached = f"ip daddr {{ {', '.join(map(str, each.prefixes))} }} {_ports_of(each)}"
            yield f"    oifname $outward {served}{reached} {_spread(translator, its, place)}"
        place += len(its)
    yield f"    oifname $outward {served}meta l4proto {{ tcp, udp }} {_target(translator, addresses)}"
    yield "  }"
    yield "}"


def _addresses(translator: Translator) -> tuple[tuple[str, ...], list[tuple[str, ...]]]:
    """Those that many see, and those of each single destination; made up where they are not known yet."""
    made_up = (f"{_PLACEHOLDERS}{number}" for number in count(1))
    shared = translator.addresses or tuple(islice(made_up, translator.number))
    return shared, [each.addresses or tuple(islice(made_up, each.number)) for each in translator.own]


def _ports_of(own_source: OwnSource) -> str:
    return (
        f"meta l4proto {own_source.protocol}"
        if own_source.port is None
        else f"{own_source.protocol} dport {own_source.port}"
    )


def _timers(name: str, protocol: str, seconds: Mapping[str, float]) -> Iterator[str]:
    # The kernel's timers are whole seconds, and at most what 32 bits hold.
    known = ", ".join(f"{state} : {min(_LONGEST_S, max(1, round(value)))}" for state, value in seconds.items() if value)
    yield f"  ct timeout {name} {{"
    yield f"    protocol {protocol};"
    yield "    l3proto ip;"
    yield f"    policy = {{ {known} }};"
    yield "  }"


def _sources_of_forwarded(translator: Translator) -> Iterator[str]:
    """What comes in keeps its source, unless hosts are to see the translator's own."""
    for port in translator.forwarded:
        if port.rewrites_source:
            served = f"ip daddr {{ {', '.join(port.hosts)} }} {port.protocol} dport {port.host_port}"
            yield f"    ct status dnat {served} masquerade"
    if translator.forwarded:
        yield "    ct status dnat accept"


def _forwarding(port: Forwarded) -> str:
    """A published port: each connection to the next of the hosts."""
    cells = ", ".join(f"{number} : {host} . {port.host_port}" for number, host in enumerate(port.hosts))
    to = f"numgen inc mod {len(port.hosts)} map {{ {cells} }}"
    if len(port.hosts) == 1:
        to = f"{port.hosts[0]}:{port.host_port}"
        return f"    ip daddr $source_{port.place} {port.protocol} dport {port.port} dnat to {to}"
    return f"    ip daddr $source_{port.place} {port.protocol} dport {port.port} dnat ip to {to}"


def _target(translator: Translator, addresses: Sequence[str]) -> str:
    if translator.blocks:
        blocks = ", ".join(
            f"{host} : $source_{place} . {first}-{last}" for host, (place, first, last) in translator.blocks.items()
        )
        return f"snat ip to ip saddr map {{ {blocks} }}"
    return _spread(translator, addresses, 0)


def _spread(translator: Translator, addresses: Sequence[str], first: int) -> str:
    """A port of one of some addresses, of which the first has this place."""
    number, ports = len(addresses), f"{translator.first_port}-{translator.last_port}"
    if number == 1:
        return f"snat to $source_{first}:{ports}"
    if translator.choice == "any-free" and _consecutive(addresses):
        # The kernel itself ties a host and a destination to one of a range.
        return f"snat to {addresses[0]}-{addresses[-1]}:{ports}"
    cells = ", ".join(f"{place} : $source_{first + place} . {ports}" for place in range(number))
    return f"snat ip to {_TIED[translator.choice]} mod {number} map {{ {cells} }}"


def _consecutive(addresses: Sequence[str]) -> bool:
    numbers = [int(ip_address(one)) for one in addresses]
    return numbers == list(range(numbers[0], numbers[0] + len(numbers)))
