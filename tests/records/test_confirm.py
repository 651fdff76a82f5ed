"""Observations against the plan: every format, every verdict."""

from typing import Any

from fenrask.errors import Problem, UnusableInput
from fenrask.records.confirming import confirm
from fenrask.records.observations import Observation, read_observations
from tests.support import InFolder, merged

COMMON = '203.0.113.1 - - [20/Nov/2026:17:04:10 +0000] "GET / HTTP/1.1" 200 12\n'
W3C = "#Version: 1.0\n#Fields: date time c-ip cs-method\n2026-11-20 17:04:10 203.0.113.1 GET\n"
JSON = '{"when": "2026-11-20", "from": "app", "destination": "partner", "seen_as": "203.0.113.1"}\n'
CSV = "when,from,destination,seen_as\n2026-11-20,10.0.1.9,partner,203.0.113.1\n"


class Formats(InFolder):
    def test_each_is_known_by_its_first_line(self) -> None:
        for text, sender in ((COMMON, ""), (W3C, ""), (JSON, "app"), (CSV, "10.0.1.9")):
            with self.subTest(text=text):
                problems: list[Problem] = []
                [one] = read_observations(text, "seen", "partner", problems)
                self.assertEqual((str(one.seen_as), one.destination, one.sender), ("203.0.113.1", "partner", sender))
                self.assertEqual(problems, [])

    def test_what_cannot_be_read_is_told_line_by_line(self) -> None:
        for text, lines in (
            (COMMON + "rubbish\n" + COMMON.replace("203.0.113.1", "example.net"), [2, 3]),
            (JSON + "{broken\n" + JSON, [2]),
            (CSV + "x,app,partner,\n", [3]),
            ("what is this\n", [1]),
        ):
            with self.subTest(text=text):
                problems: list[Problem] = []
                read_observations(text, "seen", "partner", problems)
                self.assertEqual([one.place.line for one in problems], lines)

    def test_a_log_needs_to_be_somebodys(self) -> None:
        problems: list[Problem] = []
        self.assertEqual(read_observations(COMMON, "seen", "", problems), [])
        self.assertIn("--destination", problems[0].remedy)


class Verdicts(InFolder):
    SECOND: dict[str, Any] = {
        "exits": {"more": {"kind": "translator-host", "offer": "host", "subnet": "edge", "addresses": ["203.0.113.2"]}},
        "flows": {"save": {"from": "work", "to": "store", "per_host_per_s": 1}},
    }
    LENT: dict[str, Any] = {
        "route_tables": {"private": {"0.0.0.0/0": None}},
        "exits": {"lent": {"kind": "dynamic-address", "network": "net"}},
    }
    PRIVATE: dict[str, Any] = {
        "route_tables": {"private": {"store": "in"}},
        "exits": {
            "in": {"kind": "routed-endpoint", "offer": "door-to-service", "network": "net", "destination": "store"}
        },
    }

    def verdict(self, patch: Any, sender: str, destination: str, seen_as: str) -> tuple[str, str]:
        described = self.estate(merged(self.SECOND, patch))
        [one] = read_observations(
            f"from,destination,seen_as\n{sender},{destination},{seen_as}\n", "seen", "", problems := []
        )
        self.assertEqual(problems, [])
        found = next(each for each in confirm(described, [one]) if each.times)
        self.assertEqual(found.well, not found.check_next)
        return found.verdict, found.cause

    def test_each(self) -> None:
        auto = {"exits": {"gate": {"addresses": "auto"}}}
        cases: tuple[tuple[Any, str, str, str, str], ...] = (
            ({}, "partner", "203.0.113.1", "as planned", ""),
            ({}, "partner", "203.0.113.2", "another exit's address (more)", "a route to more"),
            ({}, "partner", "198.18.0.9", "an address that is not ours", "does not describe"),
            (auto, "partner", "203.0.113.9", "not known", "does not list"),
            (self.LENT, "partner", "198.18.0.9", "a dynamic address", "no route matches"),
            (self.PRIVATE, "store", "10.0.1.77", "as planned", ""),
            (self.PRIVATE, "store", "203.0.113.1", "another exit's address (gate)", "private path is not taken"),
            (self.PRIVATE, "store", "198.18.0.9", "seen from the internet", "private path is not taken"),
        )
        for patch, destination, seen_as, verdict, cause in cases:
            with self.subTest(seen_as=seen_as, verdict=verdict):
                found = self.verdict(patch, "app", destination, seen_as)
                self.assertEqual(found[0], verdict)
                self.assertIn(cause, found[1])

    def test_what_was_never_seen_is_told_of_observed_destinations_alone(self) -> None:
        both = {
            "subnets": {"app-b": {"network": "net", "zone": "b", "prefix": "10.0.2.0/24", "routes": "other"}},
            "route_tables": {"other": {"0.0.0.0/0": "more"}},
            "workloads": {"work": {"subnets": ["app", "app-b"]}},
        }
        described = self.estate(merged(self.SECOND, both))
        [seen] = read_observations(CSV, "seen", "", [])
        found = {(one.subnet, one.destination): one.verdict for one in confirm(described, [seen])}
        self.assertEqual(found, {("app", "partner"): "as planned", ("app-b", "partner"): "not seen yet"})

    def test_unknown_senders_and_destinations_are_told_together(self) -> None:
        text = "from,destination,seen_as\n10.7.7.7,partner,203.0.113.1\napp,partnr,203.0.113.1\n"
        seen: list[Observation] = read_observations(text, "seen", "", [])
        with self.assertRaises(UnusableInput) as caught:
            confirm(self.estate(), seen)
        self.assertEqual([one.place.line for one in caught.exception.problems], [2, 3])


class Program(InFolder):
    def test_a_row_that_cannot_be_read_does_not_cost_the_others(self) -> None:
        self.estate({"exits": {"gate": {"addresses": ["203.0.113.1"]}}})
        good = "app,partner,203.0.113.1"
        self.write("seen.csv", f"from,destination,seen_as\n{good}\n10.7.7.7,partner,203.0.113.1\napp,partner,\n")
        found = self.json("confirm", "seen.csv", status=1)
        self.assertEqual([one["verdict"] for one in found["observed"]], ["as planned"])
        self.assertEqual([line.split(" ")[0] for line in found["not_counted"]], ["seen.csv:3:1:", "seen.csv:4:1:"])

    def test_asked_over_http_on_the_loopback(self) -> None:
        from fenrask.demo.stand_ins import address_echo

        self.estate({"exits": {"gate": {"addresses": ["203.0.113.1"]}}})
        with address_echo() as port:
            url = f"http://127.0.0.1:{port}/"
            arguments = ("confirm", "--ask", url, "--subnet", "app", "--destination", "partner")
            found = self.json(*arguments, status=1)
            self.assertEqual(found["observed"][0]["seen_as"], "127.0.0.1")
        for unusable in (("confirm",), ("confirm", "--ask", url), ("confirm", "none.csv"), arguments):
            with self.subTest(unusable=unusable):
                self.assertEqual(self.program(*unusable).returncode, 2)
