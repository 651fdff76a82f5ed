"""Random changes of random estates: the patch that makes the start of each, and the one from there to its end."""

import random
from collections.abc import Callable
from typing import Any

from tests.evaluation.estates import random_estate

__all__ = ["CHANGES", "small_estate"]

Data = dict[str, Any]
_MOST_SUBNETS = 6
PILOTS = "172.20.0.0/16"


def small_estate(seed: int) -> tuple[Data, Data]:
    """A random estate of few subnets, and its catalogue."""
    dice = random.Random(seed)
    while len((found := random_estate(dice))[0]["subnets"]) > _MOST_SUBNETS:
        pass
    found[1]["offers"] |= {"inner": {"kind": "in-subnet-endpoint", "rates": {"hour": 0.01}}}
    found[1]["offers"].setdefault("joint", {"kind": "hub", "rates": {"hour": 0.05}})
    return found


def _gates(estate: Data) -> list[str]:
    return [name for name, one in estate["exits"].items() if "addresses" in one]


def moved_addresses(dice: random.Random, estate: Data) -> tuple[Data, Data]:
    """Listed addresses, one of which another exit is to have, or one that is new."""
    names = _gates(estate)
    was = {name: [f"203.0.113.{10 * number + one}" for one in range(2)] for number, name in enumerate(names)}
    is_ = {name: [*own] for name, own in was.items()}
    for name in names[1:]:
        is_[name] += [is_[names[0]].pop()] if len(is_[names[0]]) > 1 else ["203.0.113.201"]
    for name in names[:1]:
        is_[name] += ["203.0.113.202"] if dice.random() < 0.5 else []
    start, end = ({"exits": {name: {"addresses": own} for name, own in some.items()}} for some in (was, is_))
    return start, end


def private_endpoint(dice: random.Random, estate: Data) -> tuple[Data, Data]:
    """A service that is reached privately from now on, and then not from outside any more."""
    network = dice.choice([*estate["networks"]])
    subnets = [name for name, one in estate["subnets"].items() if one["network"] == network and "edge" in name]
    store = {"prefixes": ["192.0.2.0/25"], "port": 443, "service": True, "needs": {}}
    senders = [name for name, one in estate["workloads"].items() if one["subnets"][0].split("-")[1] == network]
    flows = {f"save-{name}": {"from": name, "to": "store", "per_host_per_s": 1, "duration_s": 1} for name in senders}
    inner: Data = {"kind": "in-subnet-endpoint", "offer": "inner", "destination": "store", "subnets": subnets}
    if senders and dice.random() < 0.5:
        inner |= {"access": "listed", "allowed_from": senders}
    closed = {"destinations": {"store": {"public_access": "closed"}}} if dice.random() < 0.4 else {}
    return {"destinations": {"store": store}, "flows": flows}, {"exits": {"inner": inner}, **closed}


def hub(dice: random.Random, estate: Data) -> tuple[Data, Data]:
    """A hub with a line to somebody, who is then written to; or the one that there is goes."""
    if "hub" in estate["exits"]:
        flows = [name for name, one in estate["flows"].items() if "pilots" in f"{one['to']}{one['from']}"]
        tables = {name: {PILOTS: None} for name, one in estate["route_tables"].items() if PILOTS in one}
        gone = {"exits": {"hub": None, "line": None}, "flows": dict.fromkeys(flows), "route_tables": tables}
        return {"networks": {}}, {**gone, "destinations": {"pilots": None}}
    names = [*estate["networks"]]
    line = {"kind": "circuit", "hub": "hub", "third_party": "the pilots", "received": [PILOTS]}
    line["advertised"] = [
        prefix for name in names for prefix in estate["networks"][name]["prefixes"] if ":" not in prefix
    ]
    exits = {"hub": {"kind": "hub", "offer": "joint", "networks": names}, "line": line}
    tables = {name: {PILOTS: "hub"} for name in estate["route_tables"] if name.startswith("private")}
    work = next(iter(estate["workloads"]))
    talk = {"from": work, "to": "pilots", "per_host_per_s": 1, "duration_s": 1}
    return {"networks": {}}, {
        "exits": exits, "route_tables": tables, "flows": {"talk": talk},
        "destinations": {"pilots": {"prefixes": ["172.20.4.0/24"], "port": 8443}},
    }  # fmt: skip


