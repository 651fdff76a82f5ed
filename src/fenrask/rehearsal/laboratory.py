"""What is to stand in the kernel: spaces with routes and rules, joined by wires. It says how, and builds nothing."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import count

from fenrask.prefixes import Address, Prefix

__all__ = ["ROWS", "Laboratory", "Space", "Wire"]

ROWS = 100
"""The number of the table by which a space sends on what no rule takes before."""
_LOCAL_PRIORITY = 40
_SENT_ON_PRIORITY = 20
_BLACK_HOLE_METRIC = 2**31 - 1
_FIRST_OF_WIRES = 1000
"""Tables for what comes in by one wire are numbered from here."""
_MACS = ("02:00:00:00:00:01", "02:00:00:00:00:02")
_NEXT_HOPS = ("fe80::1", "fe80::2")


@dataclass(frozen=True)
class Wire:
    """One end of a pair of interfaces: its name, the other's, and the next hop to name in routes over it."""

    name: str
    peer: str
    number: int
    end: int
    """0 or 1."""

    @property
    def table(self) -> int:
        """The number of the table for what comes in by it, and of the mark of what did."""
        return _FIRST_OF_WIRES + 2 * self.number + self.end

    def via(self, version: int) -> str:
        """How a route names it as the next hop: link-local, for either IP version (RFC 5549)."""
        inet6 = "inet6 " if version == 4 else ""
        return f"via {inet6}{_NEXT_HOPS[1 - self.end]} dev {self.name}"


@dataclass
class Space:
    """One network namespace: a subnet's router, hosts, an exit, a network's inside, or somebody outside."""

    name: str
    wires: list[Wire] = field(default_factory=list)
    routes: list[str] = field(default_factory=list)
    """As `ip route add` takes them."""
    rules: list[str] = field(default_factory=list)
    """As `ip rule add` takes them; for both IP versions."""
    local: dict[Address, None] = field(default_factory=dict)
    """The addresses that it answers to."""
    statements: list[str] = field(default_factory=list)
    """Rules of nftables."""
    forwards: bool = True
    notes: bool = False
    """Whether it notes the first packets that enter it."""
    is_exit: str = ""
    """The exit that it is; empty for none."""
    sends_on_own: bool = False
    """Whether some of what is for an address of its own is sent on, by rules that are asked before: see `sends_on`."""

    def route(self, table: int, prefix: Prefix | Address | str, to: Wire | list[Wire] | None, metric: int = 1) -> None:
        """A route to a wire, to several in equal shares, or to nowhere."""
        where = f"table {table} metric {metric}"
        version = prefix.version if not isinstance(prefix, str) else (6 if ":" in prefix else 4)
        if to is None:
            self.routes.append(f"blackhole {prefix} {where}")
        elif isinstance(to, Wire) or len(to) == 1:
            wire = to if isinstance(to, Wire) else to[0]
            self.routes.append(f"{prefix} {wire.via(version)} {where}")
        else:
            hops = " ".join(f"nexthop {wire.via(version)}" for wire in to)
            self.routes.append(f"{prefix} {where} {hops}")

    def default(self, table: int, to: Wire, metric: int = 1) -> None:
        """The default routes of both IP versions."""
        for prefix in ("0.0.0.0/0", "::/0"):
            self.route(table, prefix, to, metric)

    def goes_on(self, table: int, prefix: Prefix) -> None:
        """What this prefix holds is looked up in the next table."""
        self.routes.append(f"throw {prefix} table {table} metric 1")

    def looks_up(self, table: int) -> None:
        """A table that holds whatever no rule took before."""
        self.rules.append(f"lookup {table} priority 700")

    def ends(self, table: int) -> None:
        """What a table has no route for goes nowhere, and to no later table."""
        for prefix in ("0.0.0.0/0", "::/0"):
            self.route(table, prefix, None, _BLACK_HOLE_METRIC)

    def sends_on(self, mark: int, table: int) -> None:
        """What bears a mark is looked up in a table first, even where it is for an address of its own."""
        if not self.sends_on_own:
            self.sends_on_own = True
            self.rules.append(f"fwmark {mark} lookup {table} priority {_SENT_ON_PRIORITY}")

    def from_wire(self, wire: Wire, table: int) -> None:
        """What comes in by a wire is looked up in a table first."""
        self.rules.append(f"iif {wire.name} lookup {table} priority 100")


@dataclass
class Laboratory:
    """All spaces, by name, in the order in which they are made."""

    spaces: dict[str, Space] = field(default_factory=dict)
    _numbers: Iterator[int] = field(default_factory=count)

    def space(self, name: str, is_exit: str = "") -> Space:
        """The space of a name, made when it is first asked for."""
        if name not in self.spaces:
            self.spaces[name] = Space(name, is_exit=is_exit)
        return self.spaces[name]

    def wire(self, space: Space, other: Space) -> tuple[Wire, Wire]:
        """A pair of interfaces between two spaces: the end in each."""
        number = next(self._numbers)
        ends = (f"w{number}a", f"w{number}b")
        near, far = Wire(ends[0], ends[1], number, 0), Wire(ends[1], ends[0], number, 1)
        space.wires.append(near)
        other.wires.append(far)
        return near, far

    def links(self, namespace: dict[str, str]) -> Iterator[str]:
        """The lines for `ip -batch` that make all wires; namespace: by space, what it is called in the kernel."""
        ends = {wire.name: space.name for space in self.spaces.values() for wire in space.wires}
        for space in self.spaces.values():
            for wire in space.wires:
                if wire.end == 0:
                    here, there = namespace[space.name], namespace[ends[wire.peer]]
                    macs = f"address {_MACS[0]}", f"address {_MACS[1]}"
                    yield (
                        f"link add {wire.name} {macs[0]} netns {here} type veth "
                        f"peer name {wire.peer} {macs[1]} netns {there}"
                    )

    @staticmethod
    def lines(space: Space, version: int) -> Iterator[str]:
        """The lines for `ip -4 -batch` and `ip -6 -batch` inside a space: interfaces, addresses, routes, rules."""
        if version == 6:
            yield "link set lo up"
            for wire in space.wires:
                other = 1 - wire.end
                yield f"link set {wire.name} addrgenmode none"
                yield f"link set {wire.name} up"
                yield f"neigh add {_NEXT_HOPS[other]} lladdr {_MACS[other]} dev {wire.name} nud permanent"
        yield from (f"route add local {one} dev lo table local" for one in space.local if one.version == version)
        if space.sends_on_own:
            yield from (f"rule add lookup local priority {_LOCAL_PRIORITY}", "rule del priority 0")
        colon = version == 6
        yield from (f"rule add {one}" for one in space.rules if "from " not in one or (":" in one) == colon)
        yield from (f"route add {one}" for one in space.routes if _is_v6(one) == colon)


def _is_v6(route: str) -> bool:
    """Whether a route's own prefix is one of IPv6."""
    return ":" in route.removeprefix("blackhole ").removeprefix("throw ").split(" ", 1)[0]
