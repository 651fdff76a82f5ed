"""Ports running out now, by a connection table; and whose connection used an address and port."""

import json
import os
import subprocess
from typing import Any

from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.records.batch import Unread
from fenrask.records.filling import Filled, Filling
from fenrask.records.readers import read_entries
from fenrask.views.pages.relieve import filling_line
from tests.support import PROGRAM, InFolder


def line(
    host: int, port: int, left: int, state: str, target: str = "198.51.100.7", outside: str = "203.0.113.1"
) -> str:
    return (
        f"tcp      6 {left} {state} src=10.0.1.{host} dst={target} sport={port} dport=443 "
        f"src={target} dst={outside} sport=443 dport={port} [ASSURED] mark=0 use=1\n"
    )


class Relief(InFolder):
    def table(self) -> str:
        rows = [line(1 + n % 5, 1024 + n, 55, "TIME_WAIT") for n in range(600)]
        rows += [line(1 + n % 5, 2000 + n, 290, "ESTABLISHED") for n in range(200)]
        rows += [line(1 + n % 5, 3000 + n, 100, "ESTABLISHED") for n in range(100)]
        rows += [line(7, 5000 + n, 290, "ESTABLISHED", target="192.0.2.5") for n in range(50)]
        return "".join(rows)

    def test_who_takes_the_ports_and_in_what_state(self) -> None:
        self.estate()
        self.write("table.txt", self.table() + "rubbish\n" + line(1, 9, 290, "ESTABLISHED", outside="203.0.113.99"))
        found = self.json("relieve", "table.txt", "--exit", "gate", status=1)
        # The gate forgets an idle connection after 300 s: with 100 s left it has been silent for 200.
        first = found["taken"][0]
        self.assertEqual(
            [first[key] for key in ("subnet", "destination", "ports", "live", "idle", "waiting")],
            ["app", "partner", 900, 200, 100, 600],
        )
        # Toward the busiest address 900 of the 1,000 ports; those toward another are apart.
        self.assertEqual((found["in_use"], found["ports"], found["busiest"]), (900, 1000, "198.51.100.7:443/tcp"))
        self.assertEqual(found["not_counted"], ["no entry of connection tracking: 1 (first: table.txt, line 951)"])

    def test_remedies_come_by_minutes_with_what_they_cost(self) -> None:
        bounds = {"offers": {"gate": {"mapping_timeout_s": {"closed": {"min": 15, "max": 120, "default": 60}}}}}
        split = {"subnets": {"more": {"network": "net", "zone": "a", "prefix": "10.0.2.0/24", "routes": "private"}}}
        self.estate({"destinations": {"store": {"port": 443}}, **split}, bounds)
        self.write("table.txt", self.table() + line(1, 1, 290, "ESTABLISHED").replace("10.0.1.", "10.0.2."))
        found = self.json("relieve", "table.txt", "--exit", "gate", status=1)
        rows: list[dict[str, Any]] = found["remedies"]
        self.assertEqual([row["minutes"] for row in rows], sorted(row["minutes"] for row in rows))
        by_word = {row["what"].split(" ")[0]: row for row in rows}
        # A quarter of the time frees three quarters of what waits.
        self.assertEqual((by_word["shorten"]["ports"], by_word["shorten"]["month_amount"]), (450, 0))
        self.assertEqual(by_word["keep"]["ports"], 540)
        # One address more carries 900 at four fifths: 730 hours of it, by the same bill.
        self.assertEqual(by_word["add"]["ports"], 1000)
        self.assertAlmostEqual(by_word["add"]["month_amount"], 730 * 0.005, places=6)
        # What is routed privately leaves the gate: the service's 50 ports.
        self.assertEqual(by_word["route"]["ports"], 50)
        self.assertAlmostEqual(by_word["split"]["month_amount"], 730 * (0.1 + 0.005), places=6)

    def test_a_host_that_has_filled_its_block(self) -> None:
        """64 ports of its own, all taken: more addresses are more blocks, for hosts that have none."""
        ports = {"assignment": "host-block", "per_address": 64_000, "block": 64}
        few = {"flows": {"talk": {"per_host_per_s": 0.1}}}
        self.estate(few, {"offers": {"gate": {"ports": ports}}})
        self.write("table.txt", "".join(line(3, 1024 + n, 290, "ESTABLISHED") for n in range(64)))
        found = self.json("relieve", "table.txt", "--exit", "gate", status=1)
        self.assertEqual((found["in_use"], found["ports"], found["busiest"]), (64, 64, "10.0.1.3/tcp"))
        self.assertNotIn("add", {row["what"].split(" ")[0] for row in found["remedies"]})
        said = self.program("relieve", "table.txt", "--exit", "gate").stdout
        self.assertIn("64 of 64 ports in use by 10.0.1.3/tcp, of its own block (100.0%)", said)

    def test_no_timeout_is_shortened_below_what_flows_keep_quiet(self) -> None:
        bounds = {"offers": {"gate": {"mapping_timeout_s": {"idle": {"min": 30, "max": 900, "default": 300}}}}}
        for quiet, seconds in ((None, 30), (100, 101), (299, 0)):
            with self.subTest(quiet=quiet):
                self.estate({"flows": {"talk": {"keepalive_s": quiet} if quiet else {}}}, bounds)
                self.write("table.txt", self.table())
                found = self.json("relieve", "table.txt", "--exit", "gate", status=1)
                told = [row["what"] for row in found["remedies"] if "idle" in row["what"]]
                self.assertEqual(told, [f"shorten the idle timeout to {seconds} s"] if seconds else [])

    def test_what_is_no_table(self) -> None:
        self.estate()
        self.write("table.txt", "a,b\n1,2\n")
        for words in (("table.txt", "--exit", "gate"), ("none.txt", "--exit", "gate"), ("table.txt", "--exit", "door")):
            self.assertEqual(self.program("relieve", *words).returncode, 2)


