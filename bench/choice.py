"""The cheapest mix for estates of many flows: time to prove it, beside what the relaxation says."""

import json
import random
import tempfile
from collections.abc import Iterator
from pathlib import Path
from time import perf_counter

from fenrask.estate import read_estate
from fenrask.optimise import Wanted, choose

_FLOWS = (1_000, 10_000, 100_000)
_BUSY = 10_000
"""Flows above which each opens less, so that the offers carry them all."""


def measure() -> Iterator[str]:
    """Five networks of three zones, forty destinations, gateways, walls and endpoints; three-step tiers."""
    for flows in _FLOWS:
        with tempfile.TemporaryDirectory() as folder:
            described = read_estate(_written(Path(folder), flows))
        began = perf_counter()
        choice = choose(described, Wanted(explain=False))
        took = perf_counter() - began
        yield (
            f"{flows} flows: {choice.mix.month:,.2f} a month, gap {choice.gap:.1e}, programme {choice.seconds:.1f} s, "
            f"with its judgement and runners-up {took:.1f} s; meets all: {choice.evaluation.meets_all}"
        )


def _written(folder: Path, flows: int) -> Path:
    dice = random.Random(3)
    networks = {f"n{i}": {"prefixes": [f"10.{i}.0.0/16"]} for i in range(5)}
    subnets = {
        f"s{i}{z}": {"network": f"n{i}", "zone": z, "prefix": f"10.{i}.{'abc'.index(z)}.0/24", "routes": f"t{i}"}
        for i in range(5)
        for z in "abc"
    }
    exits = {f"door-{i}": {"kind": "direct-internet", "network": f"n{i}"} for i in range(5)}
    destinations = {
        f"d{d}": {
            "prefixes": [f"198.18.{d}.0/25"],
            "port": 443,
            "service": d % 5 == 0,
            "needs": {
                "fixed_source": True,
                **({"inspected": True} if d % 7 == 3 else {}),
                **({"max_source_addresses": 24} if d % 6 == 1 else {}),
            },
        }
        for d in range(40)
    }
    workloads = {
        f"w{i}{number}": {
            "subnets": [f"s{i}{z}" for z in "abc"[: 1 + number % 3]],
            "hosts": dice.randint(2, 40),
            **({"needs": {"survives": "zone-loss"}} if number % 2 else {}),
        }
        for i in range(5)
        for number in range(6)
    }
    names = [*workloads]
    estate = {
        "estate": "Choice",
        "catalogue": "catalogue.yaml",
        "networks": networks,
        "subnets": subnets,
        "route_tables": {f"t{i}": {} for i in range(5)},
        "exits": exits,
        "destinations": destinations,
        "workloads": workloads,
        "flows": {
            f"f{f}": {
                "from": dice.choice(names),
                "to": f"d{dice.randrange(40)}",
                "per_host_per_s": round(dice.uniform(0.1, 3) * min(1, _BUSY / flows), 4),
                "profile": "day",
                "out_kib_per_connection": dice.randint(1, 200),
                "in_kib_per_connection": dice.randint(1, 50),
            }
            for f in range(flows)
        },
        "profiles": {"day": [1.0] * 8 + [2.0] * 10 + [1.0] * 6},
    }
    steps = {
        "sum_over": "estate",
        "tiers": [{"up_to_gb": 5000, "rate": 0.03}, {"up_to_gb": 50000, "rate": 0.02}, {"rate": 0.01}],
    }
    ports = {"assignment": "shared-per-destination", "per_address": 60000}
    translating = {"ports": ports, "mapping_timeout_s": {"closed": 60}, "limits": {"addresses": 8}}
    catalogue = {
        "catalogue": "Choice",
        "currency": "EUR",
        "read_on": "2026-09-01",
        "offers": {
            "gate": {"kind": "translation-gateway", **translating, "rates": {"hour": 0.06, "processed_per_gb": steps}},
            "wall": {"kind": "inspecting-firewall", **translating, "rates": {"hour": 0.9, "processed_per_gb": 0.012}},
            "door": {"kind": "routed-endpoint", "scope": "region", "services": [f"d{d}" for d in range(0, 20, 5)]},
            "inner": {"kind": "in-subnet-endpoint", "rates": {"hour": 0.012, "processed_per_gb": 0.008}},
        },
        "addresses": {"hour": 0.007, "blocks": [29, 30, 31]},
        "transfer": {"internet_out_per_gb": 0.05, "cross_zone_per_gb": 0.006},
    }  # fmt: skip
    (folder / "catalogue.yaml").write_text(json.dumps(catalogue))
    path = folder / "estate.yaml"
    path.write_text(json.dumps(estate))
    return path
