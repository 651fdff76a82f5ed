"""The addresses of every translating exit: how they are bought, and what partners allow-list."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property

from fenrask.addresses.blocks import SINGLE, Purchase, purchases
from fenrask.capacity import Capacity
from fenrask.estate import Described
from fenrask.estate.suggestions import some
from fenrask.prefixes import Address, Prefix, covers, fewest_prefixes
from fenrask.units import exact

__all__ = ["AddressPlan", "AllowEntries", "AllowList", "Change", "ExitAddresses", "Held", "plan_addresses", "prices_of"]


@dataclass(frozen=True)
class ExitAddresses:
    """The public addresses of one exit, or those of it that one destination alone sees: listed, or to be bought."""

    exit: str
    in_use: int
    purchase: Purchase | None
    """None where the addresses are listed in the estate."""
    listed: tuple[Prefix, ...] = ()
    """The listed addresses in the fewest prefixes."""
    from_held: int = 0
    """How many of the listed ones belong to what `public_addresses` holds, and are paid for there."""
    toward: str = ""
    """The destination that alone sees them; empty for those that others see."""
    told: tuple[Prefix, ...] = ()
    """What partners are told of the listed ones: held blocks that are its own are told whole where that is shorter."""

    @property
    def name(self) -> str:
        """What it is called where it is shown."""
        return f"{self.exit} for {self.toward}" if self.toward else self.exit

    @property
    def bought(self) -> int:
        """Addresses that are paid for as this exit's."""
        return self.purchase.bought if self.purchase else self.in_use - self.from_held

    @property
    def hour(self) -> Fraction:
        """What those that are bought cost in an hour; the number of listed ones is not at choice."""
        return self.purchase.hour if self.purchase else Fraction(0)

    @property
    def waste(self) -> int:
        return self.purchase.waste if self.purchase else 0

    @property
    def entries(self) -> int:
        """Allow-list entries that cover them."""
        return self.purchase.entries if self.purchase else len(self.told)

    @property
    def blocks(self) -> tuple[str, ...]:
        """The entries as text: prefixes where the addresses are known, else sizes."""
        if self.purchase is None:
            return tuple(_short(prefix) for prefix in self.told)
        return self.purchase.blocks


@dataclass(frozen=True)
class Held:
    """A public address or block that is held, used or not: by exit, how many of its addresses are listed there."""

    name: str
    prefix: Prefix
    region: str
    used: Mapping[str, int]

    @property
    def idle(self) -> int:
        """Addresses of it that no exit lists."""
        return int(self.prefix.num_addresses) - sum(self.used.values())


@dataclass(frozen=True)
class AllowEntries:
    """What one exit adds to a partner's allow-list."""

    exit: str
    blocks: tuple[str, ...]
    entries: int
    toward: str = ""
    """The destination, where no other sees them."""
    stands_by: bool = False
    """Whether they are seen only where what comes by another IP version is lost."""


@dataclass(frozen=True)
class AllowList:
    """What the far side of one destination sees, and how many entries it takes."""

    destination: str
    parts: tuple[AllowEntries, ...]
    most: int | None
    """Entries that it takes at most; None for no limit known."""
    dynamic: tuple[str, ...]
    """Exits whose address may change, so that no list can hold it."""
    host_addresses: bool
    """Whether hosts come with addresses of their own."""

    host_prefixes: tuple[Prefix, ...]
    """IPv6 prefixes of hosts that come with addresses of their own, as few as can be."""
    missing: tuple[str, ...]
    """Known addresses that the partner does not allow yet, where it is known what it allows."""
    idle: tuple[str, ...]
    """What the partner allows and nothing comes from."""
    fixed: bool = False
    """Whether it allows only what it lists: a flow needs a fixed source, or the list has a length or entries."""

    @property
    def entries(self) -> int:
        return sum(part.entries for part in self.parts) + len(self.host_prefixes)

    @property
    def cannot(self) -> str:
        """Why it does not hold what the destination sees, whatever the number of entries; empty where it does."""
        if self.fixed and self.dynamic:
            return f"no list holds addresses that may change ({some(self.dynamic)})"
        return f"it lacks {some(self.missing)}" if self.missing else ""

    @property
    def fits(self) -> bool:
        """Whether its list can hold all that it sees."""
        short = self.most is not None and self.entries > self.most
        return not short and not (self.fixed and self.dynamic) and not self.missing


@dataclass(frozen=True)
class Change:
    """What more addresses at one exit mean for a destination: its entries stay, and some are added.

    entries_now: with those that other exits before this one add.
    """

    exit: str
    destination: str
    more: Purchase
    entries_now: int
    most: int | None

    @property
    def entries_then(self) -> int:
        return self.entries_now + self.more.entries

    @property
    def fits(self) -> bool:
        return self.most is None or self.entries_then <= self.most


