"""Who can open connections inward, against every packet that could: the slow tracer, sender by sender, port by port."""

from collections.abc import Iterator
from itertools import product
from typing import Any

from fenrask.routing import Openings, Tracer
from tests.routing.naive import inside
from tests.routing.naive_inward import NaiveInward
from tests.routing.test_every_packet import MANY, Dice, behaviour, described, estate
from tests.support import InFolder

GETS_THERE = {"arrives", "no return", "asymmetric return", "reply denied"}
PORTS = (22, 443, 5000, 8080, 8443, 9000)


def asked(seed: int) -> dict[str, Any]:
    """A random estate with hosts that others ask, and with filters that tell ports apart."""
    data, dice = estate(seed), Dice(seed + 12 * 10**6)
    data["workloads"].setdefault("site", {"subnets": ["app"], "hosts": 2})
    data["workloads"]["work"].pop("hosts_in", None)
    for place in (*data["subnets"].values(), *data["workloads"].values()):
        for one in place.get("filters", {}).values():
            for rule in (*one.get("in", {}).values(), *one.get("out", {}).values()):
                if dice.chance(0.5):
                    rule["ports"] = [dice.choice([443, 8080, "5000-8443", "1-1023"])]
    for name in ("far", "app", "app-b"):
        if dice.chance(0.5):
            rules = {"some": {"action": "allow", "ports": [dice.choice([443, "8000-9000"])]}}
            data["subnets"][name]["filters"] = {
                "own": {"in": rules} if dice.chance(0.6) else {"out": rules, "in_default": "allow"}
            }
    return data


class WhoCanOpen(InFolder):
    def test_what_is_closed_is_closed_to_every_packet(self) -> None:
        """And what is open from another network is open to some packet of it."""
        seen = {True: 0, False: 0}
        for seed in range(MANY // 2):
            data = asked(seed)
            naive, found = NaiveInward(data, behaviour(seed)), Openings(Tracer(described(data, seed))).of_all()
            open_to = {(one.origin, one.subnet, one.workload) for one in found if one.is_open}
            for origin, shown, workload, subnet in ends(data):
                can, said = can_open(naive, origin, workload, subnet), (shown, subnet, workload) in open_to
                seen[can] += 1
                with self.subTest(seed=seed, origin=origin, workload=workload, subnet=subnet):
                    # To whom lines are not told of, and to who else is on the internet, more may be open.
                    self.assertIn((can, said), {(True, True), (False, False), (False, origin not in data["networks"])})
        self.assertGreater(min(seen.values()), MANY // 4, seen)


def ends(data: dict[str, Any]) -> Iterator[tuple[str, str, str, str]]:
    """Who may ask whom: someone outside, as shown, and a workload in a subnet."""
    outside = [("web", "the internet"), ("near", "near"), ("other", "other")]
    outside += [("pilots", "pilots")] if "line" in data["exits"] else []
    for (origin, shown), (workload, stated) in product(outside, data["workloads"].items()):
        for subnet in stated["subnets"]:
            if origin != data["subnets"][subnet]["network"]:
                yield origin, shown, workload, subnet


def can_open(naive: NaiveInward, origin: str, workload: str, subnet: str) -> bool:
    """Whether some host of theirs reaches some of ours at some port; where exits alone are, there is none."""
    hosts = {subnet for one in naive.estate["workloads"].values() for subnet in one["subnets"]}
    exits_alone = {
        subnet for one in naive.exits.values() for subnet in [one.get("subnet"), *one.get("subnets", [])]
    } - hosts
    for port in PORTS:
        flow = {"from": origin, "to": workload, "port": port}
        for way in naive.ways(flow, subnet):
            if isinstance(way, str) or way.get("sender") in exits_alone:
                continue
            for host, sender in product(naive.hosts_of(subnet, way), beyond(naive, origin, naive.senders(flow, way))):
                if any(verdict in GETS_THERE for verdict, _ in naive.one(flow, subnet, way, host, sender)):
                    return True
    return False


def beyond(naive: NaiveInward, origin: str, senders: list[Any]) -> list[Any]:
    """Of the addresses of a partner, those that its lines announce."""
    lines = [one for one in naive.exits.values() if one.get("third_party") == origin]
    return [one for one in senders if not lines or any(inside(one, line["received"]) for line in lines)]
