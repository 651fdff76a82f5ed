"""The kernel as a judge of the routing model: random estates, a plan that is wrong, and nothing left behind.

`make test-long` tries many more of them.
"""

import os
import subprocess
import sys
import time
import unittest
from pathlib import Path
from typing import Any
from unittest.mock import patch

from fenrask.demo.samples import VELLMOUTH
from fenrask.rehearsal import missing, rehearse
from fenrask.rehearsal.kernel import PREFIX, leftovers
from fenrask.rehearsal.sending import Ends
from tests.rehearsal.asking import asking
from tests.routing.test_every_packet import described, estate
from tests.support import InFolder, many, merged

MANY = many(10)
WHY = missing()
SPLIT: dict[str, Any] = {
    "subnets": {"walls": {"network": "net", "zone": "a", "prefix": "10.0.8.0/28", "routes": "walls"}},
    "route_tables": {
        "private": {"0.0.0.0/0": "wall"},
        "walls": {"0.0.0.0/0": "gate"},
        "public": {"0.0.0.0/0": "door", "10.0.1.0/24": "wall"},
    },
    "exits": {
        "wall": {
            "kind": "inspecting-firewall",
            "offer": "wall",
            "subnet": "walls",
            "rewrites_toward": [],
            "rules": {"out": {"action": "allow", "destinations": ["partner"]}},
        }
    },
    "flows": {"talk": {"to": "partner"}},
}
"""The hosts' traffic through a firewall that inspects only: its replies must come back through it."""


def namespaces() -> list[str]:
    listed = subprocess.run(["ip", "netns", "list"], capture_output=True, text=True, check=True).stdout
    return [line.split()[0] for line in listed.splitlines() if line.startswith(PREFIX)]