@dataclass(frozen=True)
class AddressPlan:
    """Public addresses of an estate and who sees them."""

    exits: tuple[ExitAddresses, ...]
    partners: tuple[AllowList, ...]
    changes: tuple[Change, ...] = ()
    held: tuple[Held, ...] = ()

    @property
    def held_addresses(self) -> int:
        """Addresses that are held in the estate's `public_addresses`."""
        return sum(int(one.prefix.num_addresses) for one in self.held)

    @cached_property
    def entries(self) -> dict[tuple[str, str], int]:
        """Allow-list entries by exit, and by the destination that alone sees them (or empty)."""
        return {(one.exit, one.toward): one.entries for one in self.exits}

    @cached_property
    def in_use(self) -> dict[tuple[str, str], int]:
        """Addresses in use, by the same."""
        return {(one.exit, one.toward): one.in_use for one in self.exits}

    @cached_property
    def bought(self) -> dict[str, int]:
        """Addresses paid for by exit."""
        found: dict[str, int] = {}
        for exit_ in self.exits:
            found[exit_.exit] = found.get(exit_.exit, 0) + exit_.bought
        return found


_Key = tuple[str, str]
"""An exit, and the destination that alone sees some of its addresses, or empty for those that others see."""


def plan_addresses(capacity: Capacity, added: Mapping[str, int] | None = None) -> AddressPlan:
    """Addresses of all translating exits at least cost within the partners' limits on entries.

    Listed addresses stay as they are; a stated count is that many single addresses; `auto` is bought
    in single addresses or blocks. Where no purchase meets all limits, the fewest entries are taken. An exit
    that needs more than it has gets them added, beside those that stay; `added` says how many instead.
    """
    described = capacity.demand.paths.described
    choices: dict[_Key, tuple[ExitAddresses, ...]] = {}
    for sized in capacity.exits:
        exit_ = described.estate.exits[sized.exit]
        if exit_.pool is not None:
            continue
        key = (sized.exit, sized.toward)
        choices[key] = listed_at(described, *key, sized.addresses) or bought_at(
            described, *key, sized.addresses, sized.stated
        )
    chosen = _cheapest_within(choices, _limits(capacity))
    partners = tuple(_allow_lists(capacity, chosen))
    changes = tuple(_changes(capacity, partners, added or {}))
    return AddressPlan(tuple(chosen.values()), partners, changes, tuple(_held(described)))


def listed_at(described: Described, name: str, toward: str, addresses: int) -> tuple[ExitAddresses, ...]:
    """The addresses that an exit lists, of which this many are in use; none where it lists none."""
    listed = described.estate.exits[name].listed_toward(toward)
    if not listed:
        return ()
    owned = sum(1 for one in listed if _holding(described, one))
    told = tuple(_told(described, name, toward))
    return (ExitAddresses(name, addresses, None, fewest_prefixes(listed), owned, toward, told),)


def _told(described: Described, name: str, toward: str) -> Iterator[Prefix]:
    """The listed addresses in the fewest prefixes; those of a held block that nothing else lists may be told as it."""
    estate = described.estate
    left = [*estate.exits[name].listed_toward(toward)]
    for block in (one.address for one in estate.public_addresses.values()) if len(left) > 1 else ():
        own = [one for one in left if one in block]
        if len(own) < 2 or len(fewest_prefixes(own)) < 2:
            continue
        if len(own) == sum(one in block for exit_ in estate.exits.values() for one in exit_.every_listed):
            left = [one for one in left if one not in block]
            yield block
    yield from fewest_prefixes(left)


def bought_at(
    described: Described, name: str, toward: str, addresses: int, stated: bool = False
) -> tuple[ExitAddresses, ...]:
    """What there is to buy for this many addresses of an exit: the cheapest for each number of entries.

    stated: whether the exit says how many it has, which then are single ones.
    """
    on_sale = prices_of(described, name, blocks=not stated)
    return tuple(ExitAddresses(name, addresses, one, toward=toward) for one in purchases(addresses, on_sale))


def _holding(described: Described, address: Address) -> str:
    """The name under which an address is held; empty where it is not."""
    held = described.estate.public_addresses
    return next((name for name, one in held.items() if address in one.address), "")


def _held(described: Described) -> Iterator[Held]:
    estate = described.estate
    for name, stated in estate.public_addresses.items():
        used: dict[str, int] = {}
        for exit_name, exit_ in estate.exits.items():
            number = sum(1 for one in exit_.every_listed if _holding(described, one) == name)
            if number:
                used[exit_name] = number
        region = next((estate.region_of(estate.exits[one]) for one in used), "")
        yield Held(name, stated.address, region, used)


