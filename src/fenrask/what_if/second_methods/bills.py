"""The month's bill from the load, item by item and by floats: rates as they are written, and none of `charges`."""

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from fenrask.estate import Described, Onward, Rate, Tiers
from fenrask.evaluation import Evaluation
from fenrask.routing import FlowPath
from fenrask.what_if.second_methods.contract import Audited, NotLookedAt

__all__ = ["MONTHLY", "audited_bill"]

MONTHLY = "monthly charge"
"""What the sum of one item of the bill is called."""

Items = dict[tuple[str, str], float]
"""Money by item of the bill and exit."""


def audited_bill(evaluation: Evaluation) -> Iterator[Audited | NotLookedAt]:
    """Each item's sum, and the total; the parts of the bill against it."""
    bill = evaluation.bill
    total = float(bill.total)
    plain = math.fsum(float(line.quantity) * float(line.rate) for line in bill.lines)
    yield Audited("monthly bill", "", total, plain, "quantity x rate in floats")
    for what, divided in (("exits", bill.by_exit), ("flows", bill.by_flow), ("cost centres", bill.by_cost_centre)):
        yield Audited("monthly bill", f"by {what}", math.fsum(map(float, divided.values())), total, "sum of the parts")
    if evaluation.described.catalogue.meters == "wire":
        yield NotLookedAt("monthly charges", "", "it counts headers, packet by packet")
        return
    second = _FromTheLoad(evaluation).items()
    first: dict[str, float] = {}
    for line in bill.lines:
        first[line.item] = first.get(line.item, 0.0) + float(line.amount)
    for item in dict.fromkeys((*first, *(item for item, _ in second))):
        found = math.fsum(money for (of, _), money in second.items() if of == item)
        yield Audited(MONTHLY, item, first.get(item, 0.0), found, "rates as written, added up over hops")


def _graduated(rate: Rate, volume: float) -> float:
    """What a volume costs: at the first step's rate, and from each step's end on by what the next differs."""
    if not isinstance(rate, Tiers):
        return float(rate) * volume
    ends = [0.0, *(float(one.up_to_gb) for one in rate.tiers if one.up_to_gb is not None)]
    rates = [float(one.rate) for one in rate.tiers]
    changes = [rates[0], *(after - before for before, after in zip(rates, rates[1:], strict=False))]
    return math.fsum(change * max(0.0, volume - end) for change, end in zip(changes, ends[: len(changes)], strict=True))


