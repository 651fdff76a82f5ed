"""Bills of estates in two regions, and at the very edges of tiers, recomputed by hand in exact fractions."""

from fractions import Fraction
from typing import Any

from fenrask.charges import to_the_cent
from fenrask.evaluation import evaluate
from fenrask.units import cents
from fenrask.what_if import sensitivity
from tests.support import InFolder, merged

# 10 connections a second for 730 hours, 1,000 KiB each, of which 100 are sent; GB of it in a month.
GB = Fraction(10 * 3600 * 730 * 1000 * 1024, 10**9)
HOUR = Fraction(730)
TWO_REGIONS: dict[str, Any] = {
    "networks": {"net": {"region": "north"}, "isle": {"region": "south", "prefixes": ["10.1.0.0/16"]}},
    "subnets": {
        "app-s": {"network": "isle", "zone": "z", "prefix": "10.1.1.0/24", "routes": "private-s"},
        "edge-s": {"network": "isle", "zone": "z", "prefix": "10.1.9.0/28", "routes": "public-s"},
    },
    "route_tables": {"private-s": {"0.0.0.0/0": "gate-s"}, "public-s": {"0.0.0.0/0": "door-s"}},
    "exits": {
        "door-s": {"kind": "direct-internet", "network": "isle"},
        "gate-s": {"kind": "translation-gateway", "offer": "gate", "subnet": "edge-s", "addresses": 3},
    },
    "workloads": {"work-s": {"subnets": ["app-s"], "hosts": 20, "tags": {"cost_centre": "south"}}},
    "flows": {
        "talk": {"out_kib_per_connection": 100, "in_kib_per_connection": 900},
        "talk-s": {
            "from": "work-s",
            "to": "partner",
            "per_host_per_s": 1,
            "duration_s": 2,
            "out_kib_per_connection": 100,
            "in_kib_per_connection": 900,
        },
    },
}
STEPS = [{"up_to_gb": 1000, "rate": 0}, {"rate": 0.5}]
OVER_ALL = {"sum_over": "estate", "tiers": STEPS}


def south(**rates: Any) -> dict[str, Any]:
    """A catalogue whose transfer costs something else in the south."""
    return {"transfer_by_region": {"south": rates}}


ACROSS: dict[str, Any] = {
    "route_tables": {"private": {"10.1.0.0/16": "joined"}, "private-s": {"10.0.0.0/16": "joined"}},
    "exits": {"joined": {"kind": "peering", "networks": ["net", "isle"]}},
    "destinations": {"inside": {"prefixes": ["10.1.1.0/25"], "port": 5432}},
    "flows": {"talk": {"to": "inside"}},
}
TO_STORE: dict[str, Any] = {"flows": {"talk": {"to": "store"}, "talk-s": {"to": "store"}}}
IN_TWO_ZONES: dict[str, Any] = {"subnets": {"app-s": {"zone": "y"}, "app": {"zone": "b"}}}
OWN_ADDRESSES: dict[str, Any] = {
    "subnets": {"app": {"routes": "public"}, "app-s": {"routes": "public-s"}},
    "workloads": {"work": {"public_address": True, "subnets": ["app", "app-s"]}},
}

