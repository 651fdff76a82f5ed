"""A new exit kind, port assignment, rule, design or format is one registration: every command takes a toy one."""

import ast
import json
import unittest
from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from pathlib import Path
from typing import Any, ClassVar, Literal
from unittest.mock import patch

from typer.testing import CliRunner

import fenrask
from fenrask.capacity import LIMITS, Limit
from fenrask.capacity.assignments import ASSIGNMENTS, SHARED_ONCE
from fenrask.charges import METERS, STANDING, Charge, Meter, Standing
from fenrask.checks import RULES, Context, Doubt, Rule
from fenrask.cli.app import app
from fenrask.designs.contract import Design
from fenrask.designs.standard import STANDARD
from fenrask.estate import Catalogue, Described, Estate, Needs, Offer, Rates, Transfer
from fenrask.estate.catalogue import Limits
from fenrask.estate.exits import KINDS, Announcing, Counted, InSubnet, Translating
from fenrask.estate.ports import PORTS, Ports
from fenrask.evaluation import NEEDS, Need
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
        self.assertIn("toy lost", self.told("stress"))
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


def _is_gateway(described: Described, name: str) -> bool:
    return described.estate.exits[name].kind == "translation-gateway"


def toy_need(case: Any) -> str:
    passing = (name for path in case.paths for name in path.example.exits)
    return next((f"{name} is a toy's foe" for name in passing if _is_gateway(case.described, name)), "")


TOY_LIMIT = Limit(
    "toy slots",
    "slots",
    lambda offer: 500 if offer.kind == "translation-gateway" else None,
    lambda *given: LIMITS["connections"].used(*given),
)
TOY_METER = Meter(
    lambda described, trace, _: ((name, name) for name in trace.exits if _is_gateway(described, name)),
    lambda _, place, name: Charge("toy toll", Decimal(100), name, "a toy is paid", exit=name),
)
TOY_STANDING = Standing(Fraction(1), "toy", Decimal(900), "a toy is kept")
TOY_NEED = Need(toy_need, is_asked=lambda needs: needs.fixed_source)


class CountedEverywhere(InFolder):
    """A toy limit, meter, standing charge and need, a line each: the same is taken where any of them speaks against it.

    A host costs more than the gateway that there is, so that nobody takes one but for a toy.
    """

    def setUp(self) -> None:
        super().setUp()
        self.write("catalogue.yaml", merged(CATALOGUE, {"offers": {"host": {"rates": {"hour": 0.5}}}}))
        asked = {"workloads": {"work": {"needs": {"fixed_source": True}}}}
        self.write("estate.yaml", merged(ESTATE, {"flows": {"talk": {"out_kib_per_connection": 4}}, **asked}))
        zone = {"network": "net", "zone": "b", "routes": "beyond"}
        second = {
            "subnets": {"app-b": {**zone, "prefix": "10.0.2.0/24"}, "edge-b": {**zone, "prefix": "10.0.9.16/28"}},
            "route_tables": {"beyond": {"0.0.0.0/0": "gate-b"}},
            "exits": {"gate-b": {**ESTATE["exits"]["gate"], "subnet": "edge-b", "addresses": ["203.0.113.2"]}},
            "workloads": {"work": {"subnets": ["app", "app-b"]}},
        }
        second["subnets"]["edge-b"]["routes"] = "public"  # type: ignore[index]
        self.write("two.yaml", merged(merged(ESTATE, asked), second))

    def told(self, *arguments: str) -> str:
        done = self.program(*arguments, columns=140)
        self.assertNotIn("own fault", done.stderr)
        return done.stdout

    def columns(self, *arguments: str, of: str) -> list[dict[str, Any]]:
        rows: list[dict[str, Any]] = json.loads(self.told(*arguments, "--format", "json"))["rows"][of]
        return rows

    def keeps_from_the_gateway(self) -> None:
        """`choose` takes the host, proves it, and `compare` agrees."""
        chosen = self.told("choose", "estate.yaml")
        self.assertIn("374.03 EUR/month meets every need (proven optimal", chosen)
        self.assertIn("host-net-a > door", chosen)
        self.assertIn('"translator hosts", 374.03', self.told("compare", "estate.yaml"))

    def test_without_any(self) -> None:
        self.assertIn("the estate as it is", self.told("choose", "estate.yaml"))

    def test_a_limit(self) -> None:
        with patch.dict(LIMITS, {"toy-slots": TOY_LIMIT}):
            self.assertIn("gate exceeds toy slots: 620 of 500", self.told("check", "estate.yaml"))
            self.assertRegex(self.told("capacity", "estate.yaml"), r"toy slots +620 +500")
            self.keeps_from_the_gateway()
            # Half of the hosts use each gateway, until the other's zone is lost.
            self.assertNotIn("toy slots", self.told("check", "two.yaml"))
            self.assertRegex(self.told("stress", "two.yaml"), r"gate-b +gate-b exceeds its limit of 500 slots: 620")

    def test_a_meter(self) -> None:
        with patch.dict(METERS, {"toy-toll": TOY_METER}):
            self.assertRegex(self.told("charges", "estate.yaml"), r"toy toll +gate +107.643 +GB +100 +10,764.29")
            self.keeps_from_the_gateway()

    def test_a_standing_charge(self) -> None:
        keep = {"toy keep": lambda described, name: TOY_STANDING if _is_gateway(described, name) else None}
        with patch.dict(STANDING, keep):
            self.assertRegex(self.told("charges", "estate.yaml"), r"toy keep +gate +1 +toy +900 +900.00")
            self.keeps_from_the_gateway()

    def test_a_need(self) -> None:
        with patch.dict(NEEDS, {"toy-need": TOY_NEED}):
            self.assertIn("talk breaks toy-need: gate is a toy's foe", self.told("check", "estate.yaml"))
            self.keeps_from_the_gateway()


class NamedNowhere(unittest.TestCase):
    """The choice has no limit, meter, need, kind of exit or port assignment by its name: it loops over the tables."""

    def test_no_name_in_the_choice(self) -> None:
        names = {*LIMITS, *METERS, *NEEDS, *KINDS, *ASSIGNMENTS, *PORTS}
        attributes = {
            name for model in (Limits, Rates, Needs, Transfer, *PORTS.values()) for name in model.model_fields
        }
        # What is chosen is how many addresses; subnets and hosts are words of estates, too.
        attributes -= {"addresses", "subnets", "hosts", "per_address", "survives"}
        for file in sorted((Path(fenrask.__file__).parent / "optimise").glob("*.py")):
            tree = ast.parse(file.read_text(encoding="utf-8"))
            docs = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
            for node in ast.walk(tree):
                with self.subTest(file=file.name, line=getattr(node, "lineno", 0)):
                    if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docs:
                        self.assertNotIn(node.value, names)
                    if isinstance(node, ast.Attribute):
                        self.assertNotIn(node.attr, attributes)


if __name__ == "__main__":
    unittest.main()
