"""The paths of all pairs of a workload and a destination, as columns; what a patch cannot touch is taken over."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenrask.estate import Described, Estate
from fenrask.estate.traffic import Numbers, Series
from fenrask.routing.arriving import Arriving
from fenrask.routing.classes import IpStack
from fenrask.routing.portions import Box, Sending, boxes_of, product
from fenrask.routing.reuse import Met, changes, met_by
from fenrask.routing.tables import SubnetTable
from fenrask.routing.tracing import Tracer

__all__ = ["Kind", "Pairs", "repeated"]


@dataclass(frozen=True, eq=False)
class Kind:
    """Packets that many pairs have: all that take one path, as `box` of the estate of `tracer` says.

    share: the part of a whole flow that they are.
    """

    tracer: Tracer
    box: Box
    share: Fraction

    @cached_property
    def met(self) -> Met:
        """What they meet after the table of their own subnet, with what was lost before by another IP version, and what
        stands by.
        """
        others = (*(one.trace for one in self.box.lost_before), *self.box.standing_by)
        return met_by(self.tracer, (self.box.trace, *others))


@dataclass(frozen=True, eq=False)
class Pairs:
    """The pairs of an estate, by workload and then destination, and the rows of each: one for each subnet and path.

    workload, to: numbers into the estate's names, shape (n_pairs,); first: the first row of each pair and the end,
    shape (n_pairs + 1,); subnet: numbers into the estate's names, kind: into `kinds`, shape (n_rows,).
    """

    described: Described
    tracer: Tracer
    kinds: Sequence[Kind]
    workload: Numbers
    to: Numbers
    first: Numbers
    subnet: Numbers
    kind: Numbers

    @classmethod
    def of(
        cls,
        described: Described,
        workload: Numbers,
        to: Numbers,
        before: "Pairs | None",
        beside: "Pairs | None" = None,
    ) -> "Pairs":
        """All paths of these pairs, of which none stands twice.

        before: the pairs of an estate that this one was patched from, or that was patched from the same one. beside:
        those of another one, for what is not known from that.
        """
        tracer, kinds, rows = Tracer(described), list[Kind](), list[_Rows]()
        lacking = np.arange(workload.size, dtype=np.intp)
        if before is not None:
            kept = before.kept(tracer, workload, to)
            some = np.flatnonzero(kept >= 0)
            rows.append(before._rows(some, kept[some], kinds))
            lacking = np.flatnonzero(kept < 0)
        if (other := beside or before) is not None and lacking.size:
            some, known = other.by_subnet(tracer, workload[lacking], to[lacking], kinds)
            rows.append((lacking[some[known[0]]], *known[1:]))
            lacking = np.delete(lacking, some)
        pair, subnet, kind = _traced(tracer, workload[lacking], to[lacking], kinds)
        rows.append((lacking[pair], subnet, kind))
        pair, subnet, kind = (np.concatenate(each) for each in zip(*rows, strict=True))
        order = np.argsort(pair, kind="stable")
        pair, subnet, kind = pair[order], subnet[order], kind[order]
        used, kind = np.unique(kind, return_inverse=True)
        kinds = [kinds[number] for number in used.tolist()]
        first = np.searchsorted(pair, np.arange(workload.size + 1)).astype(np.intp)
        return cls(described, tracer, kinds, workload, to, first, subnet, kind)

    def _rows(self, pairs: Numbers, own: Numbers, kinds: list[Kind]) -> "_Rows":
        """The rows of pairs here, as those of pairs elsewhere; their kinds are added to those there."""
        begin, counts = len(kinds), self.first[own + 1] - self.first[own]
        rows = repeated(self.first[own], counts)
        kinds += self.kinds if rows.size else []
        return np.repeat(pairs, counts), self.subnet[rows], self.kind[rows] + begin

    def by_subnet(self, tracer: Tracer, workload: Numbers, to: Numbers, kinds: list[Kind]) -> tuple[Numbers, "_Rows"]:
        """Pairs of another estate of which every subnet is known here, by their number, with their rows.

        Where a workload is in other subnets than here, as after the loss of a zone, only its shares differ.
        """
        nothing = np.zeros(0, dtype=np.intp), (np.zeros(0, dtype=np.intp),) * 3
        reusable = self._reusable(tracer, workload, to, but_subnets=True)
        if reusable is None:
            return nothing
        found, is_touched = reusable
        old, new = self.described.estate, tracer.estate
        numbers = {name: number for number, name in enumerate(old.subnets)}
        width, parts = len(old.subnets), dict[Fraction, int]()
        flat, begin, count = _spread(new, workload[found >= 0], parts, 1, lambda subnet, _: (numbers[subnet],))
        pair = np.repeat(np.flatnonzero(found >= 0), count[workload[found >= 0]])
        subnet, part = flat[repeated(begin[workload[found >= 0]], count[workload[found >= 0]])].T
        here = self.pair * width + self.subnet
        first = np.flatnonzero(np.diff(here, prepend=-1))
        order = np.argsort(here[first], kind="stable")
        known, wanted = here[first][order], found[pair] * width + subnet
        place = np.minimum(np.searchsorted(known, wanted), max(0, known.size - 1))
        touched = np.logical_or.reduceat(is_touched, first)[order] if first.size else is_touched
        is_known = (known[place] == wanted) & ~touched[place] if known.size else np.zeros(wanted.size, dtype=bool)
        lacking = np.bincount(pair[~is_known], minlength=workload.size) > 0
        some = np.flatnonzero((found >= 0) & ~lacking)
        taken = ~lacking[pair]
        pair, subnet, part, place = pair[taken], subnet[taken], part[taken], order[place[taken]]
        counts = np.diff(first, append=here.size)[place]
        rows = repeated(first[place], counts)
        # One kind for each kind here and each share that its subnet has.
        both, kind = np.unique(self.kind[rows] * len(parts) + np.repeat(part, counts), return_inverse=True)
        kind, shares = kind + len(kinds), [*parts]
        for number, share in (divmod(one, len(parts)) for one in both.tolist()):
            own = self.kinds[number]
            whole = product(shares[share], own.box.within)
            kinds.append(own if own.share == whole else Kind(own.tracer, own.box, whole))
        return some, (np.repeat(np.searchsorted(some, pair), counts), np.repeat(subnet, counts), kind)

    @cached_property
    def pair(self) -> Numbers:
        """The pair of each row."""
        return np.repeat(np.arange(self.workload.size), np.diff(self.first))

    def of_rows(self, each: Sequence[Any], dtype: type) -> NDArray[Any]:
        """What is told of every kind, by row."""
        return np.array(each, dtype=dtype)[self.kind]

    @cached_property
    def share(self) -> Series:
        """The part of a whole flow that each row is."""
        return self.of_rows([float(one.share) for one in self.kinds], float)

    @cached_property
    def hosts(self) -> Series:
        """The hosts that each row is from."""
        estate = self.described.estate
        part = self.of_rows([float(one.box.hosts) for one in self.kinds], float)
        workloads, subnets = tuple(estate.workloads), tuple(estate.subnets)
        keys, back = np.unique(self.workload[self.pair] * len(subnets) + self.subnet, return_inverse=True)
        each = []
        for workload, subnet in (divmod(key, len(subnets)) for key in keys.tolist()):
            name = workloads[workload]
            each.append(float(estate.workloads[name].hosts * estate.host_shares(name)[subnets[subnet]]))
        hosts: Series = np.array(each, dtype=np.float64)[back] * part
        return hosts

    def is_same(self, other: "Pairs") -> bool:
        """Whether another estate has the same pairs with the very same paths."""
        columns = ("workload", "to", "first", "subnet", "kind")
        if any(not np.array_equal(getattr(self, one), getattr(other, one)) for one in columns):
            return False
        return all(one is same for one, same in zip(self.kinds, other.kinds, strict=True))

    def kept(self, tracer: Tracer, workload: Numbers, to: Numbers) -> Numbers:
        """For pairs of another estate, which a tracer is of: the pair here whose paths are theirs, or -1 for none.

        What no packet of a pair meets makes no difference to it, even where it divides its addresses.
        """
        reusable = self._reusable(tracer, workload, to)
        if reusable is None:
            return np.full(workload.size, -1, dtype=np.intp)
        found, is_touched = reusable
        is_lost = np.bincount(self.pair[is_touched], minlength=self.workload.size) > 0
        return np.where((found >= 0) & ~is_lost[found], found, -1)

    def _reusable(
        self, tracer: Tracer, workload: Numbers, to: Numbers, but_subnets: bool = False
    ) -> "tuple[Numbers, NDArray[np.bool_]] | None":
        """For pairs of another estate: the pair here that may be theirs, or -1; and which rows here a change touches.

        None where any of them may. but_subnets: whether workloads may be in other subnets.
        """
        changed = changes(self.described, tracer.described)
        if changed is None or not self.workload.size:
            return None
        old, new = self.described.estate, tracer.estate
        numbers = {name: number for number, name in enumerate(old.workloads)}
        # The destinations of the two are the same, so that they have the same numbers.
        known = np.array([numbers.get(name, -1) for name in new.workloads], dtype=np.intp)[workload]
        width = max(len(old.remotes), len(new.remotes))
        keys, wanted = self.workload * width + self.to, known * width + to
        found = np.minimum(np.searchsorted(keys, wanted), keys.size - 1)
        touched = np.array([changed.touch(one.met) for one in self.kinds], dtype=bool)[self.kind]
        touched |= np.array([(old.table_of(name) or "") in changed.tables for name in old.subnets])[self.subnet]
        others = changed.workloads - changed.moved if but_subnets else changed.workloads
        is_lost = np.array([name in others for name in old.workloads])[self.workload]
        is_lost |= np.array([name in changed.remotes for name in old.remotes])[self.to]
        if changed.touches_routes:
            # Whether all public addresses go one path, where only names are known, hangs on tables that nobody meets.
            is_lost |= np.array([not one.prefixes for one in old.remotes.values()])[self.to]
        if not changed.of_loads:
            # What comes in hangs on all that is published and told.
            is_lost |= self.to >= len(old.destinations)
        return np.where((known >= 0) & (keys[found] == wanted) & ~is_lost[found], found, -1), touched


_Rows = tuple[Numbers, Numbers, Numbers]
"""Pair, subnet and kind of each row."""


def repeated(first: Numbers, counts: Numbers) -> Numbers:
    """The rows of several stretches, one after another: `counts` of them from each `first`."""
    before = np.cumsum(counts) - counts
    rows: Numbers = np.repeat(first - before, counts) + np.arange(int(counts.sum()))
    return rows


def _traced(tracer: Tracer, workload: Numbers, to: Numbers, kinds: list[Kind]) -> tuple[Numbers, Numbers, Numbers]:
    """The rows of pairs: pair, subnet and kind of each; kinds that are new are added.

    Rows whose senders, targets and first steps are the same have the same paths, so that one of each is followed.
    """
    estate, classes = tracer.estate, tracer.classes
    coming = to >= len(estate.destinations)
    if np.any(coming):
        going = np.flatnonzero(~coming)
        out, from_, of = _traced(tracer, workload[going], to[going], kinds)
        pair, subnet, kind = _arriving(tracer, workload, to, np.flatnonzero(coming).tolist(), kinds)
        pair, subnet, kind = (np.concatenate(each) for each in ((going[out], pair), (from_, subnet), (of, kind)))
        order = np.argsort(pair, kind="stable")
        return pair[order], subnet[order], kind[order]
    names, tos, places = tuple(estate.workloads), tuple(estate.destinations), tuple(estate.subnets)
    if not workload.size:
        nothing = np.zeros(0, dtype=np.intp)
        return nothing, nothing, nothing
    number_of = {name: number for number, name in enumerate(places)}
    shares: dict[Fraction, int] = {}
    flat, begin, count = _spread(
        estate,
        workload,
        shares,
        2,
        lambda subnet, name: (
            number_of[subnet],
            classes.senders_kind(name, subnet, estate.workloads[name].public_address),
        ),
    )
    pair = np.repeat(np.arange(workload.size), count[workload])
    subnet, sender, part = flat[repeated(begin[workload], count[workload])].T
    row_to = to[pair]
    same = sender
    for column in (*_first_steps(tracer, subnet, row_to), part):
        same = np.unique(same * (int(column.max(initial=0)) + 1) + column, return_inverse=True)[1]
    _, examples, back = np.unique(same, return_index=True, return_inverse=True)
    parts, starts, counts = tuple(shares), [], []
    for row in examples.tolist():
        name = names[int(workload[pair[row]])]
        sending = Sending(places[int(subnet[row])], tos[int(row_to[row])], estate.workloads[name].public_address, name)
        boxes = boxes_of(tracer, sending)
        starts.append(len(kinds))
        counts.append(len(boxes))
        kinds += [Kind(tracer, box, product(parts[int(part[row])], box.within)) for box in boxes]
    each = np.array(counts, dtype=np.intp)[back]
    kind = repeated(np.array(starts, dtype=np.intp)[back], each)
    return np.repeat(pair, each), np.repeat(subnet, each), kind


def _first_steps(tracer: Tracer, subnet: Numbers, to: Numbers) -> tuple[Numbers, Numbers]:
    """By row: a number for the class of its targets, and one for what its subnet's table does with them first."""
    classes, places, tos = tracer.classes, tuple(tracer.estate.subnets), tuple(tracer.estate.destinations)
    # Subnets with one table, and the same IP versions, do the same with each destination.
    tables: dict[tuple[SubnetTable, IpStack], int] = {}
    of_table = np.zeros(len(places), dtype=np.intp)
    example: list[str] = []
    for number in np.unique(subnet).tolist():
        key = (tracer.routes.of(places[number]), classes.stacks[places[number]])
        of_table[number] = tables.setdefault(key, len(tables))
        if len(tables) > len(example):
            example.append(places[number])
    asked, back = np.unique(of_table[subnet] * len(tos) + to, return_inverse=True)
    step, target = np.empty(asked.size, dtype=np.intp), np.empty(asked.size, dtype=np.intp)
    ends = np.searchsorted(asked, np.arange(len(example) + 1) * len(tos)).tolist()
    for table, place in enumerate(example):
        some = slice(ends[table], ends[table + 1])
        named = [tos[number] for number in (asked[some] - table * len(tos)).tolist()]
        step[some] = [*tracer.first_steps(place, named)]
        target[some] = [classes.targets_kind(name, place) for name in named]
    return target[back], step[back]


