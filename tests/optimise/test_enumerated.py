"""The programme of the choice against an enumeration of every mix and every number of addresses, in exact fractions.

The enumeration shares with the programme which options there are; what each lays on a site it works out by formulas.
"""

import random
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from fractions import Fraction
from itertools import product
from typing import Any

import numpy as np

from fenrask.addresses import SINGLE, purchases
from fenrask.capacity import ASSIGNMENTS
from fenrask.charges import pieces
from fenrask.estate import Described, Tiers
from fenrask.evaluation import evaluate
from fenrask.optimise import Wanted, choose
from fenrask.optimise.judging import Judge
from fenrask.optimise.options import units_of
from fenrask.optimise.problem import Option, Site, Unit
from fenrask.units import exact
from tests.optimise.by_formula import ByFormula
from tests.support import InFolder, many

INSTANCES = many(12, 45)
ESTATE_WIDE = {"sum_over": "estate", "tiers": [{"up_to_gb": 4000, "rate": 0.05}, {"rate": 0.01}]}
RISING = {"sum_over": "exit", "tiers": [{"up_to_gb": 900, "rate": 0}, {"up_to_gb": 5000, "rate": 0.02}, {"rate": 0.06}]}
FALLING = {"sum_over": "exit", "tiers": [{"up_to_gb": 1500, "rate": 0.03}, {"rate": 0.004}]}
OUT = {"sum_over": "estate", "tiers": [{"up_to_gb": 100, "rate": 0}, {"up_to_gb": 3000, "rate": 0.08}, {"rate": 0.03}]}


