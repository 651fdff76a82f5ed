"""Hosts that have a block of ports each, at a site: how many blocks they want, and the rows that hold them.

A host counts once, whichever options bring it. Where blocks grow, a host's is the least that takes what all of these
together hold of it, by Erlang's formula; what else counts, as that a block lies on one address, the engine looks at.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from fenrask.demand import Series
from fenrask.optimise.trials import Laid, OwnBlocks, sum_of

__all__ = ["HostsOfOne", "blocks_wanted", "hosts_of"]

_Sizes = Sequence[tuple[int, float]]
"""The blocks that a host may have: ports, and the Erlang that they take."""


@dataclass
class HostsOfOne:
    """The hosts of a workload in a subnet, by the options that bring them, each as its variable.

    held: by transport protocol, what an option lays on the block of one host, and of this what may fill all ports.
    """

    hosts: float = 0.0
    variables: list[int] = field(default_factory=list)
    held: dict[str, list[tuple[int, Series, Series]]] = field(default_factory=dict)

    def add(self, variable: int, own: OwnBlocks) -> None:
        """An option that brings them."""
        self.hosts = max(self.hosts, own.hosts)
        self.variables.append(variable)
        for protocol, (held, filling) in own.held.items():
            self.held.setdefault(protocol, []).append((variable, held, filling))

    def sizes(self, every: _Sizes) -> _Sizes:
        """The blocks that one of them may come to want, as far as the one that takes all that options lay on it."""
        most = max((float(np.max(sum_of(held for _, held, _ in some))) for some in self.held.values()), default=0.0)
        return every[: 1 + sum(erlangs < most for _, erlangs in every[:-1])]

    def asked(self, sizes: _Sizes) -> Iterator[tuple[list[tuple[int, Series]], list[float]]]:
        """What options ask of a block, and what of it the blocks of these sizes hold: rows that hold for each of them.

        The room of c ports of which P are taken for certain is at most R - P R / c, and at most (c - P) R' / c' for
        larger blocks c' that take R': see `capacity.Asked.weighed`.
        """
        fullest = [erlangs / ports for ports, erlangs in sizes]
        for some in self.held.values():
            yield _weighed(some, fullest[0]), [erlangs for _, erlangs in sizes]
            if len(sizes) > 1 and any(np.any(filling) for _, _, filling in some):
                yield _weighed(some, fullest[-1]), [ports * fullest[-1] for ports, _ in sizes]


def _weighed(some: Sequence[tuple[int, Series, Series]], fullest: float) -> list[tuple[int, Series]]:
    return [(variable, held - filling * (1 - min(1.0, fullest))) for variable, held, filling in some]


def hosts_of(users: Sequence[tuple[int, Laid]]) -> dict[str, HostsOfOne]:
    """By workload and subnet: the hosts that options bring to a site."""
    found: dict[str, HostsOfOne] = {}
    for variable, laid in users:
        for member, own in laid.blocks.items():
            found.setdefault(member, HostsOfOne()).add(variable, own)
    return found


def blocks_wanted(users: Sequence[tuple[int, Laid]], sizes: _Sizes) -> float:
    """The smallest blocks that together have as many ports as all hosts want where all options are taken."""
    return sum(one.hosts * one.sizes(sizes)[-1][0] / sizes[0][0] for one in hosts_of(users).values())