@unittest.skipIf(WHY, f"the kernel cannot be asked here: {WHY}")
class TheKernelAsAJudge(InFolder):
    def test_random_estates_do_what_is_planned(self) -> None:
        seen: dict[tuple[bool, str], int] = {}
        for seed in range(MANY):
            # Every third has hosts on whose behalf others connect.
            found = rehearse(asking(seed) if seed % 3 == 1 else described(estate(seed), seed))
            with self.subTest(seed=seed):
                self.assertEqual([(one.own.sender, one.own.to, one.differs) for one in found.differing], [])
            for one in found.rows:
                key = one.own.is_inward, one.own.planned[0].verdict.value if one.observed else "not tried"
                seen[key] = seen.get(key, 0) + 1
        # What is compared must be there to compare: both ways, what arrives and what is lost in many ways.
        self.assertGreater(seen[False, "arrives"], 2 * MANY)
        self.assertGreater(seen[True, "arrives"], MANY // 2)
        self.assertGreater(len(seen), 12, seen)

    def test_a_plan_that_is_wrong_is_found(self) -> None:
        rule = {"action": "deny", "prefixes": ["198.51.100.0/25"], "order": -1}
        straight = {"private": {"0.0.0.0/0": "gate"}, "public": {"10.0.1.0/24": None}}
        cases: tuple[tuple[str, dict[str, Any], str], ...] = (
            ("a route", {"route_tables": {"walls": {"0.0.0.0/0": "gone"}}}, "it does not arrive"),
            ("another exit", {"route_tables": straight}, "by door, gate"),
            ("a rule", {"exits": {"wall": {"rules": {"no": rule}}}}, "it does not arrive"),
            ("an address", {"exits": {"gate": {"addresses": ["203.0.113.77"]}}}, "as 203.0.113.77"),
            ("the way back", {"route_tables": {"public": {"10.0.1.0/24": "gone"}}}, "its answer was lost"),
            ("a filter", {"subnets": {"edge": {"filters": {"f": {"out_default": "deny"}}}}}, "it does not arrive"),
        )
        planned = self.estate(SPLIT)
        self.assertEqual(rehearse(planned).differing, [])
        for name, change, expected in cases:
            with self.subTest(name):
                found = rehearse(planned, planned.patched(change, "change"))
                self.assertTrue(found.differing)
                self.assertIn(expected, " ".join(one.differs for one in found.differing))

    def test_the_sample_is_as_planned_and_as_the_guide_says(self) -> None:
        for name, content in VELLMOUTH.contents().items():
            (self.folder / name).write_bytes(content)
        found = self.json("rehearse")
        self.assertEqual((found["as_planned"], found["different"], found["not_tried"]), (found["classes"], 0, 0))
        guide = (Path(__file__).parents[2] / "docs" / "guide.md").read_text(encoding="utf-8")
        for key, words in (("classes", "classes of packets"), ("connections", "connections opened")):
            self.assertIn(f"\n{found[key]} {words}", guide)

    def test_what_cannot_be_tried_is_said(self) -> None:
        # Its only address is the endpoint's.
        inner = {"kind": "in-subnet-endpoint", "offer": "inner", "destination": "store", "subnets": ["app"]}
        only = {"exits": {"inner": inner}, "destinations": {"partner": {"prefixes": ["10.0.1.1/32"]}}}
        found = rehearse(self.estate(only))
        self.assertEqual([one.verdict for one in found.rows], ["not tried"])
        self.assertTrue(all(one.own.not_tried for one in found.rows))

    def test_datagrams_are_sent_too_and_their_answers_may_differ_within_a_limit(self) -> None:
        udp = {"destinations": {"partner": {"protocol": "udp", "port": 123}}}
        self.assertEqual(rehearse(self.estate(merged(SPLIT, udp))).differing, [])
        # Replies go past the firewall: a connection dies of it, a datagram's answer does not.
        past = merged(SPLIT, {"route_tables": {"public": {"10.0.1.0/24": None}}})
        [found] = rehearse(self.estate(merged(past, udp))).rows
        self.assertEqual((found.verdict, found.own.planned[0].verdict.value), ("limit", "asymmetric return"))
        self.assertEqual([one.verdict for one in rehearse(self.estate(past)).rows], ["agrees"])

    def test_nothing_is_left_whatever_happens(self) -> None:
        dead = f"{PREFIX}-4194305-0"
        subprocess.run(["ip", "netns", "add", dead], check=True)
        self.assertIn(dead, leftovers())
        planned = self.estate()
        for error in (KeyboardInterrupt, OSError):
            with patch.object(Ends, "send", side_effect=error), self.assertRaises(error):
                rehearse(planned)
            self.assertEqual(namespaces(), [])

    def test_a_run_that_was_killed_is_tidied_up_by_the_next(self) -> None:
        self.estate()
        script = "import os, subprocess, sys, time; from fenrask.rehearsal.kernel import PREFIX\n"
        script += (
            "subprocess.run(['ip', 'netns', 'add', f'{PREFIX}-{os.getpid()}-0']); print(os.getpid(), flush=True)\n"
        )
        script += "time.sleep(60)"
        running = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True)
        self.addCleanup(running.communicate)
        self.addCleanup(running.kill)
        assert running.stdout is not None
        name = f"{PREFIX}-{running.stdout.readline().strip()}-0"
        # One that still runs is let alone; one that has ended is not, though nobody has asked yet how it did.
        self.assertNotIn(name, leftovers())
        running.kill()
        for _ in range(100):
            if name in leftovers():
                break
            time.sleep(0.05)
        self.assertIn(name, leftovers())
        self.assertEqual(self.program("rehearse").returncode, 0)
        self.assertEqual(namespaces(), [])

    def test_as_a_command(self) -> None:
        self.estate({"destinations": {"partner": {"needs": {"fixed_source": True}}}})
        told = self.json("rehearse")
        self.assertEqual((told["classes"], told["as_planned"], told["different"]), (1, 1, 0))
        (self.folder / "before.yaml").write_text((self.folder / "estate.yaml").read_text())
        (self.folder / "more.json").write_text('{"exits": {"gate": {"addresses": ["203.0.113.1", "203.0.113.2"]}}}')
        steps = self.json("rehearse", "--patch", "more.json", "--base", "before.yaml")["steps"]
        # The partner is told, and has opened, before: the change itself is the third line of the plan.
        self.assertEqual([(one["step"], one["different"]) for one in steps], [(0, 0), (3, 0)])
        plan = self.json("handover", "--patch", "more.json", "--base", "before.yaml")["steps"]
        self.assertEqual(steps[1]["what"], plan[2]["what"])
        done = self.program("rehearse", "--patch", "more.json", "--base", "before.yaml", "--step", "7")
        self.assertEqual(done.returncode, 2)
        self.assertIn("a step of the change: 0, 3", done.stderr)


class WithoutAKernel(InFolder):
    def test_what_is_missing_is_said(self) -> None:
        self.estate()
        with patch.dict(os.environ, {"PATH": str(Path(self.folder))}):
            done = self.program("rehearse")
        self.assertEqual(done.returncode, 2)
        self.assertIn("no ip and no nft", done.stderr)
        self.assertEqual(self.program("rehearse", "--step", "1").returncode, 2)
        for what, value, words in (
            ("os.geteuid", 1000, "no root"),
            ("platform.system", "Elsewhere", "Elsewhere, which has no"),
        ):
            if what == "os.geteuid" and WHY:
                continue
            with self.subTest(what), patch(what, return_value=value):
                done = self.program("rehearse")
                self.assertEqual(done.returncode, 2)
                self.assertIn(words, done.stderr)
