"""Rules about prefixes and addresses."""

from collections.abc import Iterator
from datetime import date, timedelta

from fenrask.prefixes import overlaps
from fenrask.routing.rules.contract import Case, Doubt

__all__ = ["address_used_twice", "overlapping_prefixes", "rates_out_of_date", "subnet_outside_network"]


def overlapping_prefixes(case: Case) -> Iterator[Doubt]:
    """Two subnets of one network, or two networks, whose prefixes overlap."""
    subnets = [(subnet.prefix, name) for name, subnet in case.estate.subnets.items()]
    for (_, outer), (prefix, inner) in overlaps(subnets):
        if case.estate.subnets[outer].network == case.estate.subnets[inner].network:
            yield _overlap(case, "subnets", outer, inner, str(prefix))
    networks = [(prefix, name) for name, one in case.estate.networks.items() for prefix in one.prefixes]
    for (_, outer), (prefix, inner) in overlaps(networks):
        if outer != inner:
            yield _overlap(case, "networks", outer, inner, str(prefix))


def _overlap(case: Case, section: str, outer: str, inner: str, prefix: str) -> Doubt:
    cause = f"{inner} ({prefix}) overlaps {outer}"
    return Doubt(case.place(section, inner), cause, f"Give {inner} a prefix that {outer} does not use.")


def subnet_outside_network(case: Case) -> Iterator[Doubt]:
    """A subnet whose prefix no prefix of its network holds."""
    for name, subnet in case.estate.subnets.items():
        prefixes = case.estate.networks[subnet.network].prefixes
        if not any(p.version == subnet.prefix.version and subnet.prefix.subnet_of(p) for p in prefixes):
            cause = f"{name} ({subnet.prefix}) lies in no prefix of {subnet.network}"
            remedy = f"Move it into one of {', '.join(map(str, prefixes))}, or add its prefix to the network."
            yield Doubt(case.place("subnets", name, "prefix"), cause, remedy)


def address_used_twice(case: Case) -> Iterator[Doubt]:
    """A public address that two exits claim, or one exit lists twice."""
    owner: dict[object, str] = {}
    for name, way_out in case.estate.exits.items():
        for number, address in enumerate(way_out.listed_addresses):
            if address in owner:
                cause = f"{address} is listed by {owner[address]} and by {name}"
                yield Doubt(case.place("exits", name, "addresses", number), cause, "Give each exit its own.")
            owner[address] = name


def rates_out_of_date(case: Case) -> Iterator[Doubt]:
    """A catalogue noted more than a year ago."""
    noted = case.described.catalogue.noted
    if date.today() - noted > timedelta(days=365):
        place = case.described.catalogue_tree.place(("noted",))
        yield Doubt(place, f"the rates were noted on {noted}, over a year ago", "Read them again, and set `noted`.")
