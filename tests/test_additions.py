"""A new exit kind, port assignment, rule, design or format is one registration: every command takes a toy one."""

import unittest
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, ClassVar, Literal
from unittest.mock import patch

from typer.testing import CliRunner

from fenrask.capacity.assignments import ASSIGNMENTS, SHARED_ONCE
from fenrask.checks import RULES, Context, Doubt, Rule
from fenrask.cli.app import app
from fenrask.designs.contract import Design
from fenrask.designs.standard import STANDARD
from fenrask.estate import Catalogue, Estate, Offer
from fenrask.estate.exits import KINDS, Announcing, Counted, InSubnet, Translating
from fenrask.estate.ports import PORTS, Ports
from fenrask.findings import Severity
from fenrask.views.formats import FORMATS, Rendering
from fenrask.views.page import Page
from tests.support import CATALOGUE, ESTATE, InFolder, merged

TOY_OFFER: dict[str, Any] = {
    "kind": "toy-relay",
    "ports": {"assignment": "toy-half", "per_address": 100},
    "mapping_timeout_s": {"closed": 8},
    "limits": {"connections": 900},
    "rates": {"hour": 0.011},
}
BREAK_EVEN = ("compare", "--break-even", "talk", "--set", "flows.talk.out_kib_per_connection=4")
TOY_EXIT: dict[str, Any] = {"kind": "toy-relay", "offer": "toy", "subnet": "edge", "addresses": "auto"}


class ToyRelay(InSubnet, Announcing, Counted, Translating):
    purpose: ClassVar[str] = "a toy that translates"
    count_key: ClassVar[str] = "addresses"

    kind: Literal["toy-relay"]
    offer: str

    @property
    def translates(self) -> bool:
        return True

    @property
    def treats_all_alike(self) -> bool:
        return True


class ToyPorts(Ports):
    assignment: Literal["toy-half"]


@dataclass(frozen=True)
class ToyAssignment:
    """Half the ports of an address are of use."""

    name: str = "toy-half"
    view: str = SHARED_ONCE.view

    def __getattr__(self, what: str) -> Any:
        def halved(*given: Any, **named: Any) -> Any:
            half = [
                one.model_copy(update={"per_address": one.per_address // 2}) if isinstance(one, Ports) else one
                for one in given
            ]
            return getattr(SHARED_ONCE, what)(*half, **named)

        return halved


def toy_rule(context: Context) -> Iterator[Doubt]:
    for name in context.estate.exits:
        if name.startswith("toy"):
            yield Doubt(context.place("exits", name), f"{name} is a toy", "Take a real one.")


def toy_design(_: Any) -> dict[str, Any]:
    return {"exits": {"toy": TOY_EXIT}, "route_tables": {"private": {"0.0.0.0/0": "toy"}}}


def toy_format(page: Page, _: Rendering) -> str:
    return f"toy says: {'; '.join(page.summary)}\n"


def _rebuild() -> None:
    for model in (Offer, Catalogue, Estate):
        model.model_rebuild(force=True)


class Additions(InFolder):
    def setUp(self) -> None:
        super().setUp()
        for changed in (
            patch.dict(KINDS, {"toy-relay": ToyRelay}),
            patch.dict(PORTS, {"toy-half": ToyPorts}),
            patch.dict(ASSIGNMENTS, {"toy-half": ToyAssignment()}),
            patch.dict(FORMATS, {"toy": toy_format}),
        ):
            changed.start()
            self.addCleanup(changed.stop)
        for registry, one in (
            (RULES, Rule("toy-found", Severity.NOTE, "a toy is in use", "exits: {toy: {}}", toy_rule)),
            (STANDARD, Design("toy design", "all through the toy", toy_design)),
        ):
            registry.append(one)  # type: ignore[arg-type]
            self.addCleanup(registry.remove, one)  # type: ignore[arg-type]
        _rebuild()
        self.addCleanup(_rebuild)
        self.write("catalogue.yaml", merged(CATALOGUE, {"offers": {"toy": TOY_OFFER}}))
        self.write("plain.yaml", ESTATE)
        self.write(
            "estate.yaml",
            merged(ESTATE, {"exits": {"toy": TOY_EXIT}, "route_tables": {"private": {"0.0.0.0/0": "toy"}}}),
        )

    def told(self, command: str, *arguments: str, file: str = "estate.yaml", statuses: tuple[int, ...] = (0,)) -> str:
        done = CliRunner(env={"COLUMNS": "120"}).invoke(app, [command, str(self.folder / file), *arguments])
        self.assertIn(done.exit_code, statuses, f"{done.output}{done.exception!r}")
        return done.output

    def test_an_exit_of_a_new_kind_in_every_command(self) -> None:
        self.assertIn("toy, door", self.told("path"))
        self.assertIn("toy", self.told("demand"))
        self.assertIn("toy", self.told("charges"))
        self.assertIn("toy", self.told("addresses"))
        self.assertIn("toy lost", self.told("stress", statuses=(1,)))
        self.assertIn("toy", self.told("choose", "--all"))
        schema = CliRunner().invoke(app, ["schema"]).output
        self.assertIn("toy-relay", schema)

    def test_ports_given_out_in_a_new_way(self) -> None:
        # 10 connections a second, each 10 s, are 100: twice 50 ports and some more, in three addresses of 50.
        told = self.told("capacity")
        self.assertIn("toy-half", told)
        self.assertRegex(told, r"toy +3 +3 ")

    def test_a_new_rule_is_listed_and_found(self) -> None:
        self.assertIn("toy is a toy", self.told("check"))
        self.assertIn("a toy is in use", CliRunner().invoke(app, ["check", "--rules"]).output)

    def test_a_new_design_is_compared(self) -> None:
        self.assertIn("toy design", self.told("compare", file="plain.yaml"))
        self.assertIn("toy design", self.told(*BREAK_EVEN, file="plain.yaml"))

    def test_a_new_format(self) -> None:
        self.assertRegex(self.told("capacity", "--format", "toy"), "^toy says: ")


if __name__ == "__main__":
    unittest.main()