def prices_of(described: Described, exit_name: str, blocks: bool) -> dict[int, Fraction]:
    """Money per hour by prefix length where an exit lies: a single address, and the blocks on sale."""
    stated = described.catalogue.addresses_in(described.estate.region_of(described.estate.exits[exit_name]))
    return {length: exact(stated.block_hour(length)) for length in (*(stated.blocks if blocks else ()), SINGLE)}


_MOST_MORE = 4096
"""More addresses than this are not planned for an exit without a limit."""


def _changes(capacity: Capacity, partners: Sequence[AllowList], added: Mapping[str, int]) -> Iterator[Change]:
    """For each destination that sees exits which are to have more addresses, what it has to add for each of them.

    What is bought for an exit is one purchase for all: at least cost in all, so that every list holds what all need.
    """
    choices, names = dict[_Key, tuple[ExitAddresses, ...]](), dict[_Key, str]()
    for sized in capacity.exits:
        # No more than the gateway takes: what is needed beyond is a matter of more gateways.
        wanted = min(sized.most_needed or sized.needed or 0, sized.most_addresses or _MOST_MORE)
        more = max(0, wanted - sized.addresses)
        if not sized.toward:
            more = added.get(sized.exit, more)
        if more:
            key = (sized.exit, sized.toward)
            choices[key], names[key] = bought_at(capacity.demand.paths.described, *key, more), sized.name
    seen = {
        partner.destination: tuple(key for key in choices if key in {(one.exit, one.toward) for one in partner.parts})
        for partner in partners
    }
    limits = [(seen[one.destination], one.most - one.entries) for one in partners if one.most is not None]
    chosen = _cheapest_within(choices, limits)
    for partner in partners:
        entries = partner.entries
        for key in seen[partner.destination]:
            if (best := chosen[key].purchase) is not None:
                yield Change(names[key], partner.destination, best, entries, partner.most)
                entries += best.entries


def _seen(capacity: Capacity, destination: str) -> list[_Key]:
    """The addresses of exits that a destination sees."""
    paths = capacity.demand.paths
    exits = paths.described.estate.exits
    return [(name, exits[name].toward(destination)) for name in paths.sources_at(destination)]


def _limits(capacity: Capacity) -> list[tuple[tuple[_Key, ...], int]]:
    """For each partner with a limit: the exits that it sees, and how many entries it has left for them."""
    paths = capacity.demand.paths
    limits = []
    for name in paths.described.estate.destinations:
        most = _most_entries(capacity, name)
        if most is not None:
            others = len(paths.host_prefixes_at(name)) + len(paths.pools_at(name))
            limits.append((tuple(_seen(capacity, name)), most - others))
    return limits


def _most_entries(capacity: Capacity, destination: str) -> int | None:
    """The strictest limit that any flow to a destination has to keep."""
    paths = capacity.demand.paths
    estate = paths.described.estate
    senders = paths.demanding_at[destination]
    needs = [estate.destinations[destination].needs, *(estate.workloads[name].needs for name in senders)]
    return min((n for one in needs if (n := one.max_source_addresses) is not None), default=None)


_Limits = Sequence[tuple[tuple[_Key, ...], int]]
_Several = tuple[int, Fraction, tuple[ExitAddresses, ...]]
"""Entries, cost, and the choices of several exits."""


def _cheapest_within(choices: Mapping[_Key, Sequence[ExitAddresses]], limits: _Limits) -> dict[_Key, ExitAddresses]:
    """One choice for each exit, the least cost in all within the limits; exact.

    Only exits that a limited partner sees have to be weighed; the others take their cheapest. Of those that the same
    partners see only the sum of the entries counts: for each sum the least cost, by dynamic programming; then branch
    and bound over these groups, of which there are few.
    """
    chosen = {name: options[0] for name, options in choices.items()}
    groups: dict[tuple[int, ...], list[_Key]] = {}
    for name in choices:
        if seen := tuple(number for number, (exits, _) in enumerate(limits) if name in exits):
            groups.setdefault(seen, []).append(name)
    fewest = {name: min(choices[name], key=lambda choice: choice.entries) for some in groups.values() for name in some}
    several = [
        _cheapest_by_entries([choices[name] for name in some], min(limits[number][1] for number in seen))
        for seen, some in groups.items()
    ]
    best = _least(several, [*groups], [most for _, most in limits]) if all(several) else None
    if best is None:
        return chosen | fewest
    taken = zip(groups.values(), best, strict=True)
    return chosen | {name: one for some, (_, _, each) in taken for name, one in zip(some, each, strict=True)}


