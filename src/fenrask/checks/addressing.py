"""Rules about prefixes and addresses."""

from collections.abc import Iterator
from datetime import date, timedelta
from itertools import combinations

from fenrask.checks.contract import Case, Doubt
from fenrask.estate import Described
from fenrask.estate.suggestions import some
from fenrask.findings import Finding
from fenrask.prefixes import Prefix, covers, is_public, overlaps

__all__ = [
    "accepted",
    "address_of_wrong_class",
    "address_used_twice",
    "allow_list_too_short",
    "overlapping_prefixes",
    "rates_out_of_date",
    "stale",
    "subnet_outside_network",
]


def overlapping_prefixes(case: Case) -> Iterator[Doubt]:
    """Subnets of one network, joined networks, or a network and what a third party announces, that overlap."""
    subnets = [(subnet.prefix, name) for name, subnet in case.estate.subnets.items()]
    for (_, outer), (prefix, inner) in overlaps(subnets):
        if case.estate.subnets[outer].network == case.estate.subnets[inner].network:
            yield _overlap(case, "subnets", outer, inner, str(prefix))
    for one, other in _joined(case):
        for (_, outer), (prefix, inner) in overlaps([*_owned(case, one), *_owned(case, other)]):
            if outer != inner:
                section = "networks" if inner in case.estate.networks else "exits"
                yield _overlap(case, section, outer, inner, str(prefix))


def _joined(case: Case) -> list[tuple[str, str]]:
    """Pairs of networks that a peering or a hub joins, and of lines with what they end in."""
    pairs: dict[tuple[str, str], None] = {}
    for name, exit_ in case.estate.exits.items():
        near = [exit_.of_network] if exit_.of_network else []
        if exit_.attached_to:
            near = list(case.estate.exits[exit_.attached_to].joins)
        if exit_.announced:
            pairs |= {(network, name): None for network in near}
        pairs |= {(one, other): None for one, other in combinations(sorted(exit_.joins), 2)}
    return list(pairs)


def _owned(case: Case, name: str) -> list[tuple[Prefix, str]]:
    """The prefixes of a network, or those announced to us over a line (a default overlaps nothing)."""
    if name in case.estate.networks:
        return [(prefix, name) for prefix in case.estate.networks[name].prefixes]
    return [(prefix, name) for prefix in case.estate.exits[name].announced if prefix.prefixlen]


def _overlap(case: Case, section: str, outer: str, inner: str, prefix: str) -> Doubt:
    cause = f"{inner} ({prefix}) overlaps {outer}"
    return Doubt(case.place(section, inner), cause, f"Give {inner} a prefix that {outer} does not use.")


def subnet_outside_network(case: Case) -> Iterator[Doubt]:
    """A subnet whose prefix no prefix of its network holds."""
    for name, subnet in case.estate.subnets.items():
        prefixes = case.estate.networks[subnet.network].prefixes
        if not any(covers(one, subnet.prefix) for one in prefixes):
            cause = f"{name} ({subnet.prefix}) lies in no prefix of {subnet.network}"
            remedy = f"Move it into one of {', '.join(map(str, prefixes))}, or add its prefix to the network."
            yield Doubt(case.place("subnets", name, "prefix"), cause, remedy)


def address_used_twice(case: Case) -> Iterator[Doubt]:
    """A public address that two exits claim, or one exit lists twice."""
    owner: dict[object, str] = {}
    for name, exit_ in case.estate.exits.items():
        for number, address in enumerate(exit_.listed_addresses):
            if address in owner:
                cause = f"{address} is listed by {owner[address]} and by {name}"
                yield Doubt(case.place("exits", name, "addresses", number), cause, "Give each exit its own.")
            owner[address] = name


def address_of_wrong_class(case: Case) -> Iterator[Doubt]:
    """An exit's address that is private, or of another class than the provider's exits take."""
    wanted = case.described.catalogue.addresses.class_
    classes = {one.address: one.class_ for one in case.estate.public_addresses.values()}
    for name, exit_ in case.estate.exits.items():
        for number, address in enumerate(exit_.listed_addresses):
            place = case.place("exits", name, "addresses", number)
            if not is_public(address):
                yield Doubt(place, f"{name} lists {address}, which is private", "List a public address.")
            elif wanted and classes.get(address, wanted) != wanted:
                cause = f"{name} lists {address} of class {classes[address]}; exits take class {wanted}"
                yield Doubt(place, cause, f"Give {name} an address of class {wanted}.")


def allow_list_too_short(case: Case) -> Iterator[Doubt]:
    """A partner whose allow-list does not hold an address that it will see."""
    for name, destination in case.estate.destinations.items():
        missing = [
            (source, address)
            for source in (case.paths.sources_at(name) if destination.allowed else ())
            for address in case.estate.exits[source].listed_addresses
            if not any(address in prefix for prefix in destination.allowed)
        ]
        if missing:
            listed = some([f"{address} ({source})" for source, address in missing])
            cause = f"{name} does not allow {listed}"
            yield Doubt(case.place("destinations", name, "allowed"), cause, f"Ask the partner to add: {listed}.")


def rates_out_of_date(case: Case) -> Iterator[Doubt]:
    """A catalogue noted more than a year ago."""
    read_on = case.described.catalogue.read_on
    if date.today() - read_on > timedelta(days=365):
        place = case.described.catalogue_tree.place(("read_on",))
        yield Doubt(place, f"the rates were noted on {read_on}, over a year ago", "Read them again, and set `noted`.")


def accepted(described: Described, finding: Finding) -> str:
    """Why a finding is accepted; empty where it is not."""
    return described.estate.accepted.get(f"{finding.rule} at {finding.place.path}", "")


def stale(case: Case) -> Iterator[Doubt]:
    """An exception that matches no finding: what it excused is gone, or its path is misspelt."""
    for key in case.estate.accepted:
        if key not in case.told:
            cause = f"nothing is found of {key!r}"
            yield Doubt(case.place("accepted", key), cause, "Remove it, or write RULE and PATH as `check` prints them.")