# What is changed in the estate, in the catalogue; the item, what it is of, and its amount.
CASES: tuple[tuple[Any, Any, str, str, Fraction], ...] = (
    ({}, {}, "addresses", "gate", HOUR / 200),
    ({}, {}, "addresses", "gate-s", 3 * HOUR / 200),
    ({}, {"addresses_by_region": {"south": {"hour": 0.02}}}, "addresses", "gate-s", 3 * HOUR / 50),
    ({}, {"addresses_by_region": {"south": {"hour": 0.02}}}, "addresses", "gate", HOUR / 200),
    ({}, {"addresses_by_region": {"south": {}}}, "addresses", "gate-s", Fraction(0)),
    (
        {"exits": {"gate-s": {"addresses": "auto", "at_least": 3}}},
        {"addresses_by_region": {"south": {"hour": 0.02, "blocks": {30: 0.03}}}},
        "addresses",
        "gate-s",
        HOUR * 3 / 100,
    ),
    # Of ten hosts five stand in the north and five in the south.
    (
        OWN_ADDRESSES,
        {"addresses_by_region": {"south": {"hour": 0.02}}},
        "addresses",
        "work",
        HOUR * Fraction(1, 8),
    ),
    ({}, {}, "internet out", "", 3 * GB / 10 / 20),
    ({}, south(internet_out_per_gb=0.2), "internet out", "", GB / 10 / 20),
    ({}, south(internet_out_per_gb=0.2), "internet out", "south", 2 * GB / 10 / 5),
    (
        {},
        {"transfer": {"internet_out_per_gb": OVER_ALL}},
        "internet out",
        "",
        (3 * GB / 10 - 1000) / 2,
    ),
    # Each region has its own allowance.
    (
        {},
        {"transfer_by_region": {"south": {"internet_out_per_gb": OVER_ALL}}},
        "internet out",
        "south",
        (2 * GB / 10 - 1000) / 2,
    ),
    (
        {},
        {"transfer": {"internet_out_per_gb": {"sum_over": "exit", "tiers": STEPS}}},
        "internet out",
        "door-s",
        (2 * GB / 10 - 1000) / 2,
    ),
    (TO_STORE, {"transfer": {"service_out_per_gb": 0.01}}, "service out", "", 3 * GB / 10 / 100),
    (
        TO_STORE,
        {"transfer_by_region": {"south": {"service_out_per_gb": 0.03}}},
        "service out",
        "south",
        2 * GB / 10 * 3 / 100,
    ),
    (IN_TWO_ZONES, {}, "zone crossing", "y to z", 2 * GB / 100),
    (
        IN_TWO_ZONES,
        {"transfer_by_region": {"south": {"cross_zone_per_gb": 0.07}}},
        "zone crossing",
        "y to z",
        2 * GB * 7 / 100,
    ),
    (IN_TWO_ZONES, south(cross_zone_per_gb=0.07), "zone crossing", "b to a", GB / 100),
    (ACROSS, {"transfer": {"cross_region_per_gb": 0.04}}, "region crossing", "net to isle", GB / 25),
    (
        ACROSS,
        {"transfer_by_region": {"north": {"cross_region_per_gb": 0.05}}},
        "region crossing",
        "net to isle",
        GB / 20,
    ),
    (
        ACROSS,
        {"transfer_by_region": {"south": {"cross_region_per_gb": 0.05}}},
        "region crossing",
        "net to isle",
        Fraction(0),
    ),
    # One offer in two regions pays as in one, but where its rate is another.
    (
        {},
        {"offers": {"gate": {"rates": {"processed_per_gb": OVER_ALL}}}},
        "processed",
        "gate",
        (GB - 1000) / 2,
    ),
    ({}, {"commitments": {"years": {"share": 0.5, "items": ["addresses"]}}}, "commitment", "years", -4 * HOUR / 400),
)


class ByRegion(InFolder):
    def test_by_hand(self) -> None:
        for patch, catalogue, item, about, amount in CASES:
            with self.subTest(patch=patch, catalogue=catalogue, item=item, about=about):
                bill = evaluate(self.estate(merged(TWO_REGIONS, patch), catalogue)).bill
                found = sum((one.amount for one in bill.lines if (one.item, one.about) == (item, about)), Fraction(0))
                self.assertEqual(found, amount)
                for divided in (bill.by_exit, bill.by_flow, bill.by_cost_centre, bill.by_workload, bill.by_destination):
                    self.assertEqual(sum(divided.values()), bill.total)
                    self.assertEqual(sum(to_the_cent(divided).values()), cents(bill.total))

    def test_volumes_just_at_below_and_above_the_edge_of_a_step(self) -> None:
        # So many bytes a connection that the month's volume is the edge itself, a KiB a connection less, one more.
        for kib, at_edge in ((0, True), (-1, False), (1, False)):
            edge = float(GB)
            steps = {"tiers": [{"up_to_gb": edge, "rate": 0.01}, {"rate": 1}]}
            flows = {"talk": {"out_kib_per_connection": 100, "in_kib_per_connection": 900 + kib}}
            bill = evaluate(
                self.estate({"flows": flows}, {"offers": {"gate": {"rates": {"processed_per_gb": steps}}}})
            ).bill
            volume = GB * (1000 + kib) / 1000
            above = max(Fraction(0), volume - Fraction(str(edge)))
            expected = (volume - above) / 100 + above
            lines = [one for one in bill.lines if one.item == "processed"]
            self.assertEqual(sum(one.amount for one in lines), expected)
            self.assertEqual(len(lines), 2 if kib > 0 else 1, at_edge)

    def test_cost_centres_share_a_line_by_use_and_lose_no_cent(self) -> None:
        bill = evaluate(
            self.estate(merged(TWO_REGIONS, {"workloads": {"work-s": {"subnets": ["app"], "hosts": 20}}}))
        ).bill
        # Both work by the gate in the north now, one part against two.
        used = {
            use: share
            for one in bill.lines
            if one.item == "hours" and one.about == "gate"
            for use, share in one.uses.items()
        }
        self.assertEqual(sorted(used.values()), [Fraction(1, 3), Fraction(2, 3)])
        idle = 730 * (Fraction(1, 10) + 3 * Fraction(1, 200))
        self.assertEqual(bill.by_cost_centre[""], idle)
        self.assertEqual(bill.by_cost_centre["south"], (bill.total - idle) * 2 / 3)

    def test_a_rate_that_grows_grows_in_every_region(self) -> None:
        by_region = {"south": {"internet_out_per_gb": 0.2}}
        effects = {
            one.about: one for one in sensitivity(self.estate(TWO_REGIONS, {"transfer_by_region": by_region}), 0.1)
        }
        expected = float(GB / 10 / 20 + 2 * GB / 10 / 5) / 10
        self.assertAlmostEqual(float(effects["rate of internet out"].month_change) / expected, 1, places=9)
