"""Random estates whose hosts have others connect on their behalf: proxies, and gateways from IPv6 to IPv4."""

from typing import Any

from fenrask.estate import Described
from tests.routing.test_every_packet import Dice, described, estate
from tests.support import CATALOGUE

__all__ = ["asking"]

OFFERS = {"proxy": {**CATALOGUE["offers"]["host"], "kind": "forward-proxy"}}


def asking(seed: int) -> Described:
    """One of the random estates, with a proxy, with subnets of IPv6 alone, or with both."""
    dice, data = Dice(seed + 10**7), estate(seed)
    if dice.chance(0.65):
        proxied(dice, data)
    if dice.chance(0.65):
        mapped(dice, data)
    return described(data, seed, OFFERS)


def proxied(dice: Dice, data: Any) -> None:
    """A proxy in one of the subnets, whose hosts find it by name."""
    place = dice.choice(["edge", "walls", "app-b", "proxies"])
    if place == "proxies":
        data["subnets"]["proxies"] = {**data["subnets"]["edge"], "prefix": "10.1.12.0/28", "routes": "proxies"}
        data["route_tables"]["proxies"] = {"0.0.0.0/0": dice.choice(["door", "door", "gate", "wall"])}
    own = [to for to in ("web", "beside", "pilots") if to in data["destinations"]]
    data["exits"]["proxy"] = {
        "kind": "forward-proxy",
        "offer": "proxy",
        "subnet": place,
        "addresses": ["203.0.113.40", "203.0.113.41"][: dice.randint(1, 2)],
        "destinations": dice.sample(own, dice.randint(1, len(own))),
        "port": dice.choice([8080, 443, 3000]),
    }
    inner = data["subnets"][place]["prefix"]
    if dice.chance(0.3):
        data["route_tables"]["app"][dice.part(inner)] = dice.choice(["wall", "wall", "gone"])
    for name in ("app", place):
        if "filters" not in data["subnets"][name] and dice.chance(0.3):
            rule = {"action": dice.choice(["allow", "deny"]), "prefixes": [dice.choice([inner, "198.51.100.0/24"])]}
            rule |= {"ports": [dice.choice([443, 8080])]} if dice.chance(0.5) else {}
            defaults = {"out_default": dice.choice(["allow", "deny"]), "in_default": "allow"}
            data["subnets"][name]["filters"] = {"asked": {"out": {"asked": rule}, **defaults}}


def mapped(dice: Dice, data: Any) -> None:
    """A subnet of IPv6 alone, whose table has a route to the gateway, or elsewhere, for mapped addresses."""
    data["exits"]["gate"]["nat64"] = dice.chance(0.9)
    if "2001:db8:7::/48" not in data["networks"]["near"]["prefixes"]:
        data["networks"]["near"]["prefixes"].append("2001:db8:7::/48")
    table: dict[str, Any] = {"64:ff9b::/96": dice.choice(["gate", "gate", "gate", "wall", "gone"])}
    if dice.chance(0.3):
        table["64:ff9b::c633:6400/123"] = dice.choice(["gate", "gone", "wall"])
    if "six" in data["exits"] and dice.chance(0.5):
        table["::/0"] = "six"
        table.pop("64:ff9b::/96") if dice.chance(0.4) else None
    data["subnets"]["sixth"] = {
        "network": "near", "zone": "a", "prefix": "2001:db8:7:1::/125", "routes": "sixth",
    }  # fmt: skip
    data["route_tables"]["sixth"] = table
    data["workloads"]["sixes"] = {"subnets": ["sixth"], "hosts": 3}
    for to in [*data["destinations"]]:
        data["flows"][f"sixes-{to}"] = {"from": "sixes", "to": to, "per_host_per_s": 1}