def _least(
    several: Sequence[Sequence[_Several]], seen: Sequence[tuple[int, ...]], most: Sequence[int]
) -> tuple[_Several, ...] | None:
    """One of each group, the least cost in all; None where no choice is within the limits.

    several: of each group the cheapest first; seen: which limits its entries count for, each `most` entries.
    """
    best: tuple[_Several, ...] | None = None
    best_cost = Fraction(0)

    def feasible(partial: Sequence[_Several]) -> bool:
        sums, fewest = [0] * len(most), [group[-1] for group in several[len(partial) :]]
        for limits, (entries, *_) in zip(seen, [*partial, *fewest], strict=True):
            for limit in limits:
                sums[limit] += entries
        return all(number <= room for number, room in zip(sums, most, strict=True))

    def descend(partial: tuple[_Several, ...], cost: Fraction) -> None:
        nonlocal best, best_cost
        floor = cost + sum((group[0][1] for group in several[len(partial) :]), Fraction(0))
        if (best is not None and floor >= best_cost) or not feasible(partial):
            return
        if len(partial) == len(several):
            best, best_cost = partial, cost
            return
        for option in several[len(partial)]:
            descend((*partial, option), cost + option[1])

    descend((), Fraction(0))
    return best


def _cheapest_by_entries(options: Sequence[Sequence[ExitAddresses]], most: int) -> list[_Several]:
    """Choices of several exits, the cheapest first; with more entries only what costs less, none above `most`."""
    so_far: list[_Several] = [(0, Fraction(0), ())]
    for each in options:
        longer: dict[int, _Several] = {}
        for entries, cost, before in so_far:
            for choice in each:
                key, total = entries + choice.entries, cost + choice.hour
                if key <= most and (key not in longer or total < longer[key][1]):
                    longer[key] = key, total, (*before, choice)
        so_far = []
        for key in sorted(longer):
            # What has as many entries as another or more, and costs no less, is never needed.
            if not so_far or longer[key][1] < so_far[-1][1]:
                so_far.append(longer[key])
    return so_far[::-1]


def _allow_lists(capacity: Capacity, chosen: Mapping[_Key, ExitAddresses]) -> Iterator[AllowList]:
    """The list of every destination that sees public addresses, in the estate's order."""
    paths = capacity.demand.paths
    for name, destination in paths.described.estate.destinations.items():
        exits, pools = _seen(capacity, name), paths.pools_at(name)
        parts = tuple(
            AllowEntries(one[0], chosen[one].blocks, chosen[one].entries, one[1], paths.stands_by(one[0], name))
            for one in exits
            if one in chosen
        )
        parts += tuple(AllowEntries(one, (str(pool),), 1) for one, pool in pools.items())
        lent = tuple(one[0] for one in exits if one not in chosen)
        hosts = paths.host_prefixes_at(name)
        if exits or hosts or pools or paths.sees_hosts(name):
            listed = [prefix for one in exits if one in chosen for prefix in chosen[one].listed]
            known = [*listed, *hosts, *pools.values()]
            missing, idle = _compared(destination.allowed, known) if known else ((), ())
            most = _most_entries(capacity, name)
            fixed = most is not None or bool(destination.allowed) or _needs_fixed(capacity, name)
            yield AllowList(name, parts, most, lent, paths.sees_hosts(name), hosts, missing, idle, fixed)


def _needs_fixed(capacity: Capacity, destination: str) -> bool:
    """Whether a flow to a destination needs a source that does not change."""
    paths = capacity.demand.paths
    estate = paths.described.estate
    own = paths.is_reached(destination) and estate.destinations[destination].needs.fixed_source
    return own or any(estate.workloads[name].needs.fixed_source for name in paths.demanding_at[destination])


def _compared(allowed: Sequence[Prefix], known: Sequence[Prefix]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What is not allowed of the known addresses; and what is allowed and holds none of them."""
    if not allowed:
        return (), ()
    # Two neighbours that are allowed one by one are allowed as one prefix.
    joined = fewest_prefixes(allowed)
    missing = [one for one in known if not any(covers(prefix, one) for prefix in joined)]
    idle = [prefix for prefix in allowed if not any(covers(prefix, one) or covers(one, prefix) for one in known)]
    return tuple(map(_short, missing)), tuple(map(_short, idle))


def _short(prefix: Prefix) -> str:
    """A prefix as text, an address alone without its length."""
    return str(prefix.network_address) if prefix.prefixlen == prefix.max_prefixlen else str(prefix)
