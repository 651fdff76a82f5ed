"""Whatever is added is one registration: every command takes a toy of each family."""

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

import numpy as np
from typer.testing import CliRunner

import fenrask
from fenrask.capacity import LIMITS, Limit
from fenrask.capacity.assignments import ASSIGNMENTS, SHARED_ONCE
from fenrask.charges import METERS, STANDING, Charge, Meter, Standing
from fenrask.checks import RULES, Context, Doubt, Rule
from fenrask.cli.app import app
from fenrask.designs.contract import Design
from fenrask.designs.standard import STANDARD
from fenrask.errors import UnusableInput
from fenrask.estate import (
    Catalogue,
    Described,
    DurationLaw,
    DurationPart,
    Estate,
    Flow,
    Needs,
    Offer,
    Rates,
    Transfer,
    read_estate,
)
from fenrask.estate.catalogue import Limits
from fenrask.estate.exits import KINDS, Announcing, Counted, InSubnet, Translating
from fenrask.estate.ports import PORTS, Ports
from fenrask.evaluation import NEEDS, Evaluation, Need
from fenrask.findings import Severity
from fenrask.records import readers
from fenrask.records.batch import Addresses, Batch
from fenrask.records.readers import READERS, Reader, Source
from fenrask.teletraffic.holding import SHAPES, Draw, Shape, Simple
from fenrask.views.formats import FORMATS, Rendering
from fenrask.views.handover.contract import HandoverFile
from fenrask.views.handover.whole import STATE_FILES, Told
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


@dataclass(frozen=True)
class ToyLaw:
    """Holds that are as likely to last any time up to twice their mean."""

    stacks: ClassVar[bool] = True

    mean_s: Any

    def survival(self, t: Any) -> Any:
        return np.maximum(0.0, 1 - t / (2 * self.mean_s))

    def integrated_survival(self, t: Any) -> Any:
        within = np.minimum(t, 2 * self.mean_s)
        return within - within**2 / (4 * self.mean_s)

    def smooth_from(self, period_s: float) -> Any:
        return 2 * self.mean_s

    def simple(self) -> Iterator[Simple]:
        values = tuple(2 * self.mean_s * (number + 0.5) / 100 for number in range(100))
        yield Simple(1.0, self, Draw.VALUES, values=values)


def toy_records(source: Source) -> Iterator[Batch]:
    """Connections of two seconds from 10.0.1.4 to 198.51.100.7:443, one for each line of the file after its first."""
    begins = np.array([float(line) for line in source.stream.read().split(b"\n")[1:] if line])
    one, none = np.ones(begins.size), np.zeros(begins.size)
    yield Batch(
        begins, begins + 2, Addresses((one * 0x0A000104).astype(np.uint32)),
        Addresses((one * 0xC6336407).astype(np.uint32)), (50_000 + begins % 9_000).astype(np.uint16),
        (one * 443).astype(np.uint16), (one * 6).astype(np.uint8), (one * 100).astype(np.int64),
        (one * 900).astype(np.int64), none.astype(np.uint8),
    )  # fmt: skip


TOY_READER = Reader("toy records", lambda head: head[:3] == b"TOY", toy_records)


def toy_file(now: Evaluation, _: Told) -> Iterator[HandoverFile]:
    yield HandoverFile("toys.txt", "what is to play with", f"{len(now.described.estate.exits)} exits".encode())


def toy_rule(context: Context) -> Iterator[Doubt]:
    for name in context.estate.exits:
        if name.startswith("toy"):
            yield Doubt(context.place("exits", name), f"{name} is a toy", "Take a real one.")


def toy_design(_: Any) -> dict[str, Any]:
    return {"exits": {"toy": TOY_EXIT}, "route_tables": {"private": {"0.0.0.0/0": "toy"}}}


def toy_format(page: Page, _: Rendering) -> str:
    return f"toy says: {'; '.join(page.summary)}\n"


def _rebuild() -> None:
    for model in (DurationPart, DurationLaw, Flow, Offer, Catalogue, Estate):
        model.model_rebuild(force=True)


