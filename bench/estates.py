"""Large made-up estates."""

import csv
import random
from collections.abc import Iterable
from pathlib import Path

import yaml

from fenrask.demo import BEGINNING

__all__ = ["write_large"]


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
