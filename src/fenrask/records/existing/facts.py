"""What files tell of a network that exists, value by value, each with where it is written."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from ipaddress import ip_network
from typing import Any

from fenrask.prefixes import Address, Prefix, is_public, parse_address, parse_prefix

__all__ = ["Fact", "Facts", "Host", "Steps", "each_port", "spelled", "whole_name"]

Steps = tuple[str, ...]
"""A section of the estate, a name in it, a key, and keys inside."""


@dataclass(frozen=True)
class Fact:
    """A value as the estate would have it, and where it is written: a file, and a row or the path in it."""

    value: Any
    where: str


@dataclass(frozen=True)
class Host:
    """A host of an inventory: its address, and the group that it is told to be of; empty for none."""

    name: str
    address: Address
    group: str
    where: str


@dataclass
class Facts:
    """All that was read; the first to tell a value is believed, and who tells another one is listed."""

    told: dict[Steps, Fact] = field(default_factory=dict)
    differing: list[tuple[Steps, Fact, Fact]] = field(default_factory=list)
    """What two files tell of one thing: the value that is believed, and the other."""
    hosts: list[Host] = field(default_factory=list)
    in_subnets: list[tuple[Host, str]] = field(default_factory=list)
    """Names, each with an address and a subnet: a host of that subnet, or what the name answered to its hosts."""
    names: dict[str, dict[Address, str]] = field(default_factory=dict)
    """The addresses that each name was seen to answer, with where."""
    devices: dict[Address, str] = field(default_factory=dict)
    """Whose address it is, of machines that routes may name by it."""
    public: dict[str, Fact] = field(default_factory=dict)
    """The public addresses of machines, by name."""
    unnamed: dict[str, str] = field(default_factory=dict)
    """The kind of each next hop of which only the kind is told, by the word for it as a name."""
    aliases: dict[str, str] = field(default_factory=dict)
    """Machines by their addresses, written as names: routes may call them so."""
    connected: dict[str, list[tuple[Prefix, str]]] = field(default_factory=dict)
    """The prefixes that a route table has on its own link, with where: those of the subnets that use it."""
    links: list[tuple[Prefix, str, str]] = field(default_factory=list)
    """The prefixes of interfaces of machines, with the interface's name and where."""
    attached: dict[str, list[tuple[str, str, str]]] = field(default_factory=dict)
    """What an exit is attached to: `subnet`, `network`, `exit`, `party` or `prefix`, which, and where."""
    served: dict[str, list[tuple[Prefix, str]]] = field(default_factory=dict)
    """The prefixes of whose hosts a translator rewrites the source, with where."""
    own_filters: list[tuple[str, Steps, Any, str]] = field(default_factory=list)
    """Parts of the filter of a machine's own packets: the file's stem, the key or the direction and rule, and where."""
    passed: dict[str, list[tuple[str, Any, str]]] = field(default_factory=dict)
    """Of machines that pass on what others send: a rule's name (empty for what none matches), the rule, and where."""
    dumps: dict[str, tuple[bytes, int]] = field(default_factory=dict)
    """Each dump of routes by its file's name, and how many prefixes it has."""
    complete: set[str] = field(default_factory=set)
    """Sections of which an inventory tells all: what it does not have does not exist."""
    from_files: set[Steps] = field(default_factory=set)
    """The entries, and the routes of tables, that files tell of, whatever the estate had before."""
    unused: dict[str, str] = field(default_factory=dict)
    """What was read and is not used, with where it is first."""

    def add(self, *steps: str, value: Any, where: str) -> None:
        """Take a value; None and an empty text tell nothing."""
        if value is None or value == "":
            return
        fact, known = Fact(value, where), self.told.get(steps)
        if known is None:
            self.told[steps] = fact
        elif spelled(known.value) != spelled(value):
            self.differing.append((steps, known, fact))

    def gather(self, *steps: str, value: Any, where: str) -> None:
        """Take a value as `add` does; but a list goes on what another row of the same file told."""
        known = self.told.get(steps)
        same_file = known is not None and known.where.rpartition(" ")[0] == where.rpartition(" ")[0]
        if known is not None and same_file and isinstance(known.value, list) and isinstance(value, list):
            self.told[steps] = Fact([*known.value, *(one for one in value if one not in known.value)], known.where)
        else:
            self.add(*steps, value=value, where=where)

    def skip(self, what: str, where: str) -> None:
        """Count something that is read and not used."""
        self.unused.setdefault(what, where)

    def whose(self, address: str) -> str:
        """The machine that an address is of; else the address as a name, which `drafted` looks up again."""
        try:
            known = self.devices.get(parse_address(address))
        except ValueError:
            known = None
        return known or whole_name(address)

    def has_address(self, text: str, length: str, interface: str, machine: str, where: str) -> None:
        """Take the address of an interface, and the prefix that it is in."""
        try:
            address, prefix = parse_address(text), ip_network(f"{text}/{length}", strict=False)
        except ValueError:
            self.skip("an address of an interface that is none", where)
            return
        if not address.is_loopback and not address.is_link_local:
            self.devices.setdefault(address, machine)
            self.links.append((prefix, interface, where))

    def take_host(self, host: Host) -> None:
        """Take a host, whose address routes may name it by."""
        self.hosts.append(host)
        if host.name:
            self.devices.setdefault(host.address, whole_name(host.name))

    def take_answer(self, answer: Host) -> None:
        """Take an address that a name answered."""
        self.names.setdefault(answer.name.rstrip(".").lower(), {}).setdefault(answer.address, answer.where)

    def settle(self) -> None:
        """Once all is read, part hosts from answers, and find whose the addresses of next hops are.

        The address of a host lies in its subnet; where nobody tells that subnet's prefix, it is a private one.
        """
        told, self.in_subnets = self.in_subnets, []
        for found, subnet in told:
            known = [self.told.get(("subnets", whole_name(subnet), key)) for key in ("prefix", "prefix_v6")]
            own = [parse_prefix(str(fact.value)) for fact in known if fact is not None]
            is_host = any(found.address in prefix for prefix in own) if own else not is_public(found.address)
            (self.take_host if is_host else self.take_answer)(found)
        self.aliases |= {whole_name(str(address)): machine for address, machine in self.devices.items()}
        for steps in [steps for steps in self.told if steps[0] == "exits" and steps[1] in self.aliases]:
            fact = self.told.pop(steps)
            self.told.setdefault(("exits", self.aliases[steps[1]], *steps[2:]), fact)

    def names_in(self, section: str) -> list[str]:
        """The names of a section, as they came."""
        return [*dict.fromkeys(steps[1] for steps in self.told if steps[0] == section)]

    def of(self, *steps: str) -> dict[str, Fact]:
        """What is told of an entry, by key."""
        n = len(steps)
        return {path[n]: fact for path, fact in self.told.items() if path[:n] == steps and len(path) == n + 1}

    def entries(self, section: str) -> Iterator[tuple[str, Mapping[str, Fact]]]:
        """Every entry of a section with its keys; one pass for all of them."""
        found: dict[str, dict[str, Fact]] = {}
        for steps, fact in self.told.items():
            if steps[0] == section and len(steps) == 3:
                found.setdefault(steps[1], {})[steps[2]] = fact
        yield from found.items()


_MOST_PORTS = 64


def each_port(ports: Iterable[int | str]) -> list[int] | None:
    """Ports one by one, as rules of firewalls have them; None where ranges hold more than these can list."""
    found: list[int] = []
    for port in ports:
        low, _, high = str(port).partition("-")
        if len(found) + int(high or low) - int(low) >= _MOST_PORTS:
            return None
        found += range(int(low), int(high or low) + 1)
    return found


def spelled(value: Any) -> str:
    """A value so that two spellings of one are equal."""
    if isinstance(value, list):
        return ",".join(sorted(map(spelled, value)))
    return str(value).strip().lower()


def whole_name(text: str) -> str:
    """A name as the estate may have it: no dots, which part keys, and no blanks at its ends."""
    kept = "".join("-" if letter in "./: \t" else letter for letter in text.strip())
    return kept.strip("-") or "unnamed"