@dataclass
class Mixes:
    """Every mix of one estate and what it costs a month."""

    described: Described

    def __post_init__(self) -> None:
        now = evaluate(self.described)
        self.units = Judge(now).judged(units_of(now, Wanted()))
        self.amounts = ByFormula(now.demand)

    def cheapest(self) -> Fraction | None:
        costs = [
            cost for options in product(*(unit.open_options for unit in self.units)) for cost in self.costs(options)
        ]
        return min(costs, default=None)

    def _routed(self, chosen: list[tuple[Unit, Option]]) -> bool:
        """Whether each subnet has one route to a destination, one gateway, and one return path."""
        routes: dict[tuple[str, str], object] = {}
        gateways: dict[str, set[Site]] = {}
        behind: dict[tuple[str, Site], bool] = {}
        for unit, option in chosen:
            for place, (subnet, site) in enumerate(zip(unit.subnets, option.sites, strict=True)):
                entry = option.before[place] if option.before else site
                if routes.setdefault((subnet, unit.to), entry) != entry:
                    return False
                if behind.setdefault((subnet, site), bool(option.before)) != bool(option.before):
                    return False
                if site.offer == "gate" and not option.before:
                    gateways.setdefault(subnet, set()).add(site)
        return all(len(some) == 1 for some in gateways.values())

    def costs(self, options: tuple[Option, ...]) -> Iterator[Fraction]:
        """What a mix costs with each number of addresses that does."""
        chosen = list(zip(self.units, options, strict=True))
        sites = list(dict.fromkeys(site for option in options for site in option.distinct))
        if any(
            unit.network == site.network and unit.to == site.destination and site not in option.distinct
            for site in sites
            if site.subnets
            for unit, option in chosen
        ):
            return
        if not self._routed(chosen):
            return
        if any(option.own_addresses and unit.to in dict(self._partners()) for unit, option in chosen):
            return
        by_items, rest = self._without_addresses(chosen, sites)
        translating = [site for site in sites if site.translates]
        for held in product(*(list(self._holdings(site, chosen)) for site in translating)):
            entries = {site: one[1] for site, one in zip(translating, held, strict=True)}
            if all(self._listed(to, most, chosen, entries) for to, most in self._partners()):
                items = dict(by_items)
                for site, (month, _) in zip(translating, held, strict=True):
                    key = ("addresses", site.offer)
                    items[key] = items.get(key, Fraction(0)) + month
                yield rest + sum(items.values()) - self._off(items)

    def _partners(self) -> Iterator[tuple[str, int]]:
        for name, one in self.described.estate.destinations.items():
            if one.needs.max_source_addresses:
                yield name, one.needs.max_source_addresses

    def _listed(self, to: str, most: int, chosen: list[tuple[Unit, Option]], entries: Mapping[Site, int]) -> bool:
        seen = {site for unit, option in chosen if unit.to == to for site in option.distinct if site in entries}
        return sum(entries[site] for site in seen) <= most

    def _off(self, items: Mapping[tuple[str, str], Fraction]) -> Fraction:
        total = Fraction(0)
        for one in self.described.catalogue.commitments.values():
            covered = sum(amount for (item, offer), amount in items.items() if one.covers(item, offer))
            total += covered * Fraction(one.share) if one.share else min(covered, Fraction(one.month_off or 0))
        return total

    def _holdings(self, site: Site, chosen: list[tuple[Unit, Option]]) -> Iterator[tuple[Fraction, int]]:
        """Money a month and entries, for each number of addresses whose ports carry the load."""
        estate, offer = self.described.estate, self.described.catalogue.offers[site.offer]
        assert offer.ports is not None
        now = [(unit, self.amounts.laid(unit, option)[site]) for unit, option in chosen if site in option.distinct]
        ties = offer.ports.ties_hosts
        single = any(unit.needs.one_source_per_host and site in option.distinct and not ties for unit, option in chosen)
        busiest = max(self._busiest(now), self._busiest_after(site, chosen))
        prices = self.described.catalogue.addresses
        month = exact(self.described.catalogue.hours_per_month)
        by_length = {length: exact(prices.block_hour(length)) for length in (*prices.blocks, SINGLE)}
        room = ASSIGNMENTS[offer.ports.assignment].room
        for number in range(1, 2 if single else (offer.limits.addresses or 0) + 1):
            if room(number, offer.ports, estate.targets.blocking) >= busiest:
                for one in purchases(number, by_length):
                    yield one.hour * month, one.entries

    def _busiest(self, users: list[tuple[Unit, Any]]) -> float:
        """The most that any pool of a site is asked for."""
        pools: dict[str, Any] = {}
        for unit, laid in users:
            share = max(self.described.estate.destinations[unit.to].address_shares)
            pools[unit.to] = pools.get(unit.to, 0) + laid.concurrent * share
        return max((float(np.max(held)) for held in pools.values()), default=0.0)

    def _busiest_after(self, site: Site, chosen: list[tuple[Unit, Option]]) -> float:
        """The same after the loss of a zone that any flow is to survive which then passes it."""
        zones = {one.zone for one in self.described.estate.subnets.values()} - {site.zone, None}
        found = 0.0
        for zone in map(str, zones):
            moved = [(unit, self.amounts.laid_without(unit, option, zone)) for unit, option in chosen]
            users = [(unit, laid[site]) for unit, laid in moved if site in laid]
            if any("zone-loss" in unit.needs.faults for unit, _ in users):
                found = max(found, self._busiest(users))
        return found

    def _without_addresses(
        self, chosen: list[tuple[Unit, Option]], sites: list[Site]
    ) -> tuple[dict[tuple[str, str], Fraction], Fraction]:
        """Hours, what is carried and sent by item and offer; and crossings, upkeep and least sums."""
        catalogue = self.described.catalogue
        month = Fraction(catalogue.hours_per_month)
        items: dict[tuple[str, str], Fraction] = {}
        rest = carried_wide = Fraction(0)
        given = {
            self.described.estate.flows[name].from_
            for unit, option in chosen
            if option.own_addresses
            for name in unit.flows
        }
        hosts = sum(self.described.estate.workloads[name].hosts for name in given)
        items["addresses", ""] = hosts * Fraction(catalogue.addresses.hour) * month
        for site, offer in [(one, one.offer) for one in sites if one.offer]:
            rates = catalogue.offers[offer].rates
            volume = Fraction(0)
            for unit, option in chosen:
                if site in option.distinct:
                    volume += self.amounts.laid(unit, option)[site].volume
            hours = Fraction(rates.hour) * month * site.places
            items["hours", offer] = items.get(("hours", offer), Fraction(0)) + hours
            key = ("processed", offer)
            if isinstance(rates.processed_per_gb, Tiers) and rates.processed_per_gb.sum_over == "estate":
                # One offer alone has such a rate here.
                carried_wide += volume
                items[key] = sum((one.amount for one in pieces(rates.processed_per_gb, carried_wide)), Fraction(0))
            else:
                spent = sum((one.amount for one in pieces(rates.processed_per_gb, volume)), Fraction(0))
                items[key] = items.get(key, Fraction(0)) + spent
                rest += max(Fraction(0), Fraction(rates.month_minimum) * site.places - hours - spent)
        out = Fraction(0)
        for unit, option in chosen:
            sent = self.amounts.volume(unit)[0] / len(unit.subnets)
            out += sum((sent for site in option.sites if not site.destination), Fraction(0))
            rest += self.amounts.crossing(unit, option) * Fraction(catalogue.transfer.cross_zone_per_gb)
        rate = catalogue.transfer.internet_out_per_gb
        items["internet out", ""] = sum((one.amount for one in pieces(rate, out)), Fraction(0))
        return items, rest