@dataclass
class _FromTheLoad:
    evaluation: Evaluation
    found: Items = field(default_factory=dict)

    @property
    def described(self) -> Described:
        return self.evaluation.described

    def items(self) -> Items:
        self._standing()
        self._addresses()
        self._volumes()
        self._least()
        self._commitments()
        return {key: money for key, money in self.found.items() if money}

    def _add(self, item: str, exit_: str, money: float) -> None:
        self.found[item, exit_] = self.found.get((item, exit_), 0.0) + money

    def _standing(self) -> None:
        estate, hours = self.described.estate, float(self.described.catalogue.hours_per_month)
        for name, exit_ in estate.exits.items():
            offer = self.described.offer_of(name)
            if offer is None:
                continue
            rates = offer.rates_by_region.get(estate.region_of(exit_), offer.rates)
            there = hours if exit_.running_hours is None else min(hours, float(math.ceil(exit_.running_hours)))
            self._add("hours", name, exit_.units * there * float(rates.hour))
            self._add("upkeep", name, exit_.units * offer.upkeep_hours * float(estate.wage_per_hour))

    def _addresses(self) -> None:
        catalogue, estate = self.described.catalogue, self.described.estate
        hours = float(catalogue.hours_per_month)
        for exit_ in self.evaluation.plan.exits:
            stated = catalogue.addresses_in(estate.region_of(estate.exits[exit_.exit]))
            blocks = exit_.purchase.lengths if exit_.purchase else (32,) * exit_.bought
            self._add("addresses", exit_.exit, hours * math.fsum(float(stated.block_hour(length)) for length in blocks))
        for held in estate.public_addresses.values():
            if held.address.version == 4:
                using = (one for one in estate.exits.values() if any(each in held.address for each in one.every_listed))
                region = next((estate.region_of(one) for one in using), "")
                price = catalogue.addresses_in(region).block_hour(held.address.prefixlen)
                self._add("addresses", "", hours * float(price))
        for name, workload in estate.workloads.items():
            for subnet, share in estate.host_shares(name).items() if workload.public_address else ():
                region = estate.networks[estate.subnets[subnet].network].region
                hosts = workload.hosts * float(share)
                self._add("addresses", "", hours * hosts * float(catalogue.addresses_in(region).hour))

    def _volumes(self) -> None:
        """What passes exits, leaves, and crosses, path by path."""
        pools: dict[object, tuple[str, Rate, dict[str, float]]] = {}
        for path in self.evaluation.paths.paths:
            if path.example.verdict.arrives:
                sent, received = self._bytes_of(path)
                for item, rate, over, exit_, volume in self._metered(path, sent, sent + received):
                    volumes = pools.setdefault((item, over), (item, rate, {}))[2]
                    volumes[exit_] = volumes.get(exit_, 0.0) + volume
        for item, rate, volumes in pools.values():
            whole = math.fsum(volumes.values())
            money = _graduated(rate, whole)
            for exit_, volume in volumes.items():
                self._add(item, exit_, money * volume / whole if whole else 0.0)

    def _metered(self, path: FlowPath, sent: float, both: float) -> Iterator[tuple[str, Rate, object, str, float]]:
        """Of a path: the item, the rate, over what its steps are summed, the exit, and the volume."""
        estate, catalogue, trace = self.described.estate, self.described.catalogue, path.example
        for name in trace.exits:
            exit_, offer = estate.exits[name], self.described.offer_of(name)
            if offer is not None:
                region = estate.region_of(exit_)
                carried = offer.rates_by_region.get(region, offer.rates).processed_per_gb
                wide = isinstance(carried, Tiers) and carried.sum_over == "estate"
                yield "processed", carried, (exit_.offer_name, region) if wide else name, name, both
        if trace.onward is Onward.INTERNET:
            region = self._tariff(trace.boundary)
            transfer = catalogue.transfer_by_region.get(region, catalogue.transfer)
            service = estate.remotes[path.to].service and transfer.service_out_per_gb is not None
            rate = transfer.service_out_per_gb if service else transfer.internet_out_per_gb
            each = isinstance(rate, Tiers) and rate.sum_over == "exit" and not service
            assert rate is not None
            over = (region, trace.boundary if each else "")
            yield "service out" if service else "internet out", rate, over, trace.boundary, sent
        for hop in trace.hops:
            if hop.crosses_zone:
                by = hop.exit if hop.exit in estate.exits else trace.exits[-1]
                region = self._tariff(by)
                price = catalogue.transfer_by_region.get(region, catalogue.transfer).cross_zone_per_gb
                yield "zone crossing", price, (region, hop.from_zone, hop.to_zone), by, both
        for one_network, other in self._left(path):
            regions = [estate.networks[name].region for name in (one_network, other)]
            transfer = catalogue.transfer_by_region.get(regions[0], catalogue.transfer)
            if regions[0] == regions[1]:
                yield "network crossing", transfer.cross_network_per_gb, (one_network, other), "", both
            else:
                yield "region crossing", transfer.cross_region_per_gb, (one_network, other), "", both

    def _left(self, path: FlowPath) -> Iterator[tuple[str, str]]:
        """The networks that a path leaves, each with the next."""
        estate, trace = self.described.estate, path.example
        passed = [estate.subnets[hop.subnet].network for hop in trace.hops if hop.subnet in estate.subnets]
        if trace.inward is not None and trace.boundary in estate.exits:
            passed.insert(0, estate.network_of(estate.exits[trace.boundary]) or "")
        if trace.there:
            passed.append(estate.subnets[trace.there].network)
        passed = [name for name in passed if name]
        yield from ((one, other) for one, other in zip(passed, passed[1:], strict=False) if one != other)

    def _tariff(self, exit_: str) -> str:
        """The region of an exit where moving data has a price of its own."""
        region = self.described.estate.region_of(self.described.estate.exits[exit_]) if exit_ else ""
        return region if region in self.described.catalogue.transfer_by_region else ""

    def _bytes_of(self, path: FlowPath) -> tuple[float, float]:
        """Sent and received by a path in a month, in the catalogue's unit."""
        described = self.described
        unit = 1e9 if described.catalogue.volume_unit == "GB" else float(2**30)
        flow = described.estate.flows[path.flow]
        connections = per_s(self.evaluation, path.flow) * float(described.catalogue.hours_per_month) * 3600
        return tuple(
            float(path.share) * (gib * 2**30 if gib is not None else connections * (kib or 0.0) * 1024) / unit
            for kib, gib in (
                (flow.out_kib_per_connection, flow.out_gib_per_month),
                (flow.in_kib_per_connection, flow.in_gib_per_month),
            )
        )  # type: ignore[return-value]

    def _least(self) -> None:
        """What is missing to the least that exits cost."""
        estate = self.described.estate
        for name, exit_ in estate.exits.items():
            offer = self.described.offer_of(name)
            if offer is not None:
                rates = offer.rates_by_region.get(estate.region_of(exit_), offer.rates)
                paid = math.fsum(self.found.get((item, name), 0.0) for item in ("hours", "processed"))
                self._add("minimum", name, max(0.0, exit_.units * float(rates.month_minimum) - paid))

    def _commitments(self) -> None:
        exits = self.described.estate.exits
        before: Mapping[tuple[str, str], float] = dict(self.found)
        for name, commitment in self.described.catalogue.commitments.items():
            if commitment.on_offer:
                continue
            self._add("committed", name, float(commitment.month_fee))
            covered = math.fsum(
                money
                for (item, exit_), money in before.items()
                if commitment.covers(item, (exits[exit_].offer_name or "") if exit_ else "")
            )
            off = (
                covered * float(commitment.share)
                if commitment.share is not None
                else min(covered, float(commitment.month_off or 0))
            )
            self._add("commitment", name, -off)


def per_s(evaluation: Evaluation, name: str) -> float:
    """New connections per second in the mean, or requests where these are stated, by floats."""
    estate = evaluation.described.estate
    flow = estate.flows[name]
    if flow.persistent_per_host is not None:
        return 0.0
    if flow.users is not None:
        rate = flow.users * (flow.connections_per_user or 0.0) / flow.duration_mean_s
    else:
        rate = estate.workloads[flow.workload].hosts * (flow.per_host_per_s or flow.requests_per_host_per_s or 0.0)
    profile = estate.profiles.get(flow.profile or "", (1.0,))
    return rate * math.fsum(profile) / len(profile)