class Additions(InFolder):
    def setUp(self) -> None:
        super().setUp()
        for changed in (
            patch.dict(KINDS, {"toy-relay": ToyRelay}),
            patch.dict(PORTS, {"toy-half": ToyPorts}),
            patch.dict(ASSIGNMENTS, {"toy-half": ToyAssignment()}),
            patch.dict(FORMATS, {"toy": toy_format}),
            patch.dict(SHAPES, {"toy-even": Shape(lambda mean_s, _: ToyLaw(mean_s))}),
            patch.object(
                readers, "READERS", (Reader("toy records", lambda head: head[:3] == b"TOY", toy_records), *READERS)
            ),
        ):
            changed.start()
            self.addCleanup(changed.stop)
        for registry, one in (
            (RULES, Rule("toy-found", Severity.NOTE, "a toy is in use", "exits: {toy: {}}", toy_rule)),
            (STANDARD, Design("toy design", "all through the toy", toy_design)),
            (STATE_FILES, toy_file),
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

    def test_lives_of_a_new_law_in_every_command(self) -> None:
        self.write("even.yaml", merged(ESTATE, {"flows": {"talk": {"duration_s": {"mean": 20, "shape": "toy-even"}}}}))
        # Ten connections a second, each 20 s and another 60 s until its port is free, are 800.
        self.assertRegex(self.told("capacity", file="even.yaml"), r"gate +1 +1 .* 800 +1,000")
        self.assertIn("found a port", self.told("simulate", "--around", "1", file="even.yaml"))
        self.assertIn("agree", self.told("check", "--audit", file="even.yaml"))
        save = ("handover", "--save", str(self.folder / "over"))
        for command, *options in (
            ("check",), ("path",), ("demand",), ("addresses",), ("charges",), ("compare",), ("choose",), ("stress",),
            ("schedule", "--growth", "0.1", "--months", "3"), ("source", "partner"), save,
        ):  # fmt: skip
            with self.subTest(command):
                self.assertNotIn("own fault", self.told(command, *options, file="even.yaml"))
        wrong = {"mean": 40, "shape": "toy-even", "cv": 2}
        file = self.write("wrong.yaml", merged(ESTATE, {"flows": {"talk": {"duration_s": wrong}}}))
        with self.assertRaises(UnusableInput) as refused:
            read_estate(file)
        self.assertIn("cv with hyperexponential", str(refused.exception))

    def test_records_of_a_new_format(self) -> None:
        self.write("toy.rec", "TOY\n" + "\n".join(str(1_700_000_000 + number) for number in range(0, 7200, 2)))
        told = self.told("measure", str(self.folder / "toy.rec"))
        self.assertIn("3,600 records of 2 hours: 3,600 connections of 1 pair", told)
        self.assertIn("partner", told)

    def test_a_new_file_of_the_handover(self) -> None:
        self.told("handover", "--save", str(self.folder / "over"))
        self.assertEqual((self.folder / "over" / "toys.txt").read_text("utf-8"), "3 exits")

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
    lambda passage: ((name, name) for name in passage.trace.exits if _is_gateway(passage.described, name)),
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


class AskedByName(unittest.TestCase):
    """Outside the folder of a family no code asks which of it something is: what it asks, all of them answer."""

    def test_no_variant_is_asked_for(self) -> None:
        families = (
            ({*KINDS}, {one.__name__ for one in KINDS.values()}, ("estate/exits",)),
            ({*PORTS}, {one.__name__ for one in PORTS.values()}, ("estate/ports.py", "capacity/assignments")),
            (set(), {type(one).__name__ for one in ASSIGNMENTS.values()}, ("capacity/assignments",)),
            ({*SHAPES}, LAWS, ("teletraffic/holding", "capacity/assignments")),
            ({one.name for one in LIMITS.values() if " " in one.name}, set(), ("capacity",)),
            ({*NEEDS}, set(), ("evaluation",)),
        )  # fmt: skip
        root = Path(fenrask.__file__).parent
        for file in sorted(root.rglob("*.py")):
            place, tree = file.relative_to(root).as_posix(), ast.parse(file.read_text(encoding="utf-8"))
            asking = [node for node in ast.walk(tree) if isinstance(node, ast.Compare | ast.Call)]
            for words, classes, homes in families:
                if not place.startswith(homes):
                    asked = [node.lineno for node in asking if _asks(node, words, classes)]
                    with self.subTest(file=place, of=min(words | classes)):
                        self.assertEqual(asked, [])


LAWS = {"Delayed", "Empirical", "Exponential", "Fixed", "Lognormal", "Mixture"}


def _asks(node: ast.Compare | ast.Call, words: set[str], classes: set[str]) -> bool:
    """Whether a part of a program compares something with one of the words, or asks whether it is of a class."""
    if isinstance(node, ast.Compare):
        inner = (each for side in (node.left, *node.comparators) for each in ast.walk(side))
        return any(isinstance(each, ast.Constant) and each.value in words for each in inner)
    if not isinstance(node.func, ast.Name) or node.func.id not in ("isinstance", "issubclass"):
        return False
    return any(isinstance(each, ast.Name) and each.id in classes for each in ast.walk(node.args[1]))


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