def estate_of(dice: random.Random) -> tuple[dict[str, Any], dict[str, Any]]:
    """A patch and a catalogue's patch: two zones, three flows, four offers, some of everything that is charged."""
    pick = dice.choice
    needs = [{}, {"survives": "zone-loss"}, {"fixed_source": True}, {"inspected": True}, {"one_source_per_host": True}]
    patch = {
        "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "private"}},
        "exits": {"gate": {"addresses": "auto"}},
        "workloads": {
            "work": {"subnets": ["app", "app-b"], "hosts": pick([4, 12, 30]), "needs": pick(needs)},
            "batch": {"subnets": ["app-b"], "hosts": 6},
        },
        "destinations": {"partner": {"needs": pick([{}, {}, {"max_source_addresses": pick([1, 2, 3])}])}},
        "flows": {
            "talk": {
                "out_kib_per_connection": pick([30, 300]),
                "in_kib_per_connection": 100,
                "duration_s": pick([2, 9]),
            },
            "save": {
                "from": "batch",
                "to": "store",
                "per_host_per_s": 2,
                "duration_s": 5,
                "out_kib_per_connection": 500,
            },
            "more": {"from": "batch", "to": "partner", "per_host_per_s": pick([0.1, 2]), "out_kib_per_connection": 80},
            # Of the first group, and the last of the file: groups are not in its order.
            "again": {"from": "work", "to": "partner", "per_host_per_s": pick([0.2, 3]), "out_kib_per_connection": 20},
        },
    }
    wide = dice.random() < 0.3
    gate: dict[str, Any] = {
        "rates": {
            "hour": round(dice.uniform(0.02, 0.5), 3),
            "processed_per_gb": ESTATE_WIDE if wide else pick([0.02, RISING, FALLING]),
            "month_minimum": 0 if wide else pick([0, 0, 120, 400]),
        },
        "limits": {"addresses": pick([1, 3])},
    }
    offers: dict[str, Any] = {
        "gate": gate,
        "wall": {
            "rates": {"hour": round(dice.uniform(0.1, 1.0), 3), "processed_per_gb": pick([0.002, FALLING])},
            "limits": {"addresses": 2},
        },
        "host": None,
        "inner": {"rates": {"hour": round(dice.uniform(0.001, 0.4), 3), "processed_per_gb": 0.01}},
        "door-to-service": None if dice.random() < 0.6 else {},
    }
    catalogue = {
        "offers": offers,
        "addresses": {"hour": 0.005, "blocks": pick([[30, 31], {31: 0.004, 30: 0.03}])},
        "commitments": pick(
            [
                {},
                {"long": {"share": 0.3, "items": ["hours", "processed"], "offers": ["wall"]}},
                {"sum": {"month_off": pick([20, 300]), "items": ["hours", "addresses"]}},
                {"sum": {"month_off": 60, "offers": ["gate"]}, "all": {"share": 0.1, "items": ["internet out"]}},
            ]
        ),
        "transfer": {"internet_out_per_gb": pick([0.05, OUT])},
    }
    return patch, catalogue


class Enumerated(InFolder):
    def test_the_programme_finds_the_cheapest_of_all_mixes(self) -> None:
        dice = random.Random(11)
        answered = 0
        for number in range(INSTANCES):
            patch, catalogue = estate_of(dice)
            described = self.estate(patch, catalogue)
            least = Mixes(described).cheapest()
            with self.subTest(number=number):
                if least is None:
                    continue
                answered += 1
                choice = choose(described, Wanted(explain=False))
                self.assertLessEqual(choice.gap, 1e-6)
                self.assertAlmostEqual(choice.mix.month / float(least), 1, delta=1e-9)
        self.assertGreater(answered, INSTANCES // 2)