def _spread(
    estate: Estate,
    workload: Numbers,
    shares: dict[Fraction, int],
    columns: int,
    told: Callable[[str, str], tuple[int, ...]],
) -> tuple[Numbers, Numbers, Numbers]:
    """The subnets of workloads that some numbers name: columns of what is told of each, and its share by number.

    Second and third, by workload: where its subnets begin, and how many there are. Shares that are new are added.
    """
    names = tuple(estate.workloads)
    each: dict[int, list[tuple[int, ...]]] = {}
    for number in np.unique(workload).tolist():
        some = ((one, part) for one, part in estate.host_shares(names[number]).items() if part)
        each[number] = [(*told(one, names[number]), shares.setdefault(part, len(shares))) for one, part in some]
    flat = np.array([one for some in each.values() for one in some], dtype=np.intp).reshape(-1, columns + 1)
    count = np.zeros(len(names), dtype=np.intp)
    count[list(each)] = [len(some) for some in each.values()]
    return flat, np.cumsum(count) - count, count


def _arriving(
    tracer: Tracer, workload: Numbers, to: Numbers, pairs: Sequence[int], kinds: list[Kind]
) -> tuple[Numbers, Numbers, Numbers]:
    """The same of pairs whose other end opens the connections, some by their place."""
    estate, arriving = tracer.estate, Arriving(tracer)
    names, remotes, places = tuple(estate.workloads), tuple(estate.remotes), tuple(estate.subnets)
    number_of = {name: number for number, name in enumerate(places)}
    rows: list[tuple[int, int, int]] = []
    for pair in pairs:
        name = names[int(workload[pair])]
        for subnet, part in estate.host_shares(name).items():
            for box in arriving.boxes(name, subnet, remotes[int(to[pair])]) if part else ():
                rows.append((pair, number_of[subnet], len(kinds)))
                kinds.append(Kind(tracer, box, product(part, box.within)))
    found = np.array(rows, dtype=np.intp).reshape(-1, 3)
    return found[:, 0], found[:, 1], found[:, 2]
