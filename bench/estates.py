"""Large made-up estates."""

import csv
import random
from collections.abc import Iterable
from pathlib import Path

import yaml

from fenrask.demo import BEGINNING, VELLMOUTH

__all__ = ["write_large", "write_varied"]


def write_large(
    folder: Path,
    subnets: int = 2000,
    tables: int = 400,
    destinations: int = 300,
    flows: int = 50_000,
    per_host_per_s: float = 0.1,
) -> Path:
    """An estate of ten networks with three zones each, a gateway in each zone; the estate file."""
    dice = random.Random(1)
    networks = {f"n{i}": {"prefixes": [f"10.{i}.0.0/16"]} for i in range(10)}
    estate: dict[str, object] = {"estate": "Large", "catalogue": "catalogue.yaml", "networks": networks}
    nets: dict[str, object] = {}
    exits: dict[str, object] = {}
    table: dict[str, dict[str, str]] = {}
    for i in range(10):
        exits[f"door-{i}"] = {"kind": "direct-internet", "network": f"n{i}"}
        table[f"public-{i}"] = {"0.0.0.0/0": f"door-{i}"}
        for z in "abc":
            prefix = f"10.{i}.255.{'abc'.index(z) * 16}/28"
            nets[f"edge-{i}{z}"] = {"network": f"n{i}", "zone": z, "prefix": prefix, "routes": f"public-{i}"}
            gate = {"kind": "translation-gateway", "offer": "gateway", "subnet": f"edge-{i}{z}", "addresses": "auto"}
            exits[f"gate-{i}{z}"] = gate
    for t in range(tables):
        table[f"t{t}"] = {"0.0.0.0/0": f"gate-{t % 10}{'abc'[t % 3]}"} | {
            f"198.{dice.randrange(18, 20)}.{dice.randrange(256)}.0/24": f"gate-{t % 10}{'abc'[(t + 1) % 3]}"
            for _ in range(20)
        }
    for s in range(subnets - 30):
        prefix = f"10.{s % 10}.{s // 10}.0/24"
        own = (s // 10 * 10 + s % 10) % tables
        nets[f"s{s}"] = {"network": f"n{s % 10}", "zone": "abc"[s % 3], "prefix": prefix, "routes": f"t{own}"}
    estate |= {"subnets": nets, "route_tables": table, "exits": exits}
    estate["destinations"] = {
        f"d{d}": {
            "prefixes": [f"198.{18 + d // 256}.{d % 256}.0/25"],
            "port": 443,
            "needs": {"fixed_source": d % 2 == 0},
        }
        for d in range(destinations)
    }
    hosts = range(subnets - 30)
    _table(folder / "workloads.csv", ["name", "subnets[]", "hosts"], ([f"w{s}", f"s{s}", 10] for s in hosts))
    heading = ["name", "from", "to", "per_host_per_s", "profile", "out_kib_per_connection"]
    rows = (
        [f"f{f}", f"w{dice.randrange(subnets - 30)}", f"d{dice.randrange(destinations)}", per_host_per_s, "day", 4]
        for f in range(flows)
    )
    _table(folder / "flows.csv", heading, rows)
    estate |= {"workloads_csv": "workloads.csv", "flows_csv": "flows.csv"}
    estate["profiles"] = {"day": [1.0] * 12 + [2.0] * 12}
    (folder / "catalogue.yaml").write_bytes(BEGINNING.contents()["catalogue.yaml"])
    path = folder / "estate.yaml"
    path.write_text(yaml.dump(estate, Dumper=yaml.CSafeDumper, sort_keys=False))
    return path


def _table(path: Path, heading: list[str], rows: Iterable[list[object]]) -> None:
    with path.open("w", newline="") as file:
        csv.writer(file).writerows([heading, *rows])


def write_varied(folder: Path, flows: int) -> Path:
    """An estate in which little is like anything else; the estate file.

    Networks on a hub with a line to a data centre, a firewall before some gateways and rules for a fifth of the
    destinations, 40 profiles, and for every flow a rate, a duration and sizes of its own. Subnets, tables and
    destinations grow with the flows: 10,000, 1,000 and 500 at 200,000 flows.
    """
    dice = random.Random(2)
    nets, subnets = 4, max(40, min(10_000, flows // 20))
    tables, destinations = max(8, subnets // 10), min(500, max(20, flows // 20))
    networks = {f"net{i}": {"region": "north", "prefixes": [f"10.{64 + i * 16}.0.0/12"]} for i in range(nets)}
    exits: dict[str, object] = {"hub": {"kind": "hub", "networks": list(networks)}}
    exits["line"] = {
        "kind": "circuit",
        "hub": "hub",
        "third_party": "the data centre",
        "received": ["172.16.0.0/12"],
        "advertised": ["10.0.0.0/8"],
    }
    places: dict[str, object] = {}
    routes: dict[str, dict[str, str]] = {}
    for i in range(nets):
        first = 64 + i * 16
        exits[f"door{i}"] = {"kind": "direct-internet", "network": f"net{i}"}
        places[f"edge{i}"] = {"network": f"net{i}", "zone": "a", "prefix": f"10.{first}.0.0/24", "routes": f"edge{i}"}
        places[f"wall{i}"] = {"network": f"net{i}", "zone": "a", "prefix": f"10.{first}.1.0/24", "routes": f"wall{i}"}
        gate = {"kind": "translation-gateway", "offer": "gate-standard", "subnet": f"edge{i}", "addresses": "auto"}
        rules = {f"r{d}": {"action": "allow", "destinations": [f"d{d}"]} for d in range(0, destinations, 5)}
        exits[f"gate{i}"] = gate
        exits[f"wall{i}"] = {
            "kind": "inspecting-firewall",
            "offer": "wall-basic",
            "subnet": f"wall{i}",
            "addresses": "auto",
            "rules": {**rules, "rest": {"action": "allow"}},
        }
        routes[f"edge{i}"] = {"0.0.0.0/0": f"door{i}"}
        routes[f"wall{i}"] = {"0.0.0.0/0": f"gate{i}"}
        for t in range(tables // nets):
            some = dice.sample([d for d in range(destinations) if d % 10 != 9], min(destinations, 5))
            routes[f"t{i}-{t}"] = {
                "0.0.0.0/0": f"wall{i}" if t % 3 == 0 else f"gate{i}",
                "172.16.0.0/12": "hub",
                **{f"d{d}": f"gate{i}" for d in some},
            }
        for s in range(subnets // nets):
            high, low = divmod(s + 2, 256)
            places[f"s{i}-{s}"] = {
                "network": f"net{i}",
                "zone": "abc"[s % 3],
                "prefix": f"10.{first + high}.{low}.0/24",
                "routes": f"t{i}-{s % (tables // nets)}",
            }
    estate: dict[str, object] = {"estate": "Varied", "catalogue": "catalogue.yaml", "networks": networks}
    estate |= {"subnets": places, "route_tables": routes, "exits": exits}
    estate["destinations"] = {
        f"d{d}": {
            "prefixes": [f"172.16.{d % 250}.0/28" if d % 10 == 9 else f"198.{18 + (d >> 8)}.{d & 255}.0/28"],
            "port": 443,
            "distinct_addresses": 1 + d % 7,
        }
        for d in range(destinations)
    }
    estate["profiles"] = {f"p{p}": [round(dice.random() * 2, 2) for _ in range(24)] for p in range(40)}
    hosts = [name for name in places if name.startswith("s")]
    _table(folder / "workloads.csv", ["name", "subnets[]", "hosts"], ([f"w-{s}", s, dice.randint(1, 9)] for s in hosts))
    heading = ["name", "from", "to", "per_host_per_s", "duration_s", "profile"]
    heading += ["out_kib_per_connection", "in_kib_per_connection"]
    rows = (
        [
            f"f{f}",
            f"w-{dice.choice(hosts)}",
            f"d{dice.randrange(destinations)}",
            round(dice.random() / 4, 4),
            round(dice.random() * 60 + 0.1, 3),
            f"p{dice.randrange(40)}",
            dice.randint(1, 100),
            dice.randint(1, 200),
        ]
        for f in range(flows)
    )
    _table(folder / "flows.csv", heading, rows)
    estate |= {"workloads_csv": "workloads.csv", "flows_csv": "flows.csv"}
    (folder / "catalogue.yaml").write_bytes(VELLMOUTH.contents()["ostrel.yaml"])
    path = folder / "estate.yaml"
    path.write_text(yaml.dump(estate, Dumper=yaml.CSafeDumper, sort_keys=False))
    return path
