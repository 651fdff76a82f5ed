"""Rules about prefixes and addresses, and exceptions that nothing needs any more."""

from collections.abc import Iterator
from datetime import date, timedelta
from itertools import combinations

from fenrask.checks.contract import Context, Doubt
from fenrask.estate import Described, ExitModel
from fenrask.estate.suggestions import some
from fenrask.evaluation import not_allowed
from fenrask.findings import Finding
from fenrask.prefixes import Address, Prefix, covers, is_public, overlaps

__all__ = [
    "accepted",
    "address_of_wrong_class",
    "address_used_twice",
    "allow_list_too_short",
    "made_up_figures",
    "overlapping_prefixes",
    "rates_out_of_date",
    "subnet_outside_network",
    "unused_exception",
]


def overlapping_prefixes(context: Context) -> Iterator[Doubt]:
    """Subnets of one network, joined networks, or a network and what a third party announces, that overlap."""
    subnets = [(subnet.prefix, name) for name, subnet in context.estate.subnets.items()]
    for (_, outer), (prefix, inner) in overlaps(subnets):
        if context.estate.subnets[outer].network == context.estate.subnets[inner].network:
            yield _overlap(context, "subnets", outer, inner, str(prefix))
    for joiner, joined, with_ in _joined(context):
        for (_, outer), (prefix, inner) in overlaps(
            [*_owned(context, joiner, joined), *_owned(context, joiner, with_)]
        ):
            if outer != inner:
                section = "networks" if inner in context.estate.networks else "exits"
                yield _overlap(context, section, outer, inner, str(prefix))


def _joined(context: Context) -> list[tuple[str, str, str]]:
    """Pairs of networks that a peering or a hub joins, and of lines with what they end in; with what joins them."""
    pairs: dict[tuple[str, str], str] = {}
    for name, exit_ in context.estate.exits.items():
        near, at = [exit_.of_network] if exit_.of_network else [], name
        if exit_.attached_to:
            at = exit_.attached_to
            near = list(context.estate.exits[at].joins)
        if exit_.announced:
            pairs |= {(network, name): at for network in near}
        for pair in combinations(sorted(exit_.joins), 2):
            pairs.setdefault(pair, name)
    return [(joiner, *pair) for pair, joiner in pairs.items()]


def _owned(context: Context, joiner: str, name: str) -> list[tuple[Prefix, str]]:
    """The prefixes of a network as what joins it knows them, or those announced over a line; a default is none."""
    if name in context.estate.networks:
        known = context.estate.exits[joiner].known_of(name)
        return [(prefix, name) for prefix in (context.estate.networks[name].prefixes if known is None else known)]
    return [(prefix, name) for prefix in context.estate.exits[name].announced if prefix.prefixlen]


def _overlap(context: Context, section: str, outer: str, inner: str, prefix: str) -> Doubt:
    cause = f"{inner} ({prefix}) overlaps {outer}"
    return Doubt(context.place(section, inner), cause, f"Give {inner} a prefix that {outer} does not use.")


def subnet_outside_network(context: Context) -> Iterator[Doubt]:
    """A subnet whose prefix no prefix of its network holds."""
    for name, subnet in context.estate.subnets.items():
        prefixes = context.estate.networks[subnet.network].prefixes
        if not any(covers(one, subnet.prefix) for one in prefixes):
            cause = f"{name} ({subnet.prefix}) is in no prefix of {subnet.network}"
            remedy = f"Move it into one of {', '.join(map(str, prefixes))}, or add its prefix to the network."
            yield Doubt(context.place("subnets", name, "prefix"), cause, remedy)


def address_used_twice(context: Context) -> Iterator[Doubt]:
    """A public address that two exits claim, or one exit lists twice."""
    owner: dict[object, str] = {}
    for name, exit_ in context.estate.exits.items():
        for address, place in _listed(name, exit_):
            if address in owner:
                twice = f"twice by {name}" if owner[address] == name else f"by {owner[address]} and by {name}"
                cause = f"{address} is listed {twice}"
                yield Doubt(context.place(*place), cause, "List each address once.")
            owner[address] = name