def zone(dice: random.Random, estate: Data) -> tuple[Data, Data]:
    """A zone more, with a gate of its own, and hosts that move into it."""
    network = dice.choice([*estate["networks"]])
    own, within = {"network": network, "zone": "z"}, f"10.{network[1:]}"
    subnets = {
        f"edge-{network}-z": {**own, "prefix": f"{within}.251.0/28", "routes": f"public-{network}"},
        f"app-{network}-z": {**own, "prefix": f"{within}.99.0/24", "routes": f"private-{network}-z"},
    }
    gate = {"kind": "translation-gateway", "offer": "gate", "subnet": f"edge-{network}-z", "addresses": 1}
    work = {
        name: {"subnets": [*one["subnets"], f"app-{network}-z"]}
        for name, one in estate["workloads"].items()
        if one["subnets"][0].split("-")[1] == network
    }
    return {"networks": {}}, {
        "subnets": subnets, "exits": {f"out-{network}-z": gate}, "workloads": work,
        "route_tables": {f"private-{network}-z": {"0.0.0.0/0": f"out-{network}-z"}},
    }  # fmt: skip


def ipv6(dice: random.Random, estate: Data) -> tuple[Data, Data]:
    """IPv6 in every subnet with hosts, and where it goes."""
    if any("prefix_v6" in one for one in estate["subnets"].values()):
        return {"networks": {}}, {"subnets": {name: {"prefix_v6": None} for name in estate["subnets"]}}
    networks = {
        name: {"prefixes": [*one["prefixes"], f"2001:db8:{name[1:]}::/48"]} for name, one in estate["networks"].items()
    }
    hosts = [name for name in estate["subnets"] if name.startswith("app")]
    subnets = {name: {"prefix_v6": f"2001:db8:{name.split('-')[1][1:]}:{n + 1}::/64"} for n, name in enumerate(hosts)}
    exits = {f"six-{name}": {"kind": "ipv6-outbound", "network": name} for name in networks}
    tables = {estate["subnets"][name]["routes"]: {"::/0": f"six-{name.split('-')[1]}"} for name in hosts}
    web = {name: one["prefixes"] for name, one in estate["destinations"].items() if name.startswith("web")}
    to = {name: {"prefixes": [*own, f"2001:db8:ff{n}::/64"]} for n, (name, own) in enumerate(web.items())}
    return {"networks": {}}, {
        "networks": networks, "subnets": subnets, "exits": exits, "route_tables": tables, "destinations": to,
    }  # fmt: skip


def guarded(dice: random.Random, estate: Data) -> tuple[Data, Data]:
    """Filters, and hosts that stand in other subnets' tables."""
    rules = {
        "out": {"any": {"action": "allow", "destinations": [*estate["destinations"]]}},
        "in": {"any": {"action": "allow"}},
    }
    work = {name: {"filters": {"own": rules}} for name in estate["workloads"] if dice.random() < 0.6}
    table = {name: one for name, one in estate["route_tables"].items() if name.startswith("private")}
    copies = {f"{name}-new": one for name, one in table.items()}
    subnets = {
        name: {"routes": f"{one['routes']}-new"} for name, one in estate["subnets"].items() if one["routes"] in table
    }
    return {"networks": {}}, {
        "workloads": work, "route_tables": {**dict.fromkeys(table), **copies}, "subnets": subnets,
    }  # fmt: skip


def other_machines(dice: random.Random, estate: Data) -> tuple[Data, Data]:
    """Each gate replaced by a new one beside it, and another number of addresses."""
    exits: Data = {}
    names: dict[str, str] = {}
    for name in _gates(estate):
        if dice.random() < 0.7:
            names[name] = f"{name}-new"
            exits |= {name: None, f"{name}-new": {**estate["exits"][name], "addresses": dice.choice([1, 2, "auto"])}}
    tables = {
        table: {key: names[to] for key, to in routes.items() if isinstance(to, str) and to in names}
        for table, routes in estate["route_tables"].items()
    }
    return {"networks": {}}, {"exits": exits, "route_tables": {key: one for key, one in tables.items() if one}}


CHANGES: tuple[Callable[[random.Random, Data], tuple[Data, Data]], ...] = (
    moved_addresses, private_endpoint, hub, zone, ipv6, guarded, other_machines,
)  # fmt: skip
