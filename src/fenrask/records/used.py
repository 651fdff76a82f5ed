"""Whose connection used a public address and port at a time: the question of every abuse report."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from fenrask.estate import Estate
from fenrask.prefixes import Address, parse_address
from fenrask.records.readers.entries import Entry

__all__ = ["Use", "uses"]


@dataclass(frozen=True)
class Use:
    """One connection that had the address and port outside."""

    subnet: str
    """Empty for an address in no subnet of the estate."""
    source: str
    source_port: int
    target: str
    target_port: int
    protocol: int
    begun_s: float | None
    """Seconds since 1970; None for an entry of a listing, or of which the beginning was not seen."""
    ended_s: float | None


def uses(
    estate: Estate, entries: Iterable[Entry], address: Address, port: int | None, at_s: float | None
) -> Iterator[Use]:
    """Every connection with this address (and port) outside, at a time; None: at any time."""
    live: dict[tuple[object, ...], tuple[Entry, float | None]] = {}
    for entry in entries:
        known = live.get(entry.key)
        outside = entry if entry.outside or known is None else known[0]
        if entry.event == "DESTROY":
            begun = live.pop(entry.key, (entry, None))[1]
            if _is(outside, address, port) and _spans(begun, entry.time_s, at_s):
                yield _use(estate, outside, begun, entry.time_s)
        elif entry.event == "NEW" or known is None:
            live[entry.key] = (entry, entry.time_s)
        else:
            live[entry.key] = (outside, known[1])
    for entry, begun in live.values():
        if _is(entry, address, port) and _spans(begun, None, at_s):
            yield _use(estate, entry, begun, None)


def _is(entry: Entry, address: Address, port: int | None) -> bool:
    try:
        same = parse_address(entry.outside.decode()) == address
    except ValueError:
        return False
    return same and port in (None, entry.outside_port)


def _spans(begun: float | None, ended: float | None, at_s: float | None) -> bool:
    return at_s is None or ((begun is None or begun <= at_s) and (ended is None or at_s <= ended))


def _use(estate: Estate, entry: Entry, begun: float | None, ended: float | None) -> Use:
    source = entry.source.decode()
    subnet = " or ".join(estate.subnets_at(parse_address(source)))
    return Use(
        subnet, source, entry.source_port, entry.target.decode(), entry.target_port, entry.protocol, begun, ended
    )