def _listed(name: str, exit_: ExitModel) -> Iterator[tuple[Address, tuple[str | int, ...]]]:
    """Every listed address of an exit, with its place in the estate."""
    for number, address in enumerate(exit_.listed_addresses):
        yield address, ("exits", name, "addresses", number)
    for to in exit_.own_addresses:
        for number, address in enumerate(exit_.listed_toward(to)):
            yield address, ("exits", name, "addresses_for", to, number)


def address_of_wrong_class(context: Context) -> Iterator[Doubt]:
    """An exit's address that is private, or of another class than the provider's exits take."""
    wanted = context.described.catalogue.addresses.class_
    held = context.estate.public_addresses.values()
    for name, exit_ in context.estate.exits.items():
        for address, at in _listed(name, exit_):
            place = context.place(*at)
            of_class = next((one.class_ for one in held if address in one.address), wanted)
            if not is_public(address):
                yield Doubt(place, f"{name} lists {address}, which is private", "List a public address.")
            elif wanted and of_class != wanted:
                cause = f"{name} lists {address} of class {of_class}; exits take class {wanted}"
                yield Doubt(place, cause, f"Give {name} an address of class {wanted}.")


def allow_list_too_short(context: Context) -> Iterator[Doubt]:
    """A partner whose allow-list lacks an address that it will see, or is too short for the addresses that are needed.

    What an exit has is judged with the need itself (`max_source_addresses`); here what it needs and does not have yet.
    """
    for name, destination in context.estate.destinations.items():
        missing = [(source, address) for source, address in not_allowed(context.paths, name) if is_public(address)]
        if missing:
            listed = some([f"{address} ({source})" for source, address in missing])
            cause = f"{name} does not allow {listed}"
            allowed = [*map(str, destination.allowed), *dict.fromkeys(str(address) for _, address in missing)]
            yield Doubt(
                context.place("destinations", name, "allowed"),
                cause,
                f"Ask the partner to add {listed}; then note it.",
                {"destinations": {name: {"allowed": allowed}}},
            )
    for change in context.evaluation.plan.changes:
        if not change.fits:
            cause = (
                f"{change.exit} needs {change.more.wanted} more; {change.destination} would need {change.entries_then} "
                f"allow-list entries, and takes {change.most}"
            )
            place = context.place("destinations", change.destination, "needs")
            yield Doubt(place, cause, f"Ask the partner for {change.entries_then} entries, or lower the load there.")


def rates_out_of_date(context: Context) -> Iterator[Doubt]:
    """A catalogue read more than a year ago."""
    read_on = context.described.catalogue.read_on
    if date.today() - read_on > timedelta(days=365):
        place = context.described.catalogue_tree.place(("read_on",))
        yield Doubt(place, f"the rates were read on {read_on}, over a year ago", "Read them again, and set `read_on`.")


def made_up_figures(context: Context) -> Iterator[Doubt]:
    """A catalogue that says of itself that its rates and limits are made up."""
    catalogue = context.described.catalogue
    if catalogue.made_up:
        place = context.described.catalogue_tree.place(("made_up",))
        cause = f"the rates and limits of {catalogue.catalogue} are made up: no figure that follows from them is yours"
        yield Doubt(place, cause, "Put your provider's in, and take `made_up` out.")


def accepted(described: Described, finding: Finding) -> str:
    """Why a finding is accepted; empty where it is not."""
    return described.estate.accepted.get(f"{finding.rule} at {finding.place.path}", "")


def unused_exception(context: Context) -> Iterator[Doubt]:
    """An exception that matches no finding: what it excused is gone, or its path is misspelt."""
    for key in context.estate.accepted:
        if key not in context.reported:
            fix = {"accepted": {key: None}}
            yield Doubt(context.place("accepted", key), f"no finding matches {key!r}", "Remove it.", fix)
