"""What is wrong today leads every answer, and every command that takes an estate leaves with the same status."""

import unittest
from typing import Any

from typer.testing import CliRunner

from fenrask.checks import errors_of
from fenrask.checks.today import today
from fenrask.cli.app import app
from fenrask.estate import read_estate
from fenrask.evaluation import evaluate
from fenrask.views.today import today_line
from tests.support import CATALOGUE, ESTATE, InFolder, merged

COMMANDS = (
    ("check",), ("path",), ("demand",), ("capacity",), ("addresses",), ("charges",), ("compare",), ("choose",),
    ("stress",), ("stress", "--months", "3"), ("simulate", "--most-connections", "20000"), ("handover",),
)  # fmt: skip
MISTAKES: dict[str, tuple[dict[str, Any], str]] = {
    "nothing": ({}, ""),
    "a route to nowhere": ({"route_tables": {"private": {"0.0.0.0/0": "gat"}}}, "talk: gat does not exist"),
    "no route": ({"route_tables": {"private": {"0.0.0.0/0": None}}}, "do"),
    "too few addresses": (
        {"exits": {"gate": {"addresses": 1}}, "workloads": {"work": {"hosts": 60}}}, "gate does not carry its load",
    ),
    "a need": ({"destinations": {"partner": {"needs": {"off_internet": True}}}}, "1 breaks a need (talk)"),
    "a rule alone": (
        {"subnets": {"twin": {"network": "net", "zone": "a", "prefix": "10.0.1.128/25", "routes": "private"}}},
        "overlapping-prefixes at subnets.",
    ),
}  # fmt: skip


class Statuses(InFolder):
    def test_every_command_says_it_first_and_leaves_alike(self) -> None:
        self.write("catalogue.yaml", CATALOGUE)
        for name, (patch, words) in MISTAKES.items():
            self.write("estate.yaml", merged(ESTATE, patch))
            evaluation = evaluate(read_estate(self.folder / "estate.yaml"))
            errors = [*errors_of(evaluation)]
            state = today(evaluation)
            self.assertEqual((state.is_well, len(state.errors)), (not errors, len(errors)))
            for command in COMMANDS:
                arguments = [command[0], str(self.folder / "estate.yaml"), *command[1:], "--format", "markdown"]
                done = CliRunner().invoke(app, arguments)
                with self.subTest(name, command=command):
                    self.assertEqual(done.exit_code, int(bool(errors)), f"{done.output[:600]}{done.exception!r}")
                    first = done.stdout.split("\n")[0]
                    if command == ("check",) or (command == ("path",) and words != MISTAKES["a rule alone"][1]):
                        continue
                    if (command == ("capacity",) and "gate does not" in words) or not done.stdout:
                        continue
                    self.assertEqual(first.startswith(f"- {len(errors)} error"), bool(errors), first)
                    self.assertIn(words, first)

    def test_what_is_accepted_is_no_error(self) -> None:
        lost: dict[str, Any] = {"route_tables": {"private": {"0.0.0.0/0": "gat"}}}
        known = {"accepted": {"black-hole at route_tables.private.0.0.0.0/0": "until May"}}
        for patch, begins in (
            (lost, "1 error today (see check): "),
            ({**lost, **known}, "Accepted today (see check): "),
        ):
            line = today_line(today(evaluate(self.estate(patch))))
            with self.subTest(begins):
                self.assertEqual((line[: len(begins)], "arrive" in line), (begins, True))

    def test_how_much_of_the_load_is_covered(self) -> None:
        """By hand: of two flows that have 20 and 60 connections open, the one of 60 is lost by half."""
        flows = {
            "few": {"from": "work", "to": "partner", "persistent_per_host": 5, "per_host_per_s": None},
            "many": {"from": "work", "to": "other", "persistent_per_host": 15},
            "talk": None,
        }
        other = {"other": {"prefixes": ["192.0.2.0/25", "192.0.2.128/25"], "port": 443}}
        tables = {"private": {"192.0.2.128/25": "nobody"}}
        estate = {"destinations": other, "flows": flows, "workloads": {"work": {"hosts": 4}}, "route_tables": tables}
        state = today(evaluate(self.estate(estate)))
        self.assertEqual({name: float(part) for name, part in state.lost.items()}, {"many": 0.5})
        self.assertAlmostEqual(state.covered, 1 - 30 / 80)


if __name__ == "__main__":
    unittest.main()
