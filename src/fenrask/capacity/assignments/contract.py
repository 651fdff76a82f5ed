"""What a port assignment answers: how many ports whom, what is refused, how many addresses suffice."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal, Protocol

import numpy as np

from fenrask.demand import Load, Series
from fenrask.estate import Ports
from fenrask.prefixes import Prefix
from fenrask.teletraffic.backoff import Waits
from fenrask.teletraffic.simulation import Calls, Setting

__all__ = ["Division", "PortAssignment", "PortUse", "Replay", "Stream", "Streams", "View"]


_ALWAYS = 0.999
"""From this part of the hold on a connection counts as open for all of it."""


@dataclass(frozen=True)
class Division:
    """How a pool is cut: ports of one cell, cells that a host is tied to by a hash, cells that share evenly."""

    ports: int
    tied_cells: int = 1
    even_cells: int = 1

    @property
    def capacity(self) -> int:
        """Ports of all cells together."""
        return self.ports * self.tied_cells * self.even_cells

    def free(self, always_open: float) -> int:
        """The ports of one cell that connections which are always open, of all cells together, leave."""
        return max(0, self.ports - round(always_open / self.tied_cells / self.even_cells))


@dataclass(frozen=True, eq=False)
class Stream:
    """Connections that compete for the same ports: toward one destination address, or of one host."""

    label: str
    protocol: str
    load: Load
    """The load of one such pool of ports."""
    copies: float = 1.0
    """How many pools there are alike: distinct addresses of a destination, hosts of a subnet."""
    hosts: float = 1.0
    """Hosts behind one pool, as so many alike ones: (sum of loads)^2 / sum of squares, host by host."""
    peakedness: float = 1.0
    """Variance-to-mean ratio of busy connections."""
    overlap: float = 0.0
    """What its batches share of their holds (`teletraffic.variation.overlap`): 1/2 for exponential, 1 for fixed ones;
    0 where bursts are no batches."""
    level_cv: float = 0.0
    """Coefficient of variation of what would be held in the mean, within the hour, about what the profile says: of what
    stays while a pool fills and empties."""
    fast_cv: float = 0.0
    """The same of what changes meanwhile: it makes the load bursty, the more the greater it is."""
    jobs: tuple[float, float, float] = (0.0, 0.0, 0.0)
    """Of synchronised jobs: their part of what is held in the mean; and what is held at their worst moment, for certain
    and by chance, as factors of that part."""
    sources: float | None = None
    """Connections that the hosts open at most, by limits of their own; None for no limit."""
    open_share: float = 1.0
    """The part of its hold for which a connection is open: a host's own limit counts it then alone."""
    open_at_most: float = 1.0
    """Connections that one host has open at most, where `sources` has a limit."""
    own_ports: tuple[float, float] = (0.0, 0.0)
    """Ports that each host has of its own toward this destination, 0 for no limit; and how many of them one host takes
    in the mean, as a factor of all that is held here."""
    retry_share: float = 0.0
    """The share of refused connections that is tried again."""
    retries: int = 0
    """How often a refused connection is tried again, later and later."""
    tied: bool = False
    """Whether each host has to keep to one address."""
    profile: str = ""
    """The profile of most of the load."""

    @property
    def is_limited(self) -> bool:
        """Whether hosts do not open all connections, by a limit on open ones or for want of ports of their own."""
        return self.is_capped or self.own_ports[0] > 0

    @property
    def is_even(self) -> bool:
        """Whether what is held keeps to its mean but for chance."""
        return not self.level_cv and not self.fast_cv and not self.jobs[0]

    @property
    def is_bursty(self) -> bool:
        """Whether connections held vary otherwise than independent ones do."""
        return self.peakedness != 1.0 or self.fast_cv > 0

    def at_worst(self, moving: Series) -> tuple[Series, Series]:
        """Of what is held in the mean and not open all the time: at the worst moment, for certain and by chance."""
        share, certain, chance = self.jobs
        return moving * share * certain, moving * (1 - share + share * chance)

    @property
    def is_capped(self) -> bool:
        """Whether hosts have a limit on open connections."""
        return self.sources is not None

    @property
    def keeps_after(self) -> float:
        """For how long a port is kept after its connection, as a factor of the time for which that was open."""
        return 0.0 if self.open_share >= _ALWAYS else 1 / self.open_share - 1

    @cached_property
    def hold_s(self) -> float:
        """Mean hold of what is not open all the time, s; 0 for none."""
        load = self.load
        new = float(np.dot(load.rates, load.curves.mean_profile[load.numbers]))
        return (load.mean_concurrent - load.persistent) / new if new else 0.0

    @cached_property
    def busiest(self) -> float:
        """The most connections held on the grid of times; `load.peak` looks between them too."""
        return float(np.max(self.load.concurrent))

    def scaled(self, factor: float) -> "Stream":
        """The same with so many times the load."""
        sources = None if self.sources is None else self.sources * factor
        return replace(self, load=self.load.scaled(factor), sources=sources)

    def at_target(self, target: float) -> "Stream":
        """The same without retries, with the load that they raise it to where the target is just met.

        At the fixed point a' = a + r a' B(a') with B = target the load is a / (1 - r target); B rises with a', so that
        B(a') is within the target exactly where B at that load is.
        """
        if not self.retry_share or self.level_cv or self.fast_cv:
            return self
        grown = 1 / (1 - self.retry_share * target)
        load = replace(self.load, rates=self.load.rates * grown)
        return replace(self, load=load, retry_share=0.0)

    @property
    def is_plain(self) -> bool:
        """Whether Erlang's formula alone tells what is refused."""
        free = self.sources is None and not self.load.persistent
        varied = self.is_bursty or self.level_cv > 0 or self.jobs[0] > 0
        free = free and not self.own_ports[0]
        return not varied and free and not self.retry_share and not self.retries and not self.tied


