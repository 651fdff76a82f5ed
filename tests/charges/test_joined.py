"""What joined networks and private lines cost: hours of hubs, lines and their routers, crossings on the way."""

from fractions import Fraction
from typing import Any

from fenrask.evaluation import evaluate
from tests.support import InFolder

LINE: dict[str, Any] = {
    "kind": "circuit",
    "hub": "hub",
    "offer": "line",
    "received": ["172.20.0.0/16"],
    "advertised": ["10.0.1.0/24"],
    "routers": {"one": {}, "two": {}},
}
PATCH: dict[str, Any] = {
    "networks": {"far": {"prefixes": ["10.7.0.0/16"]}},
    "exits": {"hub": {"kind": "hub", "networks": ["net", "far"], "offer": "hub"}, "line": LINE},
    "route_tables": {"private": {"172.20.0.0/16": "hub"}},
    "destinations": {"pilots": {"prefixes": ["172.20.0.0/16"]}},
    "flows": {"ask": {"from": "work", "to": "pilots", "per_host_per_s": 1, "out_kib_per_connection": 100}},
}
OFFERS = {
    "offers": {
        "hub": {"kind": "hub", "rates": {"hour": 0.05, "processed_per_gb": 0.02}},
        "line": {"kind": "circuit", "rates": {"hour": 0.3}},
    }
}


class Joined(InFolder):
    def test_hours_and_volumes_follow_the_way(self) -> None:
        bill = evaluate(self.estate(PATCH, OFFERS)).bill
        lines = {(one.item, one.about): one.amount for one in bill.lines}
        volume = Fraction(10 * 3600 * 730 * 100 * 1024, 10**9)
        self.assertEqual(lines["hours", "hub"], Fraction("36.5"))
        self.assertEqual(lines["hours", "line"], 2 * Fraction(219))
        self.assertEqual(lines["processed", "hub"], volume / 50)
        self.assertEqual(bill.by_flow["ask"], Fraction("36.5") + 438 + volume / 50)

    def test_a_private_way_pays_no_internet(self) -> None:
        bill = evaluate(self.estate(PATCH, OFFERS)).bill
        out = [one for one in bill.lines if one.item == "internet out"]
        self.assertNotIn("ask", {use.flow for one in out for use in one.uses})

    def test_what_does_not_arrive_is_not_charged(self) -> None:
        lost = {**PATCH, "exits": {**PATCH["exits"], "line": {**LINE, "advertised": []}}}
        evaluation = evaluate(self.estate(lost, OFFERS))
        self.assertEqual([str(one) for one in evaluation.demand.not_counted][0][:14], "ask from app: ")
        self.assertNotIn(("processed", "hub"), {(one.item, one.about) for one in evaluation.bill.lines})