class Followed(InFolder):
    """An outage that is running, by tables and streams whose truth is known."""

    def looks(self, *ports: int) -> list[Filled]:
        """What each table says, two seconds apart, with so many entries toward one address."""
        self.estate()
        described = read_estate(self.folder / "estate.yaml")
        filling, found = Filling(evaluate(described), "gate"), []
        for number, each in enumerate(ports):
            self.write("table.txt", "".join(line(1 + n % 5, 1024 + n, 290, "ESTABLISHED") for n in range(each)))
            entries = list(read_entries(str(self.folder / "table.txt"), Unread({})))
            found.append(filling.look(entries, 100.0 + 2 * number))
        return found

    def test_how_fast_ports_fill_and_when_none_is_left(self) -> None:
        """Forty more at each look of two seconds: 20 a second, by hand."""
        found = self.looks(100, 140, 180, 220)
        self.assertIsNone(found[0].per_s)
        self.assertIsNone(found[0].full_in_s)
        for one, ports in zip(found[1:], (140, 180, 220), strict=True):
            self.assertAlmostEqual(one.per_s or 0.0, 20.0)
            self.assertAlmostEqual(one.full_in_s or 0.0, (1000 - ports) / 20)
            self.assertAlmostEqual(one.by_pair["app", "partner"], 20.0)
        self.assertIn("220 of 1,000 ports in use toward 198.51.100.7:443/tcp (22.0%); +20.0 ports/s: full in 39 s",
                      filling_line(found[-1]))  # fmt: skip
        ebbing = self.looks(900, 500)[-1]
        self.assertEqual((ebbing.per_s, ebbing.full_in_s), (-200.0, None))
        self.assertIn("not filling", filling_line(ebbing))
        self.assertEqual(self.looks(900, 1000)[-1].full_in_s, 0.0)

    def test_a_rate_is_of_the_last_minute(self) -> None:
        """An hour of nothing, then twenty a second."""
        found = self.looks(*[100] * 60, *(100 + 40 * n for n in range(1, 9)))
        self.assertLess(found[59].per_s or 0.0, 1e-9)
        self.assertGreater(found[-1].per_s or 0.0, 2.0)

    def test_a_stream_is_a_listing_and_what_begins_and_ends_after_it(self) -> None:
        self.estate()
        listed = [line(1, 1024 + n, 290, "ESTABLISHED") for n in range(300)]
        begun = [f"    [NEW] {line(2, 3000 + n, 120, 'SYN_SENT')}" for n in range(200)]
        ended = [f"[DESTROY] {line(1, 1024 + n, 0, '')}" for n in range(50)]
        words = ["relieve", "-", "--exit", "gate", "--follow", "0.2"]
        done = subprocess.run([str(PROGRAM), *words], cwd=self.folder, input="".join(listed + begun + ended), text=True,
                              capture_output=True, timeout=120, env={**os.environ, "COLUMNS": "100"})  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("gate: 450 of 1,000 ports in use", done.stdout.splitlines()[-1])

    def test_a_file_is_read_again_until_the_time_is_over(self) -> None:
        self.estate()
        self.write("table.txt", "".join(line(1, 1024 + n, 290, "ESTABLISHED") for n in range(900)))
        done = self.program("relieve", "table.txt", "--exit", "gate", "--follow", "0.1", "--for", "0.3")
        self.assertEqual(done.returncode, 1)
        self.assertGreaterEqual(len(done.stdout.splitlines()), 2)
        self.assertIn("not filling", done.stdout.splitlines()[-1])
        self.assertEqual(self.program("relieve", "table.txt", "--exit", "gate", "--for", "3").returncode, 2)


class Used(InFolder):
    def test_whose_connection_had_it_then(self) -> None:
        self.estate()
        ends = "src=198.51.100.7 dst=203.0.113.1 sport=443 dport=40001"
        lines = []
        for begun, ended, host in ((100, 160, 4), (200, 260, 9)):
            inner = f"src=10.0.1.{host} dst=198.51.100.7 sport=5{host} dport=443"
            lines.append((begun, f"[{begun}.0]\t    [NEW] tcp      6 120 SYN_SENT {inner} [UNREPLIED] {ends}"))
            lines.append((ended, f"[{ended}.0]\t[DESTROY] tcp      6 {inner} {ends}"))
        self.write("events.txt", "\n".join(text for _, text in sorted(lines)) + "\n")
        for at, hosts in (("130", ["10.0.1.4"]), ("230", ["10.0.1.9"]), ("180", []), ("", ["10.0.1.4", "10.0.1.9"])):
            more = ("--at", at) if at else ()
            words = ("source", "events.txt", "--used", "203.0.113.1:40001", *more, "--format", "json")
            done = self.program(*words)
            self.assertEqual(done.returncode, int(not hosts), done.stderr)
            found = json.loads(done.stdout)["uses"]
            self.assertEqual([(one["source"], one["subnet"]) for one in found], [(host, "app") for host in hosts])
        for wrong in ("203.0.113.1:70000", "gate", "203.0.113.1:x"):
            self.assertEqual(self.program("source", "events.txt", "--used", wrong).returncode, 2)
        self.assertEqual(self.program("source", "partner", "--at", "5").returncode, 2)
        other = self.json("source", "events.txt", "--used", "203.0.113.1:40002", status=1)
        self.assertEqual(other["uses"], [])
