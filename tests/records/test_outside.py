"""Attempts from outside against the plan: who must get in, who must not, and as whom they are seen."""

import csv
import io
from typing import Any

from fenrask.estate import Described
from fenrask.records.confirming import confirm
from fenrask.records.observations import read_observations
from tests.support import InFolder, merged

ESTATE: dict[str, Any] = {
    "exits": {
        "gate": {"addresses": ["203.0.113.1"]},
        "front": {
            "kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": ["203.0.113.7"],
            "publishes": {"web": {"port": 443, "to": "work", "to_port": 8443, "rewrites_source": True}},
        },
        "line": {
            "kind": "circuit", "network": "net", "third_party": "the pilots", "received": ["172.20.0.0/16"],
            "advertised": ["10.0.1.0/24"],
        },
    },
    "workloads": {"work": {"filters": {"own": {
        "out": {"any": {"action": "allow"}},
        "in": {
            "web": {"action": "allow", "ports": [8443]},
            "half": {"action": "allow", "ports": [22], "sources": ["172.20.0.0/17"]},
        },
    }}}},
    "route_tables": {"private": {"172.20.0.0/16": "line"}},
    "flows": {
        "visit": {"from": "internet", "to": "work", "port": 8443, "per_host_per_s": 1},
        "tend": {"from": "the pilots", "to": "work", "port": 22, "per_host_per_s": 0.1},
    },
    "destinations": {"store": {"public_access": "listed", "allowed": ["198.18.7.0/24"]}},
}  # fmt: skip


