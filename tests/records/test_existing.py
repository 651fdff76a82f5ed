"""A draft estate from what exists: the sample's own handover, inventory, records and bill give the sample back."""

import csv
import io
import random
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from fenrask.charges import UPKEEP
from fenrask.demo.samples import VELLMOUTH
from fenrask.estate import read_estate
from fenrask.evaluation import Evaluation, evaluate
from fenrask.views.handover import Handover
from tests.support import InFolder

DAY = 1_795_046_400
HEAD = "start,end,source,target,source_port,target_port,protocol,bytes_out,bytes_in,flags\n"


def records_of(evaluation: Evaluation, per_flow: int = 400) -> str:
    """A day of connections of every flow outward, from every host that it has, to several addresses."""
    estate, dice, rows = evaluation.described.estate, random.Random(7), list[tuple[Any, ...]]()
    for flow in estate.outward_flows.values():
        workload, to = estate.workloads[flow.from_], estate.destinations[flow.to]
        every = [address for prefix in to.prefixes for address in list(prefix)[:3]]
        for number in range(per_flow):
            subnet = estate.subnets[workload.subnets[number % len(workload.subnets)]]
            host = subnet.prefix[10 + number % workload.hosts]
            start, lasts = DAY + dice.random() * 86_000, dice.expovariate(1 / 5)
            port, volume = to.port or 443, dice.randrange(10**9)
            ends = (str(host), str(every[number % len(every)]), 20_000 + number, port, to.protocol)
            rows.append((round(start, 3), round(start + lasts, 3), *ends, volume, volume // 7, 27))
    rows.sort()
    return HEAD + "".join(",".join(map(str, row)) + "\n" for row in rows)


def bill_of(evaluation: Evaluation) -> str:
    """The month's bill by the open billing specification: every line of the provider's, to the cent."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(("BillingPeriodStart", "BillingCurrency", "BilledCost", "ResourceName", "ChargeDescription",
                   "PricingQuantity", "PricingUnit"))  # fmt: skip
    for line in evaluation.bill.lines:
        if line.item != UPKEEP:
            about = f"{line.item}: {line.about}" if "crossing" in line.item else line.item
            cost, quantity = float(round(line.amount, 2)), float(line.quantity)
            rows.writerow(("2026-10-01T00:00:00Z", "EUR", cost, line.about, about, quantity, line.unit))
    return out.getvalue()


def paths_of(evaluation: Evaluation) -> dict[tuple[str, str], set[Any]]:
    """By subnet and destination: the exits on the way, the verdict, and what the far end sees, in any order."""
    flows = evaluation.described.estate.outward_flows
    found: dict[tuple[str, str], set[Any]] = {}
    for name, several in evaluation.paths.by_flow.items():
        for path in several if name in flows else ():
            told = (path.trace.exits, path.trace.verdict, path.trace.source.exit, path.share)
            found.setdefault((path.subnet, flows[name].to), set()).add(told)
    return found


def lines_of(evaluation: Evaluation) -> Iterator[tuple[tuple[str, str, float], float]]:
    for line in evaluation.bill.lines:
        if line.item != UPKEEP:
            yield (line.item, line.about, float(line.rate)), float(line.amount)


class Again(InFolder):
    def setUp(self) -> None:
        super().setUp()
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)
        stated = read_estate(self.folder / "estate.yaml")
        (self.folder / "records.csv").write_text(records_of(evaluate(stated)))
        self.json("measure", "estate.yaml", "records.csv", "--save", "loads.json", status=None)
        outward = stated.estate.outward_flows
        flows = {name: {"from": one.from_, "to": one.to, "measured": "loads.json"} for name, one in outward.items()}
        without = self.write("without.json", {"flows": dict.fromkeys(stated.estate.flows), "stress": None})
        patches = [without, self.write("measured.json", {"flows": flows})]
        self.truth = evaluate(read_estate(self.folder / "estate.yaml", patches))
        for one in Handover(self.truth).files:
            file = self.folder / "handover" / one.name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(one.content)
        (self.folder / "bill-of-october.csv").write_text(bill_of(self.truth))

    def files(self) -> list[str]:
        tables = ("networks", "subnets", "exits", "destinations", "workloads")
        own = [f"handover/sheet/{name}.csv" for name in tables]
        models = [
            f"handover/{name}"
            for name in ("routes.yang.json", "nat.yang.json", "topology.yang.json", "filters.yang.json")
        ]
        return [*own, *models, "records.csv", "bill-of-october.csv"]

    def draft(self, *files: str) -> Evaluation:
        ran = self.program("start", "mine", "--from", *files, "--force")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        return evaluate(read_estate(Path(self.folder) / "mine" / "estate.yaml"))

    def demand(self, *words: str) -> list[tuple[str, list[float]]]:
        found = self.json("demand", *words, status=None)["exits"]
        return sorted((one["exit"], one["concurrent_by_quarter_hour_connections"]) for one in found)

    def test_what_is_handed_over_comes_back(self) -> None:
        drafted = self.draft(*self.files())
        self.assertEqual(paths_of(drafted), paths_of(self.truth))
        truth = self.demand("estate.yaml", "--patch", "without.json", "--patch", "measured.json")
        for (name, curve), (other, known) in zip(self.demand("mine/estate.yaml"), truth, strict=True):
            self.assertEqual(name, other)
            for at, (now, then) in enumerate(zip(curve, known, strict=True)):
                self.assertAlmostEqual(now, then, delta=0.02 * max(known), msg=f"{name}, quarter {at}")
        mine, theirs = dict(lines_of(drafted)), dict(lines_of(self.truth))
        self.assertEqual({*mine}, {*theirs})
        for key, amount in theirs.items():
            self.assertAlmostEqual(mine[key], amount, delta=0.01, msg=str((key, mine, theirs)))
