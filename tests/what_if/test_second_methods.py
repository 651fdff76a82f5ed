"""The second methods: they agree on what is right, and say so where a result is changed under them.

`make test-long` tries every way to give out ports with every load, not a third of them, and more random ones.
"""

import random
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any

from fenrask.estate import read_estate
from fenrask.evaluation import Evaluation, evaluate
from fenrask.what_if.second_methods import Audited, audit
from fenrask.what_if.second_methods.ports import audited_by_drawing
from tests.support import LONG, InFolder, many

CAPPED = many(5)
EVERY = LONG > 1
DEMO = Path(__file__).resolve().parents[2] / "src" / "fenrask" / "demo"


def looked_at(evaluation: Evaluation) -> list[Audited]:
    return [one for one in audit(evaluation) if isinstance(one, Audited)]


class Audits(InFolder):
    def test_the_samples_agree(self) -> None:
        for name in ("vellmouth", "beginning"):
            found = looked_at(evaluate(read_estate(DEMO / name / "estate.yaml")))
            self.assertFalse([one for one in found if not one.agrees])
            wanted = {"sum of path shares", "new connections/s", "monthly charge"}
            wanted |= (
                {"no free port at the peak", "addresses needed", "the choice: monthly bill"}
                if name == "vellmouth"
                else set()
            )
            self.assertLessEqual(wanted, {one.what for one in found})

    def test_a_wrong_result_is_found(self) -> None:
        evaluation = evaluate(self.estate())
        bill = evaluation.bill
        line = replace(bill.lines[0], quantity=bill.lines[0].quantity + Fraction(1))
        evaluation.__dict__["bill"] = replace(bill, lines=(line, *bill.lines[1:]))
        by_exit = evaluation.bill.by_exit
        by_exit.parts[0] += by_exit.denominator
        self.assertIn("by exits", [one.about for one in looked_at(evaluation) if not one.agrees])
        evaluation = evaluate(self.estate())
        sized = evaluation.capacity
        evaluation.__dict__["capacity"] = replace(
            sized, exits=tuple(replace(one, needed=9, needed_now=9) for one in sized.exits)
        )
        self.assertIn("addresses needed", [one.what for one in looked_at(evaluation) if not one.agrees])

    def test_the_command(self) -> None:
        self.estate()
        found = self.json("check", "--audit")
        self.assertIn("all agree", found["summary"][0])
        self.assertTrue(all(one["agrees"] for one in found["results"]))

    def test_every_way_to_give_out_ports_by_drawing_it(self) -> None:
        """Hosts, hashes, nodes and blocks drawn one by one, with always-open and capped load among them."""
        ways: dict[str, dict[str, Any]] = {
            "any free": {"assignment": "shared-per-destination", "per_address": 300},
            "once": {"assignment": "shared-once", "per_address": 300},
            "by host": {"assignment": "shared-once", "per_address": 150, "address_choice": "by-host"},
            "searched": {"assignment": "shared-once", "per_address": 300, "search_tries": 2},
            "nodes": {"assignment": "node-share", "per_address": 300, "nodes": 3, "spread": "connection"},
            "hosts on nodes": {"assignment": "node-share", "per_address": 300, "nodes": 3, "spread": "host"},
            "blocks": {"assignment": "host-block", "per_address": 300, "block": 15},
            "growing": {"assignment": "growing-block", "per_address": 320, "block": 5, "max_block": 20},
        }
        loads: dict[str, dict[str, Any]] = {
            "moving": {"per_host_per_s": 1.4, "duration_s": 5},
            "too much": {"per_host_per_s": 2.2, "duration_s": 5},
            "capped": {"per_host_per_s": 3, "duration_s": 5, "max_per_host": 11},
            "always open": {"per_host_per_s": 0.9, "duration_s": 5},
            "capped, some always open": {"per_host_per_s": 1.6, "duration_s": 5, "max_per_host": 9},
            "capped, kept on": {"per_host_per_s": 1.2, "duration_s": 3, "max_per_host": 6},
        }
        open_all_day = {"stay": {"from": "work", "to": "partner", "persistent_per_host": 3}}
        drawn, left_out = 0, set[tuple[str, str]]()
        pairs = [(way, load) for way in ways for load in loads]
        for place, (way, load) in enumerate(pairs):
            ports, stated = ways[way], loads[load]
            # Every way and every load, each with a sixth of the others. What is left out, and why, shows with a limited
            # search.
            if EVERY or (place + place // len(loads)) % (2 if way == "searched" else 6) == 0:
                with self.subTest(way=way, load=load):
                    flows = {"talk": stated, **(open_all_day if "always open" in load else {})}
                    patch = {"flows": flows, "workloads": {"work": {"hosts": 40}}, "exits": {"gate": {"addresses": 1}}}
                    kept_on = {"closed": 2, "reset": 2, "idle": 300, "udp_idle": 30} if "kept on" in load else None
                    offer = {"ports": ports, "mapping_timeout_s": kept_on}
                    described = self.estate(patch, {"offers": {"gate": offer, "host": None}})
                    looked_at = [*audited_by_drawing(evaluate(described))]
                    found = [one for one in looked_at if isinstance(one, Audited)]
                    self.assertEqual([one for one in found if not one.agrees], [])
                    drawn += bool(found)
                    left_out |= {(way, one.why) for one in looked_at if not isinstance(one, Audited)}
        self.assertGreater(drawn, 25 if EVERY else 5)
        self.assertEqual({way for way, _ in left_out}, {"searched"}, left_out)

    def test_random_capped_loads_by_drawing_them(self) -> None:
        """Hosts, caps, durations, timers and ways to give out ports by dice; near the point where ports run out."""
        drawn = 0
        for seed in range(CAPPED):
            dice = random.Random(seed)
            hosts, cap, duration = dice.choice([12, 40]), dice.choice([1, 2, 4, 8, 15]), dice.choice([1, 3, 8])
            load, kept = cap * dice.choice([0.4, 0.8, 1.3, 2.5]), dice.choice([0, 0, 1, 6])
            wanted = hosts * min(load, cap) * (1 + kept / duration) * dice.choice([0.8, 1.0, 1.15, 1.35])
            wider = 3 * max(2, int(wanted / 2.5))
            block, small = max(1, int(wanted / hosts)), max(1, int(wanted / hosts / 4))
            ways: list[dict[str, Any]] = [
                {"assignment": "shared-per-destination", "per_address": max(2, int(wanted))},
                {"assignment": "shared-once", "per_address": max(2, int(wanted / 2)), "address_choice": "by-host"},
                {"assignment": "node-share", "per_address": 3 * max(2, int(wanted / 3)), "nodes": 3},
                {"assignment": "node-share", "per_address": wider, "nodes": 3, "spread": "host"},
                {"assignment": "host-block", "per_address": 64_000, "block": block},
                {"assignment": "growing-block", "per_address": 64_000, "block": small, "max_block": 4 * small},
            ]  # fmt: skip
            ports = dice.choice(ways)
            timers = {"closed": kept, "reset": kept, "idle": 300, "udp_idle": 30} if kept else None
            flow = {"per_host_per_s": round(load / duration, 3), "duration_s": duration, "max_per_host": cap}
            addresses = 2 if "address_choice" in ports else 1
            patch = {
                "flows": {"talk": flow},
                "workloads": {"work": {"hosts": hosts}},
                "exits": {"gate": {"addresses": addresses}},
            }
            with self.subTest(seed=seed, ports=ports, flow=flow, kept=kept):
                described = self.estate(
                    patch, {"offers": {"gate": {"ports": ports, "mapping_timeout_s": timers}, "host": None}}
                )
                found = [one for one in audited_by_drawing(evaluate(described)) if isinstance(one, Audited)]
                self.assertEqual([one for one in found if not one.agrees], [])
                drawn += bool(found)
        self.assertGreater(drawn, CAPPED // 2)

    def test_what_is_not_looked_at_is_told(self) -> None:
        many = {"offers": {"gate": {"ports": {"per_address": 60_000}}}}
        self.estate({"exits": {"gate": {"addresses": 80}}}, many)
        found = self.json("check", "--audit")
        self.assertIn("no free port at the peak", [one["what"] for one in found["not_looked_at"]])
        self.assertIn("not looked at", found["summary"][1])