class Outside(InFolder):
    def verdict(self, described: Described, row: str) -> str:
        problems: list[Any] = []
        seen = read_observations(f"from,destination,port,seen_as\n{row}\n", "seen", "", problems)
        self.assertEqual(problems, [])
        return next(one.verdict for one in confirm(described, seen, only_seen=True))

    def test_each(self) -> None:
        described = self.estate(ESTATE)
        for row, verdict in (
            # Published: seen as the host that forwards it, whose subnet is 10.0.9.0/28; by whatever its name is.
            ("internet,203.0.113.7,443,{inner}", "as planned"),
            ("-,work,8443,{inner}", "as planned"),
            ("198.18.5.5,203.0.113.7,443,198.18.5.5", "another source"),
            ("internet,203.0.113.7,443,-", "no answer"),
            ("internet,203.0.113.7,8080,-", "as planned: it must not arrive"),
            ("internet,203.0.113.7,8080,198.18.5.5", "it arrived, and should not"),
            ("internet,203.0.113.1,443,-", "as planned: it must not arrive (gate forwards nothing to hosts)"),
            # A rule that covers half of who comes over the line, on both sides of the edge.
            ("172.20.5.5,work,22,172.20.5.5", "as planned"),
            ("172.20.200.5,work,22,-", "as planned: it must not arrive (denied"),
            ("172.20.200.5,work,22,172.20.200.5", "it arrived, and should not"),
            ("the pilots,10.0.1.9,23,-", "as planned: it must not arrive (denied"),
            ("the pilots,10.0.1.9,8443,-", "as planned: it could arrive, and nothing needs it"),
            ("internet,work,22,-", "as planned: it must not arrive"),
            # A service that takes what its list has.
            ("198.18.7.9,store,443,198.18.7.9", "as planned"),
            ("internet,store,443,-", "as planned: it must not arrive (store takes what its list allows)"),
            ("198.18.8.9,store,443,198.18.8.9", "it arrived, and should not"),
        ):
            inner = described.estate.subnets["edge"].prefix[5]
            with self.subTest(row=row):
                self.assertIn(verdict, self.verdict(described, row.format(inner=inner)))

    def test_the_template_has_each_class_and_its_planned_answers_are_as_planned(self) -> None:
        halves = {"web": {"action": "deny", "prefixes": ["198.51.100.0/25"]}, "rest": {"action": "allow"}}
        self.estate(
            merged(ESTATE, {"subnets": {"app": {"filters": {"guard": {"out": halves, "in_default": "allow"}}}}})
        )
        done = self.program("confirm", "--template")
        rows = list(csv.DictReader(io.StringIO(done.stdout)))
        of_pilots = {(row["from"], row["port"]): row["must"] for row in rows if row["from"].startswith("172.20.")}
        self.assertEqual(of_pilots, {("172.20.0.0", "22"): "must", ("172.20.128.0", "22"): "must not"})
        inside = [(row["destination"], row["must"]) for row in rows if row["from"] == "app"]
        self.assertEqual({must for to, must in inside if to.startswith("198.51.100.")}, {"must", "must not"})
        self.assertIn(("internet", "must not"), {(row["from"], row["must"]) for row in rows})
        # What must not is answered by nothing, and all that is not filled in is left out.
        buffer = io.StringIO()
        writer = csv.DictWriter(buffer, rows[0])
        writer.writeheader()
        writer.writerows({**row, "seen_as": "-" if row["must"] != "must" else ""} for row in rows)
        self.write("seen.csv", buffer.getvalue())
        found = self.json("confirm", "seen.csv", status=None)
        self.assertEqual({one["verdict"].split(":")[0] for one in found["observed"] if one["times"]}, {"as planned"})

    def test_what_only_a_route_of_theirs_lets_in_is_told_as_path_inward_tells_it(self) -> None:
        exits = {**ESTATE["exits"], "line": {**ESTATE["exits"]["line"], "advertised": []}}
        described = self.estate({**ESTATE, "exits": exits})
        [way] = [one for one in self.json("path", "--inward", status=None)["inward"] if one["exit"] == "line"]
        self.assertEqual((way["open"], way["told"]), (True, False))
        self.assertIn("it must not arrive", self.verdict(described, "the pilots,work,22,-"))
        self.assertEqual(self.verdict(described, "the pilots,work,22,172.20.5.5"), "it arrived, by a route not ours")
        alone = {**exits, "line": {**exits["line"], "routes_by": "announcement-only"}}
        described = self.estate({**ESTATE, "exits": alone})
        self.assertEqual(self.verdict(described, "the pilots,work,22,172.20.5.5"), "it arrived, and should not")

    def test_toward_an_endpoint(self) -> None:
        inner = {"kind": "in-subnet-endpoint", "offer": "inner", "destination": "store", "subnets": ["app"]}
        listed = {"access": "listed", "allowed_from": ["work"]}
        only = {"filters": {"own": {"in": {"near": {"action": "allow", "sources": ["10.0.0.0/16"]}}}}}
        for more, row, words in (
            ({}, "internet,inner,443,-", "as planned: it must not arrive (inner has a private address alone)"),
            ({}, "the pilots,inner,443,172.20.5.5", "as planned"),
            ({}, "the pilots,inner,443,-", "as planned: it could arrive, and nothing needs it"),
            (listed, "the pilots,inner,443,-", "as planned: it must not arrive (the policy of inner"),
            (listed, "172.20.5.5,inner,443,172.20.5.5", "it arrived, and should not"),
            (
                only,
                "the pilots,inner,443,-",
                "as planned: it must not arrive (denied: filter own of inner denies it (in, by default))",
            ),
        ):
            with self.subTest(row=row, more=more):
                exits = {"inner": {**inner, **more}, "line": ESTATE["exits"]["line"]}
                described = self.estate({"exits": exits})
                self.assertIn(words, self.verdict(described, row))
        # Without a route back its answers are lost.
        exits = {"inner": inner, "line": ESTATE["exits"]["line"]}
        described = self.estate({"exits": exits, "subnets": {"app": {"learns": False}}})
        self.assertIn("it must not arrive (asymmetric return", self.verdict(described, "the pilots,inner,443,-"))

    def test_addresses_of_two_are_told_and_booked_to_none(self) -> None:
        line: dict[str, Any] = {
            "kind": "circuit",
            "network": "net",
            "third_party": "the pilots",
            "received": ["172.20.0.0/16"],
        }
        line["advertised"] = ["10.0.0.0/16", "100.64.0.0/24"]

        def pooled(prefix: str) -> Described:
            return self.estate(
                {
                    "exits": {"line": line, "gate": {"private_pool": prefix, "addresses": None}},
                    "route_tables": {"public": {"172.20.0.0/16": "line"}, "private": {"172.20.0.0/16": "gate"}},
                    "destinations": {"pilots": {"prefixes": ["172.20.4.0/24"], "port": 443}},
                }
            )

        # A pool by itself; one that is a part of the subnet; and a sender that is known only after its translation.
        for prefix, seen_as, words in (
            ("100.64.0.0/24", "100.64.0.9", "as planned"),
            ("10.0.1.128/25", "10.0.1.200", "an address of app and the pool of gate"),
        ):
            with self.subTest(prefix=prefix):
                self.assertEqual(self.verdict(pooled(prefix), f"app,pilots,,{seen_as}"), words)
        self.write("seen.csv", "from,destination,seen_as\n10.0.1.200,pilots,10.0.1.200\n100.64.0.9,pilots,-\n")
        self.assertIn("an address of app and the pool of gate", self.program("confirm", "seen.csv").stderr)
        pooled("100.64.0.0/24")
        self.assertIn("an address of the pool of gate", self.program("confirm", "seen.csv").stdout)

    def test_names_that_nobody_outside_is_told(self) -> None:
        """Where the endpoint's names resolve it is reached; elsewhere, and from outside, no answer is the proof."""
        inner = {"kind": "in-subnet-endpoint", "offer": "inner", "destination": "store", "subnets": ["edge"]}
        self.estate(
            {
                "subnets": {"other": {"network": "net", "prefix": "10.0.2.0/24", "routes": "private"}},
                "exits": {"inner": {**inner, "names_for": ["app"]}},
                "destinations": {"store": {"names": ["s.example.net"], "names_public": False, "port": 443}},
                "workloads": {"work": {"subnets": ["app", "other"]}},
                "flows": {"save": {"from": "work", "to": "store", "per_host_per_s": 1}},
            }
        )
        self.assertEqual(self.json("path", "app", "store", status=None)["verdicts"], ["arrives"])
        found = self.json("path", "other", "store", status=1)
        self.assertEqual(found["verdicts"], ["unresolved name"])
        findings = {one["rule"]: one["remedy"] for one in self.json("check", status=1)["findings"]}
        self.assertIn("resolve to an endpoint in other", findings["unreachable"])
        rows = {"app": "10.0.9.5", "other": "", "internet": "", "-": "192.0.2.9"}
        text = "".join(f"{at},s.example.net,{address}\n" for at, address in rows.items())
        self.write("names.csv", f"from,name,address\n{text}")
        compared = self.json("confirm", "names.csv", status=1)["compared"]
        told = [(one["about"], one["verdict"]) for one in compared if one["verdict"] == "different"]
        self.assertEqual((told, len(compared)), ([("internet", "different")], 4))

    def test_what_is_not_known_is_told(self) -> None:
        self.estate(ESTATE)
        self.write(
            "seen.csv",
            "from,destination,port,seen_as\ninternet,nobody,443,-\ninternet,partner,443,198.18.5.5\ninternet,work,high,-\n",
        )
        done = self.program("confirm", "seen.csv")
        self.assertEqual(done.returncode, 2)
        self.assertIn("a workload, a service, an endpoint, or an address of a host or an exit", done.stderr)
        self.assertIn("a port from 1 to 65535", done.stderr)
        # What others own is not ours to judge from outside.
        self.assertIn("'partner'", done.stderr)