@dataclass(frozen=True)
class PortUse:
    """The busiest use of ports: who is short first, when, and what it costs in refusals.

    held and capacity are those of the pool that binds; refused has shape (n_times,), the share refused of
    that pool's new connections through the day.
    """

    binding: str
    pool: str
    """What the pool is, in words."""
    suffers: str
    """Who is refused when it is full."""
    time_s: float
    concurrent: float
    capacity: int
    blocking: float
    blocked: Series
    blocked_per_day: float
    begins_s: float | None = None
    """When the refused share first passes the target on the way to its worst; None where it never does, or always."""
    lag_s: float = 0.0
    level: bool = False
    """Whether as much is held at every time."""
    profile: str = ""
    detail: str = ""
    varies: str = ""
    """By how much the load varies within the hour, in words; empty where it does not."""
    retries: int = 0
    """How often senders try again by what their flows say."""
    feel: Callable[[], Waits | None] = field(default=lambda: None, compare=False, repr=False)
    """Works out `waits`, when they are asked for."""
    at_host: float = 0.0
    """The share of connections at the busiest moment that hosts do not open, by limits of their own."""
    hashed: bool = False
    """Whether a hash ties hosts to parts of it."""
    without: str = ""
    """How many of its hosts have no ports at all, in words; empty where all have some."""
    at_most: bool = False
    """Whether the shares are bounds: some that find no port by them find one."""
    worst: float = 0.0
    """The share that finds no free port at the hosts that fare worst, where its hosts do not all get the same."""

    @cached_property
    def waits(self) -> Waits | None:
        """What senders of TCP feel at the busiest moment, who try again as their flow says, or as often as hosts do."""
        return self.feel()

    @property
    def headroom(self) -> float:
        """(capacity - held) / capacity; -1 where something is held and there is nothing."""
        return (self.capacity - self.concurrent) / self.capacity if self.capacity else -1.0 if self.concurrent else 0.0


@dataclass(frozen=True)
class Replay:
    """A pool as a setting of the simulation, in words, how it is cut, and what the setting leaves out."""

    setting: Setting
    what: str
    division: Division
    not_counted: tuple[str, ...] = ()
    lacking: float = 0.0
    """The share of its load that comes from hosts for which there are no ports at all."""
    at_most: bool = False
    """Whether the formula says what is refused at most."""
    part: int = 1
    """The number of equal parts of the pool, of which the setting is one."""


@dataclass(frozen=True)
class InKernel:
    """Ports as a kernel's translator gives them out: a block for each host, or any port; and what that leaves out.

    blocks: by host the place of its address, and its first and last port.
    """

    blocks: Mapping[str, tuple[int, int, int]] = field(default_factory=dict)
    not_counted: tuple[str, ...] = ()

    @classmethod
    def for_itself(cls, name: str) -> "InKernel":
        """One of an assignment of this name, which a kernel does not have."""
        return cls(not_counted=(f"{name}: the kernel gives a port toward each destination out for itself",))


Streams = Sequence[Stream]
View = Literal["tuples", "whole", "hosts"]
"""What competes for ports: connections to a destination address, all of a protocol, or those of one host."""


class PortAssignment(Protocol):
    """One way of handing out ports. `ports` is what the offer says of them; streams are those of its view."""

    name: str
    view: View

    def use(self, streams: Streams, addresses: int, ports: Ports, target: float) -> PortUse | None:
        """The busiest use with so many addresses; None where nothing is held."""
        ...

    def least_addresses(self, streams: Streams, ports: Ports, target: float) -> int | None:
        """The fewest addresses that refuse at most `target` at every moment; 0 for no load, None if none do."""
        ...

    def room(self, addresses: int, ports: Ports, target: float) -> float:
        """The most that a pool of so many addresses takes were it not split: Erlang, or hosts of a block each."""
        ...

    def own_blocks(self, ports: Ports, target: float) -> Sequence[tuple[int, float]]:
        """The blocks that one host may have, rising: its ports, and the Erlang that they take.

        None where hosts share all ports.
        """
        ...

    def division(self, stream: Stream, addresses: int, ports: Ports) -> Division:
        """How a stream's pool is cut where its exit has this number of addresses."""
        ...

    def replay(self, stream: Stream, calls: Calls, addresses: int, ports: Ports, among: "Streams") -> Replay:
        """A stream's pool with this number of addresses, as a setting of the simulation; `calls` are of one pool.

        among: all streams of the exit, which share its addresses.
        """
        ...

    def carries(self, streams: Streams, addresses: int, ports: Ports, target: float, factor: float) -> bool:
        """Whether so many addresses carry this many times the load of all streams within the target."""
        ...

    def adds_up(self, streams: Streams, ports: Ports) -> bool:
        """Whether `room` is all that counts: loads up to it, each pool's in sum, are within the target."""
        ...

    def is_linear(self, streams: Streams, ports: Ports) -> bool:
        """Whether what streams take of `room` simply adds up, be it Erlang or hosts."""
        ...

    def in_kernel(self, ports: Ports, sources: Sequence[Prefix], addresses: int) -> "InKernel":
        """What a kernel's translator is told to do the same. sources: the subnets that it serves."""
        ...

    def not_replayed(self) -> tuple[str, ...]:
        """What a replay of records leaves out of it, in words."""
        ...
